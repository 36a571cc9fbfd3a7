#include "app/rules/rules_view.h"

#include <QCursor>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <algorithm>

#include "app/rules/rule_menu.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

namespace {
constexpr Duration rehearsedAnew = milliseconds(5000);
/// Live, rules are rehearsed over so much of what is in memory.
constexpr Duration mostRehearsed = milliseconds(600'000);
}  // namespace

RuleStrip::RuleStrip(QWidget* parent) : QWidget(parent) {
    constexpr int high = 14;
    setFixedHeight(high);
    setAccessibleName(tr("When it would have held"));
}

void RuleStrip::show(Span span, const std::vector<RuleFiring>& firings) {
    span_ = span;
    firings_ = firings;
    update();
}

void RuleStrip::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    const double line = height() - 3.5;
    p.setPen(QPen(t.hairline, 1));
    p.drawLine(QPointF(0, line), QPointF(width(), line));
    const double lasts = (span_.to - span_.from).seconds();
    if (!(lasts > 0)) return;
    const auto x = [&](Instant at) { return (at - span_.from).seconds() / lasts * (width() - 2) + 1; };
    std::optional<Instant> since;
    const auto bar = [&](Instant from, Instant to) {
        p.fillRect(QRectF(QPointF(x(from), 2), QPointF(std::max(x(to), x(from) + 2), line)), t.muted);
    };
    for (const RuleFiring& f : firings_) {
        if (f.momentary) {
            bar(f.at, f.at);
        } else if (f.holds) {
            since = f.at;
        } else if (since) {
            bar(*since, f.at);
            since.reset();
        }
    }
    if (since) bar(*since, span_.to);
}

RulesView::RulesView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      rows_(new QVBoxLayout),
      alarms_(new QVBoxLayout),
      fights_(new QLabel),
      none_(new QLabel) {
    setAccessibleName(tr("Rules"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 20, 24, 16);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    auto* title = new QLabel(tr("Rules"));
    title->setStyleSheet("font-size: 20px; font-weight: 600;");
    head->addWidget(title, 1);
    auto* add = new QPushButton(tr("New rule"));
    add->setObjectName("newRule");
    connect(add, &QPushButton::clicked, this, &RulesView::addRule);
    head->addWidget(add);
    auto* close = new QToolButton;
    close->setObjectName("quiet");
    close->setText(QStringLiteral("✕"));
    close->setAccessibleName(tr("Back to the page"));
    connect(close, &QToolButton::clicked, this, &RulesView::closeAsked);
    head->addWidget(close);
    column->addLayout(head);
    auto* honest = new QLabel(
        tr("Click the underlined words to change them. Of two rules that want different things of one output the upper "
           "one prevails, a hand over both, an interlock over all. This is no safety device: what protects people must "
           "not hang on a program."));
    honest->setObjectName("muted");
    honest->setWordWrap(true);
    column->addWidget(honest);
    fights_->setWordWrap(true);
    fights_->setTextFormat(Qt::PlainText);
    column->addWidget(fights_);
    auto* scroll = new QScrollArea;
    scroll->setObjectName("pageScroll");
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    auto* content = new QWidget;
    content->setObjectName("page");
    auto* all = new QVBoxLayout(content);
    all->setContentsMargins(0, 8, 8, 8);
    all->setSpacing(0);
    alarms_->setSpacing(4);
    all->addLayout(alarms_);
    rows_->setSpacing(0);
    all->addLayout(rows_);
    none_->setText(
        tr("There is no rule yet. A rule says what is to happen when something does: \"When flow is below "
           "5 L/min for 2 s, set drive speed to 0 V and raise the alarm\"."));
    none_->setWordWrap(true);
    none_->setObjectName("muted");
    all->addWidget(none_);
    all->addStretch(1);
    scroll->setWidget(content);
    column->addWidget(scroll, 1);
    connect(&session_, &Session::benchChanged, this, [this] {
        if (isVisible()) rebuild();
    });
}

void RulesView::open(const QString& signal) {
    signal_ = signal;
    built_.clear();
    rebuild();
}

const RuleSpec* RulesView::rule(const std::string& id) const {
    const auto& all = session_.bench().rules;
    const auto it = std::ranges::find_if(all, [&](const auto& r) { return r->id == id; });
    return it == all.end() ? nullptr : it->get();
}

void RulesView::change(const QString& effect, const RuleSpec& next) {
    if (session_.isRun()) return Q_EMIT said(tr("The rules of a run are those that it was recorded with."));
    std::vector<Problem> problems;
    const Bench with = withRule(session_.bench(), next);
    checkRules(with, problems);
    if (!problems.empty()) return Q_EMIT said(shown(problems.front().message));
    session_.edit(effect, with);
}

void RulesView::addRule() {
    change(tr("New rule"), newRule(session_.bench(), signal_.toStdString()));
}

void RulesView::removeRule(const std::string& id) {
    session_.edit(tr("Remove rule"), withoutRule(session_.bench(), id));
}

void RulesView::addPart(const std::string& id, const char* list) {
    const RuleSpec* r = rule(id);
    if (!r) return;
    RuleSpec next = *r;
    if (std::string(list) == "until")
        next.until = firstCondition(session_.bench(), next.when.of);
    else
        (std::string(list) == "then" ? next.then : next.otherwise)
            .push_back(firstAction(session_.bench(), ActionKind::mark));
    change(tr("Change rule"), next);
}

void RulesView::fillMenu(QMenu& menu, const std::string& id, const std::string& place) {
    const RuleSpec* r = rule(id);
    if (!r) return;
    fillRuleMenu(menu, session_.bench(), *r, place, [this](RuleSpec next) { change(tr("Change rule"), next); });
    RuleSpec copy = *r;
    const RulePlace at = placeIn(copy, place);
    if (at.field != "kind") return;
    const bool inGroup = at.condition && place.find("/parts/") != std::string::npos;
    const bool untilItself = place.starts_with("/until/") && !inGroup;
    if (!at.action && !inGroup && !untilItself) return;
    menu.addSeparator();
    menu.addAction(tr("Take it out"), &menu, [this, id, place, untilItself] {
        const RuleSpec* now = rule(id);
        if (!now) return;
        RuleSpec next = *now;
        const RulePlace there = placeIn(next, place);
        if (untilItself) {
            next.until.reset();
        } else if (there.action) {
            for (auto* list : {&next.then, &next.otherwise})
                std::erase_if(*list, [&](const Action& a) { return &a == there.action; });
        } else if (there.condition) {
            // Its group without it; of one that is left, that one.
            const std::string group = place.substr(0, place.rfind("/parts/")) + "/kind";
            const RulePlace of = placeIn(next, group);
            if (!of.condition) return;
            std::vector<Condition> left;
            for (const Condition& part : of.condition->parts)
                if (&part != there.condition) left.push_back(part);
            if (left.empty()) left.push_back(*there.condition);
            Condition whole = *of.condition;
            whole.parts = left;
            *of.condition = left.size() == 1 ? left.front() : whole;
        }
        change(tr("Change rule"), next);
    });
}

void RulesView::addRow(const RuleSpec& r) {
    Row row;
    row.id = r.id;
    row.box = new QWidget;
    auto* column = new QVBoxLayout(row.box);
    column->setContentsMargins(0, 12, 0, 12);
    column->setSpacing(6);
    auto* head = new QHBoxLayout;
    head->setSpacing(10);
    row.enabled = new Switch(row.box);
    row.enabled->setCheckable(true);
    row.enabled->setChecked(r.enabled);
    row.enabled->setAccessibleName(tr("%1 is in force").arg(shown(r.name)));
    connect(row.enabled, &Switch::clicked, this, [this, id = r.id](bool on) {
        const RuleSpec* now = rule(id);
        if (!now) return;
        RuleSpec next = *now;
        next.enabled = on;
        change(on ? tr("Put the rule in force") : tr("Rest the rule"), next);
    });
    head->addWidget(row.enabled);
    row.name = new QLabel(shown(r.name));
    row.name->setStyleSheet("font-weight: 600;");
    row.name->setTextFormat(Qt::PlainText);
    head->addWidget(row.name, 1);
    row.state = new QLabel;
    row.state->setTextFormat(Qt::PlainText);
    head->addWidget(row.state);
    row.reset = new QPushButton(tr("Reset"));
    row.reset->setToolTip(tr("Lets go of the outputs that it holds until somebody says so"));
    row.reset->hide();
    connect(row.reset, &QPushButton::clicked, this, [this, id = r.id] {
        if (session_.engine() && !session_.engine()->resetRule(id))
            Q_EMIT said(tr("What it guards against is still there."));
    });
    head->addWidget(row.reset);
    auto* more = new QToolButton;
    more->setObjectName("quiet");
    more->setText(QStringLiteral("⋯"));
    more->setAccessibleName(tr("More for %1").arg(shown(r.name)));
    connect(more, &QToolButton::clicked, this, [this, id = r.id, more] {
        QMenu menu;
        menu.addAction(tr("and then do something else too"), this, [this, id] { addPart(id, "then"); });
        menu.addAction(tr("when it is over, do something"), this, [this, id] { addPart(id, "else"); });
        if (const RuleSpec* now = rule(id); now && !now->until)
            menu.addAction(tr("until something else"), this, [this, id] { addPart(id, "until"); });
        menu.addSeparator();
        menu.addAction(tr("Rename…"), this, [this, id] {
            const RuleSpec* now = rule(id);
            if (!now) return;
            bool fine = false;
            const QString name = QInputDialog::getText(this, tr("Rename the rule"), tr("Name"), QLineEdit::Normal,
                                                       shown(now->name), &fine);
            if (!fine || name.trimmed().isEmpty()) return;
            RuleSpec next = *now;
            next.name = name.trimmed().toStdString();
            change(tr("Rename rule"), next);
        });
        menu.addAction(tr("Remove"), this, [this, id] { removeRule(id); });
        menu.exec(more->mapToGlobal(QPoint(0, more->height())));
    });
    head->addWidget(more);
    column->addLayout(head);
    row.sentence = new QLabel;
    row.sentence->setWordWrap(true);
    row.sentence->setTextFormat(Qt::RichText);
    row.sentence->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    row.sentence->setFont(uiFont(15));
    QString html;
    for (const SentencePart& part : ruleParts(session_.bench(), r)) {
        const QString words = shown(part.words).toHtmlEscaped();
        html += part.place.empty() ? words
                                   : QStringLiteral("<a href=\"%1\" style=\"color: %2;\">%3</a>")
                                         .arg(shown(part.place), theme().ink.name(), words);
    }
    row.sentence->setText(html);
    connect(row.sentence, &QLabel::linkActivated, this, [this, id = r.id](const QString& place) {
        QMenu menu;
        fillMenu(menu, id, place.toStdString());
        if (!menu.isEmpty()) menu.exec(QCursor::pos());
    });
    column->addWidget(row.sentence);
    auto* past = new QHBoxLayout;
    past->setSpacing(12);
    row.strip = new RuleStrip(row.box);
    past->addWidget(row.strip, 1);
    row.past = new QLabel;
    row.past->setObjectName("muted");
    past->addWidget(row.past);
    column->addLayout(past);
    auto* line = new QFrame;
    line->setObjectName("rule");
    rows_->addWidget(line);
    rows_->addWidget(row.box);
    row_.push_back(row);
}

void RulesView::rebuild() {
    const auto& rules = session_.bench().rules;
    if (built_ == rules && !row_.empty()) return;
    built_ = rules;
    while (QLayoutItem* item = rows_->takeAt(0)) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
    row_.clear();
    for (const auto& r : rules) addRow(*r);
    none_->setVisible(rules.empty());
    QStringList fights;
    for (const Text& words : fightingRules(session_.bench())) fights << QStringLiteral("▲ ") + shown(words);
    fights_->setText(fights.join('\n'));
    fights_->setVisible(!fights.isEmpty());
    askedAt_ = {};
    ask();
}

void RulesView::ask() {
    if (session_.openedNothing() || session_.bench().rules.empty()) return;
    const Instant end = session_.end();
    askedAt_ = end;
    std::vector<std::shared_ptr<const RuleSpec>> asRead;
    for (const auto& r : session_.bench().rules) {
        RuleSpec one = ruleAsRead(session_.bench(), *r);
        one.enabled = true;  // also of those that rest
        asRead.push_back(std::make_shared<const RuleSpec>(std::move(one)));
    }
    Instant from = session_.source().extent().from;
    if (session_.engine()) from = std::max(session_.engine()->heldSince(), end - mostRehearsed);
    std::vector<RehearsedMark> marks;
    for (const Mark& mark : session_.marks()) marks.push_back({mark.at, mark.words});
    session_.rehearsing().ask([asRead, &source = session_.source(), span = Span{from, end}, marks](Progress& progress) {
        return Rehearsal{span, rehearse(asRead, source, span, marks, &progress)};
    });
}

void RulesView::refresh() {
    if (auto made = session_.rehearsing().take()) {
        for (std::size_t i = 0; i < row_.size(); ++i) {
            std::vector<RuleFiring> own;
            int count = 0;
            for (const RuleFiring& f : made->firings)
                if (f.rule == i) {
                    own.push_back(f);
                    count += f.holds;
                }
            row_[i].strip->show(made->span, own);
            row_[i].past->setText(
                tr("%1 × in the last %2").arg(count).arg(shown(roughText(made->span.to - made->span.from))));
        }
    }
    const Instant now = session_.end();
    if (session_.engine() && (now < askedAt_ || now - askedAt_ >= rehearsedAnew) && !session_.rehearsing().working())
        ask();
    const auto reports = session_.engine() ? session_.engine()->ruleReports() : std::vector<RuleReport>();
    for (Row& row : row_) {
        const auto it = std::ranges::find(reports, row.id, &RuleReport::id);
        const RuleSpec* r = rule(row.id);
        QString words;
        if (r && !r->enabled)
            words = tr("rests");
        else if (it == reports.end())
            words = session_.isRun() ? QString() : QStringLiteral("…");
        else if (it->state.holds)
            words = tr("● holds since %1").arg(shown(roughText(now - it->state.since)));
        else if (it->latched)
            words = tr("■ held until it is reset");
        else if (it->state.remains)
            words = tr("in %1").arg(lengthText(*it->state.remains));
        else if (it->state.fired)
            words = tr("did %1 ago").arg(shown(roughText(now - *it->state.fired)));
        else
            words = tr("does not hold");
        row.state->setText(words);
        row.state->setToolTip(it == reports.end() || it->done.empty() ? QString()
                                                                      : tr("Last: %1").arg(shown(it->done)));
        row.reset->setVisible(it != reports.end() && it->latched);
    }
    showAlarms();
}

void RulesView::showAlarms() {
    const auto now = session_.engine() ? session_.engine()->alarms() : std::vector<Alarm>();
    if (now == shownAlarms_) return;
    shownAlarms_ = now;
    while (QLayoutItem* item = alarms_->takeAt(0)) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
    for (const Alarm& a : now) {
        auto* box = new QWidget;
        auto* line = new QHBoxLayout(box);
        line->setContentsMargins(0, 2, 0, 2);
        const bool waits = a.state == AlarmState::unacknowledged || a.state == AlarmState::returnedUnacknowledged;
        auto* words = new QLabel((a.priority == 1   ? QStringLiteral("▲▲ ")
                                  : a.priority == 2 ? QStringLiteral("▲ ")
                                                    : QStringLiteral("△ ")) +
                                 shown(a.words));
        words->setTextFormat(Qt::PlainText);
        words->setStyleSheet(QStringLiteral("color: %1; font-weight: %2;")
                                 .arg((a.returned ? theme().amber : theme().red).name())
                                 .arg(waits ? 600 : 400));
        line->addWidget(words, 1);
        auto* state =
            new QLabel(tr(alarmStateWord(a.state)) + (a.times > 1 ? tr(", %1 times").arg(a.times) : QString()) +
                       (a.first ? tr(", came first") : QString()));
        state->setObjectName("muted");
        line->addWidget(state);
        if (waits) {
            auto* seen = new QPushButton(tr("Acknowledge"));
            connect(seen, &QPushButton::clicked, this, [this, id = a.rule] {
                if (session_.engine()) session_.engine()->acknowledgeAlarm(id, {}, {});
            });
            line->addWidget(seen);
        }
        auto* shelve = new QPushButton(tr("Shelve 10 min"));
        connect(shelve, &QPushButton::clicked, this, [this, id = a.rule] {
            constexpr double tenMinutes = 600;
            if (session_.engine()) session_.engine()->shelveAlarm(id, seconds(tenMinutes));
        });
        shelve->setVisible(a.state != AlarmState::shelved);
        line->addWidget(shelve);
        alarms_->addWidget(box);
    }
}

QString RulesView::sentence(const std::string& id) const {
    const RuleSpec* r = rule(id);
    return r ? shown(ruleSentence(session_.bench(), *r)) : QString();
}

QString RulesView::stateWords(const std::string& id) const {
    const auto it = std::ranges::find(row_, id, &Row::id);
    return it == row_.end() ? QString() : it->state->text();
}

void RulesView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return Q_EMIT closeAsked();
    QWidget::keyPressEvent(event);
}

}  // namespace cruscotto

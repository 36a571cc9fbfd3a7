#include "app/rules/rules_view.h"

#include <QHBoxLayout>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMenu>
#include <QTimer>
#include <algorithm>

#include "app/rules/rule_menu.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/control_file.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"
#include "core/bench/rule_words.h"

namespace cruscotto {

namespace {
/// More rules than a window shows get their rows one after the other, while it is seen already.
constexpr std::size_t rowsAtOnce = 16, rowsAFrame = 4;
constexpr Duration rehearsedAnew = milliseconds(5000);
/// Live, rules are rehearsed over so much of what is in memory.
constexpr Duration mostRehearsed = milliseconds(600'000);
}  // namespace

RulesView::RulesView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      newRule_(new QPushButton(tr("New rule"))),
      newControl_(new QPushButton(tr("New control"))),
      scroll_(new QScrollArea),
      rows_(new QVBoxLayout),
      alarms_(new AlarmList(session, this)),
      controlRows_(new QVBoxLayout),
      fights_(new QLabel),
      none_(new QLabel) {
    setAccessibleName(tr("Rules"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 20, 24, 16);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    head->addWidget(pageTitle(tr("Rules and alarms")), 1);
    newRule_->setObjectName("newRule");
    connect(newRule_, &QPushButton::clicked, this, &RulesView::addRule);
    head->addWidget(newRule_);
    auto* kinds = new QMenu(newControl_);
    const std::pair<ControlKind, QString> choices[] = {{ControlKind::twoPoint, tr("Switch an output by a reading")},
                                                       {ControlKind::pid, tr("Hold a reading at a setpoint")},
                                                       {ControlKind::follow, tr("Have an output follow an input")},
                                                       {ControlKind::play, tr("Play values over time")}};
    for (const auto& [kind, words] : choices) kinds->addAction(words, this, [this, kind = kind] { addControl(kind); });
    kinds->addSeparator();
    auto* later = kinds->addMenu(QString());
    connect(kinds, &QMenu::aboutToShow, this, [this, later] {
        const auto& what = session_.toPlay();
        later->menuAction()->setVisible(what.has_value());
        if (!what) return;
        later->setTitle(tr("Play %1").arg(what->words));
        later->clear();
        for (const auto& s : session_.bench().signals)
            if (s->output && isDigital(s->kind) == what->states)
                later->addAction(tr("by %1").arg(shown(s->name)), this,
                                 [this, id = s->id] { playBack(id, session_.toPlay()->played); });
    });
    opensMenu(*newControl_, kinds);
    head->addWidget(newControl_);
    auto* close = closeButton(tr("Back to the page"));
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
    scrollUpAndDown(*scroll_, "page");
    auto* content = new QWidget;
    content->setObjectName("page");
    auto* all = new QVBoxLayout(content);
    all->setContentsMargins(0, 8, 8, 8);
    all->setSpacing(0);
    connect(alarms_, &AlarmList::said, this, &RulesView::said);
    all->addWidget(alarms_);
    rows_->setSpacing(0);
    all->addLayout(rows_);
    none_->setText(
        tr("There is no rule yet. A rule says what is to happen when something does: \"When flow is below "
           "5 L/min for 2 s, set drive speed to 0 V and raise the alarm\"."));
    none_->setWordWrap(true);
    none_->setObjectName("muted");
    all->addWidget(none_);
    all->addSpacing(12);
    controlRows_->setSpacing(0);
    all->addLayout(controlRows_);
    all->addStretch(1);
    scroll_->setWidget(content);
    column->addWidget(scroll_, 1);
    connect(&session_, &Session::benchChanged, this, [this] {
        if (isVisible()) rebuild();
    });
}

void RulesView::open(const QString& signal) {
    signal_ = signal;
    for (QPushButton* button : {newRule_, newControl_}) {
        button->setEnabled(!session_.isRun());
        button->setToolTip(session_.isRun() ? tr("The rules of a run are those that it was recorded with.")
                                            : QString());
    }
    alarms_->open();
    built_.clear();
    dropRowsFrom(0);
    past_.reset();
    builtControls_.clear();
    controlRow_.clear();
    rebuild();
}

const RuleSpec* RulesView::rule(const std::string& id) const {
    const auto& all = session_.bench().rules;
    const auto it = std::ranges::find_if(all, [&](const auto& r) { return r->id == id; });
    return it == all.end() ? nullptr : it->get();
}

void RulesView::change(const QString& effect, const RuleSpec& next) {
    std::vector<Problem> problems;
    const Bench with = withRule(session_.bench(), next);
    checkRules(with, problems);
    if (!session_.isRun() && problems.empty()) return session_.edit(effect, with);
    goOn_.reset();
    Q_EMIT said(session_.isRun() ? tr("The rules of a run are those that it was recorded with.")
                                 : shown(problems.front().message));
}

void RulesView::addRule() {
    const RuleSpec made = newRule(session_.bench(), signal_.toStdString());
    goOn_ = std::pair(made.id, std::string());
    change(tr("New rule"), made);
}

void RulesView::copyRule(const std::string& id) {
    const RuleSpec* r = rule(id);
    if (!r) return;
    RuleSpec copy = *r;
    copy.name = tr("%1, copy").arg(shown(r->name)).toStdString();
    std::vector<std::string> taken;
    for (const auto& other : session_.bench().rules) taken.push_back(other->id);
    copy.id = freshId(copy.name, taken);
    copy.enabled = false;  // two that do the same until it is changed
    goOn_ = std::pair(copy.id, std::string());
    change(tr("Copy rule"), copy);
}

void RulesView::moveRule(const std::string& id, int by) {
    if (session_.isRun()) return Q_EMIT said(tr("The rules of a run are those that it was recorded with."));
    goOn_ = std::pair(id, std::string());
    session_.edit(by < 0 ? tr("Move the rule up") : tr("Move the rule down"), withRuleMoved(session_.bench(), id, by));
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
    else if (std::string(list) == "suppress")
        next.suppress = firstCondition(session_.bench(), next.when.of);
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
    const bool suppressItself = place.starts_with("/suppress/") && !inGroup;
    if (!at.action && !inGroup && !untilItself && !suppressItself) return;
    menu.addSeparator();
    menu.addAction(tr("Take it out"), &menu, [this, id, place, untilItself, suppressItself] {
        const RuleSpec* now = rule(id);
        if (!now) return;
        RuleSpec next = *now;
        const RulePlace there = placeIn(next, place);
        if (untilItself) {
            next.until.reset();
        } else if (suppressItself) {
            next.suppress.reset();
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

void RulesView::fillMore(QMenu& menu, const std::string& id) {
    const RuleSpec* r = rule(id);
    if (!r) return;
    menu.addAction(tr("and then do something else too"), this, [this, id] { addPart(id, "then"); });
    menu.addAction(tr("when it is over, do something"), this, [this, id] { addPart(id, "else"); });
    if (!r->until) menu.addAction(tr("until something else"), this, [this, id] { addPart(id, "until"); });
    const auto isAlarm = [](const Action& a) { return a.kind == ActionKind::alarm; };
    if (std::ranges::any_of(r->then, isAlarm) && !r->suppress)
        menu.addAction(tr("no alarm while something holds"), this, [this, id] { addPart(id, "suppress"); });
    menu.addSeparator();
    const auto& all = session_.bench().rules;
    if (all.front()->id != id) menu.addAction(tr("Move up"), this, [this, id] { moveRule(id, -1); });
    if (all.back()->id != id) menu.addAction(tr("Move down"), this, [this, id] { moveRule(id, 1); });
    menu.addAction(tr("Copy"), this, [this, id] { copyRule(id); });
    menu.addAction(tr("Rename…"), this, [this, id] { renameRule(id); });
    menu.addAction(tr("Remove"), this, [this, id] { removeRule(id); });
}

void RulesView::renameRule(const std::string& id) {
    const RuleSpec* r = rule(id);
    if (!r) return;
    bool fine = false;
    const QString name =
        QInputDialog::getText(this, tr("Rename the rule"), tr("Name"), QLineEdit::Normal, shown(r->name), &fine);
    if (!fine || name.trimmed().isEmpty()) return;
    RuleSpec next = *r;
    next.name = name.trimmed().toStdString();
    change(tr("Rename rule"), next);
}

RulesView::Row RulesView::makeRow(const RuleSpec& r) {
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
    constexpr int stateRoom = 220;
    row.state = new LiveWords(stateRoom, Qt::AlignRight);
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
        fillMore(menu, id);
        menu.exec(more->mapToGlobal(QPoint(0, more->height())));
    });
    head->addWidget(more);
    column->addLayout(head);
    row.sentence = new SentenceLabel;
    row.sentence->setWordWrap(true);
    row.sentence->setTextFormat(Qt::RichText);
    row.sentence->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    row.sentence->setFont(uiFont(15));
    row.sentence->show(ruleParts(session_.bench(), r));
    connect(row.sentence, &QLabel::linkActivated, this, [this, id = r.id, label = row.sentence](const QString& place) {
        QMenu menu;
        fillMenu(menu, id, place.toStdString());
        // The words that are chosen make the row anew: the keyboard goes on where it was.
        goOn_ = std::pair(id, place.toStdString());
        if (!menu.isEmpty()) menu.exec(label->menuAt());
        goOn_.reset();
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
    return row;
}

void RulesView::addRows(std::size_t most) {
    const auto& rules = session_.bench().rules;
    for (; most > 0 && row_.size() < rules.size(); --most) {
        auto* line = new QFrame;
        line->setObjectName("rule");
        rows_->addWidget(line);
        row_.push_back(makeRow(*rules[row_.size()]));
        rows_->addWidget(row_.back().box);
        showPast(row_.size() - 1);
        goOn(row_.back());
    }
}

void RulesView::goOn(const Row& row) {
    if (!goOn_ || goOn_->first != row.id) return;
    const std::string place = std::exchange(goOn_, std::nullopt)->second;
    // once it has its place, and no menu stands before it
    QTimer::singleShot(0, row.box, [this, box = row.box, sentence = row.sentence, place] {
        sentence->focusPlace(place);
        scroll_->ensureWidgetVisible(box);
    });
}

void RulesView::dropRowsFrom(std::size_t row) {
    for (const int first = 2 * static_cast<int>(row); QLayoutItem* item = rows_->takeAt(first);) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
    row_.resize(std::min(row, row_.size()));
}

void RulesView::rebuild() {
    addControls();
    const auto& rules = session_.bench().rules;
    if (built_ == rules && !row_.empty()) return;
    // What stays where it is keeps its row, so that a change far down moves nothing away from under the eye.
    std::size_t same = 0;
    while (same < std::min({row_.size(), built_.size(), rules.size()}) && row_[same].id == rules[same]->id) {
        if (built_[same] != rules[same]) {
            QWidget* before = row_[same].box;
            row_[same] = makeRow(*rules[same]);
            delete rows_->replaceWidget(before, row_[same].box);
            before->hide();
            before->deleteLater();
            goOn(row_[same]);
        }
        ++same;
    }
    dropRowsFrom(same);
    built_ = rules;
    past_.reset();  // their places may be others
    addRows(rowsAtOnce);
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

void RulesView::showPast(std::size_t row) {
    if (!past_) return;
    std::vector<RuleFiring> own;
    for (const RuleFiring& f : past_->firings)
        if (f.rule == row) own.push_back(f);
    row_[row].strip->show(past_->span, own);
    row_[row].past->setText(tr("%1 × in the last %2")
                                .arg(std::ranges::count(own, true, &RuleFiring::holds))
                                .arg(shown(roughText(past_->span.to - past_->span.from))));
}

void RulesView::refresh() {
    if (auto made = session_.rehearsing().take()) {
        past_ = std::move(*made);
        for (std::size_t i = 0; i < row_.size(); ++i) showPast(i);
    }
    addRows(rowsAFrame);
    const Instant now = session_.end();
    if (session_.engine() && (now < askedAt_ || now - askedAt_ >= rehearsedAnew) && !session_.rehearsing().working())
        ask();
    alarms_->refresh();
    constexpr Duration often = milliseconds(100);
    if (now >= told_ && now - told_ < often) return;
    told_ = now;
    const auto reports = session_.engine() ? session_.engine()->ruleReports() : std::vector<RuleReport>();
    const auto& rules = session_.bench().rules;
    for (std::size_t i = 0; i < row_.size(); ++i) {
        Row& row = row_[i];
        if (row.box->visibleRegion().isEmpty() && !row.state->text().isEmpty()) continue;  // told when it is seen
        // Reports and rules stand in the order of the rows, but for the moment behind an edit.
        const auto there = [&](const auto& all, auto&& id) { return i < all.size() && id(all[i]) == row.id; };
        const auto it = there(reports, [](const auto& r) { return r.id; })
                            ? reports.begin() + static_cast<std::ptrdiff_t>(i)
                            : std::ranges::find(reports, row.id, &RuleReport::id);
        const RuleSpec* r = there(rules, [](const auto& x) { return x->id; }) ? rules[i].get() : rule(row.id);
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
    showControls();
}

void RulesView::addControls() {
    const auto& all = session_.bench().controls;
    if (builtControls_ == all && !controlRow_.empty()) return;
    builtControls_ = all;
    while (QLayoutItem* item = controlRows_->takeAt(0)) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
    controlRow_.clear();
    for (const auto& c : all) {
        auto* line = new QFrame;
        line->setObjectName("rule");
        controlRows_->addWidget(line);
        auto* box = new QWidget;
        auto* column = new QVBoxLayout(box);
        column->setContentsMargins(0, 12, 0, 12);
        column->setSpacing(6);
        auto* head = new QHBoxLayout;
        head->setSpacing(10);
        auto* enabled = new Switch(box);
        enabled->setCheckable(true);
        enabled->setChecked(c->enabled);
        enabled->setAccessibleName(tr("%1 is in force").arg(shown(c->name)));
        connect(enabled, &Switch::clicked, this, [this, id = c->id](bool on) {
            const ControlSpec* now = session_.bench().control(id);
            if (!now || session_.isRun()) return;
            ControlSpec next = *now;
            next.enabled = on;
            const auto fine = controlFromText(session_.bench(), controlToText(next));
            if (!fine) Q_EMIT said(shown(fine.error().message));
            session_.edit(on ? tr("Put the control in force") : tr("Rest the control"),
                          fine ? withControl(session_.bench(), next) : session_.bench());
        });
        head->addWidget(enabled);
        auto* name = new QLabel(shown(c->name));
        name->setStyleSheet("font-weight: 600;");
        name->setTextFormat(Qt::PlainText);
        head->addWidget(name, 1);
        constexpr int stateRoom = 420;
        auto* state = new LiveWords(stateRoom, Qt::AlignRight);
        head->addWidget(state);
        auto* reset = new QPushButton(tr("Reset"));
        reset->hide();
        connect(reset, &QPushButton::clicked, this, [this, id = c->id] {
            if (session_.engine()) session_.engine()->resetRule(id);
        });
        head->addWidget(reset);
        auto* open = new QPushButton(tr("Settings"));
        connect(open, &QPushButton::clicked, this, [this, id = c->id] { Q_EMIT controlAsked(shown(id)); });
        head->addWidget(open);
        auto* gone = closeButton(tr("Remove %1").arg(shown(c->name)));
        connect(gone, &QToolButton::clicked, this, [this, id = c->id] {
            if (!session_.isRun()) session_.edit(tr("Remove control"), withoutControl(session_.bench(), id));
        });
        head->addWidget(gone);
        column->addLayout(head);
        auto* sentence = new QLabel(shown(controlSentence(session_.bench(), *c)));
        sentence->setWordWrap(true);
        sentence->setTextFormat(Qt::PlainText);
        sentence->setFont(uiFont(15));
        column->addWidget(sentence);
        controlRows_->addWidget(box);
        controlRow_.push_back({c->id, state, reset});
    }
}

void RulesView::playBack(const std::string& output, const PlayedSpec& played) {
    const Bench& bench = session_.bench();
    const SignalSpec* out = bench.signal(output);
    if (!out || !out->output || session_.isRun()) return;
    std::vector<std::string> taken;
    for (const auto& c : bench.controls) taken.push_back(c->id);
    for (const auto& r : bench.rules) taken.push_back(r->id);
    ControlSpec made;
    made.kind = ControlKind::play;
    made.id = freshId(output + "-played", taken);
    made.output = output;
    made.name = tr("%1 played").arg(shown(out->name)).toStdString();
    made.enabled = false;  // until somebody has looked at it
    made.everySeconds = 0.01;
    made.played = played;
    session_.edit(tr("Play a stretch"), withControl(bench, made));
    Q_EMIT controlAsked(shown(made.id));
}

void RulesView::addControl(ControlKind kind) {
    const Bench& bench = session_.bench();
    ControlSpec made;
    made.kind = kind;
    const auto free = [&](const SignalSpec& s) {
        return s.output && (kind != ControlKind::pid || !isDigital(s.kind)) &&
               std::ranges::none_of(bench.controls, [&](const auto& c) { return c->output == s.id && c->enabled; });
    };
    const auto output = std::ranges::find_if(bench.signals, [&](const auto& s) { return free(*s); });
    if (output == bench.signals.end())
        return Q_EMIT said(tr("There is no output left that such a control could have."));
    const bool digital = isDigital((*output)->kind);
    const auto read = std::ranges::find_if(bench.signals, [&](const auto& s) {
        return s->id != (*output)->id && !s->output && s->isState() == (kind == ControlKind::follow && digital);
    });
    if (kind != ControlKind::play && read == bench.signals.end())
        return Q_EMIT said(tr("The bench reads nothing that it could look at."));
    std::vector<std::string> taken;
    for (const auto& c : bench.controls) taken.push_back(c->id);
    for (const auto& r : bench.rules) taken.push_back(r->id);
    made.id = freshId((*output)->id + "-control", taken);
    made.output = (*output)->id;
    const QString words[] = {tr("%1 by two points"), tr("%1 regulated"), tr("%1 follows"), tr("%1 played")};
    made.name = words[static_cast<int>(kind)].arg(shown((*output)->name)).toStdString();
    made.enabled = false;  // until somebody has looked at it
    if (kind != ControlKind::play) made.signal = (*read)->id;
    if (kind == ControlKind::twoPoint || kind == ControlKind::pid) {
        made.unit = (*read)->unit();
        made.setpoint = (*read)->scale ? ((*read)->scale->low + (*read)->scale->high) / 2 : 0;
    }
    if (kind == ControlKind::twoPoint && !digital)
        made.onValue = (*output)->output->high, made.offValue = (*output)->output->low;
    if (kind == ControlKind::pid) made.integralSeconds = 10;
    if (kind == ControlKind::play) made.played.points = {{0, (*output)->output->safe}, {1, (*output)->output->safe}};
    if (kind == ControlKind::play || kind == ControlKind::follow)
        made.everySeconds = kind == ControlKind::play ? 0.01 : 0.05;
    session_.edit(tr("New control"), withControl(bench, made));
    Q_EMIT controlAsked(shown(made.id));
}

QString RulesView::controlWords(const std::string& id) const {
    const auto it = std::ranges::find(controlRow_, id, &ControlRow::id);
    return it == controlRow_.end() ? QString() : it->state->text();
}

void RulesView::showControls() {
    const auto reports = session_.engine() ? session_.engine()->controlReports() : std::vector<ControlReport>();
    for (const ControlRow& row : controlRow_) {
        const auto it = std::ranges::find(reports, row.id, &ControlReport::id);
        const ControlSpec* c = session_.bench().control(row.id);
        if (!c) continue;
        const SignalSpec *read = session_.bench().signal(c->signal), *out = session_.bench().signal(c->output);
        const auto with = [](double v, const SignalSpec* s) {
            return s && (s->isState() || isDigital(s->kind)) ? stateWord(*s, v)
                                                             : quantityText(v, s ? s->unit() : std::string());
        };
        QString words;
        if (!c->enabled)
            words = tr("rests");
        else if (it == reports.end())
            words = session_.isRun() ? QString() : QStringLiteral("…");
        else if (it->state.failed)
            words = tr("■ safe until it is reset: %1").arg(shown(it->state.why));
        else if (!it->state.why.empty())
            words = QStringLiteral("▲ ") + shown(it->state.why);
        else if (it->state.over)
            words = tr("has ended");
        else if (it->state.wants)
            words = (it->state.reading ? with(*it->state.reading, read) + QStringLiteral(" → ") : QString()) +
                    with(*it->state.wants, out) + (it->holds ? QString() : tr(", held by another"));
        row.state->setText(words);
        row.reset->setVisible(it != reports.end() && it->state.failed);
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

#include "app/measure/measure_panel.h"

#include <QApplication>
#include <QClipboard>
#include <QHBoxLayout>
#include <QMenu>
#include <QSignalBlocker>
#include <QToolButton>
#include <cmath>

#include "app/document/computed_edits.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {
/// Live, a stretch that goes on is measured anew so often.
constexpr Duration anew = milliseconds(500);
}  // namespace

MeasurePanel::MeasurePanel(Session& session, QWidget* parent)
    : QScrollArea(parent),
      session_(session),
      title_(panelTitle()),
      from_(new Field(tr("Stretch: from"))),
      to_(new Field(tr("Stretch: to"))),
      length_(new Field(tr("Stretch: length"))),
      hangs_(new QCheckBox(tr("ends now, goes on"))),
      other_(new Choice),
      state_(new QLabel),
      cancel_(new QPushButton(tr("Cancel"))),
      keep_(new QPushButton(tr("Keep as a run"))),
      play_(new QPushButton(tr("Play it back"))),
      list_(new MeasureList(nullptr)),
      asSignal_(new QPushButton(tr("Keep it running, as a signal"))),
      expectedBox_(new QWidget),
      expectedOf_(new QLabel),
      expected_(new Field(tr("Expected"))),
      within_(new Field(tr("May be off by"))) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Measures of the stretch"));
    auto* content = new QWidget;
    content->setObjectName("panel");
    auto* column = new QVBoxLayout(content);
    column->setContentsMargins(16, 12, 16, 12);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    head->addWidget(title_, 1);
    auto* copy = quietButton(tr("Copy"), tr("All measures as a table, for a spreadsheet"));
    connect(copy, &QToolButton::clicked, this, [this] { QApplication::clipboard()->setText(list_->words()); });
    auto* chain = quietButton(tr("Chain"), tr("How its reading is made"));
    connect(chain, &QToolButton::clicked, this, [this] { Q_EMIT chainAsked(shown(signal_)); });
    auto* close = closeButton(tr("End the stretch"));
    close->setToolTip(tr("The moment again (Esc)"));
    connect(close, &QToolButton::clicked, this, &MeasurePanel::closeAsked);
    head->addWidget(close);
    column->addLayout(head);

    auto* ends = new QVBoxLayout;
    ends->setSpacing(6);
    column->addLayout(ends);
    place(ends, labelled(tr("From"), from_, content));
    place(ends, labelled(tr("To"), to_, content));
    place(ends, labelled(tr("Length"), length_, content));
    other_->setAccessibleName(tr("Held against"));
    place(ends, labelled(tr("Held against"), other_, content));
    auto* tools = new QHBoxLayout;
    tools->setSpacing(4);
    tools->addWidget(hangs_);
    tools->addStretch(1);
    tools->addWidget(copy);
    tools->addWidget(chain);
    column->addLayout(tools);
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    row->addWidget(keep_, 1);
    row->addWidget(play_, 1);
    column->addLayout(row);
    auto* working = new QHBoxLayout;
    state_->setWordWrap(true);
    working->addWidget(state_, 1);
    working->addWidget(cancel_);
    column->addLayout(working);
    list_->setParent(content);
    column->addWidget(list_);

    auto* expectedColumn = new QVBoxLayout(expectedBox_);
    expectedColumn->setContentsMargins(0, 4, 0, 0);
    expectedColumn->setSpacing(6);
    expectedOf_->setTextFormat(Qt::PlainText);
    expectedColumn->addWidget(expectedOf_);
    place(expectedColumn, labelled(tr("Expected"), expected_, expectedBox_));
    place(expectedColumn, labelled(tr("May be off by"), within_, expectedBox_));
    expectedColumn->addWidget(asSignal_);
    asSignal_->setToolTip(tr("A computed signal that measures this again and again, over as long a time"));
    connect(asSignal_, &QPushButton::clicked, this, [this] {
        const auto stretch = session_.stretch();
        const MeasureKind* kind = measureKind(list_->chosen());
        if (!stretch || !kind) return;
        std::string id;
        session_.edit(tr("Keep %1 running").arg(shown(kind->title)),
                      withKeptMeasure(session_.bench(), signal_, against_, kind->name,
                                      (stretch->to - stretch->from).seconds(), &id));
        Q_EMIT chainAsked(shown(id));
    });
    column->insertWidget(column->indexOf(list_), expectedBox_);
    expectedBox_->hide();
    column->addStretch(1);
    setWidget(content);

    keep_->setToolTip(tr("Writes what is still in memory of it into a run (Ctrl+Shift+K)"));
    connect(keep_, &QPushButton::clicked, this, &MeasurePanel::keepAsked);
    play_->setToolTip(tr("An output does what the signal did in the stretch, with the same timing"));
    auto* outputs = new QMenu(play_);
    connect(outputs, &QMenu::aboutToShow, this, [this, outputs] { fillPlayMenu(*outputs); });
    opensMenu(*play_, outputs);
    connect(cancel_, &QPushButton::clicked, this, [this] { session_.measuring().cancel(); });
    connect(from_, &Field::taken, this, [this](const QString& text) { takeEnd(from_, true, text); });
    connect(to_, &Field::taken, this, [this](const QString& text) { takeEnd(to_, false, text); });
    connect(length_, &Field::taken, this, [this](const QString& text) {
        Duration d;
        const auto stretch = session_.stretch();
        const bool fine = stretch && parseDuration(text.trimmed().remove(' ').toStdString(), d) && d.ns > 0;
        length_->markWrong(!fine, fine ? QString() : tr("A length such as 10s, 250ms or 1.5min is expected"));
        if (!fine) return;
        if (session_.cursor().stretchHangsOnNow())
            session_.cursor().stretchOfLast(d);
        else
            session_.cursor().stretchOver({stretch->from, stretch->from + d});
    });
    connect(hangs_, &QCheckBox::toggled, this, [this](bool on) {
        const auto stretch = session_.stretch();
        if (!stretch) return;
        if (on)
            session_.cursor().stretchOfLast(stretch->to - stretch->from);
        else
            session_.cursor().stretchOver(*stretch);
    });
    connect(other_, qOverload<int>(&QComboBox::activated), this,
            [this] { holdAgainst(other_->currentData().toString()); });
    connect(list_, &MeasureList::chosenChanged, this, &MeasurePanel::showExpected);
    connect(list_, &MeasureList::expectAsked, this, [this] {
        showExpected();
        expected_->setFocus();
        expected_->selectAll();
    });
    connect(expected_, &Field::taken, this, &MeasurePanel::takeExpected);
    connect(within_, &Field::taken, this, &MeasurePanel::takeExpected);
    connect(&session_.cursor(), &TimeCursor::stretched, this, [this] { refresh(true); });
    connect(&session_, &Session::sourceChanged, this, [this] {
        answer_.reset();
        asked_.reset();
    });
    connect(&session_, &Session::benchChanged, this, [this] {
        if (!isVisible()) return;
        rebuildChoices();
        showAnswer();
    });
}

void MeasurePanel::open(const QString& signal) {
    const std::string id = signal.toStdString();
    if (id != signal_) answer_.reset();
    signal_ = id;
    if (against_ == signal_) against_.clear();
    rebuildChoices();
    showAnswer();
    refresh(true);
}

void MeasurePanel::fillPlayMenu(QMenu& menu) {
    menu.clear();
    const SignalSpec* s = session_.bench().signal(signal_);
    if (!s) return;
    if (session_.isRun()) {
        menu.addAction(tr("Later, by an output of a bench"), this, [this] { Q_EMIT playAsked(shown(signal_), {}); });
        return;
    }
    for (const auto& output : session_.bench().signals)
        if (output->output && isDigital(output->kind) == s->isState())
            menu.addAction(tr("by %1").arg(shown(output->name)), this,
                           [this, id = shown(output->id)] { Q_EMIT playAsked(shown(signal_), id); });
    if (menu.isEmpty())
        menu.addAction(s->isState() ? tr("There is no output that is on or off") : tr("There is no analog output"))
            ->setEnabled(false);
}

void MeasurePanel::holdAgainst(const QString& signal) {
    against_ = signal.toStdString();
    const QSignalBlocker quiet(other_);
    other_->setCurrentIndex(std::max(0, other_->findData(signal)));
    refresh(true);
}

void MeasurePanel::rebuildChoices() {
    const SignalSpec* s = session_.bench().signal(signal_);
    title_->setText(s ? shown(s->name) : tr("No signal"));
    if (!session_.bench().signal(against_)) against_.clear();
    const QSignalBlocker quiet(other_);
    other_->clear();
    other_->addItem(tr("no other signal"), QString());
    for (const auto& other : session_.bench().signals)
        if (other->id != signal_) other_->addItem(shown(other->name), shown(other->id));
    other_->setCurrentIndex(std::max(0, other_->findData(shown(against_))));
}

void MeasurePanel::showEnds(Span stretch) {
    const Instant zero = session_.source().extent().from;
    const auto at = [&](Instant t) { return shown(secondsText((t - zero).ns)).replace('-', QChar(0x2212)) + " s"; };
    from_->show(at(stretch.from));
    to_->show(session_.cursor().stretchHangsOnNow() ? tr("now") : at(stretch.to));
    length_->show(lengthText(stretch.to - stretch.from));
    to_->setEnabled(!session_.cursor().stretchHangsOnNow());
    from_->setEnabled(!session_.cursor().stretchHangsOnNow());
    from_->setToolTip(tr("Seconds since the beginning: %1").arg(wallTimeText(session_.source(), stretch.from, true)));
    to_->setToolTip(tr("Seconds since the beginning: %1").arg(wallTimeText(session_.source(), stretch.to, true)));
    const QSignalBlocker quiet(hangs_);
    hangs_->setVisible(session_.engine());
    hangs_->setChecked(session_.cursor().stretchHangsOnNow());
    keep_->setVisible(session_.engine());
}

void MeasurePanel::takeEnd(Field* field, bool first, const QString& text) {
    const auto stretch = session_.stretch();
    Duration d;
    QString typed = text.trimmed();
    typed.replace(QChar(0x2212), '-').remove(' ');
    const bool fine = stretch && parseDuration(typed.toStdString(), d);
    const Instant t = session_.source().extent().from + d;
    const bool turned = fine && (first ? t >= stretch->to : t <= stretch->from);
    field->markWrong(!fine || turned, !fine    ? tr("Seconds since the beginning are expected, such as 12.5")
                                      : turned ? tr("It must begin before it ends")
                                               : QString());
    if (!fine || turned) return;
    session_.cursor().stretchOver(first ? Span{t, stretch->to} : Span{stretch->from, t});
}

void MeasurePanel::showExpected() {
    const MeasureKind* kind = measureKind(list_->chosen());
    expectedBox_->setVisible(kind && answer_ && answer_->measures);
    if (!kind || !answer_ || !answer_->measures) return;
    const std::string with = kind->group == MeasureGroup::ofTwo ? against_ : std::string();
    const auto it = answer_->measures.value().all.find(kind->name);
    const std::string unit = it == answer_->measures.value().all.end() ? "" : unitText(it->second.unit);
    expectedOf_->setText(
        tr("%1: what it should be%2")
            .arg(shown(kind->title), unit.empty() || unit == "1" ? QString() : tr(", in %1").arg(shown(unit))));
    const ExpectedMeasure* e = expectedOf(session_.bench(), signal_, with, kind->name);
    expected_->show(e ? exactText(e->value) : QString());
    within_->show(e ? exactText(e->within) : QString());
    expected_->setPlaceholderText(tr("nothing"));
    within_->setPlaceholderText(tr("1 % of it"));
    const bool fixed = session_.isRun();
    asSignal_->setVisible(!fixed && kind->group != MeasureGroup::onAndOff);
    expected_->setEnabled(!fixed);
    within_->setEnabled(!fixed);
}

void MeasurePanel::takeExpected() {
    const MeasureKind* kind = measureKind(list_->chosen());
    if (!kind || !answer_ || !answer_->measures || session_.isRun()) return;
    const auto it = answer_->measures.value().all.find(kind->name);
    if (it == answer_->measures.value().all.end()) return;
    ExpectedMeasure e;
    e.signal = signal_;
    e.against = kind->group == MeasureGroup::ofTwo ? against_ : std::string();
    e.measure = kind->name;
    e.unit = it->second.unit;
    if (expected_->text().trimmed().isEmpty()) {
        expected_->markWrong(false);
        within_->markWrong(false);
        if (expectedOf(session_.bench(), e.signal, e.against, e.measure))
            session_.edit(tr("Expect nothing of %1").arg(shown(kind->title)), withoutExpected(session_.bench(), e));
        return;
    }
    const bool one = parseNumber(expected_->text().replace(QChar(0x2212), '-').toStdString(), e.value);
    expected_->markWrong(!one, one ? QString() : tr("A number is expected"));
    constexpr double percent = 0.01;
    e.within = percent * std::fabs(e.value);
    const QString within = within_->text().trimmed();
    const bool two = within.isEmpty() || (parseNumber(within.toStdString(), e.within) && e.within >= 0);
    within_->markWrong(!two, two ? QString() : tr("A number from 0 on is expected"));
    if (one && two) session_.edit(tr("Expect %1").arg(shown(kind->title)), withExpected(session_.bench(), e));
}

void MeasurePanel::showAnswer() {
    if (!answer_) {
        list_->show(StretchMeasures{}, session_.bench(), signal_, against_, 0);
    } else if (answer_->measures) {
        const SignalSpec* s = session_.bench().signal(signal_);
        list_->show(answer_->measures.value(), session_.bench(), answer_->question.signal, answer_->question.against,
                    s ? session_.decimalsOf(*s) + 1 : 0);
    }
    showExpected();
}

void MeasurePanel::refresh(bool digits) {
    if (!digits) return;
    const auto stretch = session_.stretch();
    if (!stretch || signal_.empty()) return;
    showEnds(*stretch);
    MeasureJob& job = session_.measuring();
    if (auto answer = job.take(); answer && answer->question.signal == signal_) {
        answer_ = std::move(answer);
        showAnswer();
    }
    const MeasureJob::Question wanted{signal_, against_, *stretch};
    const bool goesOn = session_.cursor().stretchHangsOnNow();
    const std::uint64_t revision = session_.source().revision();
    const bool same = asked_ && asked_->signal == wanted.signal && asked_->against == wanted.against;
    const bool again = !same || revision != revision_ ||
                       (goesOn ? session_.end() - askedAt_ >= anew : asked_->span != wanted.span) ||
                       (!goesOn && session_.end() < stretch->to + anew && session_.end() - askedAt_ >= anew);
    if (again && (!job.working() || !same || !goesOn)) {
        asked_ = wanted;
        revision_ = revision;
        askedAt_ = session_.end();
        job.ask(session_.bench(), session_.source(), wanted);
    }
    const bool long_ = job.working() && job.percent() < 100 && !answer_;
    state_->setVisible(long_ || (answer_ && !answer_->measures) ||
                       (answer_ && answer_->measures && answer_->measures.value().all.empty()));
    cancel_->setVisible(long_);
    if (long_)
        state_->setText(tr("Measuring… %1 %").arg(job.percent()));
    else if (answer_ && !answer_->measures)
        state_->setText(shown(answer_->measures.error().message));
}

}  // namespace cruscotto

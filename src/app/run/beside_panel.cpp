#include "app/run/beside_panel.h"

#include <QApplication>
#include <QClipboard>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QSignalBlocker>
#include <cmath>

#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"

namespace cruscotto {

namespace {

constexpr Duration judgedAnew = milliseconds(1000);

}  // namespace

BesidePanel::BesidePanel(Session& session, QWidget* parent)
    : QScrollArea(parent),
      session_(session),
      runs_(new QVBoxLayout),
      by_(new Choice),
      crossing_(new QWidget),
      crossingOf_(new Choice),
      level_(new Field(tr("Level"))),
      direction_(new Choice),
      drawn_(new Choice),
      difference_(new QCheckBox(tr("and the difference, below"))),
      why_(new QLabel),
      tabs_(new QTabBar),
      against_(new QLabel),
      with_(new Choice),
      signal_(new Choice),
      state_(new QLabel),
      differences_(new FindingList(session, nullptr)),
      table_(new QTableWidget),
      bandBox_(new QWidget),
      spreads_(new Field(tr("Half its width, in spreads"))),
      allowance_(new Field(tr("And so much more"))),
      verdicts_(new QLabel),
      copy_(quietButton(tr("Copy"), tr("As a table, for a spreadsheet"))) {
    scrollUpAndDown(*this, "panel");
    setAccessibleName(tr("Runs side by side"));
    auto* content = new QWidget;
    content->setObjectName("panel");
    auto* column = new QVBoxLayout(content);
    column->setContentsMargins(16, 12, 16, 12);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    head->addWidget(panelTitle(tr("Runs side by side")), 1);
    auto* close = closeButton(tr("Close"));
    connect(close, &QToolButton::clicked, this, &BesidePanel::closeAsked);
    head->addWidget(close);
    column->addLayout(head);

    runs_->setSpacing(4);
    column->addLayout(runs_);
    auto* adding = new QHBoxLayout;
    auto* add = new QPushButton(tr("Add a run…"));
    add->setObjectName("besideAdd");
    connect(add, &QPushButton::clicked, this, &BesidePanel::addAsked);
    auto* library = new QPushButton(tr("List of runs…"));
    connect(library, &QPushButton::clicked, this, &BesidePanel::libraryAsked);
    adding->addWidget(add);
    adding->addWidget(library);
    adding->addStretch(1);
    adding->addWidget(copy_);
    column->addLayout(adding);

    auto* fields = new QVBoxLayout;
    fields->setSpacing(6);
    column->addLayout(fields);
    for (const auto& [by, words] : {std::pair{Alignment::beginning, tr("by their beginnings")},
                                    std::pair{Alignment::firstMark, tr("by their first marks")},
                                    std::pair{Alignment::crossing, tr("where a signal goes through a level")},
                                    std::pair{Alignment::timeOfDay, tr("by the time of day")}})
        by_->addItem(words, static_cast<int>(by));
    by_->setAccessibleName(tr("Laid over each other"));
    drawn_->setAccessibleName(tr("Drawn"));
    drawn_->addItem(tr("as paler traces"), static_cast<int>(RunsBeside::Drawn::paler));
    drawn_->addItem(tr("as the band that they make"), static_cast<int>(RunsBeside::Drawn::band));
    for (Choice* choice : {by_, drawn_, crossingOf_, direction_, with_, signal_}) {
        constexpr int least = 8;
        choice->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
        choice->setMinimumContentsLength(least);
    }
    fields->addWidget(labelled(tr("Laid over each other"), by_, content));
    fields->addWidget(labelled(tr("Drawn"), drawn_, content));
    auto* crossing = new QVBoxLayout(crossing_);
    crossing->setContentsMargins(0, 0, 0, 0);
    crossing->setSpacing(6);
    crossingOf_->setAccessibleName(tr("Signal that goes through a level"));
    direction_->setAccessibleName(tr("Direction"));
    direction_->addItem(tr("rising"), true);
    direction_->addItem(tr("falling"), false);
    crossing->addWidget(labelled(tr("Signal"), crossingOf_, crossing_));
    place(crossing, labelled(tr("Level"), level_, crossing_));
    place(crossing, labelled(tr("Direction"), direction_, crossing_));
    fields->addWidget(crossing_);
    difference_->setToolTip(
        tr("What is open less the run that it is held against, in a lane of its own in every trace"));
    column->addWidget(difference_);
    why_->setWordWrap(true);
    why_->setObjectName("muted");
    column->addWidget(why_);

    auto* tabs = new QHBoxLayout;
    tabs_->setDrawBase(false);
    tabs_->setExpanding(false);
    tabs_->setUsesScrollButtons(false);
    tabs_->setAccessibleName(tr("What is told of them"));
    for (const QString& words : {tr("Differences"), tr("Measures"), tr("Band")}) tabs_->addTab(words);
    tabs->addWidget(tabs_, 1);
    connect(copy_, &QToolButton::clicked, this, [this] {
        QApplication::clipboard()->setText(told_ == Told::measures ? tableWords() : differences_->words());
    });
    column->addLayout(tabs);
    with_->setAccessibleName(tr("Held against"));
    signal_->setAccessibleName(tr("Measures of"));
    withBox_ = labelled(tr("Held against"), with_, content);
    signalBox_ = labelled(tr("Measures of"), signal_, content);
    column->addWidget(withBox_);
    against_->setWordWrap(true);
    against_->setObjectName("muted");
    against_->setTextFormat(Qt::PlainText);
    column->addWidget(against_);
    column->addWidget(signalBox_);
    state_->setWordWrap(true);
    column->addWidget(state_);
    table_->setParent(content);
    table_->setAccessibleName(tr("Measures of all runs"));
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setShowGrid(false);
    table_->setMinimumWidth(0);
    table_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    table_->verticalHeader()->hide();
    table_->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    column->addWidget(table_);
    auto* band = new QVBoxLayout(bandBox_);
    band->setContentsMargins(0, 0, 0, 0);
    band->setSpacing(8);
    auto* limits = new QVBoxLayout;
    place(limits, labelled(tr("Half its width, in spreads"), spreads_, bandBox_));
    place(limits, labelled(tr("And so much more, in its unit"), allowance_, bandBox_));
    band->addLayout(limits);
    verdicts_->setWordWrap(true);
    verdicts_->setTextFormat(Qt::PlainText);
    verdicts_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    band->addWidget(verdicts_);
    column->addWidget(bandBox_);
    differences_->setParent(content);
    column->addWidget(differences_);
    column->addStretch(1);
    setWidget(content);

    for (QComboBox* choice : {static_cast<QComboBox*>(by_), static_cast<QComboBox*>(crossingOf_),
                              static_cast<QComboBox*>(direction_), static_cast<QComboBox*>(drawn_)})
        connect(choice, qOverload<int>(&QComboBox::activated), this, &BesidePanel::takeView);
    connect(difference_, &QCheckBox::clicked, this, &BesidePanel::takeView);
    for (Field* field : {level_, spreads_, allowance_}) connect(field, &Field::taken, this, &BesidePanel::takeView);
    connect(tabs_, &QTabBar::currentChanged, this, [this](int index) { tell(static_cast<Told>(index)); });
    connect(with_, qOverload<int>(&QComboBox::activated), this, [this] {
        takeView();
        ask();
    });
    connect(signal_, qOverload<int>(&QComboBox::activated), this, &BesidePanel::ask);
    connect(differences_, &FindingList::signalAsked, this, &BesidePanel::signalAsked);
    connect(&session_.beside(), &RunsBeside::changed, this, [this] {
        if (isVisible()) rebuild();
    });
    connect(&session_.cursor(), &TimeCursor::stretched, this, [this] {
        if (isVisible()) ask();
    });
    tell(Told::differences);
}

void BesidePanel::open(const QString& signal) {
    rebuildChoices();
    if (const int at = signal_->findData(signal); at >= 0) signal_->setCurrentIndex(at);
    rebuild();
}

void BesidePanel::rebuildChoices() {
    for (Choice* choice : {signal_, crossingOf_}) {
        const QString was = choice->currentData().toString();
        const QSignalBlocker quiet(choice);
        choice->clear();
        for (const auto& s : session_.bench().signals) choice->addItem(shown(s->name), shown(s->id));
        choice->setCurrentIndex(std::max(0, choice->findData(was)));
    }
}

void BesidePanel::rebuild() {
    while (QLayoutItem* item = runs_->takeAt(0)) {
        if (QWidget* w = item->widget()) {
            w->hide();
            w->deleteLater();
        }
        delete item;
    }
    RunsBeside& beside = session_.beside();
    const QSignalBlocker quiet(with_);
    with_->clear();
    for (std::size_t i = 0; i < beside.runs().size(); ++i) {
        const RunsBeside::Run& run = *beside.runs()[i];
        with_->addItem(run.name());
        auto* row = new QWidget;
        auto* line = new QHBoxLayout(row);
        line->setContentsMargins(0, 0, 0, 0);
        line->setSpacing(6);
        auto* name = new QLabel;
        name->setText(QFontMetrics(name->font()).elidedText(run.name(), Qt::ElideMiddle, 150));
        name->setToolTip(run.path);
        name->setTextFormat(Qt::PlainText);
        line->addWidget(name, 1);
        auto* shift = new Field(tr("Seconds that %1 lies later").arg(run.name()));
        constexpr int wide = 92;
        shift->setFixedWidth(wide);
        shift->setAlignment(Qt::AlignRight);
        shift->show(run.there ? shown(secondsText(run.shift.ns)).replace('-', QChar(0x2212)) : tr("opens…"));
        shift->setEnabled(run.there);
        shift->setToolTip(
            tr("So many seconds are added to its own time. Ctrl and drag its paler trace to move it; "
               "Ctrl+Alt+Left and Right move the last run."));
        connect(shift, &Field::taken, this, [this, i, shift](const QString& text) {
            Duration d;
            QString typed = text.trimmed();
            typed.replace(QChar(0x2212), '-').remove(' ');
            const bool fine = parseDuration(typed.toStdString(), d);
            shift->markWrong(!fine, fine ? QString() : tr("Seconds are expected, such as 1.5 or −0.2"));
            if (fine && i < session_.beside().runs().size())
                session_.beside().shift(i, d - session_.beside().runs()[i]->shift);
        });
        line->addWidget(shift);
        line->addWidget(new QLabel(tr("s later")));
        auto* away = closeButton(tr("Take %1 away").arg(run.name()));
        connect(away, &QToolButton::clicked, this, [this, i] { session_.beside().remove(i); });
        line->addWidget(away);
        runs_->addWidget(row);
    }
    if (beside.empty()) {
        auto* none =
            new QLabel(tr("No run lies over this one yet. Add one: the same signals of it are drawn paler in "
                          "the traces, and compared."));
        none->setWordWrap(true);
        none->setObjectName("muted");
        runs_->addWidget(none);
    }
    const RunsBeside::View& view = beside.view();
    with_->setCurrentIndex(std::clamp(static_cast<int>(view.heldAgainst), 0, std::max(0, with_->count() - 1)));
    by_->setCurrentIndex(by_->findData(static_cast<int>(view.by)));
    drawn_->setCurrentIndex(drawn_->findData(static_cast<int>(view.drawn)));
    difference_->setChecked(view.difference);
    if (const int at = crossingOf_->findData(shown(view.crossing.signal)); at >= 0) crossingOf_->setCurrentIndex(at);
    level_->show(shown(exactNumber(view.crossing.level)));
    direction_->setCurrentIndex(view.crossing.rises ? 0 : 1);
    spreads_->show(shown(shortNumber(view.limits.spreads)));
    allowance_->show(shown(shortNumber(view.limits.allowance)));
    showFields();
    ask();
}

void BesidePanel::showFields() {
    const bool any = !session_.beside().empty();
    crossing_->setVisible(by_->currentData().toInt() == static_cast<int>(Alignment::crossing));
    differences_->setVisible(any && told_ != Told::measures);
    withBox_->setVisible(any && told_ == Told::differences && session_.beside().runs().size() > 1);
    table_->setVisible(any && told_ == Told::measures);
    signalBox_->setVisible(any && told_ == Told::measures);
    bandBox_->setVisible(any && told_ == Told::band);
    copy_->setVisible(any);
    difference_->setVisible(any);
    why_->setVisible(!why_->text().isEmpty());
    tabs_->setVisible(any);
    const QSignalBlocker quiet(tabs_);
    tabs_->setCurrentIndex(static_cast<int>(told_));
    against_->setVisible(any && told_ == Told::differences);
}

void BesidePanel::tell(Told what) {
    told_ = what;
    showFields();
    ask();
}

void BesidePanel::takeView() {
    RunsBeside& beside = session_.beside();
    RunsBeside::View view = beside.view();
    view.by = static_cast<Alignment>(by_->currentData().toInt());
    view.drawn = static_cast<RunsBeside::Drawn>(drawn_->currentData().toInt());
    view.difference = difference_->isChecked();
    view.heldAgainst = static_cast<std::size_t>(std::max(0, with_->currentIndex()));
    view.crossing.signal = crossingOf_->currentData().toString().toStdString();
    view.crossing.rises = direction_->currentData().toBool();
    const auto number = [](Field* field, double& out, double least) {
        double v = 0;
        const bool fine = parseNumber(field->text().toStdString(), v) && v >= least;
        field->markWrong(!fine, fine ? QString() : tr("A number is expected"));
        if (fine) out = v;
    };
    number(level_, view.crossing.level, -1e300);
    number(spreads_, view.limits.spreads, 0);
    number(allowance_, view.limits.allowance, 0);
    const bool anew = view.by != beside.view().by || view.crossing != beside.view().crossing;
    beside.setView(view);
    if (anew) {
        why_->setText(beside.align());
        showFields();
    }
}

void BesidePanel::ask() {
    RunsBeside& beside = session_.beside();
    state_->clear();
    state_->hide();
    if (beside.empty() || session_.openedNothing()) return;
    askedOver_ = session_.stretch();
    const auto which = static_cast<std::size_t>(std::max(0, with_->currentIndex()));
    against_->setText(tr("What is otherwise in %1 than in what is open%2, the largest first; of what each signal does:")
                          .arg(beside.runs()[std::min(which, beside.runs().size() - 1)]->name(),
                               askedOver_ ? tr(", over the stretch") : QString()));
    if (told_ == Told::differences)
        beside.askDifferences(which, askedOver_);
    else if (told_ == Told::measures)
        beside.askTable(signal_->currentData().toString().toStdString(), askedOver_);
    else
        judge();
}

void BesidePanel::refresh(bool digits) {
    if (!digits || !isVisible()) return;
    auto& job = session_.beside().comparing();
    if (auto answer = job.take()) {
        state_->setText(shown(answer->problem));
        state_->setVisible(!answer->problem.empty());
        if (told_ == Told::differences) differences_->show(answer->differences, answer->written);
        if (told_ == Told::measures) showTable(answer->table);
    } else if (job.working() && told_ != Told::band) {
        state_->setText(tr("Comparing… %1 %").arg(job.percent()));
        state_->show();
    }
    const Instant now = session_.end();
    if (told_ == Told::band && session_.engine() && (now < judgedAt_ || now - judgedAt_ >= judgedAnew)) judge();
}

void BesidePanel::showTable(const std::vector<RunTableRow>& rows) {
    QStringList titles{tr("Measure"), tr("Mean"), tr("Spread"), tr("This one")};
    for (const auto& run : session_.beside().runs())
        if (run->there) titles << run->name();
    table_->clear();
    table_->setColumnCount(static_cast<int>(titles.size()));
    table_->setHorizontalHeaderLabels(titles);
    table_->setRowCount(static_cast<int>(rows.size()));
    for (int r = 0; r < static_cast<int>(rows.size()); ++r) {
        const RunTableRow& row = rows[static_cast<std::size_t>(r)];
        const MeasureKind* kind = measureKind(row.measure);
        const QString unit = row.unit == "1" ? QString() : shown(unitText(row.unit));
        const auto put = [&](int c, const QString& words, const QString& tip = {}) {
            auto* item = new QTableWidgetItem(words);
            if (c > 0) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            item->setToolTip(tip);
            table_->setItem(r, c, item);
        };
        const auto number = [](double v) {
            return std::isfinite(v) ? shown(shortNumber(v)).replace('-', QChar(0x2212)) : QStringLiteral("–");
        };
        put(0, (kind ? shown(kind->title) : shown(row.measure)) +
                   (unit.isEmpty() ? QString() : QStringLiteral(" / ") + unit));
        put(1, number(row.mean));
        put(2, shown(threeDigits(row.deviation)).replace(QStringLiteral("nan"), QStringLiteral("–")),
            tr("From %1 to %2").arg(number(row.least), number(row.greatest)));
        for (std::size_t i = 0; i < row.of.size(); ++i)
            put(static_cast<int>(i) + 3, row.of[i].whyNot.empty() ? number(row.of[i].value) : QStringLiteral("–"),
                shown(row.of[i].whyNot));
    }
    table_->resizeColumnsToContents();
    table_->resizeRowsToContents();
    int height = table_->horizontalHeader()->sizeHint().height() + 20;
    for (int r = 0; r < table_->rowCount(); ++r) height += table_->rowHeight(r);
    table_->setFixedHeight(height);
}

QString BesidePanel::tableWords() const {
    QStringList out, head;
    for (int c = 0; c < table_->columnCount(); ++c) head << table_->horizontalHeaderItem(c)->text();
    out << head.join('\t');
    for (int r = 0; r < table_->rowCount(); ++r) {
        QStringList row;
        for (int c = 0; c < table_->columnCount(); ++c)
            row << (table_->item(r, c) ? table_->item(r, c)->text() : QString());
        out << row.join('\t');
    }
    return out.join('\n');
}

void BesidePanel::judge() {
    judgedAt_ = session_.end();
    const RunsBeside& beside = session_.beside();
    std::size_t there = 0;
    for (const auto& run : beside.runs()) there += run->there;
    if (there < 2) {
        verdicts_->setText(
            tr("A band wants two runs at least beside this one; three and more tell how far they "
               "spread."));
        return;
    }
    constexpr std::size_t places = 1000;
    const Span whole = session_.stretch().value_or(session_.source().extent());
    const ColumnRequest at{
        whole.from, Duration{std::max<std::int64_t>(1, (whole.to - whole.from).ns / std::int64_t{places})}, places};
    std::vector<FindingList::Row> bad, good;
    for (const auto& s : session_.bench().signals) {
        const auto runs = beside.having(*s);
        if (runs.size() < 2) continue;
        const BandVerdict v = judgedBy(bandOf(s->id, runs, at), beside.view().limits, session_.source(), s->id);
        if (v.judged == 0) continue;
        (v.fine ? good : bad)
            .push_back({(v.fine ? QStringLiteral("✓  ") : QStringLiteral("▲  ")) + shown(s->name),
                        shown(verdictText(v, s->unit(), session_.source().extent().from)), shown(s->id),
                        v.fine ? -1 : v.outsideShare});
    }
    verdicts_->setText(bad.empty() && good.empty() ? tr("Nothing to be judged.")
                       : bad.empty()               ? tr("All signals lie inside the band.")
                                                   : tr("Outside the band: %1 of %2 signals; for so much of the time:")
                                           .arg(bad.size())
                                           .arg(bad.size() + good.size()));
    std::ranges::stable_sort(bad, std::greater{}, &FindingList::Row::size);
    bad.insert(bad.end(), good.begin(), good.end());
    differences_->show(std::move(bad));
}

}  // namespace cruscotto

#include "app/calibration/sheet_view.h"

#include <QApplication>
#include <QClipboard>
#include <QDate>
#include <QHeaderView>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMenu>
#include <QRegularExpression>
#include <QToolButton>
#include <cmath>

#include "app/calibration/sheet_paper.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/chain/chain.h"

namespace cruscotto {

/// The sheet as it is printed, as large as there is room for.
class PaperView : public QWidget {
public:
    explicit PaperView(QWidget* parent) : QWidget(parent) {
        setMinimumWidth(300);
        setAccessibleName(SheetView::tr("The sheet as it is printed"));
    }
    void show(SheetPaper paper) {
        paper_ = std::move(paper);
        update();
    }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        constexpr double ratio = 210.0 / 297.0, around = 16;
        double h = height() - 2 * around, w = h * ratio;
        if (w > width() - 2 * around) w = width() - 2 * around, h = w / ratio;
        const QRectF page((width() - w) / 2, around, w, h);
        paintSheet(painter, page, paper_);
        painter.setPen(QPen(theme().hairline, 1));
        painter.drawRect(page);
    }

private:
    SheetPaper paper_;
};

namespace {

/// A number with as many digits as a person reads of one.
QString cellText(double v) {
    return QString::number(v, 'g', 10).replace('-', QChar(0x2212));
}

QLabel* caption(const QString& words, QWidget* parent) {
    auto* label = new QLabel(words, parent);
    label->setObjectName("caption");
    return label;
}

QLabel* wrapped(QWidget* parent, const char* look = "muted") {
    auto* label = new QLabel(parent);
    label->setObjectName(look);
    label->setWordWrap(true);
    label->hide();
    return label;
}

void say(QLabel* label, const QString& words) {
    label->setText(words);
    label->setVisible(!words.isEmpty());
}

}  // namespace

SheetView::SheetView(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setObjectName("page");
    auto* all = new QVBoxLayout(this);
    all->setContentsMargins(0, 0, 0, 0);
    all->setSpacing(0);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(16, 10, 16, 8);
    auto* back = new QToolButton(this);
    back->setObjectName("quiet");
    back->setText(tr("← Back to the page"));
    connect(back, &QToolButton::clicked, this, &SheetView::closeAsked);
    title_ = new QLabel(this);
    title_->setStyleSheet("font-size: 17px; font-weight: 600;");
    state_ = new QLabel(this);
    state_->setObjectName("muted");
    auto* print = new QPushButton(tr("Print…"), this);
    print->setToolTip(tr("As a PDF or a picture, on one page to be signed"));
    connect(print, &QPushButton::clicked, this, &SheetView::printAsked);
    auto* words = new QVBoxLayout;
    words->setSpacing(1);
    words->addWidget(title_);
    words->addWidget(state_);
    head->addWidget(back);
    head->addSpacing(8);
    head->addLayout(words, 1);
    head->addWidget(print, 0, Qt::AlignTop);
    all->addLayout(head);

    auto* both = new QHBoxLayout;
    both->setContentsMargins(0, 0, 0, 0);
    both->setSpacing(0);
    auto* scroll = new QScrollArea(this);
    scrollUpAndDown(*scroll, "panel");
    scroll->setFixedWidth(416);
    auto* content = new QWidget;
    content->setObjectName("panel");
    auto* column = new QVBoxLayout(content);
    column->setContentsMargins(16, 12, 16, 16);
    column->setSpacing(8);
    makePoints(column);
    makeCapture(column);
    makeFit(column);
    makeWords(column);
    column->addStretch();
    scroll->setWidget(content);
    paper_ = new PaperView(this);
    both->addWidget(scroll);
    both->addWidget(paper_, 1);
    all->addLayout(both, 1);
    connect(&session_, &Session::benchChanged, this, &SheetView::show);
    connect(&session_, &Session::sourceChanged, this, [this] { capture_.reset(); });
}

const SignalSpec* SheetView::spec() const {
    return session_.corrected(signal_.toStdString());
}

CalibrationSheet SheetView::sheet() const {
    const SignalSpec* s = spec();
    const Stage* stage = s ? calibrationIn(s->chain) : nullptr;
    if (stage) return sheetOf(*stage);
    CalibrationSheet out;
    if (s) out.unit = s->unit();
    return out;
}

std::size_t SheetView::stagesBefore() const {
    const SignalSpec* s = spec();
    if (!s) return 0;
    if (const Stage* stage = calibrationIn(s->chain)) return static_cast<std::size_t>(stage - s->chain.data());
    const ChainSpec with = withStageInPlace(s->chain, Stage::of("calibration"), s->kind);
    const Stage* stage = calibrationIn(with);
    return stage ? static_cast<std::size_t>(stage - with.data()) : s->chain.size();
}

void SheetView::open(const QString& signal) {
    if (signal != signal_) {
        capture_.reset();
        captured_.reset();
        captureSaid_.clear();
    }
    signal_ = signal;
    show();
    points_->setFocus();
}

void SheetView::take(const QString& effect, const CalibrationSheet& wanted) {
    const SignalSpec* now = spec();
    if (!now) return;
    CalibrationSheet next = wanted;
    // Until somebody chooses another one, the fit is what the points bear.
    const CalibrationSheet before = sheet();
    const bool followed = before.points.empty() || before.fit == proposeFit(before.points).kind;
    const bool samePoints = before.points == next.points;
    if (!samePoints && followed && before.fit == next.fit && !next.points.empty())
        next.fit = proposeFit(next.points).kind;
    if (!samePoints && next.date.empty()) next.date = session_.today();
    SignalSpec changed = *now;
    if (!calibrationIn(changed.chain))
        changed.chain = withStageInPlace(changed.chain, Stage::of("calibration"), changed.kind);
    const Stage* there = calibrationIn(changed.chain);
    const auto at = static_cast<std::size_t>(there - changed.chain.data());
    if (next.points.empty()) next.unit = unitBefore(changed.chain, at, changed.kind);
    changed.chain[at] = withSheet(*there, next);
    auto checked = checkChain(changed.chain, changed.kind);
    if (checked) checked = checkNeeded(withSignal(session_.bench(), changed), changed);
    if (!checked) {
        say(wrong_, shown(checked.error().message));
        return showPoints(before);
    }
    say(wrong_, {});
    if (session_.isRun())
        session_.correct(effect, std::move(changed));
    else
        session_.edit(effect, withSignal(session_.bench(), std::move(changed)));
    show();
}

void SheetView::takeNext() {
    const SignalSpec* now = spec();
    const Stage* there = now ? calibrationIn(now->chain) : nullptr;
    if (!there) return;
    SignalSpec changed = *now;
    CalibrationSheet next = sheetOf(*there);
    next.points.clear();
    next.date.clear();
    next.due.clear();
    next.notes.clear();
    const auto at = static_cast<std::size_t>(there - now->chain.data());
    next.unit = unitBefore(now->chain, at, now->kind);
    next.fit = "line";
    changed.chain[at] = withNextSheet(*there, next);
    if (session_.isRun())
        session_.correct(tr("Begin a new sheet"), std::move(changed));
    else
        session_.edit(tr("Begin a new sheet"), withSignal(session_.bench(), std::move(changed)));
    show();
}

// ---- what there is to fill in

void SheetView::makePoints(QVBoxLayout* column) {
    QWidget* parent = column->parentWidget();
    column->addWidget(caption(tr("POINTS"), parent));
    points_ = new QTableWidget(0, 3, parent);
    points_->setAccessibleName(tr("Points of the calibration"));
    points_->verticalHeader()->setDefaultSectionSize(26);
    points_->verticalHeader()->setFixedWidth(28);
    points_->setCornerButtonEnabled(false);
    points_->verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    points_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    points_->setMinimumHeight(196);
    points_->setToolTip(
        tr("Type or paste rows: indicated, reference and, where it is known, the reference's standard "
           "uncertainty. Del removes the chosen rows."));
    connect(points_, &QTableWidget::cellChanged, this, &SheetView::cellChanged);
    column->addWidget(points_);
    wrong_ = wrapped(parent, "wrong");
    column->addWidget(wrong_);
}

void SheetView::makeCapture(QVBoxLayout* column) {
    QWidget* parent = column->parentWidget();
    column->addWidget(caption(tr("CAPTURE A POINT"), parent));
    now_ = new QLabel(parent);
    column->addWidget(now_);
    auto* row = new QHBoxLayout;
    reference_ = new Field(tr("The reference says"), parent);
    seconds_ = new Field(tr("Over, in s"), parent);
    seconds_->show("5");
    referenceU_ = new Field(tr("Its u"), parent);
    referenceU_->setToolTip(
        tr("Standard uncertainty of the reference, from its certificate: the expanded one over its k"));
    row->addWidget(labelled(tr("The reference says"), reference_, parent), 2);
    row->addWidget(labelled(tr("Its u"), referenceU_, parent), 1);
    row->addWidget(labelled(tr("Over, in s"), seconds_, parent), 1);
    column->addLayout(row);
    auto* buttons = new QHBoxLayout;
    captureButton_ = new QPushButton(tr("Capture"), parent);
    captureButton_->setDefault(true);
    captureButton_->setToolTip(tr("The mean of what the chain indicates over this time, with its noise and drift"));
    const auto begin = [this] {
        if (capture_) {
            capture_.reset();
            captureSaid_.clear();
            return show();
        }
        double reference = 0, length = 0;
        const bool known = parseNumber(reference_->text().toStdString(), reference);
        const bool timed = parseNumber(seconds_->text().toStdString(), length) && length > 0 && length <= 3600;
        reference_->markWrong(!known, tr("What the reference says, as a number"));
        seconds_->markWrong(!timed, tr("A number of seconds, up to 3600"));
        if (known && timed) capture(reference, length);
    };
    connect(captureButton_, &QPushButton::clicked, this, begin);
    connect(reference_, &QLineEdit::returnPressed, this, begin);
    auto* quick = new QPushButton(tr("Quick ones"), parent);
    auto* menu = new QMenu(quick);
    const auto withReference = [this](double v) {
        reference_->show(cellText(v));
        double length = 5;
        (void)parseNumber(seconds_->text().toStdString(), length);
        capture(v, std::clamp(length, 0.1, 3600.0));
    };
    menu->addAction(tr("Zero here: it is at 0 now"), this, [withReference] { withReference(0); });
    menu->addAction(tr("Span here: it is at the full scale now…"), this, [this, withReference] {
        const SignalSpec* s = spec();
        if (!s) return;
        const auto scale = expectedScale(*s);
        bool fine = false;
        const double v =
            QInputDialog::getDouble(this, tr("Span here"), tr("What it is in truth now, in %1").arg(unitOf(*s)),
                                    scale ? scale->high : 1, -1e12, 1e12, 6, &fine);
        if (fine) withReference(v);
    });
    menu->addAction(tr("Ice point: the sensor is in melting ice"), this, [this, withReference] {
        const SignalSpec* s = spec();
        const auto in = s ? convertUnit("Cel", s->unit()) : std::nullopt;
        if (!in)
            return say(wrong_,
                       tr("An ice point is a temperature; this signal reads in %1.").arg(s ? unitOf(*s) : QString()));
        withReference(in->offset);
    });
    menu->addAction(tr("Shunt: a resistor stands beside an arm of the bridge…"), this, [this] { shunt(); });
    opensMenu(*quick, menu);
    buttons->addWidget(captureButton_);
    buttons->addWidget(quick);
    buttons->addStretch();
    column->addLayout(buttons);
    progress_ = new QProgressBar(parent);
    progress_->setTextVisible(false);
    progress_->setFixedHeight(6);
    progress_->hide();
    column->addWidget(progress_);
    captureLabel_ = wrapped(parent);
    column->addWidget(captureLabel_);
}

void SheetView::makeFit(QVBoxLayout* column) {
    QWidget* parent = column->parentWidget();
    column->addWidget(caption(tr("FIT"), parent));
    auto* row = new QHBoxLayout;
    fit_ = combo(tr("Fit"), parent);
    for (const auto& choice : calibrationFits()) fit_->addItem(shown(choice.title));
    connect(fit_, &QComboBox::activated, this, [this](int i) {
        CalibrationSheet next = sheet();
        next.fit = calibrationFits()[static_cast<std::size_t>(i)].key;
        take(tr("Change fit"), next);
    });
    takeProposal_ = new QPushButton(parent);
    connect(takeProposal_, &QPushButton::clicked, this, [this] {
        CalibrationSheet next = sheet();
        next.fit = proposeFit(next.points).kind;
        take(tr("Change fit"), next);
    });
    row->addWidget(fit_, 1);
    row->addWidget(takeProposal_);
    column->addLayout(row);
    proposal_ = wrapped(parent);
    column->addWidget(proposal_);
}

void SheetView::makeWords(QVBoxLayout* column) {
    QWidget* parent = column->parentWidget();
    column->addWidget(caption(tr("WHO, WHEN, WITH WHAT"), parent));
    auto* fields = new QVBoxLayout;
    fields->setSpacing(8);
    auto* holder = new QWidget(parent);
    holder->setLayout(fields);
    fields->setContentsMargins(0, 0, 0, 0);
    column->addWidget(holder);
    struct Word {
        QString title;
        std::string CalibrationSheet::*member;
        bool isDay = false;
    };
    for (const Word& w :
         {Word{tr("Calibrated on"), &CalibrationSheet::date, true},
          Word{tr("Holds until"), &CalibrationSheet::due, true}, Word{tr("Reference"), &CalibrationSheet::reference},
          Word{tr("Certificate"), &CalibrationSheet::certificate}, Word{tr("By"), &CalibrationSheet::person},
          Word{tr("Temperature"), &CalibrationSheet::temperature}, Word{tr("Unit"), &CalibrationSheet::unit}}) {
        auto* field = new Field(w.title, parent);
        if (w.isDay) field->setPlaceholderText(tr("year-month-day"));
        connect(field, &Field::taken, this, [this, field, w](const QString& typed) {
            const QString words = typed.trimmed();
            const bool fine = !w.isDay || words.isEmpty() || QDate::fromString(words, Qt::ISODate).isValid();
            field->markWrong(!fine, tr("A day, as in %1").arg(shown(session_.today())));
            if (!fine) return;
            CalibrationSheet next = sheet();
            next.*w.member =
                w.member == &CalibrationSheet::unit ? unitFromTyped(words.toStdString()) : words.toStdString();
            take(tr("Change %1").arg(w.title.toLower()), next);
        });
        words_.emplace_back(field, w.member);
        place(fields, labelled(w.title, field, parent));
    }
    notes_ = new LinesField(tr("Notes"), {}, parent);
    connect(notes_, &LinesField::taken, this, [this](const QString& typed) {
        CalibrationSheet next = sheet();
        next.notes = typed.toStdString();
        take(tr("Change notes"), next);
    });
    column->addWidget(labelled(tr("Notes"), notes_, parent));
    auto* buttons = new QHBoxLayout;
    next_ = new QPushButton(tr("Begin a new sheet"), parent);
    next_->setToolTip(tr("This one is kept in the signal's history, and the new one shows how it was found"));
    connect(next_, &QPushButton::clicked, this, &SheetView::takeNext);
    apply_ = new QPushButton(parent);
    connect(apply_, &QPushButton::clicked, this, [this] { Q_EMIT applyAsked(signal_); });
    buttons->addWidget(next_);
    buttons->addWidget(apply_);
    buttons->addStretch();
    column->addLayout(buttons);
}

// ---- showing

void SheetView::show() {
    const SignalSpec* s = spec();
    if (!s) {
        if (!signal_.isEmpty()) Q_EMIT closeAsked();
        return;
    }
    const CalibrationSheet now = sheet();
    title_->setText(tr("Calibration of %1").arg(shown(s->name)));
    const auto days = daysUntilDue(now, session_.today());
    const bool overdue = days && *days < 0;
    state_->setText((overdue ? QStringLiteral("▲ ") : QString()) + shown(calibrationState(now, session_.today())));
    state_->setStyleSheet(overdue ? QString("color: %1;").arg(theme().amber.name()) : QString());
    showPoints(now);
    const auto& fits = calibrationFits();
    const auto at = std::ranges::find(fits, now.fit, &StageField::Choice::key);
    fit_->setCurrentIndex(at == fits.end() ? -1 : static_cast<int>(at - fits.begin()));
    const FitProposal proposal = proposeFit(now.points);
    const bool other = !proposal.kind.empty() && proposal.kind != now.fit;
    takeProposal_->setVisible(other);
    if (other)
        for (const auto& c : fits)
            if (c.key == proposal.kind) takeProposal_->setText(tr("Take %1").arg(shown(c.title)));
    say(proposal_, shown(proposal.reason));
    for (const auto& [field, member] : words_)
        field->show(member == &CalibrationSheet::unit ? shown(unitText(now.*member)) : shown(now.*member));
    notes_->show(shown(now.notes));
    next_->setEnabled(!now.points.empty());
    apply_->setText(session_.isRun() ? tr("Work this run out again") : tr("Apply to a run…"));
    apply_->setEnabled(!now.points.empty() && !s->computed);
    captureButton_->setText(capture_ ? tr("Stop") : tr("Capture"));
    progress_->setVisible(capture_.has_value());
    say(captureLabel_, captureSaid_);
    const Bench& bench = session_.bench();
    SignalSpec with = *s;
    if (!calibrationIn(with.chain)) with.chain = withStageInPlace(with.chain, Stage::of("calibration"), with.kind);
    paper_->show(sheetPaper(bench, with, session_.today()));
}

void SheetView::showPoints(const CalibrationSheet& s) {
    showing_ = true;
    const SignalSpec* signal = spec();
    const QString before =
        signal ? shown(unitText(unitBefore(signal->chain, stagesBefore(), signal->kind))) : QString();
    points_->setHorizontalHeaderLabels(
        {tr("indicated, %1").arg(before), tr("reference, %1").arg(shown(unitText(s.unit))), tr("its u")});
    points_->setRowCount(static_cast<int>(s.points.size()) + 1);  // and one to be typed
    for (int r = 0; r < points_->rowCount(); ++r)
        for (int c = 0; c < 3; ++c) {
            QString words;
            if (r < static_cast<int>(s.points.size())) {
                const CalibrationPoint& p = s.points[static_cast<std::size_t>(r)];
                words = c == 0    ? cellText(p.indicated)
                        : c == 1  ? cellText(p.reference)
                        : p.u > 0 ? cellText(p.u)
                                  : QString();
            }
            auto* item = new QTableWidgetItem(words);
            item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            points_->setItem(r, c, item);
        }
    showing_ = false;
}

void SheetView::cellChanged(int row, int column) {
    if (showing_) return;
    CalibrationSheet next = sheet();
    const auto at = static_cast<std::size_t>(row);
    const auto cell = [&](int c, double& to) {
        const QTableWidgetItem* item = points_->item(row, c);
        return item && parseNumber(item->text().toStdString(), to);
    };
    double v = 0;
    const QString typed = points_->item(row, column)->text().trimmed();
    if (!typed.isEmpty() && !cell(column, v)) {
        say(wrong_, tr("“%1” is no number.").arg(typed));
        return showPoints(next);
    }
    CalibrationPoint p;
    // A new point is one when both of its numbers are there.
    if (at >= next.points.size()) {
        if (!cell(0, p.indicated) || !cell(1, p.reference)) return;
        (void)cell(2, p.u);
        next.points.push_back(p);
        return take(tr("Add point"), next);
    }
    p = next.points[at];
    if (column < 2 && typed.isEmpty()) return showPoints(next);
    (column == 0 ? p.indicated : column == 1 ? p.reference : p.u) = v;
    next.points[at] = p;
    take(tr("Change point"), next);
}

void SheetView::paste() {
    CalibrationSheet next = sheet();
    std::size_t added = 0;
    for (const QString& line :
         QApplication::clipboard()->text().split(QRegularExpression("[\r\n]+"), Qt::SkipEmptyParts)) {
        const QStringList cells = line.split(
            QRegularExpression(line.contains('\t') || line.contains(';') ? "[\t;]" : "\\s+"), Qt::SkipEmptyParts);
        CalibrationPoint p;
        if (cells.size() < 2 || !parseNumber(cells[0].trimmed().toStdString(), p.indicated) ||
            !parseNumber(cells[1].trimmed().toStdString(), p.reference))
            continue;
        if (cells.size() > 2) (void)parseNumber(cells[2].trimmed().toStdString(), p.u);
        next.points.push_back(p);
        ++added;
    }
    if (added == 0)
        return say(wrong_, tr("Nothing to paste: a row has what was indicated and what the reference said."));
    take(tr("Paste points"), next);
}

void SheetView::removePoints() {
    CalibrationSheet next = sheet();
    std::set<int> rows;
    for (const auto& index : points_->selectionModel()->selectedIndexes()) rows.insert(index.row());
    for (auto it = rows.rbegin(); it != rows.rend(); ++it)
        if (static_cast<std::size_t>(*it) < next.points.size()) next.points.erase(next.points.begin() + *it);
    if (next.points != sheet().points) take(tr("Remove points"), next);
}

void SheetView::keyPressEvent(QKeyEvent* event) {
    if (points_->hasFocus() && event->matches(QKeySequence::Paste)) return paste();
    if (points_->hasFocus() && event->key() == Qt::Key_Delete) return removePoints();
    if (event->key() == Qt::Key_Escape) {
        if (!capture_) return Q_EMIT closeAsked();
        capture_.reset();
        captureSaid_.clear();
        return show();
    }
    QWidget::keyPressEvent(event);
}

// ---- capturing

void SheetView::capture(double reference, double seconds) {
    const Instant now = session_.shownAt();
    const bool recorded = session_.isRun() || !session_.cursor().atEnd();
    const Duration length = cruscotto::seconds(seconds);
    // Of what is recorded, the time before the moment that is looked at.
    capture_ = Capture{reference, recorded ? now - length : now, length};
    captureSaid_ = tr("Keep it still…");
    show();
    if (recorded) endCapture();
}

void SheetView::refresh(Instant t) {
    const SignalSpec* s = spec();
    if (!s) return;
    const auto stages = session_.source().stagesAt(s->id, t);
    const std::size_t at = stagesBefore();
    const QString unit = shown(unitText(unitBefore(s->chain, at, s->kind)));
    const double now = at < stages.size() ? stages[at] : std::nan("");
    now_->setText(
        tr("It indicates %1 %2 now.").arg(std::isnan(now) ? QStringLiteral("–") : session_.numberText(*s, now), unit));
    if (!capture_) return;
    const double done = (session_.end() - capture_->from).seconds() / capture_->length.seconds();
    progress_->setValue(static_cast<int>(std::clamp(done, 0.0, 1.0) * 100));
    // What was taken until then may still be on its way; of a slow signal nothing more comes for long.
    const Instant until = capture_->from + capture_->length;
    const bool arrived = session_.source().at(s->id, session_.end()).taken >= until;
    if (done >= 1 && (arrived || session_.end() > until + seconds(1))) endCapture();
}

void SheetView::endCapture() {
    const Capture what = *std::exchange(capture_, std::nullopt);
    const SignalSpec* s = spec();
    std::vector<double> values;
    std::vector<Instant> times;
    constexpr std::size_t most = 1'000'000;
    const Span span{what.from, what.from + what.length};
    captured_.reset();
    if (s && session_.source().stageSeries(s->id, stagesBefore(), span, most, values, times))
        captured_ = steadinessOf(values, times);
    if (!captured_ || captured_->samples == 0) {
        captureSaid_ = tr("▲ Nothing was indicated over this time. Is the signal connected?");
        captured_.reset();
        return show();
    }
    const Steadiness& c = *captured_;
    const QString unit = shown(unitText(unitBefore(s->chain, stagesBefore(), s->kind)));
    captureSaid_ = tr("Mean of %1 readings: %2 %5, noise %3 %5, drift meanwhile %4 %5.")
                       .arg(countText(c.samples), cellText(QString::number(c.mean, 'g', 7).toDouble()),
                            shown(shortNumber(c.noise)), shown(shortNumber(c.drift)).replace('-', QChar(0x2212)), unit);
    if (!c.settled) captureSaid_ += tr(" ▲ It had not settled: wait, and capture it again.");
    CalibrationSheet next = sheet();
    double u = 0;
    if (parseNumber(referenceU_->text().toStdString(), u) && u > 0) u = std::hypot(u, c.standardUncertainty);
    // No more digits than a mean of readings has.
    next.points.push_back({QString::number(c.mean, 'g', 9).toDouble(), what.reference, u});
    take(tr("Capture point"), next);
    reference_->setFocus();
    reference_->selectAll();
}

QString SheetView::captureWords() const {
    return captureSaid_;
}

void SheetView::shunt() {
    const SignalSpec* s = spec();
    if (!s) return;
    const auto bridge = std::ranges::find_if(s->chain, [](const Stage& stage) { return stageKey(stage) == "bridge"; });
    if (bridge == s->chain.end()) return say(wrong_, tr("There is no bridge in this chain."));
    bool fine = false;
    const double arm =
        QInputDialog::getDouble(this, tr("Shunt"), tr("Resistance of the arm, in Ω"), 350, 1, 1e6, 3, &fine);
    if (!fine) return;
    const double beside =
        QInputDialog::getDouble(this, tr("Shunt"), tr("Resistor beside it, in Ω"), 100'000, 1, 1e9, 1, &fine);
    if (!fine) return;
    // One arm of R with Rs beside it loses R/(R + Rs) of itself; a quarter bridge answers with a quarter of that.
    const double change = arm / (arm + beside);
    const double unbalance = change / (4 - 2 * change) * 1000;  // mV/V
    const double value = QInputDialog::getDouble(
        this, tr("Shunt"),
        tr("It unbalances the bridge by %1 mV/V. What that is, in %2").arg(shown(shortNumber(unbalance)), unitOf(*s)),
        unbalance, -1e12, 1e12, 6, &fine);
    if (fine) capture(value, 5);
}

bool SheetView::print(const QString& path) {
    const SignalSpec* s = spec();
    if (!s || !calibrationIn(s->chain)) {
        Q_EMIT said(tr("There is no sheet yet: add a point first."));
        return false;
    }
    const auto written =
        writeSheet(sheetPaper(session_.bench(), *s, session_.today()), path.toStdString(), NewFile::Existing::replace);
    Q_EMIT said(written ? tr("Printed to %1.").arg(path) : shown(written.error().message));
    return written.ok();
}

}  // namespace cruscotto

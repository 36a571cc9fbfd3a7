#include "app/rules/procedure_view.h"

#include <QClipboard>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMenu>
#include <QTimer>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/procedure_file.h"
#include "core/bench/seen_readings.h"
#include "core/procedure/procedure_report.h"
#include "core/rules/rehearsal.h"

namespace cruscotto {

namespace {
QString verdictText(StepVerdict verdict) {
    switch (verdict) {
        case StepVerdict::passed:
            return ProcedureView::tr("✓ passed");
        case StepVerdict::failed:
            return ProcedureView::tr("✕ failed");
        case StepVerdict::undone:
            return ProcedureView::tr("– not done");
        default:
            return ProcedureView::tr("• done");
    }
}
void colour(QTableWidgetItem* item, StepVerdict verdict) {
    const Theme& t = theme();
    item->setForeground(verdict == StepVerdict::failed ? t.red : verdict == StepVerdict::passed ? t.ink : t.muted);
}
QTableWidget* plainTable(int columns, const QString& name) {
    auto* table = new QTableWidget(0, columns);
    table->setAccessibleName(name);
    table->verticalHeader()->hide();
    table->setShowGrid(false);
    table->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table->setSelectionBehavior(QAbstractItemView::SelectRows);
    table->setSelectionMode(QAbstractItemView::SingleSelection);
    table->setWordWrap(false);
    table->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    table->horizontalHeader()->setHighlightSections(false);
    table->verticalHeader()->setDefaultSectionSize(28);
    return table;
}
void put(QTableWidget* table, int row, int column, const QString& words) {
    QTableWidgetItem* item = table->item(row, column);
    if (!item) table->setItem(row, column, item = new QTableWidgetItem);
    if (item->text() != words) item->setText(words);
}
}  // namespace

ProcedureView::ProcedureView(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setAccessibleName(tr("Procedures"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 20, 24, 16);
    column->setSpacing(8);
    makeHead(column);
    makeQuestion(column);
    makeTables(column);
    // What is being changed may be one of the fields, which are made anew: not under their feet.
    connect(&session_, &Session::benchChanged, this, [this] {
        QTimer::singleShot(0, this, [this] {
            if (isVisible()) rebuild();
        });
    });
    connect(&session_, &Session::recordingStarted, this, [this] {
        if (!ending_ || !session_.engine()) return;
        if (const ProcedureSpec* p = procedure())
            if (const auto begun = session_.engine()->startProcedure(*p); !begun)
                Q_EMIT said(shown(begun.error().message));
    });
}

void ProcedureView::makeHead(QVBoxLayout* column) {
    auto* head = new QHBoxLayout;
    head->setSpacing(8);
    head->addWidget(pageTitle(tr("Procedure")));
    which_ = new QComboBox;
    which_->setAccessibleName(tr("Which procedure"));
    which_->setMinimumWidth(220);
    connect(which_, &QComboBox::activated, this, [this](int i) {
        id_ = which_->itemData(i).toString().toStdString();
        chosen_.clear();
        built_.reset();
        rebuild();
    });
    head->addWidget(which_);
    auto* more = quietButton(QStringLiteral("⋯"), tr("More for this procedure"));
    connect(more, &QToolButton::clicked, this, [this, more] {
        QMenu menu;
        menu.addAction(tr("New procedure"), this, &ProcedureView::addProcedure);
        if (const ProcedureSpec* p = procedure()) {
            menu.addAction(tr("Rename…"), this, [this, name = shown(p->name)] {
                bool fine = false;
                const QString next =
                    QInputDialog::getText(this, tr("Rename the procedure"), tr("Name"), QLineEdit::Normal, name, &fine);
                if (fine && !next.trimmed().isEmpty())
                    change(tr("Rename procedure"), [&](ProcedureSpec& q) { q.name = next.trimmed().toStdString(); });
            });
            menu.addAction(tr("Copy of it"), this, [this] {
                const ProcedureSpec* now = procedure();
                if (!now) return;
                ProcedureSpec copy = *now;
                std::vector<std::string> taken;
                for (const auto& q : session_.bench().procedures) taken.push_back(q->id);
                copy.id = freshId(copy.id, taken);
                copy.name += tr(" (copy)").toStdString();
                id_ = copy.id;
                session_.edit(tr("Copy procedure"), withProcedure(session_.bench(), copy));
            });
            menu.addAction(tr("Remove"), this, &ProcedureView::removeProcedure);
        }
        menu.exec(more->mapToGlobal(QPoint(0, more->height())));
    });
    head->addWidget(more);
    whole_ = new QLabel;
    whole_->setObjectName("verdict");
    whole_->setStyleSheet("font-size: 20px; font-weight: 600; padding-left: 12px;");
    head->addWidget(whole_, 1);
    record_ = new Switch(this);
    record_->setCheckable(true);
    record_->setChecked(true);
    record_->setAccessibleName(tr("Record it"));
    head->addWidget(record_);
    head->addWidget(new QLabel(tr("Record it")));
    start_ = new QPushButton(tr("Start"));
    start_->setObjectName("startProcedure");
    start_->setDefault(true);
    connect(start_, &QPushButton::clicked, this, [this] { start(); });
    pause_ = new QPushButton(tr("Pause"));
    connect(pause_, &QPushButton::clicked, this, [this] {
        if (session_.engine() && shown_) session_.engine()->pauseProcedure(shown_->state != RunState::paused);
    });
    end_ = new QPushButton(tr("End, outputs safe"));
    connect(end_, &QPushButton::clicked, this, [this] {
        if (session_.engine()) session_.engine()->endProcedure(CRUSCOTTO_TEXT("It was ended by hand."));
    });
    for (QPushButton* b : {start_, pause_, end_}) head->addWidget(b);
    auto* close = closeButton(tr("Back to the page"));
    connect(close, &QToolButton::clicked, this, &ProcedureView::closeAsked);
    head->addWidget(close);
    column->addLayout(head);
    notes_ = new QLabel;
    notes_->setObjectName("muted");
    notes_->setWordWrap(true);
    notes_->setTextFormat(Qt::PlainText);
    column->addWidget(notes_);
}

void ProcedureView::makeQuestion(QVBoxLayout* column) {
    question_ = new QWidget;
    question_->setObjectName("question");
    question_->setAttribute(Qt::WA_StyledBackground);
    auto* row = new QHBoxLayout(question_);
    row->setContentsMargins(12, 10, 12, 10);
    asked_ = new QLabel;
    asked_->setFont(uiFont(16, QFont::DemiBold));
    asked_->setTextFormat(Qt::PlainText);
    asked_->setWordWrap(true);
    row->addWidget(asked_, 1);
    typed_ = new QLineEdit;
    typed_->setAccessibleName(tr("Answer"));
    typed_->setMaximumWidth(140);
    connect(typed_, &QLineEdit::returnPressed, this, [this] { answer(typed_->text()); });
    yes_ = new QPushButton;
    connect(yes_, &QPushButton::clicked, this,
            [this] { answer(typed_->isVisible() ? typed_->text() : QStringLiteral("yes")); });
    no_ = new QPushButton(tr("No"));
    connect(no_, &QPushButton::clicked, this, [this] { answer(QStringLiteral("no")); });
    row->addWidget(typed_);
    row->addWidget(yes_);
    row->addWidget(no_);
    question_->hide();
    column->addWidget(question_);
}

void ProcedureView::makeTables(QVBoxLayout* column) {
    auto* beside = new QHBoxLayout;
    beside->setSpacing(16);
    auto* left = new QVBoxLayout;
    steps_ = plainTable(4, tr("Steps"));
    steps_->setHorizontalHeaderLabels({tr("Step"), tr("What is done"), tr("Now"), tr("Verdict")});
    steps_->horizontalHeader()->setSectionResizeMode(whatColumn, QHeaderView::Stretch);
    steps_->setColumnWidth(stepColumn, 56);
    steps_->setColumnWidth(nowColumn, 150);
    steps_->setColumnWidth(verdictColumn, 150);
    connect(steps_, &QTableWidget::currentCellChanged, this, [this](int row) {
        if (showing_ || row < 0 || row >= static_cast<int>(paths_.size())) return;
        chosen_ = paths_[static_cast<std::size_t>(row)];
        showFields();
    });
    left->addWidget(steps_, 3);
    none_ = new QLabel(
        tr("A procedure is a table of steps: set outputs, wait until something holds, hold, measure and compare, ask. "
           "It goes through them with a verdict for each, and always ends with the outputs safe."));
    none_->setObjectName("muted");
    none_->setWordWrap(true);
    left->addWidget(none_);
    measured_ = plainTable(0, tr("What was measured"));
    left->addWidget(measured_, 2);
    beside->addLayout(left, 1);
    fieldScroll_ = new QScrollArea;
    constexpr int formWidth = 300;
    makeFormArea(*fieldScroll_, formWidth);
    beside->addWidget(fieldScroll_);
    column->addLayout(beside, 1);
}

const ProcedureSpec* ProcedureView::procedure() const {
    return session_.bench().procedure(id_);
}

const ProcedureStep* ProcedureView::chosen() const {
    const ProcedureSpec* p = procedure();
    return p && !chosen_.empty() ? stepAt(*p, chosen_) : nullptr;
}

QString ProcedureView::cell(int row, int column) const {
    const QTableWidgetItem* item = steps_->item(row, column);
    return item ? item->text() : QString();
}

void ProcedureView::open(const std::string& id) {
    if (!id.empty()) id_ = id;
    if (id.empty() && session_.engine())
        if (const auto r = session_.engine()->procedureReport(); r && session_.bench().procedure(r->id)) id_ = r->id;
    built_.reset();
    shown_.reset();
    rebuild();
    refresh();
}

void ProcedureView::addRows(const std::vector<ProcedureStep>& steps, StepPath path) {
    path.push_back(0);
    for (std::size_t i = 0; i < steps.size(); ++i) {
        path.back() = i;
        const int row = steps_->rowCount();
        steps_->insertRow(row);
        paths_.push_back(path);
        put(steps_, row, stepColumn, shown(stepNumber(path)));
        put(steps_, row, whatColumn,
            QString(static_cast<int>(path.size() - 1) * 4, QChar(' ')) + shown(stepWords(session_.bench(), steps[i])));
        if (steps[i].kind == StepKind::repeat) addRows(steps[i].steps, path);
    }
}

void ProcedureView::rebuild() {
    const auto& all = session_.bench().procedures;
    if (!procedure() && !all.empty()) id_ = all.front()->id;
    const auto it = std::ranges::find_if(all, [&](const auto& p) { return p->id == id_; });
    const auto now_ = it == all.end() ? nullptr : *it;
    showing_ = true;
    which_->clear();
    for (const auto& p : all) which_->addItem(shown(p->name), shown(p->id));
    which_->setCurrentIndex(which_->findData(shown(id_)));
    which_->setVisible(!all.empty());
    none_->setVisible(!now_ || now_->steps.empty());
    notes_->setText(now_ ? shown(now_->notes) : QString());
    notes_->setVisible(now_ && !now_->notes.empty());
    if (built_ != now_ || !now_) {
        built_ = now_;
        steps_->setRowCount(0);
        paths_.clear();
        if (now_) addRows(now_->steps, {});
        shown_.reset();
    }
    showing_ = false;
    if (now_ && !stepAt(*now_, chosen_)) chosen_ = now_->steps.empty() ? StepPath{} : StepPath{0};
    chooseStep(chosen_);
    measured_->setVisible(measured_->rowCount() > 0);
}

void ProcedureView::chooseStep(const StepPath& path) {
    chosen_ = path;
    const auto row = std::ranges::find(paths_, path);
    showing_ = true;
    steps_->setCurrentCell(row == paths_.end() ? -1 : static_cast<int>(row - paths_.begin()), whatColumn);
    showing_ = false;
    showFields();
}

void ProcedureView::change(const QString& effect, const std::function<void(ProcedureSpec&)>& edit) {
    const ProcedureSpec* p = procedure();
    if (!p) return;
    if (session_.isRun()) return Q_EMIT said(tr("The procedures of a run are those that it was recorded with."));
    ProcedureSpec next = *p;
    edit(next);
    if (next == *p) return;
    if (const auto fine = checkProcedure(session_.bench(), next); !fine) {
        Q_EMIT said(shown(fine.error().message));
        showFields();
        return;
    }
    session_.edit(effect, withProcedure(session_.bench(), next));
}

void ProcedureView::changeStep(const std::function<void(ProcedureStep&)>& edit) {
    change(tr("Change step"), [&](ProcedureSpec& p) {
        if (ProcedureStep* s = stepAt(p, chosen_)) edit(*s);
    });
}

void ProcedureView::addProcedure() {
    std::vector<std::string> taken;
    for (const auto& p : session_.bench().procedures) taken.push_back(p->id);
    ProcedureSpec made;
    made.id = freshId("procedure", taken);
    made.name = tr("Procedure %1").arg(taken.size() + 1).toStdString();
    ProcedureStep hold;
    hold.seconds = 1;
    made.steps = {hold};
    id_ = made.id;
    chosen_ = {0};
    session_.edit(tr("New procedure"), withProcedure(session_.bench(), made));
}

void ProcedureView::removeProcedure() {
    session_.edit(tr("Remove procedure"), withoutProcedure(session_.bench(), id_));
}

void ProcedureView::insert(ProcedureStep step) {
    change(tr("Add step"), [&](ProcedureSpec& p) {
        StepPath parent = chosen_;
        std::size_t at = p.steps.size();
        auto* list = &p.steps;
        if (!parent.empty()) {
            at = parent.back() + 1;
            parent.pop_back();
            if (ProcedureStep* in = parent.empty() ? nullptr : stepAt(p, parent)) list = &in->steps;
        }
        at = std::min(at, list->size());
        list->insert(list->begin() + static_cast<std::ptrdiff_t>(at), std::move(step));
        parent.push_back(at);
        chosen_ = parent;
    });
}

void ProcedureView::addStep(StepKind kind) {
    const Bench& bench = session_.bench();
    ProcedureStep s;
    s.kind = kind;
    s.endsIfFailed = kind != StepKind::measure && kind != StepKind::ask;
    const auto first = [&](auto&& suits) -> const SignalSpec* {
        const auto it = std::ranges::find_if(bench.signals, [&](const auto& x) { return suits(*x); });
        return it == bench.signals.end() ? nullptr : it->get();
    };
    const auto reads = [](const SignalSpec& x) { return !x.output && !x.isState(); };
    if (kind == StepKind::set) {
        const SignalSpec* o = first([](const SignalSpec& x) { return x.output.has_value(); });
        if (!o) return Q_EMIT said(tr("The bench has no output to set."));
        s.on = o->id;
        s.amount.value = o->output->safe;
    }
    const SignalSpec* read = first(reads);
    if (!read && (kind == StepKind::wait || kind == StepKind::measure))
        return Q_EMIT said(tr("The bench reads nothing to look at."));
    if (kind == StepKind::wait) {
        s.until = {.kind = ConditionKind::above, .of = read->id, .level = read->scale ? read->scale->low : 0};
        s.until.unit = read->unit();
        s.seconds = 10;
    }
    if (kind == StepKind::hold) s.seconds = 1;
    if (kind == StepKind::measure) {
        s.seconds = 1;
        s.take = {{.signal = read->id, .name = {}}};
    }
    if (kind == StepKind::mark || kind == StepKind::ask) s.words = tr("Here").toStdString();
    if (kind == StepKind::ask)
        s.words = tr("Is everything ready?").toStdString(), s.answer = ProcedureStep::Answer::yesNo;
    if (kind == StepKind::repeat) {
        ProcedureStep hold;
        hold.seconds = 1;
        s.columns = {{"value", {1, 2, 3}}};
        s.steps = {hold};
    }
    if (kind == StepKind::command) {
        if (bench.devices.empty()) return Q_EMIT said(tr("The bench has no device to tell."));
        s.on = bench.devices.front()->id;
        s.key = "setting";
    }
    if (!procedure()) addProcedure();
    insert(std::move(s));
}

void ProcedureView::removeStep() {
    if (chosen_.empty()) return;
    change(tr("Remove step"), [&](ProcedureSpec& p) {
        StepPath parent = chosen_;
        const std::size_t at = parent.back();
        parent.pop_back();
        auto* list = &p.steps;
        if (ProcedureStep* in = parent.empty() ? nullptr : stepAt(p, parent)) {
            list = &in->steps;
            if (list->size() == 1) return Q_EMIT said(tr("A repetition needs a step: remove it as a whole."));
        }
        if (at < list->size()) list->erase(list->begin() + static_cast<std::ptrdiff_t>(at));
        if (at > 0 && at >= list->size()) --chosen_.back();
    });
}

void ProcedureView::moveStep(int by) {
    if (chosen_.empty()) return;
    change(tr("Move step"), [&](ProcedureSpec& p) {
        StepPath parent = chosen_;
        const auto at = static_cast<std::ptrdiff_t>(parent.back());
        parent.pop_back();
        auto* list = &p.steps;
        if (ProcedureStep* in = parent.empty() ? nullptr : stepAt(p, parent)) list = &in->steps;
        const std::ptrdiff_t to = at + by;
        if (to < 0 || to >= static_cast<std::ptrdiff_t>(list->size())) return;
        std::swap((*list)[static_cast<std::size_t>(at)], (*list)[static_cast<std::size_t>(to)]);
        chosen_.back() = static_cast<std::size_t>(to);
    });
}

void ProcedureView::copyStep() {
    if (const ProcedureStep* s = chosen()) QGuiApplication::clipboard()->setText(shown(stepToText(*s)));
}

void ProcedureView::pasteStep() {
    const auto step = stepFromText(QGuiApplication::clipboard()->text().toStdString());
    if (!step) return Q_EMIT said(shown(step.error().message));
    insert(step.value());
}

void ProcedureView::start(bool only) {
    const ProcedureSpec* p = procedure();
    if (!p || !session_.engine()) return;
    if (session_.outputsAtRest()) return Q_EMIT said(tr("The outputs are at rest. Drive them first."));
    if (const auto fine = checkProcedure(session_.bench(), *p); !fine) return Q_EMIT said(shown(fine.error().message));
    const bool idle = session_.recordingPhase() == Session::Recording::none;
    if (!only && record_->isChecked() && idle) {
        ending_ = true;  // and begins when the recording has
        session_.startRecording(session_.runFolder());
        return;
    }
    if (const auto begun = session_.engine()->startProcedure(only && !chosen_.empty() ? onlyStep(*p, chosen_) : *p);
        !begun)
        Q_EMIT said(shown(begun.error().message));
}

void ProcedureView::answer(const QString& words) {
    if (!session_.engine()) return;
    if (const auto taken = session_.engine()->answerProcedure(words.toStdString()); !taken)
        return Q_EMIT said(shown(taken.error().message));
    typed_->clear();
}

QString ProcedureView::nowText(const std::string& signal) const {
    const SignalSpec* s = session_.bench().signal(signal);
    if (!s || session_.openedNothing()) return {};
    const Reading r = session_.source().at(signal, session_.end());
    if (r.quality == Quality::gap || std::isnan(r.value)) return QStringLiteral("–");
    if (s->isState() || isDigital(s->kind)) return stateWord(*s, r.value);
    const auto scale = expectedScale(*s);
    const std::string unit = unitText(s->unit());
    return shown((scale ? readingText(r.value, decimalsFor(scale->low, scale->high)) : threeDigits(r.value)) +
                 (unit.empty() || unit == "1" ? "" : " " + unit));
}

void ProcedureView::showNow() {
    const ProcedureSpec* p = procedure();
    if (!p) return;
    for (std::size_t row = 0; row < paths_.size(); ++row) {
        const ProcedureStep* s = stepAt(*p, paths_[row]);
        if (!s) continue;
        QStringList words;
        if (s->kind == StepKind::set) words << nowText(s->on);
        if (s->kind == StepKind::wait) {
            std::vector<std::string> signals;
            signalsOf(s->until, signals);
            for (const std::string& id : signals) words << nowText(id);
        }
        for (const ProcedureMeasure& m : s->take)
            if (words.size() < 2) words << nowText(m.signal);
        put(steps_, static_cast<int>(row), nowColumn, words.join(QStringLiteral("  ")));
    }
}

void ProcedureView::showReport() {
    const auto report = session_.engine() ? session_.engine()->procedureReport() : nullptr;
    const bool own = report && report->id == id_;
    const bool going = report && report->state != RunState::ended;
    start_->setEnabled(procedure() && session_.engine() && !going && !session_.isRun());
    pause_->setEnabled(going && report->state != RunState::asking);
    pause_->setText(going && report->state == RunState::paused ? tr("Go on") : tr("Pause"));
    end_->setEnabled(going);
    if (ending_ && report && !going && shown_ && shown_->state != RunState::ended) {
        ending_ = false;
        session_.stopRecording();
    }
    if (report == shown_) return;
    shown_ = report;
    const bool asking = own && report->state == RunState::asking;
    question_->setVisible(asking);
    if (asking) {
        const ProcedureSpec* p = procedure();
        const auto planned = plannedSteps(*p);
        const ProcedureStep* s = report->at < planned.size() ? planned[report->at].step : nullptr;
        using Answer = ProcedureStep::Answer;
        asked_->setText(s ? shown(s->words) : shown(report->steps[report->at].words));
        typed_->setVisible(s && s->answer == Answer::number);
        no_->setVisible(s && s->answer == Answer::yesNo);
        yes_->setText(!s || s->answer == Answer::seen ? tr("Go on")
                      : s->answer == Answer::yesNo    ? tr("Yes")
                                                      : tr("Take it"));
        (typed_->isVisible() ? static_cast<QWidget*>(typed_) : yes_)->setFocus();
    }
    const Theme& t = theme();
    for (std::size_t row = 0; row < paths_.size(); ++row) {
        QString words;
        StepVerdict worst = StepVerdict::none;
        if (own) {
            int done = 0, passed = 0, all = 0;
            const std::string number_ = stepNumber(paths_[row]);
            for (std::size_t i = 0; i < report->steps.size(); ++i) {
                const StepResult& r = report->steps[i];
                if (r.number != number_) continue;
                ++all;
                if (going && i == report->at)
                    words = report->state == RunState::paused   ? tr("❙❙ paused")
                            : report->state == RunState::asking ? tr("? asks")
                            : report->remains ? tr("▸ %1 s").arg(report->remains->seconds(), 0, 'f', 1)
                                              : tr("▸ now");
                if (!r.ended) continue;
                ++done;
                passed += r.verdict == StepVerdict::passed;
                if (worst != StepVerdict::failed) worst = r.verdict;
                if (all == 1 && words.isEmpty()) words = verdictText(r.verdict);
            }
            if (all > 1 && done > 0) {
                const bool atIt = words.startsWith(QStringLiteral("▸"));
                const QString sum = worst == StepVerdict::failed ? tr("✕ %1 of %2 passed").arg(passed).arg(all)
                                    : passed > 0                 ? tr("✓ %1 of %2").arg(passed).arg(all)
                                                                 : tr("• %1 of %2").arg(done).arg(all);
                words = atIt ? words + QStringLiteral("  ") + sum : sum;
            }
        }
        put(steps_, static_cast<int>(row), verdictColumn, words);
        if (words.startsWith(QStringLiteral("▸")) && std::exchange(followed_, paths_[row]) != paths_[row])
            steps_->scrollToItem(steps_->item(static_cast<int>(row), verdictColumn));
        colour(steps_->item(static_cast<int>(row), verdictColumn), worst);
        if (words.startsWith(QStringLiteral("▸")))
            steps_->item(static_cast<int>(row), verdictColumn)->setForeground(t.accent);
    }
    whole_->setText(!own ? QString()
                    : report->state == RunState::ended
                        ? verdictText(report->verdict) +
                              (report->why.empty() ? QString() : QStringLiteral(": ") + shown(report->why))
                    : report->state == RunState::paused ? tr("paused")
                                                        : tr("step %1").arg(shown(report->steps[report->at].number)));
    const bool failed = own && report->state == RunState::ended && report->verdict == StepVerdict::failed;
    whole_->setStyleSheet(QStringLiteral("font-size: 18px; font-weight: 600; padding-left: 12px; color: %1;")
                              .arg((failed ? t.red : t.ink).name()));
    if (own) {
        for (const StepResult& r : report->steps)
            if (failed && report->why.empty() && r.verdict == StepVerdict::failed) {
                whole_->setText(whole_->text() + QStringLiteral(": ") + shown(r.why));
                break;
            }
        showMeasured(*report);
    }
}

void ProcedureView::showMeasured(const ProcedureReport& report) {
    std::vector<std::string> columns;
    std::vector<std::pair<std::string, std::vector<const StepValue*>>> rows;
    for (const StepResult& r : report.steps) {
        if (r.values.empty()) continue;
        // Of a row what is set, not its limits: its first value tells it apart.
        std::string name = r.row.empty() ? r.number : r.row.front().first + " = " + shortNumber(r.row.front().second);
        if (rows.empty() || rows.back().first != name || r.turn == 0)
            rows.emplace_back(name, std::vector<const StepValue*>{});
        for (const StepValue& v : r.values) {
            auto at = std::ranges::find(columns, v.name);
            if (at == columns.end()) at = columns.insert(columns.end(), v.name);
            const auto i = static_cast<std::size_t>(at - columns.begin());
            rows.back().second.resize(std::max(rows.back().second.size(), i + 1));
            rows.back().second[i] = &v;
        }
    }
    measured_->setVisible(!rows.empty());
    measured_->setColumnCount(static_cast<int>(columns.size()) + 1);
    QStringList labels{tr("Measured at")};
    for (const std::string& c : columns) labels << shown(c);
    measured_->setHorizontalHeaderLabels(labels);
    measured_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
    measured_->setRowCount(static_cast<int>(rows.size()));
    for (std::size_t row = 0; row < rows.size(); ++row) {
        put(measured_, static_cast<int>(row), 0, shown(rows[row].first));
        for (std::size_t c = 0; c < columns.size(); ++c) {
            const StepValue* v = c < rows[row].second.size() ? rows[row].second[c] : nullptr;
            QString words;
            if (v) {
                words = (v->verdict == StepVerdict::failed   ? QStringLiteral("✕ ")
                         : v->verdict == StepVerdict::passed ? QStringLiteral("✓ ")
                                                             : QString()) +
                        (std::isfinite(v->value) ? quantityText(v->value, v->unit) : shown(v->why));
            }
            put(measured_, static_cast<int>(row), static_cast<int>(c) + 1, words);
            measured_->item(static_cast<int>(row), static_cast<int>(c) + 1)
                ->setToolTip(v ? shown(valueWords(*v)) : QString());
            if (v) colour(measured_->item(static_cast<int>(row), static_cast<int>(c) + 1), v->verdict);
        }
    }
    if (!rows.empty()) measured_->scrollToBottom();
}

void ProcedureView::refresh() {
    showReport();
    showNow();
}

void ProcedureView::keyPressEvent(QKeyEvent* event) {
    const bool alt = event->modifiers() & Qt::AltModifier;
    if (event->key() == Qt::Key_Escape)
        Q_EMIT closeAsked();
    else if (alt && event->key() == Qt::Key_Up)
        moveStep(-1);
    else if (alt && event->key() == Qt::Key_Down)
        moveStep(1);
    else if (event->key() == Qt::Key_Delete)
        removeStep();
    else if (event->matches(QKeySequence::Copy))
        copyStep();
    else if (event->matches(QKeySequence::Paste))
        pasteStep();
    else
        QWidget::keyPressEvent(event);
}

}  // namespace cruscotto

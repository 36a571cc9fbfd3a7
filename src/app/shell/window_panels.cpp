// What stands beside the page or in its place, and windows of their own: a part of the main window.
#include <QApplication>
#include <QClipboard>
#include <QDialog>
#include <QFileDialog>
#include <QFileInfo>
#include <QPlainTextEdit>
#include <QScreen>
#include <QVBoxLayout>

#include "app/document/background_job.h"
#include "app/page/tiles/tile_form.h"
#include "app/run/explanation_paper.h"
#include "app/run/preflight_dialog.h"
#include "app/shell/main_window.h"
#include "app/widgets/ask_file.h"
#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/explanation.h"
#include "core/bench/keep.h"

namespace cruscotto {

void MainWindow::openChain(const QString& signal) {
    side_->setCurrentWidget(drawer_);
    side_->show();
    fitSide();
    drawer_->open(signal);
    list_->select(signal);
}

void MainWindow::openDevice(const QString& device) {
    side_->setCurrentWidget(device_);
    side_->show();
    fitSide();
    device_->open(device);
}

void MainWindow::openSeveral() {
    const auto chosen = list_->selectedSignals();
    if (chosen.size() < 2)
        return notice(tr("Choose several signals in the list first: click them with Ctrl, or with Shift."));
    if (!several_) {
        several_ = new SeveralPanel(session_, side_);
        side_->addWidget(several_);
        connect(several_, &SeveralPanel::closeAsked, this, &MainWindow::closeSide);
    }
    side_->setCurrentWidget(several_);
    side_->show();
    fitSide();
    several_->open(chosen);
}

MeasurePanel& MainWindow::measures() {
    if (!measures_) {
        measures_ = new MeasurePanel(session_, side_);
        side_->addWidget(measures_);
        connect(measures_, &MeasurePanel::closeAsked, this, [this] { session_.cursor().endStretch(); });
        connect(measures_, &MeasurePanel::keepAsked, this, [this] { actions_["keep-past"]->trigger(); });
        connect(measures_, &MeasurePanel::chainAsked, this, &MainWindow::openChain);
        connect(measures_, &MeasurePanel::playAsked, this, &MainWindow::playStretch);
    }
    return *measures_;
}

void MainWindow::playStretch(const QString& signal, const QString& output) {
    const SignalSpec* s = session_.bench().signal(signal.toStdString());
    const auto stretch = session_.stretch();
    if (!s || !stretch) return;
    PlayedSpec played;
    played.signal = s->id;
    played.shape = PlayedSpec::Shape::run;
    if (session_.isRun()) {
        const Instant zero = session_.source().extent().from;
        played.run = session_.lastRun().toStdString();  // which is the one that is open
        played.from = (stretch->from - zero).seconds();
        played.to = (stretch->to - zero).seconds();
        const QString words =
            tr("%1 of %2, from %3")
                .arg(lengthText(stretch->to - stretch->from), shown(s->name), QFileInfo(session_.lastRun()).fileName());
        session_.setToPlay(Session::ToPlay{played, s->isState(), words});
        return notice(tr("Open a bench: under Rules, New control has it to be played by one of its outputs."));
    }
    // What is short enough becomes points, which can be edited; else it is kept as a run, and played from there.
    constexpr std::size_t mostPoints = 2000;
    const std::size_t mostLooked = s->isState() ? 1'000'000 : mostPoints;
    std::vector<Point> points;
    std::vector<double> seconds, values;
    if (session_.source().points(s->id, *stretch, mostLooked, points))
        for (const Point& p : points) {
            seconds.push_back((std::max(p.t, stretch->from) - stretch->from).seconds());
            values.push_back(p.value);
        }
    const Pattern pattern = recordedPattern(seconds, values, s->isState());
    if (!pattern.empty() && pattern.size() <= mostPoints) {
        played.shape = PlayedSpec::Shape::steps;
        played.points = pattern;
        played.points.front().first = 0;
        played.lasts = (stretch->to - stretch->from).seconds();
        return openRules().playBack(output.toStdString(), played);
    }
    played_ = {played, output};
    session_.keepStretch(session_.runFolder(), *stretch);
}

void MainWindow::playKept(const QString& path, Span kept) {
    if (!played_) return;
    auto [played, output] = *std::exchange(played_, std::nullopt);
    played.run = path.toStdString();
    played.to = (kept.to - kept.from).seconds();
    openRules().playBack(output.toStdString(), played);
}

QString MainWindow::chosenSignal() const {
    if (const Tile* t = page_->selected(); t && !t->spec().signals.empty()) return shown(t->spec().signals.front());
    if (!list_->currentSignal().isEmpty()) return list_->currentSignal();
    if (session_.bench().signal(session_.bench().ribbonSignal)) return shown(session_.bench().ribbonSignal);
    return session_.bench().signals.empty() ? QString() : shown(session_.bench().signals.front()->id);
}

void MainWindow::openMeasures() {
    measuresWanted_ = false;
    if (!session_.cursor().hasStretch()) return;
    besideBefore_ = side_->isVisible() && side_->currentWidget() != measures_ ? side_->currentWidget() : nullptr;
    side_->setCurrentWidget(&measures());
    side_->show();
    fitSide();
    measures().open(chosenSignal());
}

void MainWindow::stretched() {
    updateActions();
    const bool shows = measures_ && side_->isVisible() && side_->currentWidget() == measures_;
    if (session_.cursor().hasStretch()) {
        if (!shows && !measuresShown_) measuresWanted_ = true;
        measuresShown_ = true;
        return;
    }
    measuresWanted_ = measuresShown_ = false;
    if (!shows) return;
    if (besideBefore_)
        side_->setCurrentWidget(besideBefore_);
    else
        closeSide();
}

void MainWindow::moveEnd(bool first, int by) {
    const auto stretch = session_.stretch();
    if (!stretch) return;
    constexpr int steps = 100;
    const Duration step{std::max<std::int64_t>(1, session_.cursor().window().ns / steps) * by};
    Span next = *stretch;
    (first ? next.from : next.to) = (first ? next.from : next.to) + step;
    if (next.from < next.to) session_.cursor().stretchOver(next);
}

void MainWindow::layOver(const QStringList& paths) {
    for (const QString& path : paths) session_.beside().add(path);
    if (!paths.isEmpty()) openBeside();
}

BesidePanel& MainWindow::openBeside() {
    if (!beside_) {
        beside_ = new BesidePanel(session_, side_);
        side_->addWidget(beside_);
        connect(beside_, &BesidePanel::closeAsked, this, &MainWindow::closeSide);
        connect(beside_, &BesidePanel::addAsked, this, [this] { actions_["lay-over"]->trigger(); });
        connect(beside_, &BesidePanel::libraryAsked, this, [this] { openLibrary(); });
        connect(beside_, &BesidePanel::signalAsked, this, &MainWindow::openChain);
    }
    closeSheet();
    side_->setCurrentWidget(beside_);
    side_->show();
    fitSide();
    beside_->open(chosenSignal());
    return *beside_;
}

void MainWindow::openBeside(QDialog* form, const std::function<void()>& taken) {
    if (form_) {
        side_->removeWidget(form_);
        form_->deleteLater();
    }
    form->setWindowFlags(Qt::Widget);
    form_ = new QScrollArea(side_);
    scrollUpAndDown(*form_, "page");
    form_->setWidget(form);
    side_->addWidget(form_);
    connect(form, &QDialog::finished, this, [this, taken](int how) {
        if (how == QDialog::Accepted) taken();
        if (form_) {
            side_->removeWidget(form_);
            form_->deleteLater();
        }
        closeSide();
    });
    side_->setCurrentWidget(form_);
    side_->show();
    form->show();
    form->setFocus();
    fitSide();
    updateActions();
}

ControlView& MainWindow::openControl(const std::string& id) {
    if (!control_) {
        control_ = new ControlView(session_, centre_);
        centre_->addWidget(control_);
        connect(control_, &ControlView::closeAsked, this, [this] { openRules(); });
        connect(control_, &ControlView::controlAsked, this,
                [this](const QString& other) { openControl(other.toStdString()); });
        connect(control_, &ControlView::said, this, [this](const QString& sentence) { notice(sentence); });
    }
    closeSide();
    centre_->setCurrentWidget(control_);
    control_->open(id);
    control_->setFocus();
    updateActions();
    return *control_;
}

ProcedureView& MainWindow::openProcedures(const std::string& id) {
    if (!procedures_) {
        procedures_ = new ProcedureView(session_, centre_);
        centre_->addWidget(procedures_);
        connect(procedures_, &ProcedureView::closeAsked, this, &MainWindow::closeSheet);
        connect(procedures_, &ProcedureView::said, this, [this](const QString& sentence) { notice(sentence); });
    }
    closeSide();
    centre_->setCurrentWidget(procedures_);
    procedures_->open(id);
    procedures_->setFocus();
    updateActions();
    return *procedures_;
}

RulesView& MainWindow::openRules() {
    if (!rules_) {
        rules_ = new RulesView(session_, centre_);
        centre_->addWidget(rules_);
        connect(rules_, &RulesView::closeAsked, this, &MainWindow::closeSheet);
        connect(&rules_->alarmList(), &AlarmList::silenceAsked, this, &MainWindow::silenceAlarms);
        connect(&rules_->alarmList(), &AlarmList::momentAsked, this, [this](Instant at) {
            session_.cursor().goTo(at);
            closeSheet();
        });
        connect(rules_, &RulesView::said, this, [this](const QString& sentence) { notice(sentence); });
        connect(rules_, &RulesView::controlAsked, this, [this](const QString& id) { openControl(id.toStdString()); });
    }
    const QString about = chosenSignal();
    closeSide();
    centre_->setCurrentWidget(rules_);
    rules_->open(about);
    rules_->setFocus();
    updateActions();
    return *rules_;
}

LibraryView& MainWindow::openLibrary() {
    if (!library_) {
        library_ = new LibraryView(session_, centre_);
        centre_->addWidget(library_);
        connect(library_, &LibraryView::closeAsked, this, &MainWindow::closeSheet);
        connect(library_, &LibraryView::said, this, [this](const QString& sentence) { notice(sentence); });
        connect(library_, &LibraryView::layAsked, this, &MainWindow::layOver);
        connect(library_, &LibraryView::openAsked, this, [this](const QString& path) {
            if (!mayLeave()) return;
            closeSheet();
            openFile(path);
        });
    }
    closeSide();
    const QString last = session_.path().isEmpty() && !session_.lastRun().isEmpty()
                             ? QFileInfo(session_.lastRun()).absolutePath()
                             : session_.folderToShow();
    library_->open(last);
    centre_->setCurrentWidget(library_);
    library_->setFocus();
    updateActions();
    return *library_;
}

FindPanel& MainWindow::findPanel() {
    if (!find_) {
        find_ = new FindPanel(session_, side_);
        side_->addWidget(find_);
        connect(find_, &FindPanel::closeAsked, this, &MainWindow::closeSide);
        connect(find_, &FindPanel::added, this, &MainWindow::openDevice);
    }
    return *find_;
}

void MainWindow::openFind() {
    side_->setCurrentWidget(&findPanel());
    side_->show();
    fitSide();
}

SheetView& MainWindow::sheet() {
    if (!sheet_) {
        sheet_ = new SheetView(session_, centre_);
        centre_->addWidget(sheet_);
        connect(sheet_, &SheetView::closeAsked, this, &MainWindow::closeSheet);
        connect(sheet_, &SheetView::said, this, [this](const QString& sentence) { notice(sentence); });
        connect(sheet_, &SheetView::applyAsked, this, &MainWindow::applySheet);
        connect(sheet_, &SheetView::printAsked, this, [this] {
            const SignalSpec* s = session_.bench().signal(sheet_->signal().toStdString());
            const QString path = askFileToWrite(
                this, tr("Print the calibration sheet"),
                session_.folderToShow() + "/" + shown(freshId(s ? s->name : "sheet", {})) + "-calibration.pdf",
                tr("Pages (*.pdf);;Pictures (*.png)"), "pdf");
            if (!path.isEmpty()) sheet_->print(path);
        });
    }
    return *sheet_;
}

void MainWindow::openSheet(const QString& signal) {
    const SignalSpec* s = session_.bench().signal(signal.toStdString());
    if (!s || s->output || s->isState())
        return notice(tr("Choose a signal that reads numbers in the list of signals first; its sheet opens then."));
    if (session_.isRun() && !keepsRaw(s->keep))
        return notice(tr("Of %1 the readings were recorded, not the raw samples: they cannot be worked out again.")
                          .arg(shown(s->name)));
    closeSide();
    sheet().open(signal);
    centre_->setCurrentWidget(sheet_);
    updateActions();
}

void MainWindow::openExplanation(const QString& signal) {
    const Bench bench =
        session_.isRun() && session_.run()->info() ? session_.run()->info()->benchThatComputes() : session_.bench();
    const auto made = explain(bench, session_.source(), signal.toStdString(), session_.shownAt());
    if (!made)
        return notice(tr("Choose a signal in the list or a tile first; then it is told where its number comes from."));
    auto* dialog = new QDialog(this);
    dialog->setObjectName("explanation");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle(tr("Where does this number come from?"));
    dialog->resize(760, 620);
    auto* column = new QVBoxLayout(dialog);
    auto* words = new QPlainTextEdit(shown(explanationText(made.value(), session_.today())), dialog);
    words->setReadOnly(true);
    words->setAccessibleName(tr("Where the number comes from"));
    column->addWidget(words);
    auto* row = new QHBoxLayout;
    auto* copy = new QPushButton(tr("Copy"), dialog);
    auto* close = new QPushButton(tr("Close"), dialog);
    close->setDefault(true);
    connect(copy, &QPushButton::clicked, dialog, [words] { QApplication::clipboard()->setText(words->toPlainText()); });
    connect(close, &QPushButton::clicked, dialog, &QDialog::accept);
    auto* page = new QPushButton(tr("Save as a page…"), dialog);
    page->setObjectName("explanationPage");
    connect(page, &QPushButton::clicked, dialog, [this, explanation = made.value()] {
        const QString path =
            askFileToWrite(this, tr("Save where the number comes from"),
                           session_.folderToShow() + "/" + shown(freshId(explanation.name, {})) + "-explained.pdf",
                           tr("Pages (*.pdf);;Pictures (*.png)"), "pdf");
        if (path.isEmpty()) return;
        const auto written =
            writeExplanation(explanation, session_.today(), path.toStdString(), NewFile::Existing::replace);
        notice(written ? tr("Saved %1.").arg(path) : shown(written.error().message));
    });
    row->addStretch();
    row->addWidget(page);
    row->addWidget(copy);
    row->addWidget(close);
    column->addLayout(row);
    dialog->open();
}

void MainWindow::openPreflight(bool toRecord) {
    if (!session_.engine()) return notice(tr("This is for a bench that measures; a run is over."));
    const auto look = [this] {
        Engine* engine = session_.engine();
        if (!engine) return std::vector<PreflightFinding>();
        PreflightFacts facts{engine->deviceStatus(), session_.today(), {}, 0, engine->lostSamples()};
        if (status_->freeBytes() > 0) facts.freeBytes = status_->freeBytes();
        const double length = session_.end().seconds();
        if (length > 1) facts.bytesPerSecond = static_cast<double>(engine->measuredBytes()) / length;
        return preflight(session_.bench(), session_.source(), session_.end(), seconds(5), facts);
    };
    const auto record = [this] {
        session_.startRecording(session_.runFolder());
        status_->refresh(true);
    };
    const auto found = look();
    if (toRecord && worstOf(found) == PreflightFinding::Grade::good) return record();
    auto* dialog = new PreflightDialog(this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &PreflightDialog::againAsked, this, [dialog, look] { dialog->show(look()); });
    connect(dialog, &PreflightDialog::recordAsked, this, record);
    connect(dialog, &PreflightDialog::asked, this, [this, dialog](const QString& about) {
        dialog->accept();
        session_.bench().signal(about.toStdString()) ? openChain(about) : openDevice(about);
    });
    dialog->show(found);
    if (toRecord) dialog->offerToRecord();
    dialog->open();
}

void MainWindow::fillWithTile() {
    const Tile* chosen = page_->selected();
    if (!chosen || full_) return;
    closeSheet();
    auto made = tileForm(chosen->spec().kind).make(session_, centre_);
    full_ = made.release();
    connect(&session_, &Session::benchChanged, full_, [this, id = shown(chosen->spec().id)] {
        const Tile* now = page_->tile(id);
        if (now)
            full_->setSpec(now->spec());
        else
            closeSheet();
    });
    centre_->addWidget(full_);
    centre_->setCurrentWidget(full_);
    signals_->hide();
    side_->hide();
    full_->setSpec(chosen->spec());
    full_->setFocus();
    frame(true);
    notice(tr("Escape brings the page back."));
    updateActions();
}

void MainWindow::openPageWindow() {
    auto* window = new PageWindow(session_, page_->page());
    pageWindows_.removeAll(nullptr);
    pageWindows_ << window;
    connect(&window->page(), &PageView::chainAsked, this, &MainWindow::openChain);
    // On another screen, where there is one.
    for (QScreen* other : QGuiApplication::screens())
        if (other != screen()) window->move(other->availableGeometry().topLeft());
    window->show();
    window->refresh(session_.shownAt(), true);
}

void MainWindow::closeSheet() {
    if (full_) {
        centre_->removeWidget(full_);
        full_->disconnect(this);
        session_.disconnect(full_);
        full_->deleteLater();
        full_ = nullptr;
        signals_->show();
        fitSide();
        notice({});
    }
    if (centre_->currentWidget() == page_) return;
    centre_->setCurrentWidget(page_);
    page_->setFocus();
    updateActions();
}

/// The sheet that is open is worked into a run: the one that is open, or one that is chosen.
void MainWindow::applySheet(const QString& signal) {
    if (session_.isRun()) return workOutAgain();
    const SignalSpec* s = session_.bench().signal(signal.toStdString());
    if (!s || working_) return;
    const QString run = QFileDialog::getOpenFileName(this, tr("Work the readings of a run out again with this sheet"),
                                                     session_.folderToShow(), tr("Runs (*.run)"));
    if (!run.isEmpty()) applySheetTo(signal, run);
}

WireView* MainWindow::openWire(const QString& device) {
    wires_.removeIf([](const auto& wire) { return !wire || !wire->isVisible(); });
    for (const auto& wire : wires_) {
        if (wire->device() != device) continue;
        wire->raise();
        wire->activateWindow();
        return wire;
    }
    auto* wire = new WireView(session_, device, this);
    connect(wire, &WireView::saveAsked, this, [this, wire](const std::vector<WireMessagePtr>& messages) {
        const DeviceSpec* named = session_.bench().device(wire->device().toStdString());
        const QString path =
            askFileToWrite(wire, tr("Save what passed on the wire"),
                           session_.folderToShow() + "/" + shown(freshId(named ? named->name : "wire", {})) + ".wire",
                           tr("Wire captures (*.wire)"), "wire");
        if (path.isEmpty()) return;
        const DeviceSpec* d = session_.bench().device(wire->device().toStdString());
        const CaptureOrigin origin = d ? CaptureOrigin{d->kind, d->settings} : CaptureOrigin{};
        watch(new BackgroundJob(captureWork(messages, origin, path), this), tr("Saving… %1 %"), tr("Stop"));
    });
    wires_ << wire;
    wire->show();
    return wire;
}

void MainWindow::closeSide() {
    page_->setFocus();  // first: else a tile would get it on the way, and be chosen
    side_->hide();
    fitSide();
}

void MainWindow::fitSide() {
    // Beside an open panel the page needs what room there is.
    constexpr int forThree = 860;
    signals_->setVisible(side_->isHidden() || width() >= forThree);
}

}  // namespace cruscotto

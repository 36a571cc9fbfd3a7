#include "app/shell/main_window.h"

#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QDialog>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMessageBox>
#include <QPlainTextEdit>
#include <QScreen>
#include <QSettings>
#include <QVBoxLayout>

#include "app/document/background_job.h"
#include "app/page/tiles/tile_form.h"
#include "app/run/explanation_paper.h"
#include "app/run/preflight_dialog.h"
#include "app/run/run_dialogs.h"
#include "app/widgets/ask_file.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/log.h"
#include "core/bench/explanation.h"

namespace cruscotto {

namespace {
constexpr int frameMs = 16;
constexpr int digitsMs = 200;
}  // namespace

// From the window inwards: what gets a parent later is dressed once more, with all that is in it.
MainWindow::MainWindow()
    : central_(new QWidget(this)),
      status_(new StatusLine(session_, central_)),
      notice_(new QLabel),
      noticeDo_(new QPushButton),
      noticeBar_(new QWidget(central_)),
      restBar_(new QWidget(central_)),
      splitter_(new QSplitter(Qt::Horizontal, central_)),
      signals_(new SignalPanel(session_, splitter_)),
      list_(signals_->list()),
      centre_(new QStackedWidget(splitter_)),
      page_(new PageView(session_, centre_)),
      side_(new QStackedWidget(splitter_)),
      drawer_(new ChainDrawer(session_, side_)),
      device_(new DevicePanel(session_, side_)),
      ribbon_(new Ribbon(session_, central_)),
      standIn_(new ExampleStandIn(session_, this)) {
    setWindowTitle("Cruscotto");
    setFocusPolicy(Qt::ClickFocus);
    auto* column = new QVBoxLayout(central_);
    column->setContentsMargins(0, 0, 0, 0);
    column->setSpacing(0);
    column->addWidget(status_);
    noticeBar_->setObjectName("panel");
    auto* bar = new QHBoxLayout(noticeBar_);
    bar->setContentsMargins(16, 6, 12, 6);
    notice_->setWordWrap(true);
    notice_->setTextFormat(Qt::PlainText);
    auto* dismiss = new QPushButton(tr("Dismiss"));
    dismiss->setObjectName("quiet");
    connect(dismiss, &QPushButton::clicked, this, [this] { notice({}); });
    bar->addWidget(notice_, 1);
    for (QPushButton* b : {noticeDo_, dismiss}) {
        b->setFocusPolicy(Qt::TabFocus);  // a click on it takes the focus from nothing
        bar->addWidget(b);
    }
    noticeBar_->hide();
    column->addWidget(noticeBar_);
    restBar_->setObjectName("panel");
    auto* rest = new QHBoxLayout(restBar_);
    rest->setContentsMargins(16, 6, 12, 6);
    auto* restWords =
        new QLabel(tr("▲ Outputs are at rest: this bench was not saved here, or was changed since. Nothing is "
                      "driven, and nothing is sent but what reading needs."));
    restWords->setWordWrap(true);
    rest->addWidget(restWords, 1);
    auto* driveThem = new QPushButton(tr("Drive the outputs"));
    driveThem->setFocusPolicy(Qt::TabFocus);
    connect(driveThem, &QPushButton::clicked, this, [this] { session_.driveOutputs(); });
    rest->addWidget(driveThem);
    restBar_->hide();
    column->addWidget(restBar_);
    side_->addWidget(drawer_);
    side_->addWidget(device_);
    side_->hide();
    splitter_->addWidget(signals_);
    centre_->addWidget(page_);
    splitter_->addWidget(centre_);
    splitter_->addWidget(side_);
    splitter_->setHandleWidth(1);
    splitter_->setChildrenCollapsible(false);
    splitter_->setStretchFactor(1, 1);
    signals_->setMinimumWidth(200);
    centre_->setMinimumWidth(340);
    side_->setMinimumWidth(280);
    splitter_->setSizes({264, 1016, 320});
    column->addWidget(splitter_, 1);
    column->addWidget(ribbon_);
    setCentralWidget(central_);
    actionList_ = new ActionList(central_);
    QWidget* const order[] = {status_->menuButton(),    status_->recordButton(), list_, page_, side_, ribbon_,
                              status_->actionsButton(), status_->themeButton()};
    for (std::size_t i = 1; i < std::size(order); ++i) setTabOrder(order[i - 1], order[i]);

    makeActions();
    makeMenu();
    connect(list_, &SignalList::chainAsked, this, &MainWindow::openChain);
    connect(list_, &SignalList::deviceAsked, this, &MainWindow::openDevice);
    connect(list_->selectionModel(), &QItemSelectionModel::currentChanged, this, &MainWindow::updateActions);
    connect(list_->model(), &QAbstractItemModel::modelReset, this, &MainWindow::updateActions);
    connect(list_, &SignalList::menuAsked, this, &MainWindow::rowMenu);
    connect(page_, &PageView::chainAsked, this, &MainWindow::openChain);
    connect(page_, &PageView::selectionChanged, this, &MainWindow::updateActions);
    connect(page_, &PageView::fullAsked, this, &MainWindow::fillWithTile);
    connect(page_, &PageView::deviceWanted, this, &MainWindow::openFind);
    connect(page_, &PageView::menuAsked, this, &MainWindow::tileMenu);
    connect(drawer_, &ChainDrawer::closeAsked, this, &MainWindow::closeSide);
    connect(drawer_, &ChainDrawer::workOutAgainAsked, this, &MainWindow::workOutAgain);
    connect(drawer_, &ChainDrawer::sheetAsked, this, &MainWindow::openSheet);
    connect(device_, &DevicePanel::closeAsked, this, &MainWindow::closeSide);
    connect(device_, &DevicePanel::signalAdded, this, &MainWindow::openChain);
    connect(device_, &DevicePanel::wireAsked, this, &MainWindow::openWire);
    connect(&session_, &Session::benchChanged, this, &MainWindow::updateActions);
    connect(&session_, &Session::sourceChanged, this, [this] {
        if (!session_.sameRun()) {
            closeSide();
            closeSheet();
        }
        if (remember_ && !session_.path().isEmpty()) QSettings().setValue("last/bench", session_.path());
    });
    connect(&session_, &Session::saved, this, [this](const QString& path) {
        if (remember_) QSettings().setValue("last/bench", path);
        notice(tr("Saved as %1.").arg(path));
        updateActions();
    });
    connect(&session_, &Session::recordingStarted, this, [this] {
        notice({});
        status_->refresh(true);
    });
    connect(&session_, &Session::recordingEnded, this, [this](const RecordingStatus& done) {
        QString words =
            tr("Recorded %1 samples to %2. Ctrl+L opens it.").arg(countText(done.samples), shown(done.path));
        if (done.lost)
            words +=
                tr(" %1 more are missing, and the run says where: %2").arg(countText(done.lost), shown(done.lostTo));
        for (const auto& s : done.skipped)
            words += tr(" %1 sent %2 that did not fit: %3.").arg(shown(s.device), countText(s.count), shown(s.last));
        if (!done.empty.empty()) {
            QStringList names;
            for (const std::string& id : done.empty)
                if (const SignalSpec* s = session_.bench().signal(id)) names << shown(s->name);
            words += tr(" Nothing came of %1.").arg(names.join(", "));
        }
        notice(done.problem.empty() ? words : shown(done.problem));
        status_->refresh(true);
    });
    connect(status_, &StatusLine::said, this, [this](const QString& sentence) { notice(sentence); });
    for (const auto& saying : {&Session::failed, &Session::noticed})
        connect(&session_, saying, this, [this](const QString& sentence) { notice(sentence); });
    connect(standIn_, &ExampleStandIn::offered, this, [this](const QString& s) { notice(s, tr("Start it")); });
    connect(standIn_, &ExampleStandIn::failed, this, [this](const QString& s) { notice(s); });
    connect(standIn_, &ExampleStandIn::settled, this, [this] { notice({}); });
    connect(noticeDo_, &QPushButton::clicked, standIn_, &ExampleStandIn::start);
    connect(&session_.undoStack(), &QUndoStack::indexChanged, this, &MainWindow::updateActions);
    connect(&session_.cursor(), &TimeCursor::moved, this, &MainWindow::updateActions);
    connect(&session_.cursor(), &TimeCursor::stretched, this, &MainWindow::stretched);
    connect(&session_, &Session::besideChanged, this, &MainWindow::updateActions);
    connect(page_, &PageView::selectionChanged, this, [this] {
        // Also said when the page was only laid out anew.
        const Tile* t = page_->selected();
        const QString now = t && !t->spec().signals.empty() ? shown(t->spec().signals.front()) : QString();
        if (std::exchange(followed_, now) == now || now.isEmpty()) return;
        if (measures_ && side_->isVisible() && side_->currentWidget() == measures_) measures_->open(now);
    });
    connect(list_->selectionModel(), &QItemSelectionModel::currentChanged, this, [this] {
        if (measures_ && side_->isVisible() && side_->currentWidget() == measures_ && list_->hasFocus() &&
            !list_->currentSignal().isEmpty())
            measures_->open(list_->currentSignal());
    });

    resize(1280, 800);
    page_->setFocus();

    connect(&clock_, &QTimer::timeout, this, &MainWindow::tick);
    clock_.setTimerType(Qt::PreciseTimer);
    clock_.start(frameMs);
    sinceDigits_.start();
}

// The views look at the session until they are gone; members go before children do.
MainWindow::~MainWindow() {
    clock_.stop();
    session_.disconnect(this);
    session_.undoStack().disconnect(this);
    session_.cursor().disconnect(this);
    for (const auto& wire : wires_) delete wire.data();
    for (const auto& other : pageWindows_) delete other.data();
    delete central_;  // taken out first, it would be dressed anew, as a window of its own
}

void MainWindow::restoreSettings() {
    const QSettings settings;
    // The first time: as large as it is meant to be, or as the screen has room for, with a title bar.
    const QSize room = screen()->availableSize() - QSize(0, style()->pixelMetric(QStyle::PM_TitleBarHeight));
    if (!restoreGeometry(settings.value("window/geometry").toByteArray()) &&
        (width() > room.width() || height() > room.height()))
        setWindowState(Qt::WindowMaximized);
    splitter_->restoreState(settings.value("window/splitter").toByteArray());
}

void MainWindow::openFile(const QString& path, Session::Outputs outputs) {
    notice({});
    if (path.endsWith(".run"))
        session_.openRun(path);
    else
        session_.openBench(path, outputs);
}

void MainWindow::openExample(const QString& name) {
    openFile(":/examples/" + name + ".bench");
}

void MainWindow::tick() {
    if (!isVisible() || isMinimized()) return session_.poll();
    const bool digits = sinceDigits_.elapsed() >= digitsMs;
    if (digits) sinceDigits_.restart();
    if (frames_.count++ == 0)
        frames_.since.start();
    else
        frames_.longestMs = std::max(frames_.longestMs, frames_.last.elapsed());
    frames_.last.start();
    frame(digits);
}

void MainWindow::frame(bool digits) {
    session_.poll();
    const Instant t = session_.shownAt();
    for (const auto& other : pageWindows_)
        if (other) other->refresh(t, digits);
    if (full_)
        full_->refresh(t, digits);
    else if (centre_->currentWidget() == page_)
        page_->refresh(t, digits);
    else if (digits && sheet_)
        sheet_->refresh(t);
    list_->refresh(t, digits);
    if (restBar_->isHidden() == session_.outputsAtRest()) {
        restBar_->setVisible(session_.outputsAtRest());
        updateActions();
    }
    status_->refresh(digits);
    ribbon_->refresh(digits);
    // Not while the mouse drags an end: the page would move away under it.
    if (measuresWanted_ && !session_.cursor().dragging()) openMeasures();
    if (digits) standIn_->look();
    if (side_->isVisible()) {
        if (side_->currentWidget() == drawer_)
            drawer_->refresh(t, digits);
        else if (side_->currentWidget() == measures_)
            measures_->refresh(digits);
        else if (side_->currentWidget() == device_)
            device_->refresh(digits);
        else if (side_->currentWidget() == find_)
            find_->refresh(digits);
    }
    for (const auto& wire : wires_)
        if (wire) wire->refresh(digits);
}

void MainWindow::notice(const QString& sentence, const QString& does) {
    if (sentence.isEmpty() && noticeBar_->isAncestorOf(focusWidget())) page_->setFocus();
    notice_->setText(sentence);
    noticeDo_->setText(does);
    noticeDo_->setVisible(!does.isEmpty());
    noticeBar_->setVisible(!sentence.isEmpty());
}

void MainWindow::toggleRecording() {
    if (session_.recordingPhase() == Session::Recording::going)
        session_.stopRecording();
    else if (session_.recordingPhase() == Session::Recording::none && session_.engine() &&
             session_.bench().recording.preflight)
        openPreflight(true);
    else
        session_.startRecording(session_.runFolder());
    status_->refresh(true);
}

void MainWindow::exportLastRun(const QString& ending, const QString& filter) {
    if (session_.engine() && session_.engine()->recording().active)
        return notice(tr("Stop the recording first; then its run can be exported."));
    if (session_.lastRun().isEmpty()) return notice(tr("There is no run to export. Record one, or open one."));
    const QFileInfo run(session_.lastRun());
    const QString path = askFileToWrite(
        this, tr("Export the run"), run.absolutePath() + "/" + run.completeBaseName() + "." + ending, filter, ending);
    if (path.isEmpty()) return;
    ExportOptions options;
    if (session_.run() && session_.run()->info()) options.version = session_.run()->info()->version;
    watch(new BackgroundJob(exportWork(run.absoluteFilePath(), path, options), this), tr("Exporting… %1 %"),
          tr("Cancel the export"));
}

/// Tells how far the job is, with a button that ends it.
void MainWindow::watch(BackgroundJob* job, const QString& doing, const QString& end) {
    auto* cancel = new QPushButton(end);
    noticeBar_->layout()->addWidget(cancel);
    connect(cancel, &QPushButton::clicked, job, &BackgroundJob::cancel);
    connect(job, &BackgroundJob::progressed, this, [this, doing](int percent) { notice(doing.arg(percent)); });
    connect(job, &BackgroundJob::finished, this, [this, cancel](const QString& sentence) {
        cancel->deleteLater();
        notice(sentence);
    });
}

void MainWindow::workOutAgain() {
    if (session_.corrections().empty() || working_)
        return notice(tr("All chains are as they were. Correct one in its chain first."));
    QStringList names;
    std::vector<SignalSpec> corrected;
    for (const auto& [id, spec] : session_.corrections()) {
        names << shown(spec.name);
        corrected.push_back(spec);
    }
    QInputDialog dialog(this);
    dialog.setWindowTitle(tr("Work the readings out again"));
    dialog.setLabelText(
        tr("From the raw samples, with the corrected chain, as a new version of the run.\n"
           "The readings as they are now stay in it. What was corrected, in a few words:"));
    dialog.setTextValue(tr("Corrected: %1").arg(names.join(", ")));
    dialog.setOkButtonText(tr("Work them out"));
    if (dialog.exec() != QDialog::Accepted) return;
    const QString words = dialog.textValue();
    working_ = true;
    auto* job = new BackgroundJob(reworkWork(shown(session_.run()->info()->path), corrected, words), this);
    watch(job, tr("Working out the readings… %1 %"), tr("Stop"));
    connect(job, &BackgroundJob::finished, this, [this](const QString&, bool well) {
        working_ = false;
        if (well) session_.showVersion({});
    });
}

/// What stands behind the name of a run.
QString MainWindow::runWords() const {
    if (!session_.isRun()) return {};
    const auto info = session_.run()->info();
    return info && info->version > 0 ? tr(" (run, version %1)").arg(info->version) : tr(" (run)");
}

void MainWindow::chooseVersion() {
    VersionDialog dialog(*session_.run()->info(), this);
    if (dialog.exec() == QDialog::Accepted) session_.showVersion(dialog.version());
}

bool MainWindow::save(bool askName) {
    QString path = session_.path();
    if (askName || path.isEmpty()) {
        path = askFileToWrite(this, tr("Save the bench"),
                              session_.folderToShow() + "/" + shown(freshId(session_.bench().name, {})) + ".bench",
                              tr("Benches (*.bench)"), "bench");
        if (path.isEmpty()) return false;
    }
    session_.save(path);
    return true;
}

bool MainWindow::mayLeave() {
    const Session::Recording phase = session_.recordingPhase();
    if (phase == Session::Recording::starting || phase == Session::Recording::going) {
        QMessageBox box(QMessageBox::NoIcon, tr("A recording is going on"),
                        tr("Leaving ends the recording. What was recorded is kept."), QMessageBox::NoButton, this);
        QPushButton* stay = box.addButton(tr("Go on recording"), QMessageBox::RejectRole);
        box.addButton(tr("End it and leave"), QMessageBox::AcceptRole);
        box.setDefaultButton(stay);
        box.exec();
        if (box.clickedButton() == stay) return false;
    }
    if (!session_.corrections().empty()) {
        QMessageBox box(QMessageBox::NoIcon, tr("Corrected chains"),
                        tr("Chains of this run were changed, and its readings were not worked out again with them."),
                        QMessageBox::NoButton, this);
        QPushButton* stay = box.addButton(tr("Stay"), QMessageBox::RejectRole);
        box.addButton(tr("Leave without it"), QMessageBox::DestructiveRole);
        box.setDefaultButton(stay);
        box.exec();
        if (box.clickedButton() == stay) return false;
    }
    if (session_.unsaved() && !session_.isRun()) {
        QMessageBox box(QMessageBox::NoIcon, tr("Unsaved changes"),
                        tr("The bench \"%1\" has changes that are not saved.").arg(shown(session_.bench().name)),
                        QMessageBox::NoButton, this);
        QPushButton* keep = box.addButton(tr("Save"), QMessageBox::AcceptRole);
        QPushButton* drop = box.addButton(tr("Leave without saving"), QMessageBox::DestructiveRole);
        box.addButton(tr("Stay"), QMessageBox::RejectRole);
        box.setDefaultButton(keep);
        box.exec();
        if (box.clickedButton() == keep) return save(false) && session_.waitForSave();
        return box.clickedButton() == drop;
    }
    return true;
}

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
    }
    return *measures_;
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
    if (session_.isRun() && s->keep.asReadings)
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

void MainWindow::applySheetTo(const QString& signal, const QString& run) {
    const SignalSpec* s = session_.bench().signal(signal.toStdString());
    const Stage* stage = s ? calibrationIn(s->chain) : nullptr;
    if (!stage || working_) return;
    working_ = true;
    const QString words = tr("Calibration of %1 of %2").arg(shown(s->name), shown(sheetOf(*stage).date));
    auto* job = new BackgroundJob(reworkWork(run, {*s}, words), this);
    watch(job, tr("Working out the readings… %1 %"), tr("Stop"));
    connect(job, &BackgroundJob::finished, this, [this] { working_ = false; });
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

void MainWindow::setNight(bool night) {
    applyTheme(night);
    if (remember_) QSettings().setValue("window/night", night);
    status_->refresh(true);
    update();
}

void MainWindow::closeWithoutAsking() {
    asked_ = true;
    close();
}

void MainWindow::closeEvent(QCloseEvent* event) {
    if (!asked_ && !mayLeave()) return event->ignore();
    if (remember_) {
        QSettings settings;
        settings.setValue("window/geometry", saveGeometry());
        settings.setValue("window/splitter", splitter_->saveState());
    }
    clock_.stop();
    if (frames_.count > 1)
        logInfo(fmt::format("window: {:.1f} frames a second over {:.1f} s, the longest wait {} ms",
                            1e3 * static_cast<double>(frames_.count - 1) / static_cast<double>(frames_.since.elapsed()),
                            static_cast<double>(frames_.since.elapsed()) / 1e3, frames_.longestMs));
    session_.stop();
    event->accept();
}

void MainWindow::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && full_) return closeSheet();
    if (event->key() == Qt::Key_Escape && session_.cursor().hasStretch()) return session_.cursor().endStretch();
    if (event->key() == Qt::Key_Escape && side_->isVisible()) return closeSide();
    QMainWindow::keyPressEvent(event);
}

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    actionList_->hide();
    fitSide();
}

void MainWindow::fitSide() {
    // Beside an open panel the page needs what room there is.
    constexpr int forThree = 860;
    signals_->setVisible(side_->isHidden() || width() >= forThree);
}

}  // namespace cruscotto

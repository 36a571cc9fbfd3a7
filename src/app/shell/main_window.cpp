#include "app/shell/main_window.h"

#include <QApplication>
#include <QCloseEvent>
#include <QDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMessageBox>
#include <QScreen>
#include <QSettings>
#include <QVBoxLayout>

#include "app/document/background_job.h"
#include "app/run/run_dialogs.h"
#include "app/widgets/ask_file.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/log.h"

namespace cruscotto {

namespace {
constexpr int frameMs = 16;
constexpr int digitsMs = 200;
}  // namespace

// From the window inwards: what gets a parent later is dressed once more, with all that is in it.
MainWindow::MainWindow()
    : central_(new QWidget(this)),
      status_(new StatusLine(session_, central_)),
      bell_(new AlarmBell(session_, this)),
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
    connect(&session_, &Session::kept, this, &MainWindow::playKept);
    connect(&session_, &Session::failed, this, [this] { played_.reset(); });
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
    connect(&session_.beside(), &RunsBeside::changed, this, &MainWindow::updateActions);
    connect(status_, &StatusLine::alarmsAsked, this, [this] { openRules(); });
    connect(&session_, &Session::pageAsked, this, [this](const QString& page) { page_->showPage(page); });
    connect(&session_, &Session::toneAsked, this, [this] { bell_->play(ruleTone); });
    connect(status_, &StatusLine::silenceAsked, this, &MainWindow::silenceAlarms);
    connect(&session_.beside(), &RunsBeside::failed, this, [this](const QString& sentence) { notice(sentence); });
    connect(&session_.beside(), &RunsBeside::noticed, this, [this](const QString& sentence) { notice(sentence); });
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
    QAction* heard = actions_["alarm-tones"];
    heard->setChecked(settings.value("window/alarm-tones", true).toBool());
    bell_->setWanted(heard->isChecked());
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
    if (!isVisible() || isMinimized()) {
        session_.poll();
        return ring();
    }
    const bool digits = sinceDigits_.elapsed() >= digitsMs;
    if (digits) sinceDigits_.restart();
    if (frames_.count++ == 0)
        frames_.since.start();
    else
        frames_.longestMs = std::max(frames_.longestMs, frames_.last.elapsed());
    frames_.last.start();
    frame(digits);
}

void MainWindow::ring() {
    bell_->refresh();
    status_->setRings(bell_->sounds());
    if (rules_) rules_->alarmList().setRings(bell_->sounds());
}

void MainWindow::silenceAlarms() {
    if (!bell_->sounds()) notice(tr("No alarm is heard."));
    bell_->silence();
    ring();
}

void MainWindow::frame(bool digits) {
    session_.poll();
    ring();
    const Instant t = session_.shownAt();
    for (const auto& other : pageWindows_)
        if (other) other->refresh(t, digits);
    if (full_)
        full_->refresh(t, digits);
    else if (centre_->currentWidget() == page_)
        page_->refresh(t, digits);
    else if (digits && library_ && centre_->currentWidget() == library_)
        library_->refresh();
    else if (digits && rules_ && centre_->currentWidget() == rules_)
        rules_->refresh();
    else if (digits && control_ && centre_->currentWidget() == control_)
        control_->refresh();
    else if (digits && procedures_ && centre_->currentWidget() == procedures_)
        procedures_->refresh();
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
        else if (side_->currentWidget() == beside_)
            beside_->refresh(digits);
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

}  // namespace cruscotto

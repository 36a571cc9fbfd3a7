#include "app/main_window.h"

#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QKeyEvent>
#include <QMessageBox>
#include <QScreen>
#include <QSettings>
#include <QVBoxLayout>

#include "app/background_job.h"
#include "app/device_edits.h"
#include "app/run_dialogs.h"
#include "app/shot_dialog.h"
#include "app/theme.h"
#include "app/words.h"
#include "core/log.h"

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
      splitter_(new QSplitter(Qt::Horizontal, central_)),
      list_(new SignalList(session_, splitter_)),
      page_(new PageView(session_, splitter_)),
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
    side_->addWidget(drawer_);
    side_->addWidget(device_);
    side_->hide();
    splitter_->addWidget(list_);
    splitter_->addWidget(page_);
    splitter_->addWidget(side_);
    splitter_->setHandleWidth(1);
    splitter_->setChildrenCollapsible(false);
    splitter_->setStretchFactor(1, 1);
    list_->setMinimumWidth(200);
    page_->setMinimumWidth(400);
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
    connect(page_, &PageView::deviceWanted, this, &MainWindow::openFind);
    connect(page_, &PageView::menuAsked, this, &MainWindow::tileMenu);
    connect(drawer_, &ChainDrawer::closeAsked, this, &MainWindow::closeSide);
    connect(drawer_, &ChainDrawer::workOutAgainAsked, this, &MainWindow::workOutAgain);
    connect(device_, &DevicePanel::closeAsked, this, &MainWindow::closeSide);
    connect(device_, &DevicePanel::signalAdded, this, &MainWindow::openChain);
    connect(device_, &DevicePanel::wireAsked, this, &MainWindow::openWire);
    connect(&session_, &Session::benchChanged, this, &MainWindow::updateActions);
    connect(&session_, &Session::sourceChanged, this, [this] {
        if (!session_.sameRun()) closeSide();
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

QAction* MainWindow::add(const QString& key, const QString& group, const QString& text, const QKeySequence& shortcut,
                         std::function<void()> what) {
    auto* action = new QAction(text, this);
    action->setShortcut(shortcut);
    action->setData(group);
    connect(action, &QAction::triggered, this, [what] { what(); });
    addAction(action);
    actions_[key] = action;
    order_ << key;
    return action;
}

void MainWindow::makeActions() {
    const QString bench = tr("Bench"), run = tr("Run"), time = tr("Time"), tile = tr("Tile"), pages = tr("Page"),
                  view = tr("View"), editing = tr("Edit");
    add("open", bench, tr("Open a bench or run…"), QKeySequence::Open, [this] {
        const QString path = QFileDialog::getOpenFileName(this, tr("Open"), session_.folderToShow(),
                                                          tr("Benches and runs (*.bench *.run)"));
        if (!path.isEmpty() && mayLeave()) openFile(path);
    });
    for (const Example& e : examples())
        add("example-" + e.name, bench, tr("Open a copy of the example: %1").arg(e.title), {}, [this, name = e.name] {
            if (mayLeave()) openExample(name);
        });
    add("new", bench, tr("New empty bench"), QKeySequence::New, [this] {
        if (!mayLeave()) return;
        Bench empty;
        empty.name = tr("New bench").toStdString();
        empty.pages.push_back(std::make_shared<const PageSpec>(PageSpec{"page", tr("Page 1").toStdString(), {}, {}}));
        notice({});
        session_.openBenchDocument(std::move(empty));
    });
    add("save", bench, tr("Save the bench"), QKeySequence::Save, [this] { save(false); });
    add("save-as", bench, tr("Save the bench as…"), QKeySequence::SaveAs, [this] { save(true); });
    add("rename", bench, tr("Rename the bench…"), {}, [this] {
        bool fine = false;
        const QString name = QInputDialog::getText(this, tr("Rename the bench"), tr("Name"), QLineEdit::Normal,
                                                   shown(session_.bench().name), &fine);
        if (!fine || name.trimmed().isEmpty()) return;
        Bench next = session_.bench();
        next.name = name.trimmed().toStdString();
        session_.edit(tr("Rename bench"), std::move(next));
    });
    add("notes", bench, tr("Notes of the bench…"), {}, [this] {
        bool fine = false;
        const QString notes = QInputDialog::getMultiLineText(this, tr("Notes of the bench"),
                                                             tr("What it is, and what to know before it is used"),
                                                             shown(session_.bench().notes), &fine);
        if (!fine) return;
        Bench next = session_.bench();
        next.notes = notes.trimmed().toStdString();
        session_.edit(tr("Change notes"), std::move(next));
    });
    add("find", bench, tr("Add a device: find what is attached…"), QKeySequence("Ctrl+Shift+D"),
        [this] { openFind(); });
    for (const DeviceKind& kind : deviceKinds())
        add("add-" + shown(kind.key), bench, tr("Add a device: %1").arg(shown(kind.title)), {}, [this, &kind] {
            std::string id;
            session_.edit(tr("Add device"), withNewDevice(session_.bench(), kind, &id));
            openDevice(shown(id));
        });
    add("quit", bench, tr("Quit"), QKeySequence::Quit, [this] { close(); });

    add("undo", editing, tr("Undo"), QKeySequence::Undo, [this] { session_.undoStack().undo(); });
    add("redo", editing, tr("Redo"), QKeySequence::Redo, [this] { session_.undoStack().redo(); });

    add("record", run, tr("Record"), QKeySequence("Ctrl+R"), [this] { toggleRecording(); });
    add("record-when", run, tr("Record when something happens…"), QKeySequence("Ctrl+Shift+R"), [this] {
        if (session_.recordingPhase() != Session::Recording::none)
            return notice(tr("A recording is going on already. Stop it first."));
        ShotDialog dialog(session_.bench(), list_->currentSignal(), session_.end(), this);
        if (dialog.exec() == QDialog::Accepted) session_.startRecording(session_.runFolder(), dialog.plan());
    });
    add("keep-past", run, tr("That was it: keep what just happened…"), QKeySequence("Ctrl+Shift+K"), [this] {
        const Duration held = session_.end() - session_.engine()->heldSince();
        bool fine = false;
        const double most = std::max(0.1, held.seconds());
        const double past = QInputDialog::getDouble(
            this, tr("Keep what just happened"),
            tr("Seconds to keep. The samples of the last %1 are still in memory.").arg(shown(roughText(held))),
            std::min(30.0, most), 0.1, most, 1, &fine);
        if (fine) session_.keepPast(session_.runFolder(), seconds(past));
    });
    add("recording", run, tr("How runs are recorded…"), QKeySequence("Ctrl+Alt+R"), [this] {
        const double lasted = session_.end().seconds();
        RecordingDialog dialog(session_.bench(),
                               lasted > 0 ? static_cast<double>(session_.engine()->measuredBytes()) / lasted : 0,
                               status_->freeBytes(), this);
        if (dialog.exec() != QDialog::Accepted) return;
        Bench next = session_.bench();
        next.recording = dialog.spec();
        session_.edit(tr("How runs are recorded"), std::move(next));
    });
    add("describe", run, tr("Notes and marks of this run…"), QKeySequence("Ctrl+I"), [this] {
        const Instant start = session_.source().extent().from;
        RunNotesDialog dialog(session_.runNotes(), session_.runMarks(), start, session_.shownAt(), this);
        if (dialog.exec() == QDialog::Accepted) session_.describeRun(dialog.notes(), dialog.marks());
    });
    add("work-out-again", run, tr("Work the readings of this run out again…"), {}, [this] { workOutAgain(); });
    add("versions", run, tr("Versions of this run…"), {}, [this] { chooseVersion(); });
    add("mark", run, tr("Set a mark"), QKeySequence("Ctrl+M"), [this] {
        if (!session_.engine()) return;
        const auto n = session_.marks().size() + 1;
        session_.engine()->mark(session_.shownAt(), tr("Mark %1").arg(n).toStdString());
        ribbon_->refresh(true);
    });
    add("open-last-run", run, tr("Open the last run"), QKeySequence("Ctrl+L"), [this] {
        if (session_.lastRun().isEmpty())
            return notice(tr("Nothing has been recorded yet in this session. Press Record first."));
        if (mayLeave()) openFile(session_.lastRun());
    });
    add("export", run, tr("Export to CSV…"), QKeySequence("Ctrl+E"),
        [this] { exportLastRun("csv", tr("CSV (*.csv)")); });
    add("export-hdf5", run, tr("Export to HDF5…"), {}, [this] { exportLastRun("h5", tr("HDF5 (*.h5 *.hdf5)")); });

    add("live", time, tr("Back to the newest"), QKeySequence("End"), [this] { session_.cursor().goToEnd(); });
    add("window-longer", time, tr("Show more time"), QKeySequence("Ctrl+-"),
        [this] { session_.cursor().setWindow(seconds(session_.cursor().window().seconds() * 2)); });
    add("window-shorter", time, tr("Show less time"), QKeySequence("Ctrl++"),
        [this] { session_.cursor().setWindow(seconds(session_.cursor().window().seconds() / 2)); });
    add("window-all", time, tr("Show all the time there is"), QKeySequence("Ctrl+0"), [this] {
        const Span all = session_.source().extent();
        session_.cursor().setWindow(session_.end() - all.from);
    });

    const std::initializer_list<std::pair<TileKind, QString>> kinds{{TileKind::dial, tr("a dial")},
                                                                    {TileKind::column, tr("a column")},
                                                                    {TileKind::number, tr("a number")},
                                                                    {TileKind::state, tr("a state")},
                                                                    {TileKind::trace, tr("a trace")}};
    int key = 1;
    for (const auto& [kind, name] : kinds)
        add(QString("as-") + tileKindName(kind), tile, tr("Show as %1").arg(name),
            QKeySequence(QString("Alt+%1").arg(key++)), [this, kind = kind] { page_->showSelectedAs(kind); });
    add("as-control", tile, tr("Show as a control"), {}, [this] { page_->showSelectedAs(TileKind::control); });
    add("fit", tile, tr("Fit the scale to what is shown"), QKeySequence("Ctrl+F"), [this] { page_->fitSelected(); });
    add("learn", tile, tr("Learn the scale's range from now until I say stop"), QKeySequence("Ctrl+Shift+F"),
        [this] { page_->toggleLearning(); });
    add("chain", tile, tr("Open the chain"), QKeySequence("Ctrl+Return"), [this] {
        if (Tile* t = page_->selected(); t && !t->spec().signals.empty())
            openChain(shown(t->spec().signals.front()));
        else if (!list_->currentSignal().isEmpty())
            openChain(list_->currentSignal());
    });
    add("remove", tile, tr("Remove the tile"), QKeySequence("Del"), [this] { page_->removeSelected(); });
    add("move-left", tile, tr("Move left"), QKeySequence("Ctrl+Left"), [this] { page_->moveSelected(-1, 0); });
    add("move-right", tile, tr("Move right"), QKeySequence("Ctrl+Right"), [this] { page_->moveSelected(1, 0); });
    add("move-up", tile, tr("Move up"), QKeySequence("Ctrl+Up"), [this] { page_->moveSelected(0, -1); });
    add("move-down", tile, tr("Move down"), QKeySequence("Ctrl+Down"), [this] { page_->moveSelected(0, 1); });
    add("narrower", tile, tr("Narrower"), QKeySequence("Ctrl+Shift+Left"), [this] { page_->resizeSelected(-1, 0); });
    add("wider", tile, tr("Wider"), QKeySequence("Ctrl+Shift+Right"), [this] { page_->resizeSelected(1, 0); });
    add("lower", tile, tr("Less high"), QKeySequence("Ctrl+Shift+Up"), [this] { page_->resizeSelected(0, -1); });
    add("higher", tile, tr("Higher"), QKeySequence("Ctrl+Shift+Down"), [this] { page_->resizeSelected(0, 1); });

    add("put", pages, tr("Put the signal on the page"), QKeySequence("Ctrl+D"),
        [this] { page_->addSignal(list_->currentSignal()); });
    add("to-ribbon", pages, tr("Show the signal on the ribbon"), {}, [this] {
        if (list_->currentSignal().isEmpty()) return;
        Bench next = session_.bench();
        next.ribbonSignal = list_->currentSignal().toStdString();
        session_.edit(tr("Change ribbon"), std::move(next));
        ribbon_->refresh(true);
    });
    add("remove-signal", pages, tr("Remove the signal from the bench"), {}, [this] {
        if (!list_->currentSignal().isEmpty())
            session_.edit(tr("Remove signal"), withoutSignal(session_.bench(), list_->currentSignal().toStdString()));
    });
    add("page-new", pages, tr("Add a page"), QKeySequence("Ctrl+T"), [this] { page_->addPage(); });
    add("page-rename", pages, tr("Rename the page…"), QKeySequence("F2"), [this] { page_->renamePage(); });
    add("page-remove", pages, tr("Remove the page"), {}, [this] { page_->removePage(); });
    add("page-next", pages, tr("Next page"), QKeySequence("Ctrl+PgDown"), [this] { page_->stepPage(1); });
    add("page-previous", pages, tr("Previous page"), QKeySequence("Ctrl+PgUp"), [this] { page_->stepPage(-1); });

    add("wire", view, tr("See the wire: what passes on the link of a device"), QKeySequence("Ctrl+Shift+W"), [this] {
        const SignalSpec* s = session_.bench().signal(list_->currentSignal().toStdString());
        const auto hasWire = [](const DeviceSpec* d) {
            const DeviceKind* kind = d ? deviceKind(d->kind) : nullptr;
            return kind && kind->hasWire;
        };
        const DeviceSpec* of = s ? session_.bench().device(s->device) : nullptr;
        if (!hasWire(of))
            for (const auto& d : session_.bench().devices)
                if (hasWire(d.get())) of = d.get();
        if (hasWire(of)) return void(openWire(shown(of->id)));
        notice(tr("No device of this bench has a link to look at. A board on a serial line has one."));
    });
    add("actions", view, tr("All actions"), QKeySequence("Ctrl+K"), [this] { showActions(); });
    add("theme", view, tr("Day or night"), QKeySequence("Ctrl+Shift+N"), [this] { setNight(!theme().night); });
    add("full", view, tr("Full screen"), QKeySequence("F11"),
        [this] { setWindowState(windowState() ^ Qt::WindowFullScreen); });
    add("focus-list", view, tr("Go to the signals"), QKeySequence("F6"), [this] { list_->setFocus(); });
    add("focus-ribbon", view, tr("Go to the ribbon"), QKeySequence("F7"), [this] { ribbon_->setFocus(); });

    connect(status_->recordButton(), &QPushButton::clicked, this, &MainWindow::toggleRecording);
    connect(status_->themeButton(), &QToolButton::clicked, this, [this] { setNight(!theme().night); });
    connect(status_->actionsButton(), &QToolButton::clicked, this, &MainWindow::showActions);
}

void MainWindow::makeMenu() {
    auto* menu = new QMenu(this);
    QMap<QString, QMenu*> groups;
    for (const QString& key : order_) {
        QAction* a = actions_[key];
        const QString group = a->data().toString();
        if (!groups.contains(group)) groups[group] = menu->addMenu(group);
        groups[group]->addAction(a);
    }
    status_->menuButton()->setMenu(menu);
}

void MainWindow::updateActions() {
    const Tile* t = page_->selected();
    const QUndoStack& undo = session_.undoStack();
    actions_["undo"]->setEnabled(undo.canUndo());
    actions_["undo"]->setText(undo.canUndo() ? tr("Undo: %1").arg(undo.undoText()) : tr("Undo"));
    actions_["redo"]->setEnabled(undo.canRedo());
    actions_["redo"]->setText(undo.canRedo() ? tr("Redo: %1").arg(undo.redoText()) : tr("Redo"));
    for (const QString& key : order_)
        if (actions_[key]->data().toString() == tr("Tile") && key != "chain") actions_[key]->setEnabled(t);
    const SignalSpec* first =
        t && !t->spec().signals.empty() ? session_.bench().signal(t->spec().signals.front()) : nullptr;
    actions_["as-control"]->setEnabled(first && isOutput(first->kind));
    actions_["as-state"]->setEnabled(first && isDigital(first->kind));
    actions_["as-dial"]->setEnabled(first && !isDigital(first->kind));
    actions_["as-column"]->setEnabled(first && !isDigital(first->kind));
    actions_["fit"]->setEnabled(t && t->hasScale());
    actions_["learn"]->setEnabled(t && t->hasScale() && session_.engine());
    actions_["learn"]->setText(t && t->learning() ? tr("Stop: keep the range that was learned")
                                                  : tr("Learn the scale's range from now until I say stop"));
    const bool listed = !list_->currentSignal().isEmpty();
    for (const char* key : {"put", "to-ribbon", "remove-signal"}) actions_[key]->setEnabled(listed);
    actions_["chain"]->setEnabled(first || listed);
    const std::size_t pages = session_.bench().pages.size();
    for (const char* key : {"page-rename", "page-remove"}) actions_[key]->setEnabled(pages > 0);
    for (const char* key : {"page-next", "page-previous"}) actions_[key]->setEnabled(pages > 1);
    actions_["record"]->setEnabled(session_.engine());
    actions_["record-when"]->setEnabled(session_.engine());
    actions_["keep-past"]->setEnabled(session_.engine());
    actions_["recording"]->setEnabled(session_.engine());
    actions_["describe"]->setEnabled(session_.isRun());
    actions_["work-out-again"]->setEnabled(!session_.corrections().empty());
    actions_["versions"]->setEnabled(session_.run() && session_.run()->info() &&
                                     !session_.run()->info()->versions.empty());
    actions_["mark"]->setEnabled(session_.engine());
    actions_["find"]->setEnabled(session_.engine());
    actions_["wire"]->setEnabled(session_.engine());
    actions_["live"]->setEnabled(!session_.cursor().atEnd());
    for (const DeviceKind& kind : deviceKinds()) actions_["add-" + shown(kind.key)]->setEnabled(session_.engine());
    setWindowTitle(shown(session_.bench().name) + runWords() + " – Cruscotto");
}

void MainWindow::openFile(const QString& path) {
    notice({});
    if (path.endsWith(".run"))
        session_.openRun(path);
    else
        session_.openBench(path);
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
    page_->refresh(t, digits);
    list_->refresh(t, digits);
    status_->refresh(digits);
    ribbon_->refresh(digits);
    if (digits) standIn_->look();
    if (side_->isVisible()) {
        if (side_->currentWidget() == drawer_)
            drawer_->refresh(t, digits);
        else if (side_->currentWidget() == device_)
            device_->refresh(digits);
        else
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
    else
        session_.startRecording(session_.runFolder());
    status_->refresh(true);
}

void MainWindow::exportLastRun(const QString& ending, const QString& filter) {
    if (session_.engine() && session_.engine()->recording().active)
        return notice(tr("Stop the recording first; then its run can be exported."));
    if (session_.lastRun().isEmpty()) return notice(tr("There is no run to export. Record one, or open one."));
    const QFileInfo run(session_.lastRun());
    QString path = QFileDialog::getSaveFileName(
        this, tr("Export the run"), run.absolutePath() + "/" + run.completeBaseName() + "." + ending, filter);
    if (path.isEmpty()) return;
    if (QFileInfo(path).suffix().isEmpty()) path += "." + ending;
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
        path = QFileDialog::getSaveFileName(
            this, tr("Save the bench"),
            session_.folderToShow() + "/" + shown(freshId(session_.bench().name, {})) + ".bench",
            tr("Benches (*.bench)"));
        if (path.isEmpty()) return false;
        if (!path.endsWith(".bench")) path += ".bench";
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
    drawer_->open(signal);
    list_->select(signal);
}

void MainWindow::openDevice(const QString& device) {
    side_->setCurrentWidget(device_);
    side_->show();
    device_->open(device);
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
        QString path = QFileDialog::getSaveFileName(
            wire, tr("Save what passed on the wire"),
            session_.folderToShow() + "/" + shown(freshId(named ? named->name : "wire", {})) + ".wire",
            tr("Wire captures (*.wire)"));
        if (path.isEmpty()) return;
        if (QFileInfo(path).suffix().isEmpty()) path += ".wire";
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
}

void MainWindow::showActions() {
    QList<QAction*> all;
    for (const QString& key : order_)
        if (key != "actions") all << actions_[key];
    actionList_->open(all);
}

void MainWindow::setNight(bool night) {
    applyTheme(night);
    if (remember_) QSettings().setValue("window/night", night);
    status_->refresh(true);
    update();
}

void MainWindow::tileMenu(QPoint at) {
    QMenu menu;
    QMenu* as = menu.addMenu(tr("Show as"));
    for (const char* key : {"as-dial", "as-column", "as-number", "as-state", "as-trace", "as-control"})
        if (actions_[key]->isEnabled()) as->addAction(actions_[key]);
    menu.addSeparator();
    for (const char* key : {"fit", "learn", "chain"}) menu.addAction(actions_[key]);
    menu.addSeparator();
    menu.addAction(actions_["remove"]);
    menu.exec(at);
}

void MainWindow::rowMenu(QPoint at) {
    QMenu menu;
    const QString signal = list_->currentSignal();
    const auto open = [this] { Q_EMIT list_->activated(list_->currentIndex()); };
    if (signal.isEmpty()) {
        menu.addAction(tr("Open the device"), this, open);
    } else {
        menu.addAction(tr("Open its chain"), this, open);
        menu.addSeparator();
        for (const char* key : {"put", "to-ribbon"}) menu.addAction(actions_[key]);
    }
    menu.addSeparator();
    menu.addAction(signal.isEmpty() ? tr("Copy what it says") : tr("Copy the reading"), this, [this] {
        QApplication::clipboard()->setText(list_->currentIndex().data(Qt::DisplayRole).toString());
    });
    if (!signal.isEmpty()) {
        menu.addSeparator();
        menu.addAction(actions_["remove-signal"]);
    }
    menu.exec(at);
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
    if (event->key() == Qt::Key_Escape && side_->isVisible()) return closeSide();
    QMainWindow::keyPressEvent(event);
}

void MainWindow::resizeEvent(QResizeEvent* event) {
    QMainWindow::resizeEvent(event);
    actionList_->hide();
}

}  // namespace cruscotto

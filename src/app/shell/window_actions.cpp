// Everything that can be done, with its name and its key, and the menus made of that: a part of the main window.
#include <QAction>
#include <QApplication>
#include <QClipboard>
#include <QFileDialog>
#include <QInputDialog>
#include <QMenu>
#include <QSettings>

#include "app/device/device_edits.h"
#include "app/document/computed_edits.h"
#include "app/page/tile_output.h"
#include "app/page/tiles/picture_tile.h"
#include "app/page/tiles/tile_form.h"
#include "app/run/run_dialogs.h"
#include "app/run/shot_dialog.h"
#include "app/shell/main_window.h"
#include "app/widgets/ask_file.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/units.h"
#include "core/bench/tile_settings.h"
#include "devices/device_kind.h"

namespace cruscotto {

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
    add("rules", bench, tr("Rules and alarms"), QKeySequence("Ctrl+Shift+G"), [this] { openRules(); });
    add("silence", bench, tr("Silence the alarms"), QKeySequence("Ctrl+Shift+A"), [this] { silenceAlarms(); });
    QAction* heard = add("alarm-tones", bench, tr("Alarms are heard"), {}, [] {});
    heard->setCheckable(true);
    heard->setChecked(true);
    connect(heard, &QAction::toggled, this, [this](bool on) {
        bell_->setWanted(on);
        if (remember_) QSettings().setValue("window/alarm-tones", on);
    });
    add("procedures", bench, tr("Procedures"), QKeySequence("Ctrl+Alt+P"), [this] { openProcedures(); });
    add("drive", bench, tr("Drive the outputs"), {}, [this] { session_.driveOutputs(); });
    add("quit", bench, tr("Quit"), QKeySequence::Quit, [this] { close(); });

    add("undo", editing, tr("Undo"), QKeySequence::Undo, [this] { session_.undoStack().undo(); });
    add("redo", editing, tr("Redo"), QKeySequence::Redo, [this] { session_.undoStack().redo(); });

    add("record", run, tr("Record"), QKeySequence("Ctrl+R"), [this] { toggleRecording(); });
    add("record-when", run, tr("Record when something happens…"), QKeySequence("Ctrl+Shift+R"), [this] {
        if (session_.recordingPhase() != Session::Recording::none)
            return notice(tr("A recording is going on already. Stop it first."));
        auto* form = new ShotDialog(session_.bench(), list_->currentSignal(), session_.end(), nullptr);
        openBeside(form, [this, form] { session_.startRecording(session_.runFolder(), form->plan()); });
    });
    add("keep-past", run, tr("That was it: keep what just happened…"), QKeySequence("Ctrl+Shift+K"), [this] {
        if (const auto stretch = session_.stretch()) return session_.keepStretch(session_.runFolder(), *stretch);
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
        auto* form = new RecordingDialog(
            session_.bench(), lasted > 0 ? static_cast<double>(session_.engine()->measuredBytes()) / lasted : 0,
            status_->freeBytes(), nullptr);
        openBeside(form, [this, form] {
            Bench next = session_.bench();
            next.recording = form->spec();
            session_.edit(tr("How runs are recorded"), std::move(next));
        });
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
    add("library", run, tr("List of runs…"), QKeySequence("Ctrl+Alt+L"), [this] { openLibrary(); });
    add("beside", run, tr("Runs side by side"), QKeySequence("Ctrl+B"), [this] { openBeside(); });
    add("lay-over", run, tr("Lay other runs over this…"), QKeySequence("Ctrl+Shift+V"), [this] {
        layOver(QFileDialog::getOpenFileNames(this, tr("Lay other runs over this"), session_.folderToShow(),
                                              tr("Runs (*.run)")));
    });
    for (const auto& [key, words, shortcut, by] :
         {std::tuple{"beside-earlier", tr("The run laid over: earlier"), "Ctrl+Alt+Left", -1},
          std::tuple{"beside-later", tr("The run laid over: later"), "Ctrl+Alt+Right", 1}})
        add(key, run, words, QKeySequence(shortcut), [this, by = by] {
            constexpr int steps = 100;
            session_.beside().shift(session_.beside().runs().size() - 1,
                                    Duration{std::max<std::int64_t>(1, session_.cursor().window().ns / steps) * by});
        });
    add("beside-away", run, tr("Take the runs laid over away"), {}, [this] { session_.beside().clear(); });
    add("preflight", run, tr("Before it counts: look over all signals"), QKeySequence("Ctrl+Shift+L"),
        [this] { openPreflight(); });
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

    const QString stretch = tr("Stretch");
    add("stretch-shown", stretch, tr("Measure what is shown"), QKeySequence("F9"), [this] {
        const Instant t = session_.shownAt();
        session_.cursor().stretchOver({std::max(session_.source().extent().from, t - session_.cursor().window()), t});
    });
    add("stretch-last", stretch, tr("Measure the last 10 s, going on"), QKeySequence("Shift+F9"), [this] {
        constexpr double lasts = 10;
        session_.cursor().stretchOfLast(seconds(lasts));
    });
    add("measures", stretch, tr("Measures of the stretch"), QKeySequence("Ctrl+F9"), [this] { openMeasures(); });
    add("stretch-end", stretch, tr("The moment again: end the stretch"), {},
        [this] { session_.cursor().endStretch(); });
    struct Move {
        const char* key;
        QString words;
        const char* shortcut;
        bool first;
        int by;
    };
    for (const Move& move : {Move{"from-earlier", tr("Its beginning earlier"), "Alt+Shift+Left", true, -1},
                             Move{"from-later", tr("Its beginning later"), "Alt+Shift+Right", true, 1},
                             Move{"to-earlier", tr("Its end earlier"), "Alt+Left", false, -1},
                             Move{"to-later", tr("Its end later"), "Alt+Right", false, 1}})
        add(move.key, stretch, move.words, QKeySequence(move.shortcut),
            [this, first = move.first, by = move.by] { moveEnd(first, by); });

    int key = 1;
    for (const TileKind kind : tileKinds)
        add(QString("as-") + tileKindName(kind), tile, tr("Show as %1").arg(shown(tileForm(kind).title)),
            key <= 9 ? QKeySequence(QString("Alt+%1").arg(key++)) : QKeySequence(),
            [this, kind] { page_->showSelectedAs(kind); });
    add("fit", tile, tr("Fit the scale to what is shown"), QKeySequence("Ctrl+F"), [this] { page_->fitSelected(); });
    add("zero-bottom", tile, tr("Zero at the bottom of the scale"), QKeySequence("Ctrl+Alt+B"), [this] {
        if (Tile* t = page_->selected()) t->scaleFromZero(false);
    });
    add("zero-middle", tile, tr("Zero in the middle of the scale"), QKeySequence("Ctrl+Alt+M"), [this] {
        if (Tile* t = page_->selected()) t->scaleFromZero(true);
    });
    add("plus-minus", tile, tr("Show its uncertainty beside the number, or not"), QKeySequence("Ctrl+Shift+U"),
        [this] { page_->togglePlusMinus(); });
    add("learn", tile, tr("Learn the scale's range from now until I say stop"), QKeySequence("Ctrl+Shift+F"),
        [this] { page_->toggleLearning(); });
    add("chain", tile, tr("Open the chain"), QKeySequence("Ctrl+Return"), [this] {
        if (Tile* t = page_->selected(); t && !t->spec().signals.empty())
            openChain(shown(t->spec().signals.front()));
        else if (!list_->currentSignal().isEmpty())
            openChain(list_->currentSignal());
    });
    add("tile-full", tile, tr("Fill the window with it (Space twice)"), QKeySequence("Ctrl+Space"),
        [this] { fillWithTile(); });
    add("tile-copy", tile, tr("Copy it as a picture"), QKeySequence("Ctrl+Shift+C"), [this] {
        if (Tile* t = page_->selected()) QApplication::clipboard()->setImage(tilePicture(*t));
    });
    add("tile-copy-numbers", tile, tr("Copy its numbers"), QKeySequence("Ctrl+Shift+X"), [this] {
        if (Tile* t = page_->selected()) QApplication::clipboard()->setText(t->numbers());
    });
    add("tile-save", tile, tr("Save it as a picture…"), {}, [this] {
        Tile* t = page_->selected();
        if (!t) return;
        const QString path = askFileToWrite(this, tr("Save the tile as a picture"),
                                            session_.folderToShow() + "/" + shown(t->spec().id) + ".png",
                                            tr("Pictures (*.png);;Drawings (*.svg);;Pages (*.pdf)"), "png");
        if (path.isEmpty()) return;
        auto written = writeTile(*t, path, NewFile::Existing::replace);
        notice(written ? tr("Saved as %1.").arg(path) : shown(written.error().message));
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
    const QString signal = tr("Signal");
    add("find-signal", signal, tr("Find a signal"), QKeySequence("F3"), [this] {
        signals_->search()->setFocus();
        signals_->search()->selectAll();
    });
    add("unwell", signal, tr("Show only signals that are not well, or all"), QKeySequence("F8"),
        [this] { signals_->showOnlyUnwell(!list_->rows().onlyUnwell()); });
    add("rename-signal", signal, tr("Rename the signal"), QKeySequence("Shift+F2"), [this] { list_->rename(); });
    add("several", signal, tr("Change the chosen signals together"), QKeySequence("Ctrl+Shift+E"),
        [this] { openSeveral(); });
    add("sensor", signal, tr("What is this sensor?"), QKeySequence("Ctrl+Shift+S"), [this] {
        const SignalSpec* s = session_.bench().signal(list_->currentSignal().toStdString());
        if (!s || s->output || s->computed || session_.isRun())
            return notice(tr("Choose an input in the list of signals first."));
        openChain(shown(s->id));
        drawer_->askForSensor(true);
    });
    add("calibrate", signal, tr("Calibration sheet of the signal"), QKeySequence("Ctrl+Shift+B"), [this] {
        if (Tile* t = page_->selected(); t && !t->spec().signals.empty() && list_->currentSignal().isEmpty())
            openSheet(shown(t->spec().signals.front()));
        else
            openSheet(list_->currentSignal());
    });
    add("explain", signal, tr("Where does this number come from?"), QKeySequence("Ctrl+Shift+Y"), [this] {
        if (Tile* t = page_->selected(); t && !t->spec().signals.empty())
            openExplanation(shown(t->spec().signals.front()));
        else
            openExplanation(list_->currentSignal());
    });
    add("add-computed", bench, tr("Add a computed signal"), QKeySequence("Ctrl+Shift+M"), [this] {
        std::string id;
        session_.edit(tr("Add computed signal"), withNewComputed(session_.bench(), list_->currentSignal().toStdString(),
                                                                 tr("Computed").toStdString(), &id));
        openChain(shown(id));
    });
    add("remove-signal", pages, tr("Remove the signal from the bench"), {}, [this] {
        const std::string id = list_->currentSignal().toStdString();
        if (id.empty()) return;
        if (const auto others = dependentsOf(session_.bench(), id); !others.empty()) {
            QStringList names;
            for (const auto& other : others) names << shown(other->name);
            return notice(
                tr("%1 depends on it. Choose another source there first.", nullptr, static_cast<int>(names.size()))
                    .arg(names.join(tr(", "))));
        }
        session_.edit(tr("Remove signal"), withoutSignal(session_.bench(), id));
    });
    add("page-new", pages, tr("Add a page"), QKeySequence("Ctrl+T"), [this] { page_->addPage(); });
    add("page-window", pages, tr("Show the page in a window of its own"), QKeySequence("Ctrl+Shift+O"),
        [this] { openPageWindow(); });
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
    actions_["as-state"]->setEnabled(first && first->isState());
    actions_["as-port"]->setEnabled(first && first->isState());
    for (const char* key : {"as-dial", "as-spectrum", "as-histogram", "as-plane"})
        actions_[key]->setEnabled(first && !first->isState());
    actions_["as-column"]->setEnabled(first && !first->isState());
    for (const char* key : {"fit", "zero-bottom", "zero-middle"}) actions_[key]->setEnabled(t && t->hasScale());
    actions_["plus-minus"]->setEnabled(t && t->spec().kind == TileKind::number);
    actions_["learn"]->setEnabled(t && t->hasScale() && session_.engine());
    actions_["learn"]->setText(t && t->learning() ? tr("Stop: keep the range that was learned")
                                                  : tr("Learn the scale's range from now until I say stop"));
    const bool listed = !list_->currentSignal().isEmpty();
    for (const char* key : {"put", "to-ribbon", "remove-signal", "rename-signal", "sensor"})
        actions_[key]->setEnabled(listed);
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
    actions_["add-computed"]->setEnabled(session_.engine() && !session_.bench().signals.empty());
    actions_["drive"]->setEnabled(session_.outputsAtRest());
    actions_["live"]->setEnabled(!session_.cursor().atEnd());
    for (const char* key : {"beside-earlier", "beside-later", "beside-away"})
        actions_[key]->setEnabled(!session_.beside().empty());
    for (const char* key : {"lay-over", "beside", "rules", "procedures"})
        actions_[key]->setEnabled(!session_.openedNothing());
    for (const char* key : {"measures", "stretch-end", "from-earlier", "from-later", "to-earlier", "to-later"})
        actions_[key]->setEnabled(session_.cursor().hasStretch());
    actions_["keep-past"]->setText(session_.cursor().hasStretch() ? tr("That was it: keep the stretch as a run")
                                                                  : tr("That was it: keep what just happened…"));
    for (const DeviceKind& kind : deviceKinds()) actions_["add-" + shown(kind.key)]->setEnabled(session_.engine());
    setWindowTitle(shown(session_.bench().name) + runWords() + " – Cruscotto");
}

void MainWindow::showActions() {
    QList<QAction*> all;
    for (const QString& key : order_)
        if (key != "actions") all << actions_[key];
    actionList_->open(all);
}

void MainWindow::addSettings(QMenu& menu) {
    const Tile* tile = page_->selected();
    if (!tile) return;
    const TileSpec spec = tile->spec();
    menu.addSeparator();
    for (const TileSetting& setting : tileSettings(spec.kind)) {
        if (setting.type == TileSetting::Type::kept) continue;
        const QString title = shown(setting.title);
        const auto change = [this, key = setting.key, title](const std::string& value) {
            page_->changeSelected(key, value, tr("Tile: %1").arg(title));
        };
        if (setting.type == TileSetting::Type::words || setting.type == TileSetting::Type::number) {
            const bool number = setting.type == TileSetting::Type::number;
            menu.addAction(
                title + QStringLiteral("…"), this, [this, change, title, number, now = settingOf(spec, setting.key)] {
                    bool fine = false;
                    const QString text =
                        number ? QInputDialog::getText(this, title, title, QLineEdit::Normal, shown(now), &fine)
                               : QInputDialog::getMultiLineText(this, title, title, shown(now), &fine);
                    if (fine) change(text.trimmed().toStdString());
                });
            continue;
        }
        if (setting.type == TileSetting::Type::picture) {
            menu.addAction(title + QStringLiteral("…"), this, [this, change, title] {
                const QString path = QFileDialog::getOpenFileName(this, title, session_.folderToShow(),
                                                                  tr("Pictures (*.png *.jpg *.jpeg *.svg)"));
                if (path.isEmpty()) return;
                const std::string kept = PictureTile::kept(path);
                if (kept.empty()) return notice(tr("%1 is no picture that can be read.").arg(path));
                change(kept);
            });
            continue;
        }
        QMenu* choices = menu.addMenu(title);
        const auto add = [&](const QString& words, bool on, const std::string& value) {
            QAction* a = choices->addAction(words, this, [change, value] { change(value); });
            a->setCheckable(true);
            a->setChecked(on);
        };
        const std::string now = settingOf(spec, setting.key);
        if (setting.type == TileSetting::Type::signal) {
            add(tr("none"), now.empty(), "");
            for (const auto& s : session_.bench().signals)
                if (!s->isState()) add(shown(s->name), now == s->id, s->id);
            continue;
        }
        const auto several = severalOf(spec, setting.key);
        for (const auto& [value, words] : setting.choices) {
            if (setting.type == TileSetting::Type::choice) {
                add(shown(words), now == value, value);
                continue;
            }
            // with it or without it, in the order in which they are offered
            const auto isOn = [&](const std::string& v) { return std::ranges::find(several, v) != several.end(); };
            const bool on = isOn(value);
            std::string next;
            for (const auto& [other, otherWords] : setting.choices)
                if (other == value ? !on : isOn(other)) next += (next.empty() ? "" : ",") + other;
            add(shown(words), on, next);
        }
    }
}

void MainWindow::tileMenu(QPoint at) {
    QMenu menu;
    QMenu* as = menu.addMenu(tr("Show as"));
    for (const TileKind kind : tileKinds)
        if (QAction* a = actions_[QString("as-") + tileKindName(kind)]; a->isEnabled()) as->addAction(a);
    addSettings(menu);
    addSignalSettings(menu);
    menu.addSeparator();
    for (const char* key :
         {"fit", "zero-bottom", "zero-middle", "learn", "plus-minus", "chain", "calibrate", "explain"})
        menu.addAction(actions_[key]);
    menu.addSeparator();
    for (const char* key : {"tile-full", "tile-copy", "tile-copy-numbers", "tile-save"}) menu.addAction(actions_[key]);
    menu.addSeparator();
    for (const char* key : {"stretch-shown", "stretch-last", "stretch-end"})
        if (actions_[key]->isEnabled()) menu.addAction(actions_[key]);
    menu.addSeparator();
    menu.addAction(actions_["remove"]);
    menu.exec(at);
}

/// Colour and lane of each signal, where it stands.
void MainWindow::addSignalSettings(QMenu& menu) {
    const Tile* tile = page_->selected();
    if (!tile || tile->spec().signals.empty()) return;
    QMenu* colours = menu.addMenu(tr("Colour"));
    const TileSpec& spec = tile->spec();
    const auto alone = severalOf(spec, "own-lanes");
    QMenu* lanes =
        spec.kind == TileKind::trace && spec.signals.size() > 1 ? menu.addMenu(tr("In a lane of its own")) : nullptr;
    for (const std::string& id : spec.signals) {
        const SignalSpec* s = session_.bench().signal(id);
        if (!s) continue;
        QMenu* of = spec.signals.size() > 1 ? colours->addMenu(shown(s->name)) : colours;
        for (int i = 0; i < static_cast<int>(theme().signal.size()); ++i) {
            constexpr int size = 14;
            QPixmap swatch(size, size);
            swatch.fill(theme().signal[static_cast<std::size_t>(i)]);
            QAction* choose = of->addAction(QIcon(swatch), tr("Colour %1").arg(i + 1), this, [this, id, i] {
                const SignalSpec* now = session_.bench().signal(id);
                if (!now) return;
                SignalSpec next = *now;
                next.colour = i;
                session_.edit(tr("Change colour"), withSignal(session_.bench(), std::move(next)));
            });
            choose->setCheckable(true);
            choose->setChecked(s->colour == i);
        }
        if (!lanes || s->isState()) continue;
        QAction* own = lanes->addAction(shown(s->name), this, [this, id, alone] {
            std::vector<std::string> next = alone;
            if (std::erase(next, id) == 0) next.push_back(id);
            std::string all;
            for (const std::string& one : next) all += (all.empty() ? "" : ",") + one;
            page_->changeSelected("own-lanes", all, tr("Change lanes"));
        });
        own->setCheckable(true);
        own->setChecked(std::ranges::find(alone, id) != alone.end());
    }
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
        for (const char* key : {"put", "to-ribbon", "add-computed"}) menu.addAction(actions_[key]);
        menu.addSeparator();
        for (const char* key : {"rename-signal", "sensor", "calibrate", "explain"}) menu.addAction(actions_[key]);
        if (list_->selectedSignals().size() > 1) menu.addAction(actions_["several"]);
        if (const SignalSpec* s = session_.bench().signal(signal.toStdString());
            s && session_.engine() && !s->output && !s->isState()) {
            QMenu* in = menu.addMenu(tr("Show it in"));
            for (const std::string& unit : compatibleUnits(s->unit()))
                if (unit != s->unit() && !unitText(unit).empty())
                    in->addAction(shown(unitText(unit)), this, [this, id = s->id, unit] {
                        const SignalSpec* now = session_.bench().signal(id);
                        if (!now) return;
                        SignalSpec next = *now;
                        if (showIn(next, unit))
                            session_.edit(tr("Show it in %1").arg(shown(unitText(unit))),
                                          withSignal(session_.bench(), std::move(next)));
                    });
            in->setEnabled(!in->isEmpty());
        }
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

}  // namespace cruscotto

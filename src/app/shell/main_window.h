#pragma once

#include <QElapsedTimer>
#include <QMainWindow>
#include <QMenu>
#include <QPointer>
#include <QScrollArea>
#include <QSplitter>
#include <QStackedWidget>
#include <QTimer>

#include "app/calibration/sheet_view.h"
#include "app/chain/chain_drawer.h"
#include "app/device/device_panel.h"
#include "app/device/find_panel.h"
#include "app/device/wire_view.h"
#include "app/document/session.h"
#include "app/measure/measure_panel.h"
#include "app/page/page_view.h"
#include "app/page/page_window.h"
#include "app/rules/control_view.h"
#include "app/rules/procedure_view.h"
#include "app/rules/rules_view.h"
#include "app/run/beside_panel.h"
#include "app/run/library_view.h"
#include "app/run/ribbon.h"
#include "app/shell/action_list.h"
#include "app/shell/alarm_bell.h"
#include "app/shell/example_stand_in.h"
#include "app/shell/status_line.h"
#include "app/signals/several_panel.h"
#include "app/signals/signal_list.h"

namespace cruscotto {

/// The one window: puts the views together, holds the actions, and is the frame clock that drives them.
class MainWindow : public QMainWindow {
    Q_OBJECT
public:
    MainWindow();
    ~MainWindow() override;

    /// Opens a .bench or .run; what cannot be opened is said in the notice.
    void openFile(const QString& path, Session::Outputs outputs = Session::Outputs::asKnown);
    void openExample(const QString& name);
    [[nodiscard]] Session& session() { return session_; }
    [[nodiscard]] PageView& page() { return *page_; }
    [[nodiscard]] SignalPanel& signalPanel() { return *signals_; }
    [[nodiscard]] SignalList& signalList() { return *list_; }
    [[nodiscard]] ChainDrawer& drawer() { return *drawer_; }
    [[nodiscard]] Ribbon& ribbon() { return *ribbon_; }
    [[nodiscard]] StatusLine& status() { return *status_; }
    [[nodiscard]] AlarmBell& bell() { return *bell_; }
    [[nodiscard]] ActionList& actionList() { return *actionList_; }
    /// Runs side by side, in the drawer; and the list of a folder's, in the page's place.
    BesidePanel& openBeside();
    LibraryView& openLibrary();
    void layOver(const QStringList& paths);
    RulesView& openRules();
    ControlView& openControl(const std::string& id);
    /// A form stands beside the page, which goes on; `taken` when it is accepted, and then it goes.
    void openBeside(QDialog* form, const std::function<void()>& taken);
    ProcedureView& openProcedures(const std::string& id = {});
    /// Made when it is first asked for: most days begin with a bench that is there.
    [[nodiscard]] FindPanel& findPanel();
    [[nodiscard]] QString noticeText() const { return notice_->text(); }
    [[nodiscard]] ExampleStandIn& standIn() { return *standIn_; }
    [[nodiscard]] QAction* action(const QString& key) const { return actions_.value(key); }
    /// One frame by hand, with the digits; for pictures and tests, with the clock stopped.
    void frame(bool digits);
    /// What stands now is not heard any more; it still waits to be acknowledged.
    void silenceAlarms();
    void stopClock() { clock_.stop(); }
    void openChain(const QString& signal);
    void openSeveral();
    /// The measures of the stretch, of the chosen signal.
    void openMeasures();
    /// What the signal did in the stretch is played by the output: as points, or from a run that is kept first.
    void playStretch(const QString& signal, const QString& output);
    void playKept(const QString& path, Span kept);
    [[nodiscard]] MeasurePanel& measures();
    /// The calibration sheet of a signal, in the page's place.
    void openSheet(const QString& signal);
    /// Where the signal's number comes from, at the moment that is shown; to be read and copied.
    void openExplanation(const QString& signal);
    /// The list before it counts, over the last five seconds.
    /// Before a recording it is shown where something is not good, and the recording begun from there.
    void openPreflight(bool toRecord = false);
    void closeSheet();
    /// The selected tile in the whole window, until Escape.
    void fillWithTile();
    void openPageWindow();
    [[nodiscard]] Tile* fullTile() const { return full_; }
    /// Works the readings of a run out again with the signal's chain as it is now.
    void applySheetTo(const QString& signal, const QString& run);
    [[nodiscard]] SheetView& sheet();
    void openDevice(const QString& device);
    void openFind();
    /// The window with what passes on the device's link; the one that is open already, where there is one.
    WireView* openWire(const QString& device);
    void showActions();
    void setNight(bool night);
    /// Nobody is asked about unsaved changes; for pictures, tests and signals from outside.
    void closeWithoutAsking();
    /// Settings are neither read nor written from now on; for pictures and tests.
    void forgetSettings() { remember_ = false; }
    void restoreSettings();

protected:
    void closeEvent(QCloseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    QAction* add(const QString& key, const QString& group, const QString& text, const QKeySequence& shortcut,
                 std::function<void()> what);
    void makeActions();
    void makeMenu();
    void updateActions();
    void tick();
    void ring();
    /// `does` is the name of a button for doing something about it; empty: there is none.
    void notice(const QString& sentence, const QString& does = {});
    void toggleRecording();
    void exportLastRun(const QString& ending, const QString& filter);
    void watch(class BackgroundJob* job, const QString& doing, const QString& end);
    void workOutAgain();
    void chooseVersion();
    void applySheet(const QString& signal);
    [[nodiscard]] QString runWords() const;
    bool save(bool askName);
    /// True if nothing is lost by going on: saved, or the person said so.
    bool mayLeave();
    void closeSide();
    void fitSide();
    /// The signal of the tile or the row that is chosen; empty: none is.
    [[nodiscard]] QString chosenSignal() const;
    void stretched();
    void moveEnd(bool first, int by);
    void tileMenu(QPoint at);
    /// What can be chosen of the selected tile.
    void addSettings(QMenu& menu);
    void addSignalSettings(QMenu& menu);
    /// For the row of the list that is current, a signal or a device.
    void rowMenu(QPoint at);

    Session session_;
    QWidget* central_;
    StatusLine* status_;
    AlarmBell* bell_;
    QLabel* notice_;
    std::optional<std::pair<PlayedSpec, QString>> played_;  ///< waits for its stretch to be kept; by which output
    QPushButton* noticeDo_;                                 ///< what can be done about it, if anything
    QWidget* noticeBar_;
    QWidget* restBar_;  ///< there while outputs are at rest
    QSplitter* splitter_;
    SeveralPanel* several_ = nullptr;  // made when it is first asked for
    SignalPanel* signals_;
    SignalList* list_;
    QStackedWidget* centre_;
    PageView* page_;
    SheetView* sheet_ = nullptr;  // made when it is first asked for
    QStackedWidget* side_;
    ChainDrawer* drawer_;
    DevicePanel* device_;
    FindPanel* find_ = nullptr;
    MeasurePanel* measures_ = nullptr;  // made when it is first asked for
    BesidePanel* beside_ = nullptr;
    LibraryView* library_ = nullptr;
    RulesView* rules_ = nullptr;
    ProcedureView* procedures_ = nullptr;
    ControlView* control_ = nullptr;
    QPointer<QScrollArea> form_;      ///< what openBeside() shows
    bool measuresWanted_ = false;     // as soon as the mouse has let go of the stretch
    bool measuresShown_ = false;      // once for a stretch: they may be closed
    QString followed_;                // the signal of the tile that was chosen last
    QPointer<QWidget> besideBefore_;  // what stood in the drawer before the stretch
    QList<QPointer<WireView>> wires_;
    QList<QPointer<PageWindow>> pageWindows_;
    QPointer<Tile> full_;  ///< that fills the window
    Ribbon* ribbon_;
    ActionList* actionList_;
    ExampleStandIn* standIn_;
    QTimer clock_;
    QElapsedTimer sinceDigits_;
    struct {
        qint64 count = 0, longestMs = 0;
        QElapsedTimer since, last;
    } frames_;  // since the window was first shown; into the log at the end
    QMap<QString, QAction*> actions_;
    QStringList order_;
    bool asked_ = false;
    bool working_ = false;  // readings are being worked out again
    bool remember_ = true;
};

}  // namespace cruscotto

// Finding a board, adding it, and seeing what passes on its wire, as a person does it.
#include <QComboBox>
#include <QFileDialog>
#include <QProgressBar>
#include <QScrollBar>
#include <QTimer>
#include <QWheelEvent>
#include <thread>

#include "app/device/device_edits.h"
#include "app/page/tiles/state_tile.h"
#include "app/widgets/fields.h"
#include "app/window_fixture.h"
#include "devices/device_kind.h"
#include "standins/beehive/beehive.h"
#include "standins/cabinet/cabinet_computer.h"
#include "standins/frameboard/weather_board.h"
#include "standins/gpioboard/pin_board.h"
#include "standins/iolink/sensor_master.h"
#include "standins/rack/cold_store_rack.h"

namespace cruscotto {
namespace {

using test::TempFolder;

/// A board that speaks at 9600 baud, attached to a made tree; and a bench without a device.
class Connect : public test::WindowTest {
protected:
    void SetUp() override {
        namespace fs = std::filesystem;
        showEmpty();
        press("new");
        BeehiveOptions options;
        options.format = BeehiveOptions::Format::labelled;
        options.linesPerSecond = 50;
        options.baud = 9600;
        auto opened = Beehive::open(options);
        ASSERT_TRUE(opened.ok());
        hive = std::move(opened.value());
        board = std::jthread([this] { hive->run(gone); });
        fs::create_directories(root.file("sys/devices/usb1/1-2/if0"));
        test::writeFile(root.file("sys/devices/usb1/1-2/product"), "Beehive board\n");
        fs::create_directories(root.file("sys/class/tty/ttyACM0"));
        fs::create_symlink("../../../devices/usb1/1-2/if0", root.file("sys/class/tty/ttyACM0/device"));
        fs::create_directories(root.file("dev"));
        fs::create_symlink(hive->path(), root.file("dev/ttyACM0"));
        window->findPanel().setRoot(root.file(""));
    }
    void TearDown() override {
        WindowTest::TearDown();
        window.reset();
        gone = true;
    }
    QPushButton* button(QWidget& in, const QString& words) {
        for (QPushButton* b : in.findChildren<QPushButton*>())
            if (b->isVisible() && (b->text() == words || b->accessibleName() == words)) return b;
        return nullptr;
    }
    bool click(QWidget& in, const QString& words) {
        if (!waitFor([&] { return button(in, words); })) return false;
        QTest::mouseClick(button(in, words), Qt::LeftButton);
        return true;
    }
    /// The switch of a row of the list of terminals.
    Switch* terminal(QWidget& in, const QString& place) {
        for (Switch* b : in.findChildren<Switch*>())
            if (b->isVisible() && b->accessibleName() == "Use " + place) return b;
        return nullptr;
    }
    /// Makes a signal of a terminal, in the way that is named where there are several.
    bool use(QWidget& in, const QString& place, const QString& as = {}) {
        if (!waitFor([&] { return terminal(in, place); })) return false;
        for (QComboBox* box : in.findChildren<QComboBox*>())
            if (!as.isEmpty() && box->accessibleName() == "Use " + place + " as") box->setCurrentText(as);
        QTest::mouseClick(terminal(in, place), Qt::LeftButton);
        return true;
    }
    bool says(QWidget& in, const QString& words) {
        for (QLabel* l : in.findChildren<QLabel*>())
            if (l->isVisible() && l->text().contains(words)) return true;
        return false;
    }
    /// Add a device, on a small computer of its own instead of this one.
    std::unique_ptr<CabinetComputer> lookIntoACabinet() {
        auto computer = std::move(CabinetComputer::open(root.file("cabinet")).value());
        window->findPanel().setRoot(computer->folder());
        press("find");
        return computer;
    }
    const DeviceSpec& added() { return *session().bench().devices.back(); }
    /// The board as a device of the bench, read at its speed, and its wire.
    WireView& lookAtTheWire() {
        Bench next =
            withDevice(session().bench(), {"hive", "Hive", "serial-line-board",
                                           R"({"port":")" + hive->path() + R"(","baud":9600,"lines":"labelled"})", ""});
        SignalSpec s;
        s.id = s.name = "weight";
        s.tag = "W1";
        s.device = "hive";
        s.terminal = "weight";
        session().edit("Add", withSignal(next, s));
        window->openDevice("hive");
        EXPECT_TRUE(click(*window, "See the wire"));
        WireView* wire = window->openWire("hive");
        EXPECT_TRUE(waitFor([&] { return wire->rows().rows().size() > 3; }));
        return *wire;
    }

    TempFolder root;
    std::unique_ptr<Beehive> hive;
    std::atomic<bool> gone{false};
    std::jthread board;
};

TEST_F(Connect, ABoardIsFoundListenedToAndAddedAtItsSpeed) {
    press("find");
    FindPanel& panel = window->findPanel();
    EXPECT_TRUE(waitFor([&] { return says(panel, "Beehive board"); }));
    ASSERT_TRUE(click(panel, "Listen to Beehive board"));
    EXPECT_TRUE(waitFor([&] { return !panel.findChildren<QProgressBar*>().empty(); }));
    EXPECT_TRUE(waitFor([&] { return says(panel, "Lines of text at 9600 baud."); }));
    EXPECT_TRUE(says(panel, "weight 31."));
    ASSERT_TRUE(click(panel, "Add Beehive board"));
    EXPECT_EQ(added().name, "Beehive board");
    EXPECT_NE(added().settings.find("9600"), std::string::npos) << added().settings;
    press("find");
    EXPECT_TRUE(waitFor([&] { return says(panel, "In this bench as Beehive board."); }));
    EXPECT_FALSE(button(panel, "Add Beehive board"));
}

TEST_F(Connect, WhatIsUnpluggedGoesFromTheListAndNothingFoundSaysWhatToCheck) {
    press("find");
    FindPanel& panel = window->findPanel();
    EXPECT_TRUE(waitFor([&] { return says(panel, "Beehive board"); }));
    std::filesystem::remove(root.file("dev/ttyACM0"));
    EXPECT_TRUE(waitFor([&] { return says(panel, "No serial port is attached"); }));
    EXPECT_TRUE(says(panel, "one that carries data"));
}

TEST_F(Connect, ARackIsFoundOnTheNetworkAddedAndItsSettingsBroughtToWhatTheBenchWants) {
    ColdStoreRack rack;
    const auto host = std::move(StandInHost::onLoopback(rack.onTcp()).value());
    press("find");
    FindPanel& panel = window->findPanel();
    const auto field = [&](QWidget& in, const QString& name) -> Field* {
        for (Field* f : in.findChildren<Field*>())
            if (f->accessibleName() == name) return f;
        return nullptr;
    };
    QTest::keyClicks(field(panel, "Addresses"), "127.0.0.1-9");
    field(panel, "Port")->show(QString::fromStdString(host->address()).section(':', 1));
    ASSERT_TRUE(click(panel, "Look which hosts answer"));
    EXPECT_TRUE(waitFor([&] { return says(panel, "1 of 9 addresses answer"); }));
    EXPECT_TRUE(says(panel, "Cold store rack"));
    ASSERT_TRUE(click(panel, "Add " + QString::fromStdString(host->address())));
    EXPECT_EQ(added().kind, "modbus");

    DeviceSpec spec = added();
    spec.settings = R"({"address":")" + host->address() +
                    R"(","slots":{"1":"analog-in-8"},"parameters":{"1.filter2":"50"},"every-s":0.02})";
    session().edit("Slots", withDevice(session().bench(), spec));
    window->openDevice(QString::fromStdString(spec.id));
    EXPECT_TRUE(waitFor([&] { return says(*window, "1.filter2 is 20, the bench wants 50"); }));
    ASSERT_TRUE(click(*window, "Write the bench's"));
    EXPECT_TRUE(waitFor([&] { return rack.holding(9) == 50 && !says(*window, "the bench wants 50"); }));
    rack.setHolding(9, 70);
    Field* filter = field(*window, "Filter time of AI1, in ms");
    filter->selectAll();
    QTest::keyClicks(filter, "33");
    QTest::keyClick(filter, Qt::Key_Return);
    EXPECT_TRUE(waitFor([&] { return rack.holding(8) == 33; }));
    const auto before = session().bench().signals.size();
    ASSERT_TRUE(click(*window, "Add all 8 inputs") || click(*window, "Add all 8 input(s)"));
    EXPECT_EQ(session().bench().signals.size(), before + 8);
    EXPECT_TRUE(stageKey(session().bench().signals.back()->chain.at(0)) == "two-points");
}

TEST_F(Connect, SensorsOfAComputerAreReadAsSoonAsTheyAreAdded) {
    TempFolder tree;
    std::filesystem::create_directories(tree.file("sys/class/hwmon/hwmon0"));
    for (const auto& [name, content] :
         {std::pair{"name", "mainboard"}, {"temp1_input", "41500"}, {"fan1_input", "912"}})
        test::writeFile(tree.file("sys/class/hwmon/hwmon0/") + name, content);
    Bench empty;
    empty.name = "Empty";
    session().edit("Nothing", empty);
    struct Painted : QObject {
        bool eventFilter(QObject*, QEvent* e) override {
            if (e->type() == QEvent::Paint) ++times;
            return false;
        }
        int times = 0;
    } page;
    window->findChild<PageView*>()->installEventFilter(&page);
    const auto settle = [&] {
        for (int before = -1; before != page.times; QCoreApplication::processEvents()) before = page.times;
    };
    settle();
    const int before = page.times;
    session().edit("Device", withDevice(empty, {"pc", "Computer", "computer",
                                                R"({"every-s":0.05,"root":")" + tree.file("") + R"("})", ""}));
    EXPECT_TRUE(waitFor([&] { return page.times > before; })) << "what to do next is another thing now";
    window->openDevice("pc");
    ASSERT_TRUE(click(*window, "Add all 2 inputs") || click(*window, "Add all 2 input(s)"));
    const auto& signals = session().bench().signals;
    ASSERT_EQ(signals.size(), 2U);
    EXPECT_EQ(signals[0]->tag, "F1");
    EXPECT_EQ(signals[1]->tag, "T1");
    for (const auto& s : signals) EXPECT_TRUE(waitFor([&] { return !std::isnan(value(s->id)); })) << s->id;
    window->findChild<PageView*>()->removeEventFilter(&page);
}

TEST_F(Connect, PinsOfABoardAreChosenOneByOneAndReadAtOnce) {
    PinBoard pins;
    const auto host = std::move(StandInHost::onLoopback(pins.begin()).value());
    Bench bench;
    bench.name = "Pins";
    session().edit("Board", withDevice(bench, {"pins", "Pin board", "firmata",
                                               R"({"address":")" + host->address() + R"("})", ""}));
    window->openDevice("pins");
    ASSERT_TRUE(waitFor([&] { return terminal(*window, "D7"); }));
    EXPECT_FALSE(button(*window, "Add all 42 inputs")) << "a pin is one thing or another";
    ASSERT_TRUE(use(*window, "D7", "digital in"));
    QComboBox* pull = nullptr;  // in its chain, which is open
    for (auto* b : window->drawer().findChildren<QComboBox*>())
        if (b->accessibleName() == "Pull-up") pull = b;
    ASSERT_TRUE(pull);
    Q_EMIT pull->activated(pull->findText("on"));
    const std::string pressed = session().bench().signals.back()->id;
    EXPECT_TRUE(waitFor([&] { return value(pressed) == 1; }));
    pins.pressed[7] = true;
    EXPECT_TRUE(waitFor([&] { return value(pressed) == 0; }));
    window->openDevice("pins");
    ASSERT_TRUE(use(*window, "D9", "pulse width"));
    EXPECT_EQ(session().bench().signals.back()->output->high, 255);
    EXPECT_EQ(session().bench().signals.back()->unit(), "1") << "a part of 255 is no voltage";
    Field* unit = nullptr;  // its chain is open
    for (auto* f : window->findChildren<Field*>())
        if (f->isVisible() && f->accessibleName() == "Unit") unit = f;
    ASSERT_TRUE(unit);
    unit->selectAll();
    QTest::keyClicks(unit, "%");
    QTest::keyClick(unit, Qt::Key_Return);
    EXPECT_EQ(session().bench().signals.back()->unit(), "%");
}

TEST(FreshSignals, HaveTagsOfTheirOwn) {
    Bench bench;
    for (const char* terminal :
         {"mainboard.temp1", "cpu.temp1", "gpu.temp1", "2.AI3", "level.Output 2", "D13 out", "A0", "weight", "1", "-"})
        bench = withSignalFor(bench, "d", {terminal}, nullptr);
    for (int i = 0; i < 3; ++i) bench = withSignalFor(bench, "d", {"x.w"}, nullptr);
    bench = withSignalFor(bench, "d", {"3"}, nullptr);
    EXPECT_EQ(bench.signals.back()->name, "Number 3") << "of a line without labels";
    EXPECT_EQ(bench.signals.back()->tag, "N3");
    EXPECT_EQ(bench.signals.back()->terminal, "3");
    bench = withoutSignal(bench, bench.signals.back()->id);
    std::vector<std::string> tags;
    for (const auto& s : bench.signals) tags.push_back(s->tag);
    EXPECT_EQ(tags, (std::vector<std::string>{"T1", "Te1", "Tem1", "AI3", "O2", "D13", "A0", "W", "N1", "-", "w", "W2",
                                              "W3"}));
}

TEST_F(Connect, FilesThatDescribeADeviceAreChosenInADialog) {
    SensorMaster master;
    const auto host = std::move(StandInHost::onLoopback(master.begin()).value());
    const DeviceKind* kind = deviceKind("io-link-master");
    std::string id;
    Bench bench = withNewDevice(session().bench(), *kind, &id);
    DeviceSpec spec = *bench.device(id);
    spec.settings = R"({"address":")" + host->address() + R"(","every-s":0.05})";
    session().edit("Master", withDevice(bench, spec));
    window->openDevice(QString::fromStdString(id));
    ASSERT_TRUE(waitFor([&] { return says(*window, "Also there: level, valve"); }));
    const auto choose = [&](const std::string& file) {
        // The dialog has a loop of its own, in which the file is chosen.
        QTimer look;
        QObject::connect(&look, &QTimer::timeout, [&file] {
            auto* dialog = qobject_cast<QFileDialog*>(QApplication::activeModalWidget());
            if (!dialog) return;
            dialog->selectFile(QString::fromStdString(file));
            QMetaObject::invokeMethod(dialog, "accept");
        });
        look.start(10);
        return click(*window, "Choose a file: Sensors");
    };
    const std::string folder = std::string(test::sourceFolder) + "/examples/iodd/";
    ASSERT_TRUE(choose(folder + "brine-level.xml"));
    EXPECT_NE(session().bench().device(id)->settings.find(R"("level":")" + folder + "brine-level.xml"),
              std::string::npos)
        << session().bench().device(id)->settings;
    EXPECT_TRUE(waitFor([&] { return terminal(*window, "level.Level") != nullptr; }));
    ASSERT_TRUE(choose(folder + "brine-valve.xml"));
    EXPECT_NE(session().bench().device(id)->settings.find(R"("valve":")" + folder), std::string::npos)
        << "the second goes to the sensor that has none yet: " << session().bench().device(id)->settings;
    session().undoStack().undo();
    EXPECT_EQ(session().bench().device(id)->settings.find("valve"), std::string::npos);
}

TEST_F(Connect, WhatIsAttachedIsLookedIntoBeforeItIsAdded) {
    SensorMaster master;
    const auto host = std::move(StandInHost::onLoopback(master.begin()).value());
    const QString address = QString::fromStdString(host->address());
    press("find");
    FindPanel& panel = window->findPanel();
    ASSERT_TRUE(click(panel, "Look inside Beehive board"));
    EXPECT_TRUE(waitFor([&] { return says(panel, "weight"); }));
    EXPECT_TRUE(button(panel, "Stop looking inside Beehive board"));
    EXPECT_TRUE(session().bench().devices.empty()) << "nothing was added";

    for (Field* f : panel.findChildren<Field*>()) {
        if (f->accessibleName() == "Addresses") f->show("127.0.0.1");
        if (f->accessibleName() == "Port") f->show(address.section(':', 1));
    }
    for (QComboBox* c : panel.findChildren<QComboBox*>())
        if (c->accessibleName() == "What is asked") c->setCurrentIndex(2);
    ASSERT_TRUE(click(panel, "Look which hosts answer"));
    ASSERT_TRUE(click(panel, "Look inside " + address));
    EXPECT_TRUE(waitFor([&] { return says(panel, "Brine level"); }));
    EXPECT_TRUE(says(panel, "2 parts") || says(panel, "2 part(s)"));
    EXPECT_TRUE(waitFor([&] { return button(panel, "Look inside Beehive board"); })) << "one at a time";
    ASSERT_TRUE(click(panel, "Stop looking"));
    EXPECT_TRUE(waitFor([&] { return !says(panel, "Brine level"); }));
    ASSERT_TRUE(click(panel, "Look inside " + address));
    EXPECT_TRUE(waitFor([&] { return says(panel, "Brine level"); }));
    ASSERT_TRUE(click(panel, "Add " + address));
    EXPECT_EQ(added().kind, "io-link-master");
    EXPECT_FALSE(says(panel, "Brine level")) << "the bench's device has it now";
}

TEST_F(Connect, ThisComputersLinesAreFoundLookedIntoReadAndShownAsTheyStood) {
    const auto computer = lookIntoACabinet();
    FindPanel& panel = window->findPanel();
    EXPECT_TRUE(waitFor([&] { return says(panel, "Sensors that the kernel offers: 8") && says(panel, "pulses"); }));
    ASSERT_TRUE(click(panel, "Look inside gpiochip0"));
    EXPECT_TRUE(waitFor([&] { return says(panel, "spi0-select, output, used by spi0 CS0"); }));
    ASSERT_TRUE(click(panel, "Stop looking inside gpiochip0"));
    ASSERT_TRUE(click(panel, "Add gpiochip0"));
    EXPECT_EQ(added().kind, "gpio-lines");
    ASSERT_TRUE(click(*window, "Read the inputs that nobody else uses: 5"));
    EXPECT_NE(added().settings.find(R"("guard-door":"0 in")"), std::string::npos) << added().settings;
    ASSERT_TRUE(use(*window, "stop-chain"));
    const std::string id = session().bench().signals.back()->id;
    ASSERT_TRUE(waitFor([&] { return session().source().at(id, session().end()).value == 1; }));

    // A line that does not move is read twice a second: between that it stands where it was.
    TileSpec tile;
    tile.id = "stood";
    tile.kind = TileKind::state;
    tile.signals = {id};
    tile.w = 3;
    tile.h = 2;
    session().edit("Add", withTile(session().bench(), session().bench().pages.front()->id, tile));
    const auto strip = [&] {
        StateTile* last = nullptr;
        for (auto* t : window->findChildren<StateTile*>()) last = t;
        return last ? last->stripText() : std::string();
    };
    const auto end = [](const std::string& text) { return text.substr(text.find_last_not_of('1') + 1); };
    EXPECT_TRUE(waitFor([&] { return end(strip()).size() > 12; })) << strip();
    computer->unplug();
    EXPECT_TRUE(waitFor([&] { return strip().ends_with("    "); })) << strip();
    computer->plug();
    EXPECT_TRUE(waitFor([&] { return end(strip()).size() > 12; })) << strip();
    const std::string whole = strip();
    const std::string upTo = whole.substr(0, whole.size() - end(whole).size());
    EXPECT_TRUE(upTo.ends_with(' ')) << "the absence is not covered up: " << whole;
    EXPECT_NE(upTo.find('1'), std::string::npos) << whole;
}

TEST_F(Connect, WhatALookFoundRightOfThisComputersInputsIsAddedWithIt) {
    const auto computer = lookIntoACabinet();
    FindPanel& panel = window->findPanel();
    ASSERT_TRUE(waitFor([&] { return button(panel, "Look inside gpiochip0"); }));
    ASSERT_TRUE(click(panel, "Look inside gpiochip0"));
    EXPECT_TRUE(waitFor([&] { return says(panel, "guard-door"); })) << "its lines are read";
    ASSERT_TRUE(click(panel, "Add gpiochip0"));
    EXPECT_EQ(added().kind, "gpio-lines");
    EXPECT_NE(added().settings.find(R"("guard-door":"0 in")"), std::string::npos) << added().settings;
}

TEST_F(Connect, TheWheelScrollsAndChangesNoChoiceOnItsWay) {
    Choice choice;
    choice.addItems({"one", "two", "three"});
    choice.setCurrentIndex(1);
    choice.show();
    QWheelEvent wheel({5, 5}, choice.mapToGlobal(QPointF(5, 5)), {}, {0, -120}, Qt::NoButton, Qt::NoModifier,
                      Qt::NoScrollPhase, false);
    QApplication::sendEvent(&choice, &wheel);
    EXPECT_EQ(choice.currentIndex(), 1);
    EXPECT_FALSE(wheel.isAccepted());
}

TEST_F(Connect, ListeningCanBeStopped) {
    gone = true;  // a board that says nothing is listened to for long
    board.join();
    press("find");
    FindPanel& panel = window->findPanel();
    ASSERT_TRUE(click(panel, "Listen to Beehive board"));
    ASSERT_TRUE(click(panel, "Stop"));
    EXPECT_TRUE(waitFor([&] { return button(panel, "Listen to Beehive board"); }));
    EXPECT_TRUE(panel.findChildren<QProgressBar*>().empty() || !panel.findChild<QProgressBar*>()->isVisible());
}

TEST_F(Connect, TheSpeedThatWasFoundIsKeptWithAButton) {
    session().edit("Add", withDevice(session().bench(),
                                     {"hive", "Hive", "serial-line-board",
                                      R"({"port":")" + hive->path() + R"(","baud":115200,"lines":"labelled"})", ""}));
    window->openDevice("hive");
    ASSERT_TRUE(click(*window, "Find the speed by listening"));
    ASSERT_TRUE(click(*window, "Stay at 9600 baud"));
    EXPECT_NE(added().settings.find("9600"), std::string::npos) << added().settings;
    EXPECT_TRUE(waitFor([&] { return says(*window, "at 9600 baud and fit."); }));
    EXPECT_TRUE(waitFor([&] { return says(*window, "% of the link is used."); }));
}

TEST_F(Connect, AnOutputOfTheBoardIsTypedInAndDriven) {
    session().edit("Add", withDevice(session().bench(),
                                     {"hive", "Hive", "serial-line-board",
                                      R"({"port":")" + hive->path() + R"(","baud":9600,"lines":"labelled"})", ""}));
    window->openDevice("hive");
    LinesField* lines = nullptr;
    ASSERT_TRUE(waitFor([&] { return (lines = window->findChild<LinesField*>()) != nullptr; }));
    lines->setFocus();
    lines->setPlainText("heater = H{value:0}\\n");
    window->page().setFocus();
    frame();
    EXPECT_NE(added().settings.find(R"("heater":"H{value:0}\\n")"), std::string::npos) << added().settings;
    ASSERT_TRUE(use(*window, "heater"));
    const auto& signal = *session().bench().signals.back();
    EXPECT_EQ(signal.terminal, "heater");
    ASSERT_TRUE(signal.output);
    ASSERT_TRUE(waitFor([&] {
        session().engine()->setOutput(signal.id, 7);
        return hive->heater() == 7;
    }));
}

TEST_F(Connect, TheWireShowsEachMessageWithItsMeaning) {
    WireView& wire = lookAtTheWire();
    ASSERT_TRUE(waitFor([&] { return !wire.rows().rows().back()->fields.empty(); }));
    const QString meaning = wire.rows().meaning(*wire.rows().rows().back());
    EXPECT_TRUE(meaning.startsWith("W1 31.")) << meaning.toStdString() << ": the signal's tag";
    EXPECT_TRUE(meaning.contains("T 3")) << "no signal yet: the board's own name";
    EXPECT_TRUE(waitFor([&] { return wire.summary().contains("of the link used"); })) << wire.summary().toStdString();
}

TEST_F(Connect, TheWireIsSiftedAndFrozenAndNothingIsHeldWhenItIsClosed) {
    WireView& wire = lookAtTheWire();
    auto* search = wire.findChild<QLineEdit*>();
    search->setText("no such thing");
    EXPECT_TRUE(wire.rows().rows().empty());
    search->setText("77 65 69 67");  // "weig"
    EXPECT_TRUE(waitFor([&] { return wire.rows().rows().size() > 2; }));
    search->clear();
    wire.findChild<QComboBox*>()->setCurrentIndex(1);
    for (const auto& m : wire.rows().rows()) EXPECT_FALSE(m->problem.empty());
    wire.findChild<QComboBox*>()->setCurrentIndex(0);
    ASSERT_TRUE(click(wire, "Freeze"));
    const auto tap = session().engine()->wire("hive");
    const auto newest = wire.rows().rows().back()->number;
    ASSERT_TRUE(waitFor([&] { return tap->since(newest + 1).size() > 3; })) << "the device goes on";
    EXPECT_EQ(wire.rows().rows().back()->number, newest);
    ASSERT_TRUE(click(wire, "Go on"));
    EXPECT_TRUE(waitFor([&] { return wire.rows().rows().back()->number > newest + 3; }));
    wire.close();
    EXPECT_FALSE(tap->isOpen());
}

TEST_F(Connect, WhatWasSavedFromTheWireIsReplayedAsADevice) {
    TempFolder folder;
    WireView& wire = lookAtTheWire();
    ASSERT_TRUE(waitFor([&] { return wire.rows().rows().size() > 20; }));
    nameFile(folder.file("seen.wire"));
    ASSERT_TRUE(click(wire, "Save…"));
    ASSERT_TRUE(waitFor([&] { return window->noticeText().startsWith("Saved "); }))
        << window->noticeText().toStdString();
    press("find");
    nameFile(folder.file("seen.wire"));
    ASSERT_TRUE(click(window->findPanel(), "Replay what was saved from a wire…"));
    ASSERT_EQ(added().name, "seen");
    DeviceSpec replay = added();
    replay.settings = R"({"port":")" + folder.file("seen.wire") + R"(","lines":"labelled"})";
    SignalSpec s;
    s.id = s.name = "again";
    s.device = replay.id;
    s.terminal = "weight";
    session().edit("Read it", withSignal(withDevice(session().bench(), replay), s));
    EXPECT_TRUE(waitFor([&] { return std::abs(value("again") - 31.4) < 1; }));
}

TEST_F(Connect, BytesOfAFrameAreSelectedAndNamedAndTheReadingAppears) {
    WeatherBoard roof({});
    const auto host = std::move(StandInHost::onPty(roof.begin(), root.file("weather")).value());
    session().edit("Add", withDevice(session().bench(), {"roof", "Roof", "frame-board",
                                                         R"({"address":")" + host->address() + R"("})", ""}));
    WireView* wire = window->openWire("roof");
    // What the bytes look like is offered beside them.
    ASSERT_TRUE(click(*wire, "Try frames: begin a53c length 18 check crc16-modbus"));
    const auto settings = [&] { return session().bench().device("roof")->settings; };
    EXPECT_NE(settings().find("a53c"), std::string::npos);
    const auto frame = [&]() -> const WireMessage& { return *wire->rows().rows().back(); };
    ASSERT_TRUE(waitFor([&] { return wire->rows().rows().size() > 60 && frame().bytes.size() == 18; }));
    ASSERT_TRUE(click(*wire, "Freeze"));
    QWidget* rows = wire->rows().viewport();
    // A whole frame: those of before the description, and what was cut short, may stand between.
    const auto shown = wire->rows().rows().begin() + wire->rows().verticalScrollBar()->value();
    const auto whole =
        std::find_if(shown, wire->rows().rows().end(), [](const auto& m) { return m->bytes.size() == 18; });
    const int row = static_cast<int>(whole - shown);
    const QPoint from = wire->rows().byteRect(row, 6).center(), to = wire->rows().byteRect(row, 7).center();
    QTest::mousePress(rows, Qt::LeftButton, {}, from);
    QTest::mouseMove(rows, to);
    QMouseEvent drag(QEvent::MouseMove, to, to, Qt::NoButton, Qt::LeftButton, {});
    QApplication::sendEvent(rows, &drag);
    QTest::mouseRelease(rows, Qt::LeftButton, {}, to);
    EXPECT_EQ(wire->rows().selection(), (WireRows::Selection{6, 2}));
    QComboBox* choice = nullptr;
    QLineEdit* name = nullptr;
    for (auto* c : wire->findChildren<QComboBox*>())
        if (c->accessibleName() == "What the bytes are") choice = c;
    for (auto* l : wire->findChildren<QLineEdit*>())
        if (l->accessibleName() == "Name of the value") name = l;
    ASSERT_TRUE(choice && name && name->isVisible());
    EXPECT_TRUE(choice->itemText(0).startsWith("6 ")) << choice->itemText(0).toStdString();
    EXPECT_EQ(choice->currentIndex(), 0) << "the likeliest is chosen";
    for (int i = 0; i < choice->count(); ++i)
        if (choice->itemText(i).startsWith("6 i16le")) choice->setCurrentIndex(i);
    ASSERT_TRUE(click(*wire, "Add as a reading"));
    EXPECT_TRUE(session().bench().signals.empty()) << "a name comes first";
    name->setFocus();
    QTest::keyClicks(name, "temperature");
    QTest::keyClick(name, Qt::Key_Return);
    EXPECT_NE(settings().find(R"("temperature":"6 i16le")"), std::string::npos) << settings();
    ASSERT_EQ(session().bench().signals.size(), 1U);
    const std::string id = session().bench().signals.back()->id;
    EXPECT_EQ(session().bench().signals.back()->terminal, "temperature");
    ASSERT_TRUE(waitFor([&] { return std::isfinite(session().source().at(id, session().end()).value); }));
    window->action("undo")->trigger();
    EXPECT_EQ(settings().find("temperature"), std::string::npos) << "one step takes name and reading back";
    EXPECT_TRUE(session().bench().signals.empty());
}

TEST_F(Connect, WhatIsOnAPortIsChosenWhereItIsAdded) {
    press("find");
    FindPanel& panel = window->findPanel();
    ASSERT_TRUE(waitFor([&] { return button(panel, "Add Beehive board"); }));
    Choice* as = nullptr;
    for (auto* c : panel.findChildren<Choice*>())
        if (c->accessibleName() == "What is on Beehive board") as = c;
    ASSERT_TRUE(as);
    EXPECT_EQ(as->currentText(), "prints text");
    as->setCurrentIndex(as->findText("sends frames of bytes"));
    ASSERT_TRUE(click(panel, "Add Beehive board"));
    EXPECT_EQ(added().kind, "frame-board");
    EXPECT_NE(added().settings.find("\"address\""), std::string::npos);
    // It is one of the bench now, and not offered again.
    press("find");
    EXPECT_TRUE(waitFor([&] { return says(panel, "In this bench as Beehive board"); }));
}

TEST_F(Connect, WhatCostsSomethingIsAskedAboutBeforeItIsWritten) {
    ParameterList list;
    DeviceParameter p;
    p.key = "level/Command";
    p.choices = {"Application reset", "Device reset"};
    p.warned = {"Device reset"};
    p.warning = Text{"The sensor leaves the link for a moment."};
    p.readable = false;
    const auto timeOf = [](Instant at) { return QString::number(at.ns); };
    list.show({p}, timeOf);
    list.QWidget::show();
    QStringList written;
    QObject::connect(&list, &ParameterList::writeAsked, &list,
                     [&](const QString& key, const QString& value) { written << key + "=" + value; });
    auto* choice = list.findChild<QComboBox*>();
    const auto choose = [&](int i) {
        choice->setCurrentIndex(i);
        Q_EMIT choice->activated(i);
    };
    choose(0);
    EXPECT_EQ(written, (QStringList{"level/Command=Application reset"}));
    choose(1);
    EXPECT_EQ(written.size(), 1) << "not yet";
    EXPECT_TRUE(says(list, "leaves the link for a moment"));
    p.problem = Text{"Something else was read meanwhile."};
    list.show({p}, timeOf);
    EXPECT_EQ(choice->currentText(), "Device reset") << "what is asked about stays";
    ASSERT_TRUE(click(list, "Leave it"));
    EXPECT_EQ(written.size(), 1) << "nor then";
    EXPECT_FALSE(says(list, "leaves the link for a moment"));
    choose(1);
    ASSERT_TRUE(click(list, "Do it all the same"));
    EXPECT_EQ(written.back(), "level/Command=Device reset");
    EXPECT_FALSE(says(list, "leaves the link for a moment"));
    EXPECT_TRUE(says(list, "Sent: Device reset. Not answered yet."));
    p.problem = {};
    list.show({p}, timeOf);
    EXPECT_TRUE(says(list, "Not answered yet")) << "something else has changed";
    p.done = Text{"Done: Device reset"};
    p.answered = Instant{7};
    list.show({p}, timeOf);
    EXPECT_TRUE(says(list, "Done: Device reset, at 7."));
    choose(0);
    p.problem = Text{"the master says: busy"};
    p.answered = Instant{8};
    list.show({p}, timeOf);
    EXPECT_TRUE(says(list, "the master says: busy"));
}

}  // namespace
}  // namespace cruscotto

// The chain drawer's cards: terminals, computations, thresholds, sensors.
#include <QComboBox>
#include <QPushButton>
#include <QStandardItemModel>

#include "app/chain/raw_watch.h"
#include "app/chain/stage_trace.h"
#include "app/window_fixture.h"
#include "core/chain/stage_kind.h"

namespace cruscotto::terminal_test {
namespace {

class Chains : public test::WindowTest {
protected:
    QComboBox* box(const QString& name) {
        for (QComboBox* b : window->drawer().findChildren<QComboBox*>())
            if (b->accessibleName() == name) return b;
        return nullptr;
    }
    void choose(const QString& name, const QString& words) {
        QComboBox* b = box(name);
        ASSERT_TRUE(b) << name.toStdString();
        const int i = b->findText(words);
        ASSERT_GE(i, 0) << words.toStdString();
        b->setCurrentIndex(i);
        Q_EMIT b->activated(i);
        QApplication::processEvents();
    }
    bool pressIn(const QString& words) {
        for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
            if (b->isVisible() && b->text() == words) {
                QTest::mouseClick(b, Qt::LeftButton);
                QApplication::processEvents();
                return true;
            }
        return false;
    }
    bool says(const QString& words) {
        for (QLabel* l : window->drawer().findChildren<QLabel*>())
            if (l->isVisible() && l->text().contains(words)) return true;
        return false;
    }
    const SignalSpec& signal(const char* id) { return *session().bench().signal(id); }
};

TEST_F(Chains, ATerminalIsSetUpInItsCardAtOnce) {
    window->openChain("spare");
    choose("Load", "down to ground");
    EXPECT_EQ(std::get<std::string>(signal("spare").setup.at("load")), "down");
    EXPECT_TRUE(says("The nearest to 10000 Ω that the network can do is 10156 Ω"));
    EXPECT_TRUE(waitFor([&] { return std::fabs(value("spare")) < 0.01; })) << "what floated is held";
    type(field(window->drawer(), "Load, asked for, Ω"), "1000");
    EXPECT_EQ(std::get<double>(signal("spare").setup.at("load-ohm")), 1000);
    type(field(window->drawer(), "Load, asked for, Ω"), "3");
    EXPECT_TRUE(says("A number from 400 to 100000 is expected here."));
    choose("Load", "none");
    EXPECT_FALSE(signal("spare").setup.contains("load-ohm")) << "what has no place any more goes";
}

TEST_F(Chains, WhatTheHardwareForbidsIsSeenWithItsReasonAndCannotBeChosen) {
    window->openChain("inlet-pressure");
    QComboBox* input = box("Input");
    ASSERT_TRUE(input);
    const int differential = input->findText("less AI1");
    ASSERT_GE(differential, 0);
    EXPECT_FALSE(qobject_cast<QStandardItemModel*>(input->model())->item(differential)->isEnabled());
    EXPECT_TRUE(says("AI1 is used as an input of its own."));
    Q_EMIT input->activated(differential);
    EXPECT_TRUE(signal("inlet-pressure").setup.empty());
    EXPECT_TRUE(says("AI0 cannot be less AI1"));
}

TEST_F(Chains, TheRawValueTellsItsSpanAndOffersTheSmallestRangeThatFits) {
    window->openChain("inlet-pressure");
    choose("Range", "−10 to 10 V");
    auto* watch = window->drawer().findChild<RawWatch*>();
    ASSERT_TRUE(watch);
    ASSERT_TRUE(waitFor([&] {
        for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
            if (b->isVisible() && b->text().endsWith("5 V: it fits, and is finer")) return true;
        return false;
    })) << watch->words().toStdString();
    EXPECT_TRUE(watch->words().contains("V since you opened this")) << watch->words().toStdString();
    for (QPushButton* b : window->drawer().findChildren<QPushButton*>())
        if (b->isVisible() && b->text().endsWith("it fits, and is finer")) {
            QTest::mouseClick(b, Qt::LeftButton);
            break;
        }
    EXPECT_EQ(signal("inlet-pressure").range, (Scale{-5, 5}));
    EXPECT_EQ(signal("inlet-pressure").chain[0].number("high"), 5) << "the factor to volts goes with it";
}

TEST_F(Chains, AnOutputThatWasTriedGoesSafeWhenItsCardCloses) {
    window->openChain("beacon");
    type(field(window->drawer(), "Try it"), "1");
    EXPECT_TRUE(waitFor([&] { return value("beacon") == 1; }));
    window->openChain("drive");
    EXPECT_TRUE(waitFor([&] { return value("beacon") == 1; })) << "it stands on a page, where it is seen";
    session().edit("off the pages", withoutPage(session().bench(), "mechanics"));
    window->openChain("beacon");
    type(field(window->drawer(), "Try it"), "1");
    EXPECT_TRUE(waitFor([&] { return value("beacon") == 1; }));
    window->openChain("drive");
    EXPECT_TRUE(waitFor([&] { return value("beacon") == 0; }));
}

TEST_F(Chains, AComputedSignalIsAddedAndChanged) {
    window->signalList().select("outlet-pressure");
    press("add-computed");
    const std::string id = session().bench().signals.back()->id;
    EXPECT_EQ(signal(id.c_str()).chain[0].text("how"), "difference");
    EXPECT_EQ(signal(id.c_str()).computed->clock, "outlet-pressure");
    ASSERT_TRUE(waitFor([&] { return !std::isnan(value(id)); }));
    choose("How", "mean");
    EXPECT_TRUE(pressIn("Add a signal"));
    EXPECT_EQ(signal(id.c_str()).chain[0].sources("of").size(), 3U);
    choose("What is worked out", "Formula over signals");
    EXPECT_EQ(stageKey(signal(id.c_str()).chain[0]), "calculate");
    EXPECT_LE(window->drawer().widget()->minimumSizeHint().width(), window->drawer().viewport()->width())
        << "nothing is cut off at the side";
    type(field(window->drawer(), "Formula"), "P2*2");
    EXPECT_EQ(signal(id.c_str()).chain[0].text("formula"), "P2*2");
    EXPECT_EQ(signal(id.c_str()).unit(), "bar");
    ASSERT_TRUE(waitFor([&] { return std::fabs(value(id) - 2 * value("outlet-pressure")) < 0.2; }));
    type(field(window->drawer(), "Formula"), "P2*(");
    EXPECT_TRUE(says("The formula does not read"));
    EXPECT_EQ(signal(id.c_str()).chain[0].text("formula"), "P2*2");
    // A circle is refused where it is made.
    choose("When it is worked out", "at a rate of its own");
    EXPECT_EQ(signal(id.c_str()).computed->clock, "");
    press("undo");
    EXPECT_EQ(signal(id.c_str()).computed->clock, "outlet-pressure");
    window->signalList().select("outlet-pressure");
    press("remove-signal");
    ASSERT_TRUE(session().bench().signal("outlet-pressure")) << "others depend on it";
}

TEST_F(Chains, ARunTellsHowAComputedSignalWasWorkedOut) {
    test::TempFolder folder;
    recordRun(folder.file("a.run"), 2);
    open(QString::fromStdString(folder.file("a.run")));
    ASSERT_TRUE(waitFor([&] { return session().bench().signal("hydraulic-power") != nullptr; }));
    window->openChain("hydraulic-power");
    EXPECT_TRUE(says("Signals combined (Pressure rise, Flow)"));
    EXPECT_TRUE(says("Worked out with each sample of Flow."));
}

TEST_F(Chains, ATotalIsSetBackByHand) {
    window->openChain("volume");
    ASSERT_TRUE(waitFor([&] { return value("volume") > 1.5; }));
    const double before = value("volume");
    EXPECT_TRUE(pressIn("Set to 0"));
    EXPECT_EQ(signal("volume").chain[1].number("resets"), 1);
    EXPECT_TRUE(waitFor([&] { return value("volume") < before; }));
}

TEST_F(Chains, AReadingIsZeroedHereAndTakenBack) {
    SignalSpec s = signal("water-temperature");
    s.chain.push_back(Stage::of("tare"));
    session().edit("tare", withSignal(session().bench(), s));
    window->openChain("water-temperature");
    ASSERT_TRUE(waitFor([&] { return value("water-temperature") > 20; }));
    ASSERT_TRUE(waitFor(
        [&] { return pressIn("Zero it now") && signal("water-temperature").chain.back().number("zero") > 20; }));
    EXPECT_NE(signal("water-temperature").chain.back().text("note").find("captured"), std::string::npos);
    EXPECT_TRUE(waitFor([&] { return std::fabs(value("water-temperature")) < 0.2; }));
    ASSERT_TRUE(pressIn("Take it back"));
    EXPECT_EQ(signal("water-temperature").chain.back().number("zero"), 0);
    EXPECT_EQ(signal("water-temperature").chain.back().text("note"), "");
}

TEST_F(Chains, AThresholdIsDraggedOnWhatComesInAndCountedAgain) {
    open(":/examples/seed-sorter.bench");
    ASSERT_TRUE(waitFor([&] { return value("hits") > 3; }));
    window->openChain("hits");
    auto* trace = window->drawer().findChild<StageTrace*>();
    ASSERT_TRUE(trace);
    ASSERT_TRUE(waitFor([&] { return trace->words().contains("events"); })) << trace->words().toStdString();
    EXPECT_TRUE(trace->words().contains("without the dead time"));
    const double before = signal("hits").chain[1].number("threshold");
    const auto from = static_cast<int>(trace->yOf(before));
    const QString counted = trace->words();
    test::drag(trace, {60, from}, {0, -30});
    const double after = signal("hits").chain[1].number("threshold");
    EXPECT_GT(after, before * 1.5);
    EXPECT_NE(trace->words(), counted);
    press("undo");
    EXPECT_EQ(signal("hits").chain[1].number("threshold"), before) << "one drag is one undo step";
}

TEST_F(Chains, AStageIsDraggedToAnotherPlaceInTheChain) {
    session().edit("median", [&] {
        SignalSpec s = signal("water-temperature");
        s.chain.insert(s.chain.begin() + 2, Stage::of("median"));
        return withSignal(session().bench(), s);
    }());
    window->openChain("water-temperature");
    ASSERT_TRUE(waitFor([&] { return window->drawer().card(3) && window->drawer().card(3)->y() > 0; }));
    const auto dragTo = [&](int from, int to) {
        StageCard* card = window->drawer().card(from);
        StageCard* before = window->drawer().card(to);
        const int by = before->y() + 20 - card->y() - 20;
        test::drag(card, {card->width() / 2, 20}, {0, by});
    };
    dragTo(3, 2);
    EXPECT_EQ(stageKey(signal("water-temperature").chain[1]), "median");
    EXPECT_EQ(stageKey(signal("water-temperature").chain[2]), "moving-mean");
    dragTo(4, 1);  // a resistance takes volts
    EXPECT_EQ(stageKey(signal("water-temperature").chain[0]), "counts-to-volts");
    EXPECT_TRUE(says("takes V, and counts comes in"));
}

TEST_F(Chains, ATableIsReadFromACsvFile) {
    test::TempFolder folder;
    test::writeFile(folder.file("curve.csv"), "volt;bar\n0,5;0\n2,5;5,5\n4,5;10\n");
    session().edit("table", [&] {
        SignalSpec s = signal("spare");
        s.chain.push_back(Stage::of("table", {{"unit", "bar"}}));
        return withSignal(session().bench(), s);
    }());
    window->openChain("spare");
    nameFile(folder.file("curve.csv"));
    ASSERT_TRUE(pressIn("From a CSV file…"));
    EXPECT_EQ(signal("spare").chain.back().table("points"), (StageTable{{0.5, 0}, {2.5, 5.5}, {4.5, 10}}));
    test::writeFile(folder.file("back.csv"), "1,1\n3,2\n2,3\n");
    nameFile(folder.file("back.csv"));
    ASSERT_TRUE(pressIn("From a CSV file…"));
    EXPECT_EQ(signal("spare").chain.back().table("points").size(), 3U);
    EXPECT_EQ(signal("spare").chain.back().table("points")[0][0], 0.5) << "one that goes back on itself is not taken";
}

TEST_F(Chains, AFilterTellsItsNoiseAndItsDelay) {
    window->openChain("water-temperature");
    auto* trace = window->drawer().findChild<StageTrace*>();
    ASSERT_TRUE(trace);
    EXPECT_TRUE(waitFor([&] { return trace->words().contains("Noise") && trace->words().contains("99.5 ms later"); }))
        << trace->words().toStdString();
}

TEST_F(Chains, ASensorBuildsItsWholeChain) {
    window->openChain("spare");
    ASSERT_TRUE(pressIn("What is this sensor?"));
    choose("Kind of sensor", "Resistance thermometer (Pt100 and others)");
    EXPECT_EQ(stageKey(signal("spare").chain.back()), "resistance-thermometer");
    EXPECT_EQ(stageKey(signal("spare").chain.front()), "counts-to-volts");
    EXPECT_EQ(signal("spare").unit(), "Cel");
    EXPECT_EQ(std::get<std::string>(signal("spare").setup.at("excitation")), "1mA") << "it is set up for it too";
    type(field(window->drawer(), "At 0 °C, Ω"), "1000");
    EXPECT_EQ(signal("spare").chain.back().number("r0"), 1000);
    EXPECT_LE(window->drawer().widget()->sizeHint().height(), window->drawer().viewport()->height())
        << "all of it is seen without scrolling";
    choose("Kind of sensor", "Thermistor in a divider");
    EXPECT_LE(window->drawer().widget()->sizeHint().height(), window->drawer().viewport()->height())
        << "nor of the one that asks for most";
    press("undo");
    ASSERT_TRUE(pressIn("Done: show the chain"));
    EXPECT_TRUE(waitFor([&] { return window->drawer().card(3) != nullptr; }));
    press("undo");
    press("undo");
    EXPECT_EQ(signal("spare").unit(), "V");
}

}  // namespace
}  // namespace cruscotto::terminal_test

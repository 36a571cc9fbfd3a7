// The list of signals: found, folded, ordered, only those that are not well, several at once.
#include <QComboBox>

#include "app/window_fixture.h"
#include "core/base/units.h"
#include "devices/settings_reader.h"

namespace cruscotto::signal_list_test {
namespace {

class Signals : public test::WindowTest {
protected:
    std::vector<std::string> listed() {
        std::vector<std::string> out;
        for (int i = 0; i < rows().rowCount(); ++i)
            if (rows().row(i).signal) out.push_back(rows().row(i).signal->id);
        return out;
    }
    SignalModel& rows() { return window->signalList().rows(); }
    void selectAll(const std::vector<std::string>& ids) {
        auto* chosen = window->signalList().selectionModel();
        chosen->clear();
        for (int i = 0; i < rows().rowCount(); ++i)
            if (rows().row(i).signal && std::ranges::find(ids, rows().row(i).signal->id) != ids.end())
                chosen->select(rows().index(i), QItemSelectionModel::Select);
    }
    SeveralPanel& several() { return *window->findChild<SeveralPanel*>(); }
    const SignalSpec& signal(const char* id) { return *session().bench().signal(id); }
};

TEST_F(Signals, AreFoundByNameTagDeviceAndUnit) {
    press("find-signal");
    QLineEdit* search = window->signalPanel().search();
    QTest::keyClicks(search, "press bar");
    EXPECT_EQ(listed(), (std::vector<std::string>{"inlet-pressure", "outlet-pressure", "pressure-rise"}));
    type(search, "N1");
    EXPECT_EQ(listed(), (std::vector<std::string>{"shaft-speed"}));
    search->clear();
    EXPECT_EQ(listed().size(), 24U);
}

TEST_F(Signals, OnlyThoseThatAreNotWellAreShownByOneKey) {
    SignalSpec s = signal("flow");
    s.limits.low = 1e6;
    // nothing is connected to the spare input, which is not well either
    session().edit("limit", withoutSignal(withSignal(session().bench(), s), "spare"));
    press("unwell");
    EXPECT_TRUE(waitFor([&] { return listed() == std::vector<std::string>{"flow"}; }));
    press("unwell");
    EXPECT_EQ(listed().size(), 23U);
}

TEST_F(Signals, ADeviceIsFoldedByItsArrow) {
    auto& list = window->signalList();
    QTest::mouseClick(list.viewport(), Qt::LeftButton, {}, QPoint(6, list.visualRect(rows().index(0)).center().y()));
    EXPECT_EQ(listed().size(), 7U) << "what is computed is left";
    EXPECT_EQ(rows().row(0).hidden, 17);
    list.setCurrentIndex(rows().index(0));
    QTest::keyClick(&list, Qt::Key_Right);
    EXPECT_EQ(listed().size(), 24U);
}

TEST_F(Signals, TheirOrderIsTheBenchs) {
    rows().move("vibration", "inlet-pressure");
    EXPECT_EQ(listed()[0], "vibration");
    EXPECT_EQ(session().bench().signals[0]->id, "vibration");
    rows().move("vibration", "efficiency");
    EXPECT_EQ(listed()[0], "vibration") << "not into another device";
    rows().move("vibration", "");
    EXPECT_EQ(listed()[16], "vibration") << "behind all of its device";
    press("undo");
    press("undo");
    EXPECT_EQ(listed()[0], "inlet-pressure");
}

TEST_F(Signals, ANameIsTypedWhereItStands) {
    EXPECT_TRUE(rows().setData(rows().index(1), "Suction", Qt::EditRole));
    EXPECT_EQ(signal("inlet-pressure").name, "Suction");
    EXPECT_FALSE(rows().setData(rows().index(1), "  ", Qt::EditRole));
}

TEST_F(Signals, SeveralAreChangedTogetherInOneStep) {
    selectAll({"inlet-pressure", "outlet-pressure"});
    press("several");
    type(field(several(), "Tag"), "P{n:7}");
    EXPECT_EQ(signal("inlet-pressure").tag, "P7");
    EXPECT_EQ(signal("outlet-pressure").tag, "P8");
    press("undo");
    EXPECT_EQ(signal("inlet-pressure").tag, "P1");
    type(field(several(), "High limit"), "3");
    EXPECT_EQ(signal("inlet-pressure").limits.high, 3);
    EXPECT_EQ(signal("outlet-pressure").limits.high, 3);
    type(field(several(), "Unit"), "kPa");
    EXPECT_EQ(signal("inlet-pressure").unit(), "kPa");
    EXPECT_EQ(signal("outlet-pressure").limits.high, 300) << "limits go with the unit";
    type(field(several(), "Unit"), "bar");
    EXPECT_EQ(signal("outlet-pressure").unit(), "bar");
    EXPECT_EQ(signal("outlet-pressure").chain.size(), 4U) << "the stage that converted is gone";
}

TEST_F(Signals, HowOftenTheyAreReadIsTheirDevicesAndSetForAllOfThem) {
    selectAll({"inlet-pressure", "outlet-pressure"});
    press("several");
    type(field(several(), "Rate in Hz"), "500");
    EXPECT_EQ(SettingsReader(session().bench().device("box")->settings).number("rate-hz", 1000, 0, 1e6), 500);
    type(field(several(), "Rate in Hz"), "-1");
    EXPECT_EQ(SettingsReader(session().bench().device("box")->settings).number("rate-hz", 1000, 0, 1e6), 500);
    press("undo");
    EXPECT_NE(SettingsReader(session().bench().device("box")->settings).number("rate-hz", 1000, 0, 1e6), 500);
}

TEST_F(Signals, AChainIsCopiedToOthersInTheirOwnRanges) {
    selectAll({"vibration", "spare", "tank-low"});
    press("several");
    QComboBox* chain = nullptr;
    for (QComboBox* b : several().findChildren<QComboBox*>())
        if (b->accessibleName() == "Chain of") chain = b;
    ASSERT_TRUE(chain);
    Q_EMIT chain->activated(chain->findText("that of Inlet pressure"));
    EXPECT_EQ(signal("spare").unit(), signal("inlet-pressure").unit());
    EXPECT_EQ(signal("spare").chain[0].number("high"), 10) << "its own range";
    EXPECT_TRUE(signal("tank-low").isState()) << "it does not suit a state";
}

TEST(Numbered, CountsInBracesOnly) {
    EXPECT_EQ(SeveralPanel::numbered("T{n}", 0), "T1");
    EXPECT_EQ(SeveralPanel::numbered("Room {n:10} ({n})", 2), "Room 12 (3)");
    EXPECT_EQ(SeveralPanel::numbered("Spare", 4), "Spare");
}

}  // namespace
}  // namespace cruscotto::signal_list_test

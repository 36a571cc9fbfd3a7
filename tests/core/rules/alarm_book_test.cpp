#include "core/rules/alarm_book.h"

#include <gtest/gtest.h>

namespace cruscotto {
namespace {

Instant moment(double s) {
    return Instant{} + seconds(s);
}

TEST(AlarmBook, GoesThroughTheStatesOfTheStandard) {
    AlarmBook book;
    book.raise("p", 1, "too much", moment(1));
    ASSERT_EQ(book.list(moment(1)).size(), 1U);
    EXPECT_EQ(book.list(moment(1))[0].state, AlarmState::unacknowledged);
    book.clear("p", moment(2));
    EXPECT_EQ(book.list(moment(2))[0].state, AlarmState::returnedUnacknowledged);
    book.raise("p", 1, "too much", moment(3));
    EXPECT_EQ(book.list(moment(3))[0].times, 2U) << "twice, and nobody has looked";
    EXPECT_TRUE(book.acknowledge("p", "A. Tester", "seen", moment(4)));
    EXPECT_FALSE(book.acknowledge("p", "A. Tester", "", moment(4)));
    EXPECT_EQ(book.list(moment(4))[0].state, AlarmState::acknowledged);
    EXPECT_EQ(book.list(moment(4))[0].comment, "seen");
    book.clear("p", moment(5));
    EXPECT_TRUE(book.list(moment(5)).empty()) << "it is over, and was seen";
    book.raise("p", 1, "too much", moment(6));
    book.clear("p", moment(7));
    EXPECT_TRUE(book.acknowledge("p", "", "", moment(8)));
    EXPECT_TRUE(book.list(moment(8)).empty());
}

TEST(AlarmBook, ListsTheMostUrgentFirstAndTellsTheFirstCause) {
    AlarmBook book;
    book.raise("late", 3, "late", moment(1.5));
    book.raise("pump", 1, "pump", moment(1.2));
    book.raise("first", 2, "first", moment(1));
    book.raise("alone", 1, "alone", moment(100));
    book.acknowledge("pump", "", "", moment(2));
    const auto all = book.list(moment(101));
    ASSERT_EQ(all.size(), 4U);
    EXPECT_EQ(all[0].rule, "alone");
    EXPECT_EQ(all[1].rule, "first");
    EXPECT_EQ(all[2].rule, "late");
    EXPECT_EQ(all[3].rule, "pump") << "it has been seen";
    EXPECT_TRUE(all[1].first);
    EXPECT_FALSE(all[0].first) << "nothing else came with it";
    EXPECT_FALSE(all[2].first);
}

TEST(AlarmBook, AShelvedOneComesBackByItself) {
    AlarmBook book;
    book.raise("p", 1, "p", moment(1));
    book.shelve("p", moment(60), "mara", "until the pump is back", moment(0));
    EXPECT_EQ(book.list(moment(30))[0].state, AlarmState::shelved);
    EXPECT_EQ(book.list(moment(61))[0].state, AlarmState::unacknowledged);
    const AlarmEvent told = book.takeEvents().back();
    EXPECT_EQ(told.what, AlarmEvent::What::shelved);
    EXPECT_EQ(told.person, "mara");
    EXPECT_TRUE(book.list(moment(30))[0].person.empty()) << "nobody has acknowledged it";
}

TEST(AlarmBook, WhatARunSaysOfAnEventIsReadBack) {
    AlarmEvent event{{}, AlarmEvent::What::acknowledged, {}, "Flow: low, priority 7, by far", 3, "mara", "seen: twice"};
    EXPECT_EQ(alarmEventText(event), "acknowledged: Flow: low, priority 7, by far, priority 3, by mara: seen: twice");
    EXPECT_EQ(alarmEventFrom(alarmEventText(event)), event);
    event = {{}, AlarmEvent::What::returned, {}, "x", 1, {}, {}};
    EXPECT_EQ(alarmEventText(event), "returned: x, priority 1");
    EXPECT_EQ(alarmEventFrom(alarmEventText(event)), event);
    for (const char* other :
         {"", "raised", "raised: x", "raised: x, priority 9", "risen: x, priority 1", ": , priority "})
        EXPECT_FALSE(alarmEventFrom(other)) << other;
}

}  // namespace
}  // namespace cruscotto

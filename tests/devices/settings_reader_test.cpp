#include "devices/settings_reader.h"

#include <gtest/gtest.h>

namespace cruscotto::settings_reader_test {
namespace {

using Pairs = std::map<std::string, std::string>;

TEST(SettingsReader, WhatOthersCallThingsCanStandForANameAmongPairs) {
    EXPECT_EQ(pairName("spi0 CS0=a\n"), "spi0-CS0-a-");
    EXPECT_EQ(pairName("guard-door"), "guard-door");
    EXPECT_EQ(pairName(""), "");
}

TEST(SettingsReader, GivesWhatIsThereAndTheDefaultForWhatIsNot) {
    SettingsReader s(R"({"name": "left", "rate": 2.5, "unit": 7, "bits": 32, "parity": "odd", "loop": true,
                         "points": {"a": "coil 0", "b": "coil 1"}})");
    EXPECT_EQ(s.word("name"), "left");
    EXPECT_EQ(s.word("other", "otherwise"), "otherwise");
    EXPECT_EQ(s.number("rate", 1, 0, 10), 2.5);
    EXPECT_EQ(s.number("speed", 1, 0, 10), 1);
    EXPECT_EQ(s.whole("unit", 1, 0, 255), 7);
    EXPECT_EQ(s.oneOf("bits", 16, {16, 32}), 32);
    EXPECT_EQ(s.choice("parity", 0, {"none", "odd", "even"}), 1U);
    EXPECT_EQ(s.choice("end", 1, {"line feed", "carriage return"}), 1U);
    EXPECT_TRUE(s.flag("loop"));
    EXPECT_FALSE(s.flag("listen-only"));
    EXPECT_EQ(s.pairs("points", 2), (Pairs{{"a", "coil 0"}, {"b", "coil 1"}}));
    EXPECT_TRUE(s.pairs("slots", 2).empty());
    EXPECT_TRUE(s.result());
}

TEST(SettingsReader, NamesWhatIsWrongAndHasTheDefaultThere) {
    const char* settings = R"({"name": 5, "rate": 11, "text": "11", "unit": 1.5, "bits": 24, "parity": "perhaps",
                               "points": {"a": "coil 0", "b": 1}, "many": {"a": "1", "b": "2"}, "list": []})";
    const auto said = [&](auto read) -> std::string {
        SettingsReader s(settings);
        read(s);
        return s.result() ? "nothing" : s.result().error().english();
    };
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.word("name", "otherwise"), "otherwise"); }),
              "\"name\" must be a text in quotes.");
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.number("rate", 1, 1e-7, 1e7), 11); }), "nothing");
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.number("rate", 1, 0.001, 10), 1); }), "\"rate\" must be 0.001 to 10.");
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.number("text", 1, 0, 86400), 1); }), "\"text\" must be 0 to 86400.");
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.whole("unit", 9, 0, 255), 9); }),
              "\"unit\" must be a whole number from 0 to 255.");
    EXPECT_EQ(said([](auto& s) { EXPECT_EQ(s.oneOf("bits", 16, {16, 32}), 16); }), "\"bits\" must be one of: 16, 32.");
    EXPECT_EQ(said([](auto& s) {
                  EXPECT_EQ(s.choice("parity", 2, {"none", "odd", "even"}), 2U);
              }),
              "\"parity\" must be one of: none, odd, even.");
    EXPECT_EQ(said([](auto& s) {
                  EXPECT_EQ(s.pairs("points", 9), (Pairs{{"a", "coil 0"}}));
              }),
              "Each of \"points\" needs a name, and a text in quotes.");
    EXPECT_EQ(said([](auto& s) { EXPECT_TRUE(s.pairs("many", 1).empty()); }),
              "\"many\" must be an object in braces: a name and a text for each, at most 1 of them.");
    EXPECT_EQ(said([](auto& s) { EXPECT_TRUE(s.pairs("list", 1).empty()); }),
              "\"list\" must be an object in braces: a name and a text for each, at most 1 of them.");
}

TEST(SettingsReader, KeepsTheFirstErrorAndTakesAnythingForSettings) {
    SettingsReader twice(R"({"a": "x", "b": "y"})");
    (void)twice.number("b", 0, 0, 1);
    (void)twice.number("a", 0, 0, 1);
    EXPECT_EQ(twice.result().error().english(), "\"b\" must be 0 to 1.");
    for (const char* text : {"[]", "7", "nonsense", "null", "{\"open\":"}) {
        SettingsReader s(text);
        EXPECT_EQ(s.number("a", 3, 0, 9), 3) << text;
        EXPECT_FALSE(s.result()) << text;
    }
    EXPECT_TRUE(SettingsReader("").result());
}

}  // namespace
}  // namespace cruscotto::settings_reader_test

#include "devices/wire.h"

#include <gtest/gtest.h>

#include <thread>

namespace cruscotto::wire_test {
namespace {

WireMessage message(const std::string& bytes, Instant at = {}) {
    WireMessage m;
    m.at = at;
    m.bytes = bytes;
    return m;
}

TEST(WireTap, HoldsNothingWhileNobodyLooks) {
    WireTap tap;
    EXPECT_FALSE(tap.isOpen());
    tap.add(message("early"));
    EXPECT_TRUE(tap.since(0).empty());
    tap.open();
    tap.open();
    tap.add(message("seen"));
    tap.close();
    EXPECT_TRUE(tap.isOpen()) << "the other viewer still looks";
    ASSERT_EQ(tap.since(0).size(), 1U);
    EXPECT_EQ(tap.since(0)[0]->bytes, "seen");
    tap.close();
    EXPECT_TRUE(tap.since(0).empty());
}

TEST(WireTap, CostsBoundedMemoryAndKeepsTheNewest) {
    WireTap tap;
    tap.open();
    for (std::size_t i = 0; i < WireTap::mostMessages + 10; ++i) tap.add(message(std::to_string(i)));
    auto held = tap.since(0);
    ASSERT_EQ(held.size(), WireTap::mostMessages);
    EXPECT_EQ(held.front()->bytes, "10");
    EXPECT_EQ(held.back()->number, WireTap::mostMessages + 9);
    EXPECT_EQ(tap.since(held.back()->number).size(), 1U);
    EXPECT_EQ(tap.since(0, 3).front()->number, held.back()->number - 2) << "the newest of too many";
    EXPECT_TRUE(tap.since(held.back()->number + 5).empty());

    for (int i = 0; i < 40; ++i) tap.add(message(std::string(1 << 20, 'x')));
    std::size_t bytes = 0;
    for (const auto& m : tap.since(0)) bytes += m->bytes.size();
    EXPECT_LE(bytes, WireTap::mostBytes);
    EXPECT_GE(bytes, WireTap::mostBytes - (1 << 20));
}

TEST(WireTap, OneWritesWhileOthersLook) {
    WireTap tap;
    tap.open();
    std::jthread writer([&](const std::stop_token& stop) {
        while (!stop.stop_requested()) tap.add(message("x"));
    });
    std::uint64_t next = 0;
    while (next < 1000)
        for (const auto& m : tap.since(next)) {
            ASSERT_GE(m->number, next);
            next = m->number + 1;
        }
}

TEST(WireLines, EveryByteIsInAPieceAndLineEndsEndOne) {
    struct Case {
        std::vector<std::string> fed;
        std::vector<std::pair<std::string, bool>> pieces;  // whole
        const char* rest;
    };
    const std::string longLine(300, 'z');
    for (const Case& c :
         {Case{{"ab\n12 3\n4"}, {{"ab\n", false}, {"12 3\n", true}}, "4"},
          Case{{"a\r\nb\r\n"}, {{"a\r\n", false}, {"b\r\n", true}}, ""},
          Case{{"a\r", "\nb\r", "c"}, {{"a\r\n", false}, {"b\r", true}}, "c"},
          Case{{"\n\n"}, {{"\n", false}, {"\n", true}}, ""},
          Case{{"\n" + longLine + "\n5\n"},
               {{"\n", false}, {longLine.substr(0, 256), false}, {longLine.substr(256) + "\n", false}, {"5\n", true}},
               ""}}) {
        WireLines lines;
        std::vector<WireLines::Piece> pieces;
        for (const std::string& bytes : c.fed) lines.feed(bytes, {}, 0, pieces);
        std::vector<std::pair<std::string, bool>> got;
        for (const auto& p : pieces) got.emplace_back(p.bytes, p.whole);
        EXPECT_EQ(got, c.pieces);
        pieces.clear();
        lines.pause(pieces);
        EXPECT_EQ(pieces.empty() ? "" : pieces[0].bytes, c.rest);
    }
}

TEST(WireLines, APauseBetweenTwoLinesCutsNeither) {
    WireLines lines;
    std::vector<WireLines::Piece> pieces;
    lines.feed("1\n", {}, 0, pieces);
    lines.pause(pieces);
    lines.feed("2\n", {}, 0, pieces);
    ASSERT_EQ(pieces.size(), 2U);
    EXPECT_TRUE(pieces[1].whole);
}

TEST(WireLines, APieceIsAsOldAsItsFirstByte) {
    WireLines lines;
    std::vector<WireLines::Piece> pieces;
    lines.feed("12\n34\n", {1'000'000}, 1000, pieces);
    ASSERT_EQ(pieces.size(), 2U);
    EXPECT_EQ(pieces[0].at.ns, 1'000'000 - 6000);
    EXPECT_EQ(pieces[1].at.ns, 1'000'000 - 3000);
}

TEST(WireLines, ARandomStreamIsTheSumOfItsPieces) {
    std::uint32_t random = 7;
    const auto next = [&] { return random = random * 1664525 + 1013904223; };
    std::string all, cut;
    WireLines lines;
    std::vector<WireLines::Piece> pieces;
    for (int i = 0; i < 2000; ++i) {
        std::string some;
        for (std::uint32_t n = next() >> 27; n > 0; --n) some += "\r\n12ab"[(next() >> 16) % 6];
        all += some;
        lines.feed(some, {}, 0, pieces);
        if (next() >> 28 == 0) lines.pause(pieces);
    }
    lines.pause(pieces);
    for (const auto& p : pieces) cut += p.bytes;
    EXPECT_EQ(cut, all);
}

TEST(WireCapture, IsReadAsItWasWritten) {
    std::vector<WireMessagePtr> messages;
    WireMessage m = message(std::string("\x00\xff 3\r\n", 6), {1'234'567'000});
    messages.push_back(std::make_shared<const WireMessage>(m));
    m.way = WireMessage::Way::sent;
    m.at = {2'000'000'000};
    messages.push_back(std::make_shared<const WireMessage>(m));
    const std::string text = captureText(messages);
    EXPECT_EQ(text, "# wire capture 1\n1.234567 < 00 ff 20 33 0d 0a\n2.000000 > 00 ff 20 33 0d 0a\n");
    const auto read = readCapture(text);
    ASSERT_TRUE(read.ok());
    ASSERT_EQ(read.value().size(), 2U);
    EXPECT_EQ(read.value()[0].bytes, m.bytes);
    EXPECT_EQ(read.value()[0].at.ns, 1'234'567'000);
    EXPECT_EQ(read.value()[1].way, WireMessage::Way::sent);
}

TEST(WireCapture, WhatIsNoneIsRefusedWithItsLine) {
    EXPECT_FALSE(readCapture("").ok());
    EXPECT_FALSE(readCapture("hello\n").ok());
    for (const char* bad :
         {"1.0 < 0", "1.0 < zz", "x < 00", "1.0 00", "1.0 =00", "nan < 00", "1e300 < 00", "1.0 <00"}) {
        const auto read = readCapture(std::string("# wire capture 1\n0.5 < 41\n") + bad + "\n");
        ASSERT_FALSE(read.ok()) << bad;
        EXPECT_NE(read.error().english().find("Line 3"), std::string::npos) << read.error().english();
    }
}

TEST(WireBytes, AreShownAsHexAndAsText) {
    EXPECT_EQ(hexBytes(std::string("\x1f\x8b A", 4)), "1f 8b 20 41");
    EXPECT_EQ(hexBytes(""), "");
    EXPECT_EQ(printableBytes("A\n~\x7f"), "A·~·");
}

}  // namespace
}  // namespace cruscotto::wire_test

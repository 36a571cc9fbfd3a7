// Bench files that ask for more than they are worth: what they cost is in proportion to their size, and what is
// refused is said by the reader, before anything is measured.
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/bench/bench.h"
#include "support.h"

namespace cruscotto {
namespace {

using Json = nlohmann::ordered_json;

Json oddSignal(int i) {
    return Json{{"id", "s" + std::to_string(i)}, {"name", "Signal"},      {"device", "box"}, {"terminal", "AI0"},
                {"kind", "analog-input"},        {"chain", Json::array()}};
}
Json bench() {
    return Json{{"format", "cruscotto-bench"},
                {"version", 1},
                {"name", "Large"},
                {"devices", Json::array({Json{{"id", "box"}, {"name", "Box"}, {"kind", "sim-io-box"}}})},
                {"signals", Json::array({oddSignal(0)})},
                {"pages", Json::array()}};
}
Json mean(int samples) {
    return Json{{"stage", "moving-mean"}, {"samples", samples}};
}
std::string allProblems(const Json& json) {
    std::string out;
    for (const Problem& p : readBench(jsonText(json)).problems) out += p.english() + "\n";
    return out;
}

TEST(HostileBench, MeansHoldSoManySamplesTogetherAndNoMore) {
    Json b = bench();
    b["signals"] = Json::array();
    for (int i = 0; i < 16; ++i) {
        b["signals"].push_back(oddSignal(i));
        b["signals"].back()["chain"].push_back(mean(1'000'000));
    }
    EXPECT_EQ(allProblems(b), "");
    for (int i = 16; i < 200; ++i) {
        b["signals"].push_back(oddSignal(i));
        b["signals"].back()["chain"].push_back(mean(1'000'000));
    }
    EXPECT_EQ(allProblems(b),
              "line 1, /signals/16/chain: The moving means up to here hold more than 16777216 samples together, which "
              "is all that a bench may. Make them shorter.\n");
}

TEST(HostileBench, AChainHasSoManyStages) {
    Json b = bench();
    for (int i = 0; i < 51; ++i) b["signals"][0]["chain"].push_back(mean(1));
    EXPECT_EQ(allProblems(b), "line 1, /signals/0/chain: There is room for 50 here; these are 51.\n");
}

TEST(HostileBench, TilesArePlacedUpToALimitOverAllPages) {
    Json b = bench();
    const auto page = [](int id, int tiles) {
        Json p{{"id", "p" + std::to_string(id)}, {"name", "Page"}, {"tiles", Json::array()}};
        for (int i = 0; i < tiles; ++i)
            p["tiles"].push_back(
                Json{{"id", "t" + std::to_string(i)}, {"w", 1}, {"h", 1}, {"signals", Json::array({"s0"})}});
        return p;
    };
    b["pages"] = Json::array({page(0, 600), page(1, 400)});
    EXPECT_EQ(allProblems(b), "");
    b["pages"].push_back(page(2, 1));
    EXPECT_EQ(allProblems(b), "line 1, /pages/2/tiles: A bench can hold 1000 tiles; up to here there are more.\n");
    b["pages"] = Json::array({page(0, 20'000)});
    EXPECT_EQ(allProblems(b), "line 1, /pages/0/tiles: There is room for 1000 here; these are 20000.\n");
}

TEST(HostileBench, SignalsAndNamesHaveTheirLimits) {
    Json b = bench();
    for (int i = 1; i < 10'001; ++i) b["signals"].push_back(oddSignal(i));
    EXPECT_EQ(allProblems(b), "line 1, /signals: There is room for 10000 here; these are 10001.\n");
    b = bench();
    b["signals"][0]["name"] = std::string(1001, 'n');
    EXPECT_EQ(allProblems(b), "line 1, /signals/0/name: This is longer than 1000 characters. Shorten it.\n");
    b["signals"][0]["name"] = std::string(20'000'000, 'n');
    EXPECT_EQ(allProblems(b), "The file is larger than 16 MiB; a bench never is. Is it a recording?\n");
    EXPECT_FALSE(signalFromJson(jsonText(b["signals"][0])).ok()) << "nor in a run, where it stands alone";
}

TEST(HostileBench, ManyUnknownKeysAreKeptInTheirOrder) {
    Json b = bench();
    std::string text = jsonText(b);
    text.pop_back();
    constexpr int many = 100'000;
    for (int i = 0; i < many; ++i) text += fmt::format(R"(,"key-{}":{})", (i * 7919) % many, i);
    const BenchReading reading = readBench(text + "}");
    ASSERT_TRUE(reading.bench);
    const Json again = parseOrderedJson(writeBench(*reading.bench));
    std::vector<std::string> order;
    for (const auto& [key, v] : again.items())
        if (key.starts_with("key-")) order.push_back(key);
    ASSERT_EQ(order.size(), std::size_t{many});
    for (int i = 0; i < many; ++i)
        ASSERT_EQ(order[static_cast<std::size_t>(i)], fmt::format("key-{}", (i * 7919) % many));
}

TEST(HostileBench, ProblemsWithoutEndAreToldUpToALimitWithTheirLines) {
    std::string text = "{\"format\":\"cruscotto-bench\",\"version\":1,\"name\":\"n\",\"signals\":[\n";
    for (int i = 0; i < 200'000; ++i) text += "0,\n";
    const BenchReading reading = readBench(text + "0]}");
    ASSERT_FALSE(reading.bench);
    ASSERT_EQ(reading.problems.size(), 100U);
    EXPECT_EQ(reading.problems[0].line, 1) << reading.problems[0].english();
    EXPECT_EQ(reading.problems[1].where, "/signals/0");
    EXPECT_EQ(reading.problems[1].line, 2);
    EXPECT_EQ(reading.problems.back().line, 2 + std::stoi(reading.problems.back().where.substr(9)));
}

TEST(OrderedJson, ReadsAsTheLibraryDoes) {
    for (const char* text : {R"({"b":1,"a":[true,null,-2.5,"x",{"c":{}}],"d":18446744073709551615})", "[]", "7",
                             "\"\\u00e4\"", "[[[1],2],3]", R"({"a":{"b":[1,2]},"c":3})"})
        EXPECT_EQ(parseOrderedJson(text), Json::parse(text)) << text;
    EXPECT_EQ(parseOrderedJson(R"({"a":1,"b":2,"a":{"c":3},"b":4})").dump(), R"({"a":{"c":3},"b":4})")
        << "of members of one name the last one counts";
    for (const char* text : {"", "{", "[1,]", "{\"a\"}", "nul", "1 2", "\"\xff\""}) {
        JsonFault fault;
        EXPECT_TRUE(parseOrderedJson(text, &fault).is_discarded()) << text;
        EXPECT_TRUE(fault.byte) << text;
    }
    JsonFault fault;
    EXPECT_TRUE(parseOrderedJson("[1e999]", &fault).is_discarded());
    EXPECT_FALSE(fault.byte) << "it is JSON, but no double holds it";
    EXPECT_TRUE(parseOrderedJson(std::string(201, '[') + std::string(201, ']')).is_discarded());
    EXPECT_FALSE(parseOrderedJson(std::string(200, '[') + std::string(200, ']')).is_discarded());
}

}  // namespace
}  // namespace cruscotto

#include "devices/serial/line_format.h"

#include <cmath>
#include <map>
#include <random>

#include "devices/serial/serial_settings.h"
#include "support.h"

namespace cruscotto::line_format_test {
namespace {

using Values = std::vector<FieldValue>;

LineFormat delimited(std::size_t count = 0) {
    LineFormat f;
    f.fieldCount = count;
    return f;
}
LineFormat labelled() {
    LineFormat f;
    f.kind = LineFormat::Kind::labelled;
    return f;
}
LineFormat hex() {
    LineFormat f;
    f.kind = LineFormat::Kind::fixed;
    f.header = "H";
    f.fields = {{"weight", 0, 4, 16, false}, {"brood", 4, 4, 16, true}, {"humidity", 8, 2, 16, false}};
    return f;
}

TEST(ParseLine, DelimitedByAnyMixOfSeparators) {
    Values out;
    for (const char* line :
         {"31.42 34.8 61", "31.42,34.8,61", "31.42\t34.8;61", "  31.42 ,  34.8 ; 61 ", "+31.42;3.48e1;61"}) {
        ASSERT_TRUE(parseLine(delimited(3), line, out).ok()) << line;
        EXPECT_EQ(out, (Values{{"1", 31.42}, {"2", 34.8}, {"3", 61}})) << line;
    }
    ASSERT_TRUE(parseLine(delimited(), "-7", out).ok());
    EXPECT_EQ(out, (Values{{"1", -7}}));
}

TEST(ParseLine, WhatDoesNotFitIsRefusedWithTheReason) {
    struct Case {
        LineFormat format;
        const char* line;
        const char* says;
    };
    LineFormat withHeader = delimited();
    withHeader.header = "$";
    for (const Case& c :
         {Case{delimited(3), "1 2", "2 fields instead of 3"}, Case{delimited(), "1 two", "\"two\" is not a number"},
          Case{delimited(), "   ", "no number"}, Case{delimited(), "1.2.3", "not a number"},
          Case{delimited(), "1e999", "not a number"}, Case{labelled(), "{\"T\": 1", "JSON object"},
          Case{labelled(), "{\"words\": \"none\"}", "no number"}, Case{delimited(), "12q", "not a number"},
          Case{delimited(), "0x12", "not a number"}, Case{withHeader, "1 2", "does not begin"},
          Case{labelled(), "weight", "pair up"}, Case{labelled(), "31.4 weight", "not a label"},
          Case{labelled(), "T=warm", "\"warm\" is not a number"}, Case{labelled(), "T=1 T=2", "twice"},
          Case{hex(), "H0C46", "instead of 10"}, Case{hex(), "H0C46FFFF3D99", "instead of 10"},
          Case{hex(), "H0C4ZFFFF3D", "not hexadecimal"}, Case{hex(), "X0C46FFFF3D", "does not begin"}}) {
        Values out{{"left over", 1}};
        const auto parsed = parseLine(c.format, c.line, out);
        ASSERT_FALSE(parsed.ok()) << c.line;
        EXPECT_NE(parsed.error().english().find(c.says), std::string::npos)
            << c.line << ": " << parsed.error().english();
        EXPECT_TRUE(out.empty()) << "half a line is no line";
    }
}

TEST(ParseLine, LabelsAndNumbersSeveralALine) {
    Values out;
    ASSERT_TRUE(parseLine(labelled(), "weight 31.42", out).ok());
    EXPECT_EQ(out, (Values{{"weight", 31.42}}));
    ASSERT_TRUE(parseLine(labelled(), "T=34.8, rh: 61;bees 12", out).ok());
    EXPECT_EQ(out, (Values{{"T", 34.8}, {"rh", 61}, {"bees", 12}}));
}

TEST(ParseLine, AnEmptyFieldKeepsItsPlaceWhereSeparatorsAreNoBlanks) {
    Values out;
    ASSERT_TRUE(parseLine(delimited(), "23.5,,1013", out).ok());
    EXPECT_EQ(out, (Values{{"1", 23.5}, {"3", 1013}}));
    ASSERT_TRUE(parseLine(delimited(3), ";  ; 7", out).ok());
    EXPECT_EQ(out, (Values{{"3", 7}}));
    ASSERT_TRUE(parseLine(delimited(3), "1;2;", out).ok()) << "the third is empty";
    EXPECT_EQ(out, (Values{{"1", 1}, {"2", 2}}));
    ASSERT_TRUE(parseLine(delimited(2), "1;2;", out).ok()) << "and here it is but the end";
    ASSERT_TRUE(parseLine(labelled(), "T=,rh=61", out).ok());
    EXPECT_EQ(out, (Values{{"rh", 61}}));
    EXPECT_FALSE(parseLine(delimited(), ",,", out).ok());
}

TEST(ParseLine, WhatStandsForNoNumberSpoilsItsOwnFieldOnly) {
    const double no = std::nan("");
    Values out;
    for (const char* word : {"nan", "NaN", "inf", "-inf", "-", "--", "ovf", "OVF", "OL", "n/a", "null"}) {
        ASSERT_TRUE(parseLine(delimited(3), "23.5," + std::string(word) + ",1013", out).ok()) << word;
        EXPECT_EQ(out, (Values{{"1", 23.5}, {"2", no}, {"3", 1013}})) << word;
        ASSERT_TRUE(parseLine(labelled(), "T " + std::string(word) + " rh 61", out).ok()) << word;
        EXPECT_EQ(out, (Values{{"T", no}, {"rh", 61}})) << word;
    }
}

TEST(ParseLine, UnitsBehindNumbersAreReadOver) {
    Values out;
    ASSERT_TRUE(parseLine(delimited(), "23.5C,40%,1013hPa, 3.3V,12.5°C", out).ok());
    EXPECT_EQ(out, (Values{{"1", 23.5}, {"2", 40}, {"3", 1013}, {"4", 3.3}, {"5", 12.5}}));
    ASSERT_TRUE(parseLine(labelled(), "T: 23.5 C, rh: 61 %", out).ok());
    EXPECT_EQ(out, (Values{{"T", 23.5}, {"rh", 61}}));
    ASSERT_TRUE(parseLine(labelled(), "T 23.5 C 5", out).ok()) << "here C is a label";
    EXPECT_EQ(out, (Values{{"T", 23.5}, {"C", 5}}));
    ASSERT_TRUE(parseLine(labelled(), "p=1013hPa", out).ok());
    EXPECT_EQ(out, (Values{{"p", 1013}}));
}

TEST(ParseLine, ACommaIsADecimalPointWhereItSeparatesNothing) {
    LineFormat f = delimited();
    f.separators = " ;";
    Values out;
    ASSERT_TRUE(parseLine(f, "23,5; 61,25", out).ok());
    EXPECT_EQ(out, (Values{{"1", 23.5}, {"2", 61.25}}));
    EXPECT_FALSE(parseLine(f, "1,234,5", out).ok());
}

TEST(ParseLine, OneJsonObjectALine) {
    Values out;
    ASSERT_TRUE(
        parseLine(labelled(),
                  R"({"T": 23.5, "door": true, "air": {"rh": 61, "p": [1013, 1014]}, "name": "hive", "x": null})", out)
            .ok());
    std::map<std::string, double> byName;
    for (const FieldValue& f : out) byName[f.terminal] = f.value;
    EXPECT_EQ(byName["T"], 23.5);
    EXPECT_EQ(byName["door"], 1);
    EXPECT_EQ(byName["air.rh"], 61);
    EXPECT_EQ(byName["air.p.1"], 1014);
    EXPECT_TRUE(std::isnan(byName["x"]));
    EXPECT_EQ(byName.size(), 6U);
    EXPECT_EQ(likelyKind({R"({"T": 23.5})", R"({"T": 23.6})"}), LineFormat::Kind::labelled);
    EXPECT_FALSE(parseLine(labelled(), "{\"a\":" + std::string(1500, '[') + std::string(1500, ']') + "}", out).ok());
}

TEST(ParseLine, FixedHexadecimalFieldsWithSign) {
    Values out;
    ASSERT_TRUE(parseLine(hex(), "H0C46FFFE3D", out).ok());
    EXPECT_EQ(out, (Values{{"weight", 3142}, {"brood", -2}, {"humidity", 61}}));
    LineFormat decimal;
    decimal.kind = LineFormat::Kind::fixed;
    decimal.fields = {{"a", 0, 6, 10, false}, {"b", 6, 4, 10, false}};
    ASSERT_TRUE(parseLine(decimal, " 31.42 -15", out).ok());
    EXPECT_EQ(out, (Values{{"a", 31.42}, {"b", -15}}));
}

std::vector<std::string> texts(const std::vector<LineSplitter::Line>& lines) {
    std::vector<std::string> out;
    for (const auto& l : lines) out.push_back(l.text + (l.tooLong ? "(too long)" : ""));
    return out;
}

TEST(LineSplitter, TheTailOfALineWhoseBeginningWasMissedIsNoLine) {
    LineSplitter s;
    std::vector<LineSplitter::Line> lines;
    s.feed("1.42 34\r\n31.5 34\r\n", lines);
    EXPECT_EQ(texts(lines), (std::vector<std::string>{"31.5 34"}));
    s.reset();
    lines.clear();
    s.feed("9 9\n", lines);
    EXPECT_TRUE(lines.empty());
}

TEST(LineSplitter, AnyLineEndAndAnyCutGiveTheSameLines) {
    const std::string stream = "x\r\na 1\nb 2\r\nc 3\rd 4\n\n\ne 5\r\n";
    const std::vector<std::string> expected{"a 1", "b 2", "c 3", "d 4", "e 5"};
    std::mt19937 random(1);
    for (int round = 0; round < 300; ++round) {
        LineSplitter s;
        std::vector<LineSplitter::Line> lines;
        for (std::size_t i = 0; i < stream.size();) {
            const std::size_t n = std::min<std::size_t>(1 + random() % 5, stream.size() - i);
            s.feed(std::string_view(stream).substr(i, n), lines);
            i += n;
        }
        ASSERT_EQ(texts(lines), expected);
    }
}

TEST(LineSplitter, AnEndlessLineCostsBoundedMemoryAndEnds) {
    LineSplitter s;
    std::vector<LineSplitter::Line> lines;
    s.feed("\n", lines);
    for (int i = 0; i < 1000; ++i) s.feed(std::string(1000, 'x'), lines);
    EXPECT_TRUE(lines.empty());
    s.feed("\n1 2\n", lines);
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_TRUE(lines[0].tooLong);
    EXPECT_EQ(lines[0].text.size(), LineSplitter::longestLine);
    EXPECT_EQ(lines[1].text, "1 2");
}

TEST(LineSplitter, TellsHowManyBytesCameBehindALine) {
    LineSplitter s;
    std::vector<LineSplitter::Line> lines;
    s.feed("\nab\ncd\ne", lines);
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[0].bytesBehind, 4U);
    EXPECT_EQ(lines[1].bytesBehind, 1U);
}

TEST(ParseLine, RandomBytesNeverCrashIt) {
    std::mt19937 random(9);
    Values out;
    for (int i = 0; i < 20'000; ++i) {
        std::string line(random() % 40, ' ');
        for (char& c : line) c = static_cast<char>(random() % 5 ? "0123456789.-eE=: ,HxT"[random() % 21] : random());
        for (const LineFormat& f : {delimited(), labelled(), hex()})
            if (parseLine(f, line, out)) {
                for (const FieldValue& v : out) EXPECT_FALSE(std::isinf(v.value));
            }
    }
}

TEST(SerialSettings, AreCheckedWithASentence) {
    EXPECT_TRUE(
        serialLineSettings(R"({"port":"/dev/ttyS0","baud":250000,"data-bits":7,"parity":"even","stop-bits":2})").ok());
    for (const auto& [json, says] :
         {std::pair(R"({})", "\"port\" is missing"), std::pair(R"({"port":"x","baud":-1})", "\"baud\""),
          std::pair(R"({"port":"x","baud":9600.5})", "\"baud\""),
          std::pair(R"({"port":"x","data-bits":9})", "\"data-bits\""),
          std::pair(R"({"port":"x","parity":"mark"})", "\"parity\""),
          std::pair(R"({"port":"x","stop-bits":3})", "\"stop-bits\""),
          std::pair(R"({"port":"x","lines":"binary"})", "one of: delimited, labelled, fixed"),
          std::pair(R"({"port":"x","lines":"fixed"})", "\"fields\""),
          std::pair(R"({"port":"x","lines":"fixed","fields":[{"name":"a","start":0,"width":20,"base":16}]})", "width"),
          std::pair(R"([1])", "object"), std::pair(R"({"port":"x","silence-s":0})", "\"silence-s\"")}) {
        const auto settings = serialLineSettings(json);
        ASSERT_FALSE(settings.ok()) << json;
        EXPECT_NE(settings.error().english().find(says), std::string::npos) << settings.error().english();
    }
    EXPECT_EQ(serialLineSettings(R"({"port":"x","parity":"odd"})").value().line.bitsPerByte(), 11);
}

TEST(LikelyKind, IsWhatAtLeastHalfOfTheLinesFit) {
    using Kind = LineFormat::Kind;
    EXPECT_EQ(likelyKind({"1 2 3", "4;5;6"}), Kind::delimited);
    EXPECT_EQ(likelyKind({"weight 31.4 temp=5", "weight 31.5 temp=6", "hello"}), Kind::labelled);
    EXPECT_EQ(likelyKind({"hello", "world", "1"}), std::nullopt);
    EXPECT_EQ(likelyKind({}), std::nullopt);
}

}  // namespace
}  // namespace cruscotto::line_format_test

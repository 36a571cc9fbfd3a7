#include "core/evidence/evidence_round.h"

#include <gtest/gtest.h>

#include <map>

namespace cruscotto {
namespace {

/// How often each column was looked at within some seconds of blocks, and the most with one block.
struct Looked {
    std::map<std::size_t, int> times;
    std::size_t most = 0;
    double longestRound = 0;
    Looked(std::size_t columns, Duration block, Duration over, bool known = true) {
        EvidenceRound round(milliseconds(1000));
        Instant began;
        for (Instant end = Instant{} + block; end <= Instant{} + over; end = end + block) {
            const auto portion = round.next(columns, end, known ? block : Duration{});
            most = std::max(most, portion.to - portion.from);
            if (portion.from == 0 && portion.to > 0) began = end;
            if (portion.to == columns) longestRound = std::max(longestRound, (end - began).seconds());
            for (std::size_t i = portion.from; i < portion.to; ++i) ++times[i];
        }
    }
};

TEST(EvidenceRound, EachColumnIsLookedAtOnceARoundAFewWithEachBlock) {
    for (const std::size_t columns : {1U, 7U, 100U, 1000U})
        for (const int ms : {2, 5, 50, 200}) {
            const Looked looked(columns, milliseconds(ms), milliseconds(10'000));
            ASSERT_EQ(looked.times.size(), columns);
            for (const auto& [column, times] : looked.times) {
                EXPECT_GE(times, 9) << column << " of " << columns << ", blocks of " << ms << " ms";
                EXPECT_LE(times, 10);
            }
            const double fair = 2.0 * ms / 1000 * static_cast<double>(columns);
            EXPECT_LE(static_cast<double>(looked.most), fair + 1) << columns << " columns, blocks of " << ms << " ms";
            EXPECT_LE(looked.longestRound, 0.5);
        }
}

TEST(EvidenceRound, SlowBlocksAndThoseOfUnknownLengthAreLookedAtWhole) {
    const Looked slow(10, milliseconds(3000), milliseconds(30'000));
    EXPECT_EQ(slow.times.at(9), 10) << "with each block";
    EXPECT_EQ(slow.most, 10U);
    const Looked unknown(10, milliseconds(100), milliseconds(10'000), false);
    EXPECT_EQ(unknown.most, 10U);
    EXPECT_EQ(unknown.times.at(0), 10);
}

TEST(EvidenceRound, ColumnsThatGoMeanwhileEndTheRound) {
    EvidenceRound round(milliseconds(1000));
    EXPECT_EQ(round.next(100, Instant{} + milliseconds(10), milliseconds(10)).to, 2U);
    const auto fewer = round.next(1, Instant{} + milliseconds(20), milliseconds(10));
    EXPECT_EQ(fewer.from, fewer.to);
    EXPECT_EQ(round.next(1, Instant{} + milliseconds(1010), milliseconds(10)).to, 1U);
}

}  // namespace
}  // namespace cruscotto

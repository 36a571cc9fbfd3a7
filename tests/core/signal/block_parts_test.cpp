// A part of a block, and the memory that rings are made of.
#include <algorithm>

#include "core/base/zeroed_memory.h"
#include "core/signal/block.h"
#include "support.h"

namespace cruscotto {
namespace {

TEST(Quality, IsOrderedByHowBadItIsApartFromItsNumber) {
    const Quality order[]{Quality::good,       Quality::suspect, Quality::outOfRange, Quality::clipped,
                          Quality::openSensor, Quality::stale,   Quality::gap};
    for (std::size_t i = 1; i < std::size(order); ++i) {
        EXPECT_GT(severity(order[i]), severity(order[i - 1])) << qualityWord(order[i]);
        EXPECT_EQ(worse(order[i], order[i - 1]), order[i]);
        EXPECT_EQ(qualityFromNumber(static_cast<int>(order[i])), order[i]);
    }
    for (const std::int64_t number : {std::int64_t{-1}, std::int64_t{7}, std::int64_t{255}, std::int64_t{1} << 40})
        EXPECT_EQ(qualityFromNumber(number), Quality::suspect) << "of a later version";
}

TEST(BlockPart, HasItsOwnSamplesTimesAndQualityAndTheGapOnlyAtTheBeginning) {
    auto whole = std::make_shared<Block>();
    whole->group = test::oneChannelGroup(0, SampleType::float64);
    whole->firstIndex = 100;
    whole->times = {{10}, {20}, {30}, {40}};
    whole->t0 = whole->times.front();
    whole->columns.emplace_back(std::vector<double>{1, 2, 3, 4});
    whole->quality = {{{1, 3, Quality::clipped}}};
    whole->gapBefore = Gap{{5}, {10}, 7, "away"};
    EXPECT_EQ(partOf(whole, 0, 4), whole) << "all of it is the block itself";
    const BlockPtr first = partOf(whole, 0, 2), rest = partOf(whole, 2, 4);
    ASSERT_TRUE(first->gapBefore);
    EXPECT_EQ(first->gapBefore->lostSamples, 7U);
    EXPECT_FALSE(rest->gapBefore);
    EXPECT_EQ(rest->firstIndex, 102U);
    EXPECT_EQ(rest->timeOf(0).ns, 30);
    EXPECT_EQ(std::get<std::vector<double>>(rest->columns[0]), (std::vector<double>{3, 4}));
    ASSERT_EQ(first->quality[0].size(), 1U);
    EXPECT_EQ(first->quality[0][0].begin, 1U);
    EXPECT_EQ(first->quality[0][0].end, 2U);
    ASSERT_EQ(rest->quality[0].size(), 1U);
    EXPECT_EQ(rest->quality[0][0].begin, 0U);
    EXPECT_EQ(rest->quality[0][0].end, 1U);
    EXPECT_EQ(partOf(whole, 3, 4)->quality[0].size(), 0U);
}

TEST(ZeroedMemory, IsZeroAndWritableToItsLastByteHoweverLarge) {
    for (const std::size_t bytes : {std::size_t{8}, std::size_t{1} << 16, std::size_t{1} << 17, std::size_t{3} << 20}) {
        auto* memory = static_cast<unsigned char*>(zeroedMemory(bytes));
        EXPECT_TRUE(std::all_of(memory, memory + bytes, [](unsigned char b) { return b == 0; })) << bytes;
        memory[0] = memory[bytes - 1] = 1;
        freeZeroedMemory(memory, bytes);
        // What comes next is zero again, wherever it comes from.
        auto* next = static_cast<unsigned char*>(zeroedMemory(bytes));
        EXPECT_TRUE(std::all_of(next, next + bytes, [](unsigned char b) { return b == 0; })) << bytes;
        freeZeroedMemory(next, bytes);
    }
    freeZeroedMemory(nullptr, 8);
}

}  // namespace
}  // namespace cruscotto

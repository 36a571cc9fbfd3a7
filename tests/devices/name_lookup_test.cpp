#include "devices/link/name_lookup.h"

#include <latch>

#include "support.h"

namespace cruscotto {
namespace {

std::latch* held = nullptr;
std::atomic<int> asked{0};

int slow(const char*, const char* port, const addrinfo* hints, addrinfo** found) {
    ++asked;
    if (held) held->wait();
    return getaddrinfo("127.0.0.1", port, hints, found);
}

TEST(NameLookup, IsGivenUpAtOnceByWhoeverIsWokenAndGoesOnForTheNext) {
    std::latch answer(1);
    held = &answer;
    Waker waker;
    NameLookup lookup("rack.invalid", 502, slow);
    waker.wake();
    EXPECT_FALSE(lookup.find(waker, seconds(3600)).has_value()) << "as a stop does";
    EXPECT_FALSE(lookup.find(waker, milliseconds(1)).has_value());
    answer.count_down();
    std::optional<HostAddresses> found;
    EXPECT_TRUE(test::eventually([&] { return (found = lookup.find(waker, seconds(1))).has_value(); }));
    EXPECT_EQ(found->error, 0);
    EXPECT_NE(found->all, nullptr);
    EXPECT_EQ(asked, 1) << "the same question is not asked twice";
    held = nullptr;
}

TEST(NameLookup, FiguresNeedNoQuestion) {
    Waker waker;
    asked = 0;
    NameLookup lookup("127.0.0.1", 502, slow);
    ASSERT_TRUE(lookup.find(waker, Duration{}).has_value());
    EXPECT_EQ(asked, 0);
}

}  // namespace
}  // namespace cruscotto

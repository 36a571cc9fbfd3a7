#include "core/run/sample_codec.h"

#include <random>

#include "support.h"

namespace cruscotto {
namespace {

using codec::Packing;

template <class T>
std::vector<T> drawn(std::mt19937_64& random, std::size_t n, unsigned bits, bool wandering) {
    std::vector<T> v(n);
    T at = static_cast<T>(random());
    const std::uint64_t mask = bits >= 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits) - 1;
    for (T& x : v) {
        const std::uint64_t noise = random() & mask;
        const T next = static_cast<T>(static_cast<std::uint64_t>(at) + noise);
        if (wandering) at = next;
        x = next;
    }
    return v;
}

template <class T>
void roundTrip(const std::vector<T>& v) {
    const Samples samples = v;
    std::vector<std::byte> data{std::byte{7}};
    const Packing packing = codec::encode(samples, data);
    Samples back;
    ASSERT_TRUE(codec::decode(packing, std::span(data).subspan(1), typeOf(samples), v.size(), back));
    ASSERT_TRUE(std::get<std::vector<T>>(back) == v) << v.size();
    ASSERT_LE(data.size(), 1 + v.size() * sizeof(T)) << "never more than raw";
}

TEST(SampleCodec, GivesBackEverySampleOfEveryTypeLengthAndWidth) {
    std::mt19937_64 random(11);
    for (const std::size_t n : {0UL, 1UL, 127UL, 128UL, 255UL, 256UL, 257UL, 383UL, 384UL, 1000UL, 4096UL})
        for (unsigned bits = 0; bits <= 32; ++bits)
            for (const bool wandering : {false, true}) {
                roundTrip(drawn<std::int16_t>(random, n, bits, wandering));
                roundTrip(drawn<std::int32_t>(random, n, bits, wandering));
                roundTrip(drawn<std::uint32_t>(random, n, bits, wandering));
                roundTrip(drawn<std::uint8_t>(random, n, bits, wandering));
            }
    roundTrip(std::vector<double>{1, 2.5, -0.0});
    roundTrip(std::vector<float>{1, 2, 3});
}

TEST(SampleCodec, ExtremesOfATypeSurvive) {
    std::vector<std::int16_t> v(600);
    for (std::size_t i = 0; i < v.size(); ++i) v[i] = i % 2 ? INT16_MAX : INT16_MIN;
    roundTrip(v);
    std::vector<std::uint32_t> wrapping(600);
    for (std::size_t i = 0; i < wrapping.size(); ++i) wrapping[i] = static_cast<std::uint32_t>(0xffffff00U + i);
    roundTrip(wrapping);
}

TEST(SampleCodec, NoiseOfSixBitsTakesSixBits) {
    std::mt19937_64 random(5);
    const auto v = drawn<std::int16_t>(random, 25'600, 6, false);
    std::vector<std::byte> data;
    EXPECT_EQ(codec::encode(Samples(v), data), Packing::frames);
    EXPECT_LE(data.size(), 25'600 * 6 / 8 + 100 * 3U);
    std::vector<std::uint32_t> count(2560);
    for (std::size_t i = 0; i < count.size(); ++i) count[i] = static_cast<std::uint32_t>(1'000'000 + i * 3);
    data.clear();
    codec::encode(Samples(count), data);
    EXPECT_LE(data.size(), 10 * (1 + 4 + 4U)) << "a counter that runs evenly takes next to nothing";
}

TEST(SampleCodec, WhatCannotBeTheSamplesIsRefused) {
    std::mt19937_64 random(6);
    const auto v = drawn<std::int16_t>(random, 1000, 9, true);
    std::vector<std::byte> data;
    ASSERT_EQ(codec::encode(Samples(v), data), Packing::frames);
    Samples out;
    for (std::size_t cut = 0; cut < data.size(); ++cut)
        EXPECT_FALSE(codec::decode(Packing::frames, std::span(data).first(cut), SampleType::int16, 1000, out));
    EXPECT_FALSE(codec::decode(Packing::frames, data, SampleType::int16, 700, out));
    EXPECT_FALSE(codec::decode(Packing::frames, data, SampleType::int16, std::size_t{1} << 40, out));
    EXPECT_FALSE(codec::decode(Packing::frames, data, SampleType::float64, 1000, out));
    EXPECT_FALSE(codec::decode(Packing::raw, data, SampleType::int16, 1000, out));
    EXPECT_FALSE(codec::decode(static_cast<Packing>(9), data, SampleType::int16, 1000, out));
    // whatever the bytes, it ends and stays within bounds
    for (int i = 0; i < 20'000; ++i) {
        auto damaged = data;
        for (int k = 0; k < 3; ++k) damaged[random() % damaged.size()] = static_cast<std::byte>(random());
        (void)codec::decode(Packing::frames, damaged, SampleType::int16, random() % 2000, out);
    }
}

}  // namespace
}  // namespace cruscotto

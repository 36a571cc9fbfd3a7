#pragma once

#include <atomic>
#include <cstdint>
#include <string>

#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// How the weather board on the roof of the cold store packs what it measures.
struct WeatherOptions {
    enum class Format {
        fixed,  ///< 18 bytes: a5 3c; milliseconds, u32; temperature in 0.1 degC, i16; humidity in %, u8; wind in m/s,
                ///< f32; rain in ticks, u16 (the one with its highest byte first); bit 0: door, bits 4 to 7: battery;
                ///< CRC-16 as Modbus has it. The rest with the lowest byte first.
        lengthFirst,  ///< 7e, the length of what is between it and the CRC, then the same values in the same order, and
                      ///< every fourth time the rain is left out; CRC-16 (0x1021, preset all ones) of all but the 7e
        cobs,         ///< the values and a CRC-8, stuffed, and a zero behind
        slip          ///< the values and a CRC-16 (0x1021, preset 0), escaped, and 0xc0 behind
    };
    Format format = Format::fixed;
};

/// What can be made to go wrong. Any thread.
struct WeatherFaults {
    std::atomic<bool> wrongCheckSum{false}, noise{false}, endless{false}, quiet{false};
    std::vector<Fault> named();
};

/// A board that sends a hundred frames of bytes a second, and takes "\xa5W" and a byte: how much its sensor is heated.
/// Written from what such boards do; shares nothing with the driver.
class WeatherBoard {
public:
    static constexpr std::uint64_t firstStamp = 0x0012f0a0;
    explicit WeatherBoard(WeatherOptions options) : options_(options) {}
    /// For StandInHost, on a pty or on TCP. The board must live longer.
    StandInHost::Begin begin();
    /// The frame of that number, whole. Pure.
    static std::string frame(const WeatherOptions& options, std::uint64_t number);
    static double temperature(std::uint64_t number);
    static double wind(std::uint64_t number);
    static unsigned rain(std::uint64_t number);
    [[nodiscard]] int heater() const { return heater_; }
    void forget() { heater_ = -1; }

    WeatherFaults faults;

private:
    friend class WeatherTalk;
    const WeatherOptions options_;
    std::atomic<int> heater_{-1};
};

}  // namespace cruscotto

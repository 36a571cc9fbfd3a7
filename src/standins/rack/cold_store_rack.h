#pragma once

#include <array>
#include <atomic>
#include <chrono>
#include <cstdint>
#include <memory>

#include "core/base/guarded.h"
#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong with the rack. Any thread.
struct RackFaults {
    std::atomic<bool> silent{false};         ///< it takes requests and says nothing
    std::atomic<bool> wrongCheckSum{false};  ///< on a serial line
    std::atomic<bool> wrongOrder{false};     ///< a reply to something else comes before each reply
    std::atomic<bool> giant{false};          ///< a header that promises more than any reply has
    std::atomic<int> answersAfterMs{0};
    std::atomic<bool> stuckRelay{false};     ///< relay 1 stays open whatever it is told
    std::atomic<bool> openContact{false};    ///< input 5, the contact of compressor 1, stays open
    std::atomic<bool> strangeModule{false};  ///< says that a module nobody has heard of is in slot 3
    std::atomic<bool> secretive{false};      ///< does not say what it is
    std::atomic<bool> refuses{false};        ///< its input registers cannot be read: the analog module has failed
    std::vector<Fault> named();
};

/// A rack of four modules in a cold store, as a Modbus server would have it (Modbus Application Protocol V1.1b3): in
/// slot 1 eight analog inputs (rooms 1 to 4, outdoors, evaporator, suction and discharge pressure; -27648 to 27648 for
/// -10 to 10 V), in slot 2 sixteen digital inputs (doors; the fifth is the contact of compressor 1), in slot 3 eight
/// relays (compressors, fans, lamps), in slot 4 two counters (energy, water). Input registers 0 to 7 and 8 to 11,
/// discrete inputs 0 to 15, coils 0 to 7, holding registers 0 to 15 (types and filters), 16, 17 (the relays open when
/// nothing is asked for so many ms; 0: never), 18 and 19. From
/// holding register 100 on stand numbers in every layout, to try them. Registers 12 to 19 of the inputs do not exist.
class ColdStoreRack {
public:
    explicit ColdStoreRack(int unit = 1, std::uint64_t seed = 1);
    /// For StandInHost, on TCP or on a pty. The rack must live longer.
    StandInHost::Begin onTcp();
    StandInHost::Begin onSerial();

    RackFaults faults;
    /// Under this unit number it answers too, as a second rack on the line would; 0: under none.
    std::atomic<int> alsoUnit{0};
    [[nodiscard]] bool relay(int n) const;
    [[nodiscard]] std::uint16_t holding(int address) const;
    void setHolding(int address, std::uint16_t value);
    [[nodiscard]] std::uint64_t requests() const { return requests_; }
    /// Of an analog input, -27648 to 27648, now.
    [[nodiscard]] int code(int input) const;

    /// The reply's PDU to a request's; empty: none is sent.
    std::string answer(int unit, const std::string& request);
    [[nodiscard]] int unit() const { return unit_; }

private:
    /// Room 1 cools while compressor 1 runs, and warms up while it does not.
    void live() HOLDING(mutex_);
    /// Its watchdog, holding register 17 in ms, has run out since the last request.
    [[nodiscard]] bool ranOut() const HOLDING(mutex_);
    [[nodiscard]] int codeNow(int input) const HOLDING(mutex_);
    [[nodiscard]] std::string whatItIs(int group, int from) const;
    const int unit_;
    const std::uint64_t seed_;
    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    std::atomic<std::uint64_t> requests_{0};
    mutable Mutex mutex_;
    std::array<bool, 8> relays_ GUARDED_BY(mutex_){};
    double room_ GUARDED_BY(mutex_) = -4.0;  ///< volts of room 1
    bool contact_ GUARDED_BY(mutex_) = false;
    double contactFor_ GUARDED_BY(mutex_) = 0;  ///< seconds that it has been another than its relay
    std::chrono::steady_clock::time_point lived_ GUARDED_BY(mutex_) = began_;
    std::array<std::uint16_t, 132> holding_ GUARDED_BY(mutex_){};
};

}  // namespace cruscotto

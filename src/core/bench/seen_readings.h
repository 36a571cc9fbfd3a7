#pragma once

#include <memory>
#include <optional>
#include <string>
#include <unordered_map>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// Where a signal's readings can lie: its own scale; else what its output can be set to, or what its converter's range
/// comes to behind the chain, or where its scaling holds. Nothing where none of these says.
std::optional<Scale> expectedScale(const SignalSpec& signal);
/// Its readings are whole by nature: counts and pulses that nothing has scaled.
bool readsWhole(const SignalSpec& signal);

/// On which scale, and with how many decimals, signals are shown: by expectedScale(), else by what has been seen of
/// them, rounded outwards. That scale may widen for five seconds after the first reading; then it stays, until the
/// chain is another. Confined to one thread.
class SeenReadings {
public:
    /// Takes in what the source has of it, `reading` being what it shows now. Cheap where nothing has to be learned.
    void look(const SignalSpec& signal, const Source& source, double reading);
    [[nodiscard]] Scale scaleOf(const SignalSpec& signal) const;  ///< 0 to 1 before anything has been seen
    /// No more than all that was seen needs, where nothing says otherwise; 2 before anything has been seen.
    [[nodiscard]] int decimalsOf(const SignalSpec& signal) const;
    void clear() { seen_.clear(); }

private:
    struct Seen {
        // what is expected, and of which description
        ChainSpec chain;
        ChannelKind kind = ChannelKind::analogInput;
        std::optional<Scale> own;
        std::optional<OutputSpec> output;
        std::optional<Scale> expected;
        // what has come
        std::optional<Scale> scale;
        std::optional<Instant> since;
        bool settled = false;
        std::uint64_t revision = 0;  ///< of the source, when it was settled
        int needs = 0;               ///< decimals, for each reading as it was; mostNeeded where it takes more
        [[nodiscard]] bool isOf(const SignalSpec& s) const {
            return kind == s.kind && own == s.scale && output == s.output && chain == s.chain;
        }
    };
    [[nodiscard]] const Seen* find(const SignalSpec& signal) const;
    std::unordered_map<std::string, Seen> seen_;  // by id
};

}  // namespace cruscotto

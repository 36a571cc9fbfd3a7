#pragma once

#include <cstdint>

namespace cruscotto {

/// How far a long piece of work is, and whether it should stop. advance() is called from the working thread.
class Progress {
public:
    virtual ~Progress() = default;
    /// `total` is 0 where it is not known.
    virtual void advance(std::uint64_t done, std::uint64_t total) = 0;
    [[nodiscard]] virtual bool cancelled() const = 0;
};

}  // namespace cruscotto

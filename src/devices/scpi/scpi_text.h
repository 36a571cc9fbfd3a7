#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"

namespace cruscotto {

/// A question to an instrument and what its answer holds.
struct ScpiQuery {
    std::string name;
    std::string text;         ///< as it is sent, without the end of the message
    double everySeconds = 0;  ///< 0: the device's own
    /// What its values are called: "", for a single one the query's own name; "101" of a channel list.
    std::vector<std::string> parts{""};
    enum class Answer { numbers, block } answer = Answer::numbers;
    /// A block's samples: IEEE 488.2 leaves open what is in it.
    enum class Sample { u8, i8, u16, i16, i32, f32, f64 } sample = Sample::i16;
    bool littleEndian = true;
    double stepSeconds = 0;  ///< between a block's samples
    [[nodiscard]] std::vector<std::string> terminals() const;
    bool operator==(const ScpiQuery&) const = default;
};

/// Reads "MEAS:VOLT?", "READ? (@101:104,106)" (a value for each channel), "FETC? list 3", "MEAS:TEMP? every 5",
/// "CURV? block i16 step 1e-6" ("i16be" for the most significant byte first). The error says what is expected.
Result<ScpiQuery> scpiQuery(const std::string& name, std::string_view words);

/// Numbers as IEEE 488.2 8.7 writes them (NR1, NR2, NR3), separated by commas; units behind a number are passed over.
/// 9.9E37 of either sign is an overrange, 9.91E37 not a number (SCPI-99 7.2.1.4, 7.2.1.5). The error says which is
/// none.
struct ScpiNumber {
    double value = 0;
    Quality quality = Quality::good;
    bool operator==(const ScpiNumber&) const = default;
};
Result<std::vector<ScpiNumber>> scpiNumbers(std::string_view answer);

/// Cuts answers out of what arrives: a line, or a definite-length block (IEEE 488.2 8.7.9: #, a digit n, n digits of
/// the length, the bytes) with the end of the message behind it. Holds at most `longest` bytes. Confined to one thread.
class ScpiAnswers {
public:
    static constexpr std::size_t longestLine = 65536, longestBlock = std::size_t{16} << 20;
    explicit ScpiAnswers(char end = '\n') : end_(end) {}
    struct Piece {
        std::string bytes;  ///< as they came
        std::string text;   ///< the line without its end, or the block's bytes
        bool block = false;
        const char* problem = nullptr;  ///< null: a whole answer
    };
    void feed(std::string_view bytes, std::vector<Piece>& out);
    void reset();

private:
    const char end_;
    std::string held_;
    std::size_t looked_ = 0;  // of held_, no end is among them
    bool skipping_ = false;   // the rest of a line that was too long
};

/// The entries of an answer that is a list, without quotes and the spaces around them; at most so many.
std::vector<std::string> scpiEntries(const std::string& answer, std::size_t most);

/// A block's samples.
std::vector<double> scpiSamples(const ScpiQuery& query, std::string_view bytes);

}  // namespace cruscotto

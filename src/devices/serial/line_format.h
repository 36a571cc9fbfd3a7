#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"

namespace cruscotto {

/// How a board's lines are to be read. A number may have a unit that is known behind it ("23.5C", "T: 23.5 °C"), and a
/// decimal comma where the comma separates nothing. What stands for no number (nan, inf, -, --, ovf ...) spoils its own
/// field only; an empty field between separators other than blanks keeps its place.
struct LineFormat {
    enum class Kind {
        delimited,  ///< numbers, separated by any mix of the separators; terminals "1", "2" ...
        labelled,   ///< label and number, several a line: "weight 31.42", "T=34.8"; a terminal is its label. Or a JSON
                    ///< object: {"T": 34.8, "air": {"rh": 61}}; a terminal is its key, "air.rh" one within another
        fixed       ///< fields of fixed width behind a header; a terminal is the field's name
    };
    struct Field {
        std::string name;
        std::size_t start = 0;  ///< first character, counted from the end of the header
        std::size_t width = 1;
        int base = 10;          ///< 10 or 16
        bool isSigned = false;  ///< hexadecimal: two's complement of 4 * width bits
    };
    Kind kind = Kind::delimited;
    std::string separators = " ,\t;";
    std::size_t fieldCount = 0;  ///< delimited: how many numbers a line must have; 0: any number
    std::string header;          ///< a line that does not begin with it does not fit
    std::vector<Field> fields;   ///< fixed
};

struct FieldValue {
    std::string terminal;
    double value = 0;                   ///< not a number where the board says itself that there is none
    std::size_t start = 0, length = 0;  ///< where in the line it stands
    bool operator==(const FieldValue& other) const {
        return terminal == other.terminal && (value == other.value || (value != value && other.value != other.value));
    }
};

/// Reads one line without its line end. Fills `out`, or returns why the line does not fit. Never throws; costs time in
/// proportion to the line.
Result<void> parseLine(const LineFormat& format, std::string_view line, std::vector<FieldValue>& out);

/// Whether lines are rather numbers alone or names with numbers: the kind that at least half of them fit, in its plain
/// form. Nothing if neither does.
std::optional<LineFormat::Kind> likelyKind(const std::vector<std::string>& lines);

/// Cuts bytes into lines at \n, \r or \r\n. What comes before the first line end after reset() is dropped: it may be
/// the tail of a line whose beginning was missed, and read as a wrong number. Confined to one thread.
class LineSplitter {
public:
    static constexpr std::size_t longestLine = 4096;
    struct Line {
        std::string text;
        std::size_t bytesBehind = 0;  ///< how many bytes of the same feed() came after the line's end
        bool tooLong = false;
    };
    /// Appends the lines that the bytes complete to `out`; empty lines are left out.
    void feed(std::string_view bytes, std::vector<Line>& out);
    void reset();

private:
    std::string partial_;
    bool synchronised_ = false;
    bool tooLong_ = false;
};

}  // namespace cruscotto

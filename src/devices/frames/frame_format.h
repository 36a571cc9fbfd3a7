#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/result.h"
#include "core/signal/block.h"
#include "devices/link/check_sum.h"

namespace cruscotto {

/// How a board's frames are cut out of the bytes that it sends. Offsets and lengths count the bytes of the whole frame,
/// from its first; where frames are escaped, of what was meant, without the escapes and the delimiters.
struct FrameLayout {
    enum class Escape {
        none,
        cobs,  ///< a zero ends each frame, and stands nowhere else (Cheshire and Baker, 1999)
        slip   ///< 0xC0 ends each frame, and is written DB DC within (RFC 1055)
    };
    struct LengthField {
        std::size_t offset = 0;
        std::size_t bytes = 1;  ///< 1 or 2
        bool bigEndian = false;
        int adds = 0;  ///< how many bytes more than the field says the whole frame has
        bool operator==(const LengthField&) const = default;
    };
    struct Check {
        CheckSum kind = CheckSum::sum8;
        std::size_t from = 0;    ///< it is of the bytes from here up to itself
        bool bigEndian = false;  ///< it stands last, before `end`
        bool operator==(const Check&) const = default;
    };
    std::string begin;       ///< what each frame begins with; may be empty
    std::string end;         ///< what each ends with; may be empty
    std::size_t length = 0;  ///< of every frame; 0: they differ
    std::optional<LengthField> lengthField;
    Escape escape = Escape::none;
    std::optional<Check> check;

    static constexpr std::size_t longest = 1024;
    /// False: nothing is said that frames could be found by.
    [[nodiscard]] bool described() const { return !begin.empty() || !end.empty() || escape != Escape::none; }
    /// The least that a frame has.
    [[nodiscard]] std::size_t shortest() const;
    bool operator==(const FrameLayout&) const = default;
};

/// Reads "begin aa 55 length 12 check crc16-modbus", "end 0d 0a", "begin 7e length-at 1 u8 +4 check sum8 from 1",
/// "cobs check crc16-ccitt be", "slip length 8". Empty: not described. The error says what is expected.
Result<FrameLayout> frameLayout(std::string_view words);
std::string frameLayoutText(const FrameLayout& layout);

/// One value in a frame.
struct FrameField {
    enum class Type { unsignedWhole, signedWhole, real };
    struct When {
        std::size_t offset = 0;
        std::uint8_t byte = 0;
        bool operator==(const When&) const = default;
    };
    std::string name;
    std::size_t offset = 0;
    std::size_t bytes = 1;  ///< 1 to 8; real: 4 or 8 (IEEE 754)
    Type type = Type::unsignedWhole;
    bool bigEndian = false;
    int firstBit = 0;
    int bits = 0;              ///< only these bits of it, from firstBit on, the least significant being 0; 0: all
    std::optional<When> when;  ///< it stands only in frames that have this byte there
    [[nodiscard]] SampleType sampleType() const;
    /// Precondition: the frame is long enough.
    [[nodiscard]] double value(std::string_view frame) const;
    bool operator==(const FrameField&) const = default;
};
/// Reads "2 i16le", "4 u24be", "8 f32le", "5 u8 bit 3", "5 u8 bits 4-6", "3 u16le when 1 07"; le where nothing is said.
Result<FrameField> frameField(const std::string& name, std::string_view words);
/// As it is read, without the name.
std::string frameFieldText(const FrameField& field);

/// Cuts frames out of bytes that come in pieces of any size. Holds at most one longest frame and what came last.
/// Confined to one thread.
class FrameCutter {
public:
    explicit FrameCutter(FrameLayout layout) : layout_(std::move(layout)) {}
    struct Piece {
        std::string bytes;            ///< the frame, its escapes undone; or what is none, as it came
        std::size_t bytesBehind = 0;  ///< how many bytes of the same feed() came after it
        Text problem;                 ///< empty: a whole frame
    };
    /// What is cut off before the first whole frame after reset() is no problem: its beginning was missed.
    void feed(std::string_view bytes, std::vector<Piece>& out);
    /// Nothing has come for a while: what is held without a description is a piece.
    void pause(std::vector<Piece>& out);
    void reset();

private:
    void escaped(std::vector<Piece>& out);
    void plain(std::vector<Piece>& out);
    void undescribed(std::vector<Piece>& out, bool all);
    /// How long the frame at the front is: 0: more is needed to tell; empty: none begins there.
    std::optional<std::size_t> frontLength();
    Text wrong(std::string_view frame) const;
    void skip(std::size_t n, const Text& why, std::vector<Piece>& out);
    void tellSkipped(std::vector<Piece>& out);

    const FrameLayout layout_;
    std::string held_;
    std::string skipped_;
    Text whySkipped_;
    bool synchronised_ = false;
};

}  // namespace cruscotto

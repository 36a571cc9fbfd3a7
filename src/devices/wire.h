#pragma once

#include <atomic>
#include <deque>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "core/base/guarded.h"
#include "core/base/result.h"
#include "core/base/time.h"

namespace cruscotto {

/// Some bytes of a message and the terminal whose value they are.
struct WireField {
    std::size_t start = 0, length = 0;
    std::string terminal;
    double value = 0;
    bool operator==(const WireField&) const = default;
};

/// What passed on a link in one piece: a line, a frame, a request; or bytes that make none. Immutable once added.
struct WireMessage {
    enum class Way { received, sent };
    std::uint64_t number = 0;  ///< counted from 0 by the tap
    Instant at;                ///< when its first byte passed, on the bench's time axis, as near as the system tells
    Way way = Way::received;
    std::string bytes;
    std::vector<WireField> fields;  ///< in the order of the bytes
    Text problem;                   ///< why it does not fit; empty: it does, or nobody expected anything of it
};
using WireMessagePtr = std::shared_ptr<const WireMessage>;

/// Where a device's driver says what passes on its link, for as long as somebody looks. Any thread.
class WireTap {
public:
    static constexpr std::size_t mostMessages = 50'000, mostBytes = std::size_t{16} << 20;

    /// Somebody looks. While nobody does, a driver has nothing to do for the tap but to ask this.
    [[nodiscard]] bool isOpen() const { return viewers_.load(std::memory_order_relaxed) > 0; }
    void open() { ++viewers_; }
    /// With the last viewer goes what was held.
    void close();
    /// Nothing, where nobody looks. The oldest messages make room.
    void add(WireMessage message);
    /// Those from this number on that are still held, oldest first; at most so many of the newest.
    [[nodiscard]] std::vector<WireMessagePtr> since(std::uint64_t number, std::size_t most = mostMessages) const;

private:
    std::atomic<int> viewers_{0};
    mutable Mutex mutex_;
    std::deque<WireMessagePtr> held_ GUARDED_BY(mutex_);
    std::size_t heldBytes_ GUARDED_BY(mutex_) = 0;
    std::uint64_t next_ GUARDED_BY(mutex_) = 0;
};

/// Cuts what arrives on a link of text lines into messages: behind each line end, and where none comes, after `longest`
/// bytes or a pause. No byte is left out. Confined to one thread.
class WireLines {
public:
    static constexpr std::size_t longest = 256;
    struct Piece {
        Instant at;  ///< of its first byte
        std::string bytes;
        bool whole = false;  ///< it ends with a line end, and began behind one
    };
    /// The bytes have just arrived: the last one now, each one before it `byteNs` earlier.
    void feed(std::string_view bytes, Instant now, double byteNs, std::vector<Piece>& out);
    /// Nothing has come for a while: what is there is a piece.
    void pause(std::vector<Piece>& out);
    void reset();

private:
    void cut(bool whole, std::vector<Piece>& out);
    Instant began_;
    std::string partial_;
    bool behindEnd_ = false;  // the piece that grows began behind a line end
    bool ended_ = false;      // the last byte was a \r: a \n behind it belongs to the same end
};

/// "1f 8b", lower case, with a space between the bytes.
std::string hexBytes(std::string_view bytes);
/// The bytes as text; what has no printable ASCII character is a middle dot, U+00B7, so that each byte is one
/// character.
std::string printableBytes(std::string_view bytes);

/// A capture as a text file, one message a line: seconds with six decimals, "<" (received) or ">" (sent), the bytes in
/// hexadecimal; the first line says what it is. docs/wire-format.md. Frozen.
struct CaptureOrigin {
    std::string kind;      ///< of the device on whose link it passed; empty: not said
    std::string settings;  ///< a JSON object, serialised
};
std::string captureText(const std::vector<WireMessagePtr>& messages, const CaptureOrigin& origin = {});
/// One of its lines, with its line end: a capture may be written as it comes, behind that of no messages.
std::string captureLine(const WireMessage& message);
CaptureOrigin captureOrigin(std::string_view text);
/// The same of a file; says nothing where that cannot be read.
CaptureOrigin originOfCapture(const std::string& path);
/// The device that receives again what was saved in the capture at `path`: of the kind that its head names, with the
/// settings of then at another address; without such a head, a board that prints text. Refuses a file that cannot be
/// read, and a kind that has no link of its own to receive on.
Result<CaptureOrigin> captureReplay(const std::string& path);
/// Refuses with the line that is wrong. Fields and problems are not part of a capture.
Result<std::vector<WireMessage>> readCapture(std::string_view text);

}  // namespace cruscotto

#include "devices/serial/serial_device.h"

#include <algorithm>
#include <map>

#include "core/base/number_text.h"
#include "devices/link/board_clock.h"
#include "devices/link/byte_template.h"
#include "devices/link/link_driver.h"
#include "devices/link/regular_messages.h"
#include "devices/link/rhythm.h"
#include "devices/link/serial_load.h"
#include "devices/serial/speed_search.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostTerminals = 256;  // a board that makes up labels must not fill the memory
constexpr Duration pollEvery = milliseconds(100);
constexpr Duration listenToSpeed = milliseconds(1500);

/// What has come over the line lately, to tell a wrong speed from a wrong format.
struct LineHealth {
    std::uint64_t bytesSinceGood = 0;
    std::uint64_t strangeSinceGood = 0;  // bytes that no text has
    void feed(std::string_view bytes) {
        bytesSinceGood += bytes.size();
        for (const char c : bytes)
            if (!(c == '\r' || c == '\n' || c == '\t' || (c >= 32 && c < 127))) ++strangeSinceGood;
    }
    [[nodiscard]] bool wrongSpeed() const { return bytesSinceGood >= 48 && strangeSinceGood * 5 > bytesSinceGood; }
};

class SerialLineBoard : public LinkDriver {
public:
    SerialLineBoard(DeviceContext context, SerialLineSettings settings)
        : LinkDriver(std::move(context), namesOf(settings.outputs)),
          settings_(std::move(settings)),
          line_(settings_.line),
          load_(line_),
          regular_(settings_.ask, settings_.askSeconds, settings_.heartbeat) {
        if (!settings_.stamp.empty()) clock_.emplace(settings_.stampBits, settings_.stampSeconds);
    }

protected:
    std::optional<ByteLink::Failure> open() override {
        if (line_.baud == 0)
            if (auto none = findSpeed()) return none;
        return port_.open(line_);
    }
    void close() override { port_.close(); }
    void wake() override { port_.wake(); }
    [[nodiscard]] bool silenceIsFault() const override { return settings_.silenceIsFault || !settings_.ask.empty(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(
            CRUSCOTTO_TEXT("{0} went away. Plug it back in; the readings go on by themselves and the gap is kept."),
            settings_.line.port);
    }
    // The safe values have been set before the stop.
    void finish() override { (void)sendOutputs(); }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        crash.arm(port_.descriptor(), messagesFor(settings_.outputs, safe));
    }

    End talk(const std::stop_token& stop) override {
        splitter_.reset();
        wire_.reset();
        health_ = {};
        if (clock_) clock_->reset();
        load_ = SerialLoad(line_);
        Instant lastByte = now(), lastGood = lastByte;
        setState(LinkState::starting, text(CRUSCOTTO_TEXT("{0} is open at {1} baud; waiting for the first whole line."),
                                           line_.port, line_.baud));
        std::string bytes;
        regular_.begin();
        while (!stop.stop_requested()) {
            bytes.clear();
            if (!sendOutputs()) return End::lost;
            Duration wait = pollEvery;
            for (const std::string& message : regular_.due(now(), mayBeat(), wait))
                if (!send(message)) return End::lost;
            if (port_.read(wait, bytes) == SerialPort::Got::lost) return End::lost;
            const Instant t = now();
            if (!bytes.empty()) {
                lastByte = t;
                status().bytes += bytes.size();
                health_.feed(bytes);
                load_.add(bytes.size(), t);
                tellLines(bytes, t);
                if (decode(bytes, t)) {
                    lastGood = t;
                    rhythm_.came(t);
                    health_ = {};
                    deliver();
                    lineFits();
                }
            } else {
                tellLines({}, t);
            }
            judge(t, lastByte, lastGood);
            status().linkShare = load_.share(t);
            status().linkAdvice = status().linkShare && status().state == LinkState::live
                                      ? speedAdvice(line_.baud, *status().linkShare)
                                      : Text{};
            reportSometimes();
        }
        return End::stopped;
    }

private:
    bool send(const std::string& bytes) {
        if (bytes.empty()) return true;
        LinkDriver::tell(WireMessage::Way::sent, bytes);
        return port_.write(bytes);
    }

    /// What outputs have been set to since the last time; of each only the newest value. False if the port is lost.
    bool sendOutputs() {
        return std::ranges::all_of(dueOutputs(), [&](const auto& output) {
            return send(bytesFor(settings_.outputs.at(output.first), output.second));
        });
    }

    static DeviceStatus::Suggestion lookForSpeed() {
        return {CRUSCOTTO_TEXT("Find the speed by listening"), "baud", "0"};
    }

    /// Nothing where one was found, else why not.
    std::optional<ByteLink::Failure> findSpeed() {
        const SpeedFound found = cruscotto::findSpeed(
            settings_.line, settings_.format, listenToSpeed, stopToken(),
            [&](unsigned baud, std::size_t tried, std::size_t all) {
                setState(LinkState::starting,
                         text(CRUSCOTTO_TEXT("Listening on {0} at {1} baud, {2} of {3}, to find the board's speed. "
                                             "Nothing is sent."),
                              settings_.line.port, baud, tried + 1, all));
            });
        if (found.stopped) return ByteLink::Failure{LinkState::stopped, CRUSCOTTO_TEXT("Stopped.")};
        if (found.baud) {
            line_.baud = *found.baud;
            return std::nullopt;
        }
        if (found.refused) return found.refused;
        if (!found.anything)
            return ByteLink::Failure{
                LinkState::silent,
                text(CRUSCOTTO_TEXT("Nothing arrives on {0} at any usual speed. Is the board powered, and does its "
                                    "program run?"),
                     settings_.line.port)};
        return ByteLink::Failure{
            LinkState::nonsense,
            text(CRUSCOTTO_TEXT("At no usual speed does what arrives on {0} look like lines of text. The board "
                                "may send bytes instead of text, or at an unusual speed."),
                 settings_.line.port)};
    }

    /// The sentence of a link that works; with a speed that was found, the offer to stay with it.
    void lineFits() {
        if (settings_.line.baud != 0)
            return setLive(text(CRUSCOTTO_TEXT("Lines arrive on {0} at {1} baud and fit."), line_.port, line_.baud));
        setLive(text(CRUSCOTTO_TEXT("The speed was found: lines arrive on {0} at {1} baud and fit."), line_.port,
                     line_.baud),
                {{text(CRUSCOTTO_TEXT("Stay at {0} baud"), line_.baud), "baud", std::to_string(line_.baud)}});
    }

    [[nodiscard]] double byteNs() const { return 1e9 * line_.bitsPerByte() / line_.baud; }

    /// What arrived, for whoever looks at the wire. Empty bytes: nothing came for a while.
    void tellLines(std::string_view bytes, Instant now) {
        if (!wireOpen()) return wire_.reset();
        std::vector<WireLines::Piece> pieces;
        if (bytes.empty())
            wire_.pause(pieces);
        else
            wire_.feed(bytes, now, byteNs(), pieces);
        for (WireLines::Piece& piece : pieces) {
            Text problem;
            std::vector<FieldValue> fields;
            const std::string_view line = std::string_view(piece.bytes).substr(0, piece.bytes.find_first_of("\r\n"));
            if (!piece.whole)
                problem = text(CRUSCOTTO_TEXT("no whole line"));
            else if (!line.empty())
                if (auto parsed = parseLine(settings_.format, line, fields); !parsed) problem = parsed.error().message;
            std::vector<WireField> told;
            for (FieldValue& f : fields) told.push_back({f.start, f.length, std::move(f.terminal), f.value});
            tellAt(piece.at, WireMessage::Way::received, std::move(piece.bytes), std::move(told), std::move(problem));
        }
    }

    void judge(Instant t, Instant lastByte, Instant lastGood) {
        const Duration patience = rhythm_.patience(seconds(settings_.silenceSeconds));
        if (t - lastByte > patience) {
            rhythm_.paused();
            setState(LinkState::silent,
                     text(CRUSCOTTO_TEXT("{0} is open, but nothing has arrived for {1} s. Is the board powered, and "
                                         "does its program run?"),
                          settings_.line.port, shortNumber(patience.seconds())));
        } else if (health_.wrongSpeed()) {
            setState(LinkState::nonsense,
                     text(CRUSCOTTO_TEXT("Bytes arrive on {0} but make no sense at {1} baud: it looks like a different "
                                         "speed. Choose the one in the board's program, or let it be found."),
                          line_.port, line_.baud),
                     {lookForSpeed()});
        } else if (t - lastGood > seconds(1) && health_.bytesSinceGood >= 8 && !status().lastRejected.empty()) {
            setState(LinkState::nonsense,
                     text(CRUSCOTTO_TEXT("Lines arrive on {0} but none fits: {1}. Check the line format."),
                          settings_.line.port, status().lastRejected.back().reason.english()),
                     otherKind());
        } else if (t - lastGood > patience && health_.bytesSinceGood > 0) {
            setState(
                LinkState::nonsense,
                text(CRUSCOTTO_TEXT("Bytes arrive on {0}, but no line ends any more: the last was {1} s ago. Check "
                                    "that the board's program sends a line end behind its numbers."),
                     settings_.line.port, shortNumber(patience.seconds())));
        }
    }

    /// The other kind of lines, if those that came fit that.
    std::vector<DeviceStatus::Suggestion> otherKind() {
        std::vector<std::string> lines;
        for (const Rejected& r : status().lastRejected) lines.push_back(r.bytes);
        const auto likely = likelyKind(lines);
        if (!likely || *likely == settings_.format.kind) return {};
        if (*likely == LineFormat::Kind::labelled)
            return {{text(CRUSCOTTO_TEXT("Read names and numbers")), "lines", "labelled"}};
        return {{text(CRUSCOTTO_TEXT("Read numbers without names")), "lines", "delimited"}};
    }

    /// True if at least one line fitted.
    bool decode(std::string_view bytes, Instant arrived) {
        std::vector<LineSplitter::Line> lines;
        splitter_.feed(bytes, lines);
        std::vector<FieldValue> fields;
        bool any = false;
        for (const LineSplitter::Line& line : lines) {
            ++status().lines;
            if (line.tooLong) {
                reject(line.text, text(CRUSCOTTO_TEXT("longer than {0} characters"), LineSplitter::longestLine));
                continue;
            }
            if (auto parsed = parseLine(settings_.format, line.text, fields); !parsed) {
                reject(line.text, parsed.error().message);
                continue;
            }
            // The line ended as long ago as what came behind it took on the wire; never before the one before it.
            Instant at{arrived.ns - static_cast<std::int64_t>(byteNs() * static_cast<double>(line.bytesBehind))};
            if (clock_)
                if (const auto stamp = std::ranges::find(fields, settings_.stamp, &FieldValue::terminal);
                    stamp != fields.end() && stamp->value >= 0 && stamp->value < 9e15)
                    at = clock_->at(static_cast<std::uint64_t>(stamp->value), at);
            if (lastLine_ && at <= *lastLine_) at = *lastLine_ + nanoseconds(1);
            lastLine_ = at;
            any = true;
            for (const FieldValue& field : fields) store(field, at);
        }
        return any;
    }

    void store(const FieldValue& field, Instant at) {
        auto it = scans_.find(field.terminal);
        if (it == scans_.end()) {
            if (scans_.size() >= mostTerminals) return;
            ScanBuffer& made =
                addScan(field.terminal, {{field.terminal, SampleType::float64, ChannelKind::analogInput}});
            it = scans_.emplace(field.terminal, &made).first;
        }
        it->second->add(at, std::span(&field.value, 1));
    }

    const SerialLineSettings settings_;
    SerialPort port_;      // the run thread's, but for wake()
    SerialSettings line_;  // as it is open, with the speed that was found
    SerialLoad load_;
    RegularMessages regular_;
    LineSplitter splitter_;
    WireLines wire_;
    LineHealth health_;
    Rhythm rhythm_;
    std::map<std::string, ScanBuffer*> scans_;  // by terminal
    std::optional<Instant> lastLine_;
    std::optional<BoardClock> clock_;
};

}  // namespace

std::unique_ptr<Device> makeSerialLine(const DeviceContext& context, SerialLineSettings settings) {
    return std::make_unique<SerialLineBoard>(context, std::move(settings));
}

}  // namespace cruscotto

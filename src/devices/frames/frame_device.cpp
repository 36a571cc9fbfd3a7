#include "devices/frames/frame_device.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/chain/common_stages.h"
#include "devices/frames/frame_guess.h"
#include "devices/link/board_clock.h"
#include "devices/link/byte_template.h"
#include "devices/link/link_driver.h"
#include "devices/link/regular_messages.h"
#include "devices/link/rhythm.h"
#include "devices/link/serial_load.h"

namespace cruscotto {

namespace {

constexpr Duration pollEvery = milliseconds(100), deliverEvery = milliseconds(5), guessEvery = milliseconds(1000);
constexpr std::size_t mostRecent = 4096, mostFields = 256;

class FrameBoard : public LinkDriver {
public:
    FrameBoard(DeviceContext context, FrameBoardSettings settings)
        : LinkDriver(std::move(context), namesOf(settings.outputs)),
          settings_(std::move(settings)),
          link_(makeByteLink(settings_.address)),
          cutter_(settings_.layout),
          load_(settings_.address.line),
          regular_(settings_.ask, settings_.askSeconds, settings_.heartbeat) {
        for (std::size_t i = 0; i < settings_.fields.size(); ++i) {
            const FrameField& f = settings_.fields[i];
            auto scan = std::ranges::find(scans_, f.when, &Scan::when);
            if (scan == scans_.end()) scan = scans_.insert(scans_.end(), Scan{f.when, {}, nullptr});
            scan->fields.push_back(i);
        }
        for (Scan& scan : scans_) {
            std::vector<Channel> channels;
            for (const std::size_t i : scan.fields) {
                const FrameField& f = settings_.fields[i];
                channels.push_back(
                    {f.name, typeOf(f), f.bits == 1 ? ChannelKind::digitalInput : ChannelKind::analogInput});
            }
            scan.to = &addScan(scan.when ? fmt::format("{} is {:02x}", scan.when->offset, scan.when->byte) : "frame",
                               std::move(channels));
        }
        if (settings_.stamp) {
            const FrameField& f = settings_.fields[*settings_.stamp];
            const int bits = f.bits > 0 ? f.bits : static_cast<int>(8 * f.bytes);
            clock_.emplace(std::min(bits, 53), settings_.stampSeconds);
        }
    }

protected:
    std::optional<ByteLink::Failure> open() override { return link_->open(); }
    void close() override { link_->close(); }
    void wake() override { link_->wake(); }
    [[nodiscard]] Instant lostSince() const override { return {now().ns - link_->unheard().ns}; }
    [[nodiscard]] Text lostSentence() const override {
        return text(
            CRUSCOTTO_TEXT("{0} went away. Plug it back in; the readings go on by themselves and the gap is kept."),
            link_->name());
    }
    void finish() override { sendOutputs(); }
    [[nodiscard]] bool silenceIsFault() const override { return settings_.silenceIsFault || !settings_.ask.empty(); }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        crash.arm(link_->descriptor(), messagesFor(settings_.outputs, safe));
    }

    End talk(const std::stop_token& stop) override {
        cutter_.reset();
        recent_.clear();
        if (clock_) clock_->reset();
        load_ = SerialLoad(settings_.address.line);
        opened_ = lastByte_ = lastGood_ = lastDelivered_ = now();
        goodSinceOpen_ = 0;
        setState(LinkState::starting, text(CRUSCOTTO_TEXT("{0} is open; waiting for the first frame."), link_->name()));
        regular_.begin();
        std::string bytes;
        while (!stop.stop_requested()) {
            if (!sendOutputs()) return End::lost;
            Duration wait = pending_ ? deliverEvery : pollEvery;
            for (const std::string& message : regular_.due(now(), mayBeat(), wait))
                if (!send(message)) return End::lost;
            bytes.clear();
            if (link_->read(wait, bytes) == ByteLink::Got::lost) return End::lost;
            const Instant t = now();
            if (!bytes.empty()) {
                lastByte_ = t;
                status().bytes += bytes.size();
                load_.add(bytes.size(), t);
                take(bytes, t);
            } else {
                pieces_.clear();
                cutter_.pause(pieces_);
                for (FrameCutter::Piece& p : pieces_) tell(WireMessage::Way::received, std::move(p.bytes));
            }
            if (pending_ && t - lastDelivered_ >= deliverEvery) {
                deliver();
                pending_ = false;
                lastDelivered_ = t;
            }
            judge(t);
            if (settings_.address.host.empty()) {
                status().linkShare = load_.share(t);
                status().linkAdvice = status().linkShare && status().state == LinkState::live
                                          ? speedAdvice(settings_.address.line.baud, *status().linkShare)
                                          : Text{};
            }
            reportSometimes();
        }
        return End::stopped;
    }

private:
    struct Scan {
        std::optional<FrameField::When> when;
        std::vector<std::size_t> fields;
        ScanBuffer* to = nullptr;
    };

    /// A frame that may be too short for the field has a hole there, which a whole number cannot say.
    [[nodiscard]] SampleType typeOf(const FrameField& f) const {
        return f.offset + f.bytes <= settings_.layout.shortest() ? f.sampleType() : SampleType::float64;
    }

    bool send(const std::string& bytes) {
        tell(WireMessage::Way::sent, bytes);
        return link_->write(bytes);
    }
    bool sendOutputs() {
        return std::ranges::all_of(dueOutputs(), [&](const auto& output) {
            return send(bytesFor(settings_.outputs.at(output.first), output.second));
        });
    }

    void take(const std::string& bytes, Instant t) {
        recent_ += bytes;
        if (recent_.size() > mostRecent) recent_.erase(0, recent_.size() - mostRecent);
        pieces_.clear();
        cutter_.feed(bytes, pieces_);
        const double byteNs = settings_.address.host.empty()
                                  ? 1e9 * settings_.address.line.bitsPerByte() / settings_.address.line.baud
                                  : 0;
        for (FrameCutter::Piece& piece : pieces_) {
            if (!settings_.layout.described()) {
                tell(WireMessage::Way::received, std::move(piece.bytes));
                continue;
            }
            ++status().lines;
            if (piece.problem.empty()) {
                // It ended as long ago as what came behind it took on the line.
                const Instant ended{t.ns - static_cast<std::int64_t>(byteNs * static_cast<double>(piece.bytesBehind))};
                piece.problem = read(piece.bytes, ended);
            }
            if (piece.problem.empty()) {
                lastGood_ = t;
                rhythm_.came(t);
                ++goodSinceOpen_;
            } else {
                reject(piece.bytes, piece.problem);
            }
            if (wireOpen()) {
                std::vector<WireField> fields;
                if (piece.problem.empty())
                    for (const FrameField& f : settings_.fields)
                        if (standsIn(f, piece.bytes))
                            fields.push_back({f.offset, f.bytes, f.name, f.value(piece.bytes)});
                std::ranges::sort(fields, {}, &WireField::start);
                tell(WireMessage::Way::received, std::move(piece.bytes), std::move(fields), std::move(piece.problem));
            }
        }
    }

    static bool standsIn(const FrameField& f, std::string_view frame) {
        return f.offset + f.bytes <= frame.size() && fits(f.when, frame);
    }
    static bool fits(const std::optional<FrameField::When>& when, std::string_view frame) {
        return !when || (when->offset < frame.size() && static_cast<std::uint8_t>(frame[when->offset]) == when->byte);
    }

    Text read(std::string_view frame, Instant at) {
        if (clock_) {
            const FrameField& f = settings_.fields[*settings_.stamp];
            if (standsIn(f, frame))
                at = clock_->at(static_cast<std::uint64_t>(std::fmod(f.value(frame), std::ldexp(1.0, 53))), at);
        }
        bool any = settings_.fields.empty();
        for (const Scan& scan : scans_) {
            if (!fits(scan.when, frame)) continue;
            values_.clear();
            bool here = false;
            for (const std::size_t i : scan.fields) {
                const FrameField& f = settings_.fields[i];
                const bool whole = f.offset + f.bytes <= frame.size();
                values_.push_back(whole ? f.value(frame) : std::nan(""));
                here = here || whole;
            }
            if (!here) continue;
            scan.to->add(at, values_);
            any = pending_ = true;
        }
        return any ? Text{} : text(CRUSCOTTO_TEXT("none of the values stands in it"));
    }

    void judge(Instant t) {
        const FrameLayout& layout = settings_.layout;
        const Duration patience = rhythm_.patience(seconds(settings_.silenceSeconds));
        if (t - lastByte_ > patience) {
            rhythm_.paused();
            return setState(
                LinkState::silent,
                text(
                    CRUSCOTTO_TEXT("{0} is open, but nothing has arrived for {1} s. Is the board powered, and does its "
                                   "program run?"),
                    link_->name(), shortNumber(patience.seconds())));
        }
        if (layout.described() && goodSinceOpen_ > 0 && t - lastGood_ <= seconds(1)) {
            if (settings_.fields.empty())
                return setLive(text(CRUSCOTTO_TEXT("Frames arrive on {0} and fit, but no value in them has a name yet. "
                                                   "See the wire, and select the bytes of one."),
                                    link_->name()));
            if (clock_ && clock_->restarts() > 0)
                return setLive(
                    text(CRUSCOTTO_TEXT("Frames arrive on {0} and fit. The board's own time has begun anew {1} times."),
                         link_->name(), clock_->restarts()));
            return setLive(text(CRUSCOTTO_TEXT("Frames arrive on {0} and fit."), link_->name()));
        }
        // Where nothing has come since the last good frame, there is nothing to find fault with.
        if (recent_.size() < 64 || lastByte_ <= lastGood_ || t - lastGood_ <= seconds(1)) return;
        if (t - lastGuess_ >= guessEvery) {
            lastGuess_ = t;
            suggestions_.clear();
            for (const FrameLayout& guess : guessLayouts(recent_)) {
                if (guess == layout) continue;
                suggestions_.push_back(
                    {text(CRUSCOTTO_TEXT("Try frames: {0}"), frameLayoutText(guess)), "frame", frameLayoutText(guess)});
            }
        }
        if (!layout.described())
            return setState(
                LinkState::nonsense,
                text(CRUSCOTTO_TEXT("Bytes arrive on {0}. What a frame begins and ends with is not said "
                                    "yet{1}"),
                     link_->name(),
                     suggestions_.empty() ? "; nothing in them comes back regularly. Is the speed the board's?"
                                          : "; this is what they look like:"),
                suggestions_);
        const std::string why = status().lastRejected.empty() ? "" : status().lastRejected.back().reason.english();
        const bool serial = settings_.address.host.empty();
        setState(LinkState::nonsense,
                 text(CRUSCOTTO_TEXT("Bytes arrive on {0}, but no frame fits{1}. Check the frame{2}."), link_->name(),
                      why.empty() ? "" : ": " + why,
                      serial ? fmt::format(", and the speed of {} baud", settings_.address.line.baud) : std::string()),
                 suggestions_);
    }

    const FrameBoardSettings settings_;
    const std::unique_ptr<ByteLink> link_;
    FrameCutter cutter_;
    SerialLoad load_;
    RegularMessages regular_;
    std::vector<Scan> scans_;
    std::optional<BoardClock> clock_;
    std::vector<FrameCutter::Piece> pieces_;
    std::vector<double> values_;
    std::string recent_;
    std::vector<DeviceStatus::Suggestion> suggestions_;
    Rhythm rhythm_;
    Instant opened_, lastByte_, lastGood_, lastDelivered_, lastGuess_;
    std::uint64_t goodSinceOpen_ = 0;
    bool pending_ = false;
};

std::vector<TerminalInfo> frameTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = frameBoardSettings(json);
    if (!settings) return out;
    const FrameBoardSettings& s = settings.value();
    for (const FrameField& f : s.fields) {
        TerminalInfo info{f.name};
        info.kind = f.bits == 1 ? ChannelKind::digitalInput : ChannelKind::analogInput;
        info.type = f.offset + f.bytes <= s.layout.shortest() ? f.sampleType() : SampleType::float64;
        info.title = Text{frameFieldText(f)};
        if (f.bits != 1) info.chain = {slopeOffset(1, 0, "1")};
        out.push_back(std::move(info));
    }
    for (const auto& [name, bytes] : s.outputs)
        out.push_back({name, ChannelKind::analogOutput, SampleType::float64, {}, 0});
    return out;
}

std::vector<FieldProposal> frameProposals(const JsonText& json, const std::vector<std::string>& frames,
                                          std::size_t start, std::size_t length) {
    std::vector<FieldProposal> out;
    const auto settings = frameBoardSettings(json);
    if (!settings || !settings.value().layout.described()) return out;
    for (const FieldGuess& g :
         length > 0 ? guessField(frames, start, length) : guessFields(settings.value().layout, frames))
        out.push_back({g.field.offset, g.field.bytes, frameFieldText(g.field), g.value, g.low, g.high});
    return out;
}

}  // namespace

Result<FrameBoardSettings> frameBoardSettings(const JsonText& json) {
    FrameBoardSettings out;
    SettingsReader settings(json);
    auto address = linkAddress(settings.word("address"), 0);
    if (!address) return address.error();
    out.address = std::move(address.value());
    readLineSettings(settings, out.address.line);
    auto layout = frameLayout(settings.word("frame"));
    if (!layout) return failure("\"frame\": {0}", layout.error().english());
    out.layout = std::move(layout.value());
    for (const auto& [name, words] : settings.pairs("fields", mostFields)) {
        auto field = frameField(name, words);
        if (!field) return field.error();
        const FrameField& f = field.value();
        if (out.layout.length && f.offset + f.bytes > out.layout.length)
            return failure("\"{0}\" ends behind the frame, which has {1} bytes.", name, out.layout.length);
        out.fields.push_back(std::move(field.value()));
    }
    if (const std::string stamp = settings.word("stamp"); !stamp.empty()) {
        const auto it = std::ranges::find(out.fields, stamp, &FrameField::name);
        if (it == out.fields.end() || it->type != FrameField::Type::unsignedWhole)
            return failure("\"stamp\": \"{0}\" is none of the values, or no unsigned whole number.", stamp);
        out.stamp = static_cast<std::size_t>(it - out.fields.begin());
    }
    out.stampSeconds = settings.number("stamp-unit-s", 0.001, 1e-7, 1);
    out.silenceSeconds = settings.number("silence-s", 3, 0.1, 1e6);
    out.silenceIsFault = settings.flag("silence-is-fault");
    readTemplates(settings, out.ask, out.askSeconds, out.outputs);
    out.heartbeat = readHeartbeat(settings);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

DeviceKind frameBoardKind() {
    DeviceKind kind;
    kind.key = "frame-board";
    kind.title = CRUSCOTTO_TEXT("Board that sends frames of bytes");
    kind.name = CRUSCOTTO_TEXT("Frame board");
    kind.hasWire = true;
    kind.looseOutputs = true;
    using Type = SettingInfo::Type;
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Port, or host and port"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("As in /dev/ttyACM0, or 192.0.2.7:4001.")},
        {"baud",
         CRUSCOTTO_TEXT("Speed in baud"),
         Type::number,
         {"9600", "19200", "38400", "57600", "115200", "230400", "1000000"},
         "115200",
         CRUSCOTTO_TEXT("Any number; it must be the one in the board's program.")},
        {"frame",
         CRUSCOTTO_TEXT("A frame"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT(
             "How one is known: begin aa 55 length 12; end 0d 0a; begin 7e length-at 1 u8 +4; cobs; slip; then "
             "check crc16-modbus, where it has a check sum. Empty: what comes is looked at, and proposed.")},
        {"fields",
         CRUSCOTTO_TEXT("Values in it"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT(
             "One a line: a name, =, its first byte counted from 0, and its type (be: its most significant byte comes "
             "first, le: its least significant one), as in weight = 2 i24be; door "
             "= 7 u8 bit 0; mode = 7 u8 bits 4-6; rain = 3 u16le when 2 07. Or select the bytes in the wire.")},
        {"stamp",
         CRUSCOTTO_TEXT("The board's own time is"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT(
             "The name of a value that counts time; samples then have the board's time. Its end and a restart of the "
             "board are noticed. Empty: the time of arrival.")},
        {"stamp-unit-s", CRUSCOTTO_TEXT("It counts, in s"), Type::number, {"0.001", "0.000001"}, "0.001", {}},
        {"silence-s", CRUSCOTTO_TEXT("Silent after, in s"), Type::number, {}, "3", {}},
        silenceSettingInfo(),
    };
    for (SettingInfo& info : templateSettingInfos()) kind.settings.push_back(std::move(info));
    for (SettingInfo& info : lineSettingInfos()) kind.settings.push_back(std::move(info));
    kind.terminals = frameTerminals;
    kind.check = checkedBy<frameBoardSettings>;
    kind.fieldsKey = "fields";
    kind.proposals = frameProposals;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return std::make_unique<FrameBoard>(context, settingsBy<frameBoardSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto

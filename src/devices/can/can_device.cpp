#include "devices/can/can_device.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <sstream>
#include <unordered_map>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/base/whole_file.h"
#include "core/chain/common_stages.h"
#include "devices/link/byte_template.h"
#include "devices/link/link_driver.h"
#include "devices/link/periodic_timer.h"

namespace cruscotto {

namespace {

constexpr Duration deliverEvery = milliseconds(5), silentAfter = milliseconds(3000);
constexpr std::uintmax_t largestDbc = 20'000'000;
constexpr std::size_t mostOthers = 256;

std::string terminalOf(const DbcMessage& m, const DbcSignal& s) {
    return m.name + "." + s.name;
}
constexpr const char* publishPrefix = "publish ";

Dbc layOut(const std::vector<std::string>& names, const std::vector<std::string>& units, std::uint32_t id,
           double every) {
    Dbc out;
    for (std::size_t i = 0; i < names.size(); ++i) {
        if (i % 2 == 0) {
            DbcMessage m;
            m.id = id + static_cast<std::uint32_t>(i / 2);
            m.extended = m.id > 0x7FF;
            m.name = fmt::format("Bench_{}", i / 2 + 1);
            m.sender = "Cruscotto";
            m.cycleSeconds = every;
            out.messages.push_back(std::move(m));
        }
        DbcSignal s;
        s.name = names[i];
        s.unit = i < units.size() ? units[i] : "";
        s.start = i % 2 == 0 ? 0 : 32;
        s.bits = 32;
        s.isSigned = true;
        s.real = DbcSignal::Float::single;
        out.messages.back().signals.push_back(std::move(s));
    }
    return out;
}

/// The share of the bus that frames of the last seconds have taken.
class BusLoad {
public:
    explicit BusLoad(unsigned bitRate) : bitRate_(bitRate) {}
    void add(unsigned bits, Instant at) {
        if (!began_) began_ = at;
        bits_ += bits;
    }
    /// Of the time since it was asked last.
    double share(Instant now) {
        if (!began_ || now <= *began_) return 0;
        const double out = static_cast<double>(bits_) / ((now - *began_).seconds() * bitRate_);
        began_ = now;
        bits_ = 0;
        return out;
    }

private:
    const unsigned bitRate_;
    std::optional<Instant> began_;
    std::uint64_t bits_ = 0;
};

class CanDevice : public LinkDriver {
public:
    CanDevice(DeviceContext context, CanSettings settings)
        : LinkDriver(std::move(context), outputsOf(settings)),
          settings_(std::move(settings)),
          link_(makeCanLink(settings_.link)),
          load_(settings_.link.bitRate),
          beatTimer_(settings_.heartbeatSeconds) {
        for (std::size_t i = 0; i < settings_.dbc.messages.size(); ++i) {
            const DbcMessage& m = settings_.dbc.messages[i];
            byId_[key(m.id, m.extended)] = i;
        }
        known_.resize(settings_.dbc.messages.size());
        for (const CanSettings::Send& s : settings_.sends) {
            const DbcMessage& m = settings_.dbc.messages[s.message];
            sent_.push_back({m, {}, seconds(s.everySeconds), {}, true, terminalsOf(m, "")});
        }
        for (const DbcMessage& m :
             layOut(settings_.publish, {}, settings_.publishId, settings_.publishSeconds).messages)
            sent_.push_back({m, {}, seconds(settings_.publishSeconds), {}, true, terminalsOf(m, publishPrefix)});
        for (Sent& s : sent_) {
            s.frame.id = s.what.id;
            s.frame.extended = s.what.extended;
            s.frame.length = s.what.length;
            s.frame.fd = s.what.length > 8;
            s.known.resize(s.what.signals.size());
        }
        status().linkShare = 0;
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
    [[nodiscard]] bool silenceIsFault() const override { return settings_.silenceIsFault; }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        std::vector<std::string> messages;
        for (const Sent& s : sent_) {
            Sent put = s;
            bool any = false;
            for (const auto& [terminal, value] : safe) any = setIn(put, terminal, value) || any;
            // What it holds besides has been given a value, or the message was never sent.
            if (any && complete(put)) messages.push_back(link_->bytesOf(put.frame));
        }
        crash.arm(link_->descriptor(), messages);
    }
    void finish() override {
        takeOutputs();
        for (Sent& s : sent_)
            if (s.changed) send(s);
    }

    End talk(const std::stop_token& stop) override {
        setState(LinkState::starting, text(CRUSCOTTO_TEXT("{0} is open; waiting for the first frame."), link_->name()));
        Instant lastFrame = now(), lastDelivered = lastFrame, lastJudged = lastFrame;
        for (Sent& s : sent_) s.due = lastFrame;
        beatTimer_.begin();
        CanLink::Heard heard;
        while (!stop.stop_requested()) {
            takeOutputs();
            Duration wait = milliseconds(50);
            for (Sent& s : sent_) {
                const Instant t = now();
                if (!complete(s)) continue;
                const bool due = s.every.ns > 0 ? t >= s.due : s.changed;
                if (due) {
                    s.due = std::max(s.due + s.every, t);
                    if (!send(s)) return End::lost;
                }
                if (s.every.ns > 0) wait = std::min(wait, s.due - t);
            }
            if (settings_.heartbeat && mayBeat()) {
                if (beatTimer_.due(now()) && transmit(*settings_.heartbeat) == CanLink::Wrote::lost) return End::lost;
                wait = std::min(wait, beatTimer_.left(now()));
            }
            if (pending_) wait = std::min(wait, deliverEvery - (now() - lastDelivered));
            heard.frames.clear();
            heard.strange.clear();
            heard.trouble = {};
            heard.bytes = 0;
            if (!link_->read(std::max(wait, milliseconds(1)), heard)) return End::lost;
            const Instant t = now();
            status().bytes += heard.bytes;
            for (const CanFrame& frame : heard.frames) take(frame, t);
            for (auto& [bytes, why] : heard.strange) {
                reject(bytes, why);
                tell(WireMessage::Way::received, std::move(bytes), {}, why);
            }
            if (!heard.frames.empty()) lastFrame = t;
            if (pending_ && t - lastDelivered >= deliverEvery) {
                deliver();
                pending_ = false;
                lastDelivered = t;
            }
            if (!heard.trouble.empty()) trouble_ = heard.trouble, troubleSince_ = t;
            if (t - lastJudged >= milliseconds(250) || !heard.trouble.empty() ||
                (!heard.frames.empty() && status().state != LinkState::live)) {
                lastJudged = t;
                judge(t, lastFrame);
            }
            reportSometimes();
        }
        return End::stopped;
    }

private:
    struct Sent {
        DbcMessage what;
        CanFrame frame;
        Duration every;
        Instant due;
        bool changed = true;
        std::vector<std::string> terminals;
        std::vector<bool> known{};  // each signal has been given a value
    };
    struct Known {
        ScanBuffer* always = nullptr;
        std::map<unsigned, ScanBuffer*> selected;
    };

    static std::uint64_t key(std::uint32_t id, bool extended) { return id | std::uint64_t{extended} << 32; }
    static std::vector<std::string> terminalsOf(const DbcMessage& m, const std::string& prefix) {
        std::vector<std::string> out;
        for (const DbcSignal& s : m.signals) out.push_back(prefix.empty() ? terminalOf(m, s) : prefix + s.name);
        return out;
    }
    static std::set<std::string> outputsOf(const CanSettings& settings) {
        std::set<std::string> out;
        for (const CanSettings::Send& s : settings.sends)
            for (const DbcSignal& signal : settings.dbc.messages[s.message].signals)
                out.insert(terminalOf(settings.dbc.messages[s.message], signal));
        for (const std::string& id : settings.publish) out.insert(publishPrefix + id);
        return out;
    }

    /// A message goes out only when each of its values is known: what was never set is not made up.
    static bool complete(const Sent& s) { return std::ranges::find(s.known, false) == s.known.end(); }

    void takeOutputs() {
        for (const auto& [terminal, value] : dueOutputs())
            for (Sent& s : sent_)
                if (setIn(s, terminal, value)) s.changed = true;
    }
    /// False where the message has no such terminal.
    static bool setIn(Sent& s, const std::string& terminal, double value) {
        const auto it = std::ranges::find(s.terminals, terminal);
        if (it == s.terminals.end()) return false;
        const auto i = static_cast<std::size_t>(it - s.terminals.begin());
        const DbcSignal& signal = s.what.signals[i];
        setRawValue(signal, (value - signal.offset) / signal.factor, s.frame);
        s.known[i] = true;
        return true;
    }

    bool send(Sent& s) {
        if (!complete(s)) return true;
        std::vector<WireField> fields;
        for (std::size_t i = 0; wireOpen() && i < s.what.signals.size(); ++i)
            fields.push_back(fieldOf(s.what.signals[i], s.terminals[i], s.frame));
        const CanLink::Wrote wrote = transmit(s.frame, std::move(fields));
        s.changed = wrote == CanLink::Wrote::nothing;  // a busy bus takes it in a moment
        return wrote != CanLink::Wrote::lost;
    }

    /// What goes out is shown on the wire and counts as load.
    CanLink::Wrote transmit(const CanFrame& frame, std::vector<WireField> fields = {}) {
        const CanLink::Wrote wrote = link_->write(frame);
        if (wrote == CanLink::Wrote::lost || wrote == CanLink::Wrote::nothing) return wrote;
        if (wireOpen()) tell(WireMessage::Way::sent, wireBytes(frame), std::move(fields));
        load_.add(bitsOnBus(frame), now());
        return wrote;
    }

    static WireField fieldOf(const DbcSignal& s, const std::string& terminal, const CanFrame& f) {
        const auto [first, end] = bytesOfSignal(s);
        return {first + (f.extended ? 4 : 2), end - first, terminal, rawValue(s, f).value_or(0) * s.factor + s.offset};
    }

    void take(const CanFrame& frame, Instant at) {
        ++status().lines;
        load_.add(bitsOnBus(frame), at);
        const auto it = byId_.find(key(frame.id, frame.extended));
        if (it == byId_.end() || frame.remote) {
            if (!frame.remote) countOther(frame);
            if (wireOpen()) tell(WireMessage::Way::received, wireBytes(frame));
            return;
        }
        const DbcMessage& m = settings_.dbc.messages[it->second];
        Known& known = known_[it->second];
        if (frame.length < m.length) {
            const Text why = text(CRUSCOTTO_TEXT("{0} has {1} bytes instead of {2}"), m.name, frame.length, m.length);
            reject(wireBytes(frame), why);
            tell(WireMessage::Way::received, wireBytes(frame), {}, why);
            return;
        }
        const DbcSignal* selector = m.selector();
        const auto selected = selector ? rawValue(*selector, frame) : std::nullopt;
        const auto here = [&](const DbcSignal& s) { return !s.selectedBy || (selected && *selected == *s.selectedBy); };
        if (wireOpen()) {
            std::vector<WireField> fields;
            for (const DbcSignal& s : m.signals)
                if (here(s)) fields.push_back(fieldOf(s, terminalOf(m, s), frame));
            std::ranges::sort(fields, {}, &WireField::start);
            tell(WireMessage::Way::received, wireBytes(frame), std::move(fields));
        }
        store(known.always, m, frame, at, std::nullopt);
        if (selected && *selected >= 0 && *selected < 65536) {
            const auto value = static_cast<unsigned>(*selected);
            if (std::ranges::any_of(m.signals, [&](const DbcSignal& s) { return s.selectedBy == value; }))
                store(known.selected[value], m, frame, at, value);
        }
    }

    void store(ScanBuffer*& scan, const DbcMessage& m, const CanFrame& frame, Instant at,
               std::optional<unsigned> selectedBy) {
        values_.clear();
        for (const DbcSignal& s : m.signals)
            if (s.selectedBy == selectedBy) values_.push_back(rawValue(s, frame).value_or(std::nan("")));
        if (values_.empty()) return;
        if (!scan) {
            std::vector<Channel> channels;
            for (const DbcSignal& s : m.signals)
                if (s.selectedBy == selectedBy)
                    channels.push_back(
                        {terminalOf(m, s), s.sampleType(),
                         s.sampleType() == SampleType::bit ? ChannelKind::digitalInput : ChannelKind::analogInput});
            scan = &addScan(selectedBy ? fmt::format("{} {}", m.name, *selectedBy) : m.name, std::move(channels));
        }
        scan->add(at, values_);
        pending_ = true;
    }

    /// Messages that no description tells of: what there is on a bus that nobody knows yet.
    void countOther(const CanFrame& frame) {
        if (others_.size() >= mostOthers && !others_.contains(key(frame.id, frame.extended))) return;
        Other& other = others_[key(frame.id, frame.extended)];
        ++other.seen;
        other.length = frame.length;
    }
    void listOthers(double overSeconds) {
        status().parts.clear();
        for (auto& [id, other] : others_) {
            status().parts.push_back(
                {id >> 32 ? fmt::format("{:08X}", id & 0x1FFFFFFF) : fmt::format("{:03X}", id),
                 text(CRUSCOTTO_TEXT("{0} bytes, {1} a second"), other.length,
                      shortNumber(std::round(static_cast<double>(other.seen) / overSeconds * 10) / 10))});
            other.seen = 0;
        }
    }

    void judge(Instant t, Instant lastFrame) {
        if (t - lastJudge_ >= milliseconds(1000)) {
            if (lastJudge_ != Instant{}) listOthers((t - lastJudge_).seconds());
            lastJudge_ = t;
            const double share = load_.share(t);
            status().linkShare = share;
            // What is sent at fixed times is known beforehand.
            double own = 0;
            for (const Sent& s : sent_)
                if (s.every.ns > 0 && settings_.link.bitRate > 0)
                    own += bitsOnBus(s.frame) / (s.every.seconds() * settings_.link.bitRate);
            status().linkAdvice = {};
            if (share > 0.7 || own > 0.3)
                status().linkAdvice = text(
                    CRUSCOTTO_TEXT(
                        "The bus is {0} % busy, {1} % of it by what is sent from here. Above about 80 % messages of "
                        "low priority come late: send less often, or raise the bit rate."),
                    std::lround(share * 100), std::lround(own * 100));
        }
        if (!trouble_.empty() && t - troubleSince_ < milliseconds(3000)) return setState(LinkState::nonsense, trouble_);
        trouble_ = {};
        if (status().lines == 0 || t - lastFrame > silentAfter) {
            if (t - lastFrame > silentAfter)
                setState(LinkState::silent,
                         text(CRUSCOTTO_TEXT(
                                  "{0} is open, but no frame comes. Check that the bus is powered, the bit rate of {1} "
                                  "and the two terminating resistors."),
                              link_->name(), settings_.link.bitRate));
            return;
        }
        if (const auto& out = settings_.dbc.leftOut; !out.empty())
            return setLive(
                text(CRUSCOTTO_TEXT("Frames arrive on {0}. Signals of the description that are left out: {1}; "
                                    "{2}."),
                     link_->name(), out.size(), out.front()));
        setLive(text(CRUSCOTTO_TEXT("Frames arrive on {0}."), link_->name()));
    }

    const CanSettings settings_;
    const std::unique_ptr<CanLink> link_;
    BusLoad load_;
    std::unordered_map<std::uint64_t, std::size_t> byId_;
    std::vector<Known> known_;
    std::vector<Sent> sent_;
    PeriodicTimer beatTimer_;
    struct Other {
        std::uint64_t seen = 0;
        std::size_t length = 0;
    };
    std::map<std::uint64_t, Other> others_;
    std::vector<double> values_;
    bool pending_ = false;
    Text trouble_;
    Instant troubleSince_, lastJudge_;
};

std::vector<TerminalInfo> canTerminals(const JsonText& json) {
    std::vector<TerminalInfo> out;
    const auto settings = canSettings(json);
    if (!settings) return out;
    const CanSettings& s = settings.value();
    for (std::size_t i = 0; i < s.dbc.messages.size(); ++i) {
        const DbcMessage& m = s.dbc.messages[i];
        const bool sent = std::ranges::find(s.sends, i, &CanSettings::Send::message) != s.sends.end();
        for (const DbcSignal& signal : m.signals) {
            TerminalInfo info{terminalOf(m, signal)};
            info.type = signal.sampleType();
            const bool bit = info.type == SampleType::bit;
            info.kind = sent ? (bit ? ChannelKind::digitalOutput : ChannelKind::analogOutput)
                             : (bit ? ChannelKind::digitalInput : ChannelKind::analogInput);
            if (sent && !bit && signal.low < signal.high) info.ranges = {{signal.low, signal.high}};
            std::string title = signal.comment;
            for (const auto& [value, words] : signal.words)
                title += (title.empty() ? "" : ", ") + std::to_string(value) + " " + words;
            info.title = title;
            if (!bit)
                info.chain = {
                    slopeOffset(signal.factor, signal.offset, signal.unit.empty() ? "1" : unitFromTyped(signal.unit))};
            out.push_back(std::move(info));
        }
    }
    return out;
}

/// "701 = 05 every 0.1": an identifier of 3 or 8 hexadecimal digits, and up to 8 bytes.
Result<CanFrame> heartbeatFrame(const std::string& words, double& everySeconds) {
    const auto wrong = [] {
        return failure(
            "\"heartbeat\": expected is as in 701 = 05 every 0.1: an identifier of 3 or 8 hexadecimal "
            "digits, up to 8 bytes, and seconds from 0.01 to 3600.");
    };
    const auto number = [](const std::string& digits, unsigned long most) -> std::optional<unsigned long> {
        if (digits.empty() || digits.size() > 8 ||
            digits.find_first_not_of("0123456789abcdefABCDEF") != std::string::npos)
            return std::nullopt;
        const unsigned long v = std::stoul(digits, nullptr, 16);
        return v <= most ? std::optional(v) : std::nullopt;
    };
    constexpr unsigned long shortest = 0x7FF, longest = 0x1FFFFFFF;
    CanFrame out;
    std::istringstream in(words);
    std::string id, is, byte;
    if (!(in >> id >> is) || is != "=" || (id.size() != 3 && id.size() != 8)) return wrong();
    const auto identifier = number(id, id.size() == 3 ? shortest : longest);
    if (!identifier) return wrong();
    out.id = static_cast<std::uint32_t>(*identifier);
    out.extended = id.size() == 8;
    while (in >> byte && byte != "every") {
        const auto v = number(byte, 0xFF);
        if (!v || byte.size() != 2 || out.length == 8) return wrong();
        out.data[out.length++] = static_cast<std::uint8_t>(*v);
    }
    std::string every, more;
    if (byte != "every" || !(in >> every) || in >> more || !parseNumber(every, everySeconds) ||
        !(everySeconds >= 0.01 && everySeconds <= 3600))
        return wrong();
    return out;
}

}  // namespace

Result<CanSettings> canSettings(const JsonText& json) {
    CanSettings out;
    SettingsReader settings(json);
    out.link.address = settings.word("address");
    out.link.bitRate = static_cast<unsigned>(settings.whole("bit-rate", 500'000, 1000, 8'000'000));
    out.link.listenOnly = settings.flag("listen-only");
    out.silenceIsFault = settings.flag("silence-is-fault");
    if (auto checked = checkCanLink(out.link); !checked) return checked.error();
    if (const std::string path = settings.word("database"); !path.empty()) {
        const auto description = readWholeFile(path, largestDbc);
        if (!description) return description.error();
        auto dbc = readDbc(description.value());
        if (!dbc) return failure("{0}: {1}", path, dbc.error().english());
        out.dbc = std::move(dbc.value());
    }
    for (const auto& [name, how] : settings.pairs("send", 256)) {
        const auto m = std::ranges::find(out.dbc.messages, name, &DbcMessage::name);
        if (m == out.dbc.messages.end()) return failure("The bus description has no message \"{0}\" to send.", name);
        if (m->selector()) return failure("\"{0}\" has signals that take turns; such a message cannot be sent.", name);
        CanSettings::Send send{static_cast<std::size_t>(m - out.dbc.messages.begin()), 0};
        if (how.starts_with("every ")) {
            double s = 0;
            if (!parseNumber(how.substr(6), s) || !(s >= 0.001 && s <= 3600))
                return failure("{0}: \"every\" takes seconds, 0.001 to 3600.", name);
            send.everySeconds = s;
        } else if (how != "on change") {
            return failure("{0}: say when it is sent: every SECONDS, or on change.", name);
        }
        out.sends.push_back(send);
    }
    if (const std::string words = settings.word("heartbeat"); !words.empty()) {
        auto beat = heartbeatFrame(words, out.heartbeatSeconds);
        if (!beat) return beat.error();
        if (out.link.listenOnly) return failure("\"heartbeat\": a bus that is only listened to is sent nothing.");
        out.heartbeat = beat.value();
    }
    std::stringstream ids(settings.word("publish"));
    for (std::string id; std::getline(ids, id, ',');) {
        id.erase(0, std::min(id.find_first_not_of(' '), id.size()));
        id.erase(id.find_last_not_of(' ') + 1);
        if (id.empty()) continue;
        if (out.publish.size() >= 512) return failure("\"publish\" takes at most 512 signals.");
        if (std::ranges::find(out.publish, id) == out.publish.end()) out.publish.push_back(id);
    }
    // Identifiers of 11 or 29 bits (ISO 11898-1); those that follow must be such too.
    const int last = 0x1FFFFFFF - static_cast<int>(out.publish.size() / 2);
    out.publishId = static_cast<std::uint32_t>(settings.whole("publish-id", 0x6A0, 0, last));
    out.publishSeconds = settings.number("publish-every-s", 0.1, 0.001, 3600);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

Dbc publishedDbc(const Bench& bench, const DeviceSpec& device) {
    const auto settings = canSettings(device.settings);
    if (!settings) return {};
    std::vector<std::string> names, units;
    for (const std::string& id : settings.value().publish) {
        const SignalSpec* s = bench.signal(id);
        names.push_back(id);
        units.push_back(s ? unitText(s->unit()) : "");
    }
    Dbc out = layOut(names, units, settings.value().publishId, settings.value().publishSeconds);
    for (DbcMessage& m : out.messages)
        for (DbcSignal& d : m.signals)
            if (const SignalSpec* s = bench.signal(d.name)) d.comment = s->name;
    return out;
}

DeviceKind canKind() {
    DeviceKind kind;
    kind.key = "can";
    kind.title = CRUSCOTTO_TEXT("CAN bus");
    kind.name = CRUSCOTTO_TEXT("CAN bus");
    kind.hasWire = true;
    kind.looseOutputs = true;
    using Type = SettingInfo::Type;
    kind.settings = {
        {"address",
         CRUSCOTTO_TEXT("Interface or adapter"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("An interface of this computer, as in can0, or the port of an adapter that speaks slcan, as in "
                        "/dev/ttyACM0.")},
        {"bit-rate",
         CRUSCOTTO_TEXT("Bit rate"),
         Type::number,
         {"125000", "250000", "500000", "1000000"},
         "500000",
         CRUSCOTTO_TEXT(
             "That of the bus. For an interface of this computer it is set there, and said here for the load.")},
        {"listen-only",
         CRUSCOTTO_TEXT("Only listen"),
         Type::flag,
         {},
         "false",
         CRUSCOTTO_TEXT("The adapter then does not even acknowledge.")},
        {"database", CRUSCOTTO_TEXT("Bus description (DBC file)"), Type::text, {}, "", {}, ".dbc"},
        {"send",
         CRUSCOTTO_TEXT("Messages to send"),
         Type::pairs,
         {},
         "",
         CRUSCOTTO_TEXT("One a line: a message of the description, =, every SECONDS or on change. Its signals become "
                        "outputs; it goes out when "
                        "each has a value.")},
        {"heartbeat",
         CRUSCOTTO_TEXT("Sign of life"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("A frame sent again and again, for devices that put their outputs to rest without one, as in "
                        "701 = 05 every 0.1: identifier and bytes in hexadecimal.")},
        {"publish",
         CRUSCOTTO_TEXT("Readings to publish"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("Names of the bench's own signals, with commas between them. \"cruscotto dbc\" writes the "
                        "description for the others.")},
        {"publish-id",
         CRUSCOTTO_TEXT("First identifier of these"),
         Type::number,
         {},
         "1696",
         CRUSCOTTO_TEXT("Two readings a message; the others follow.")},
        {"publish-every-s", CRUSCOTTO_TEXT("Publish every, in s"), Type::number, {}, "0.1", {}},
        silenceSettingInfo(),
    };
    kind.terminals = canTerminals;
    kind.check = [](const JsonText& json) -> Result<void> {
        auto settings = canSettings(json);
        if (!settings) return settings.error();
        return {};
    };
    kind.publishes = [](const JsonText& json) {
        std::map<std::string, std::string> out;
        if (const auto settings = canSettings(json))
            for (const std::string& id : settings.value().publish) out[id] = publishPrefix + id;
        return out;
    };
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        auto settings = canSettings(json);
        return std::make_unique<CanDevice>(context, settings ? std::move(settings.value()) : CanSettings{});
    };
    return kind;
}

}  // namespace cruscotto

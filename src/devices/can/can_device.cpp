#include "devices/can/can_device.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <unordered_map>

#include "core/base/number_text.h"
#include "devices/link/link_driver.h"
#include "devices/link/periodic_timer.h"

namespace cruscotto {

namespace {

constexpr Duration deliverEvery = milliseconds(5), silentAfter = milliseconds(3000);
constexpr std::size_t mostOthers = 256;

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
             laidOut(settings_.publish, {}, settings_.publishId, settings_.publishSeconds).messages)
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

}  // namespace

std::unique_ptr<Device> makeCan(const DeviceContext& context, CanSettings settings) {
    return std::make_unique<CanDevice>(context, std::move(settings));
}

}  // namespace cruscotto

#include "devices/firmata/firmata_device.h"

#include <algorithm>
#include <cmath>

#include "core/chain/common_stages.h"
#include "devices/firmata/firmata_text.h"
#include "devices/link/link_driver.h"

namespace cruscotto {

namespace {

using firmata::Terminal;

constexpr char systemReset = '\xFF';

class FirmataBoard : public LinkDriver {
public:
    FirmataBoard(DeviceContext context, FirmataSettings settings, const std::vector<TerminalRequest>& requests)
        : LinkDriver(std::move(context), outputsOf(requests)),
          settings_(std::move(settings)),
          link_(makeByteLink(settings_.address)) {
        want(requests);
    }
    bool request(const std::vector<TerminalRequest>& requests) override {
        requestLater(requests, outputsOf(requests));
        return true;
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
    void finish() override {
        sendOutputs();
        if (settings_.resetAtEnd && !replayed_ && !atRest() && sentAny_) {
            const std::string reset(1, systemReset);
            tell(WireMessage::Way::sent, reset);
            (void)link_->write(reset);  // behind the safe values, which hold if it fails
        }
    }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        std::string bytes;
        std::map<int, bool> levels;
        for (const Pin& p : pins_)
            if (const auto it = safe.find(p.what.name); it != safe.end() && p.problem.empty() && !replayed_)
                bytes += outputBytes(p, it->second, levels);
        sentAny_ = true;
        if (settings_.resetAtEnd && !replayed_) bytes += systemReset;
        crash.arm(link_->descriptor(), {bytes});
    }

    End talk(const std::stop_token& stop) override {
        reader_.reset();
        know_ = {};
        levels_.clear();
        setState(LinkState::starting,
                 text(CRUSCOTTO_TEXT("{0} is open; asking the board what it is. It may take some seconds to start."),
                      link_->name()));
        const std::uint64_t rejectedBefore = status().rejected;
        const Instant opened = now();
        Instant asked{opened.ns - seconds(10).ns}, lastByte = opened;
        nextRegisters_ = opened;
        seen_.clear();
        for (Pin& p : pins_) p.begun = false;
        spares_.clear();
        bool wasKnown = false;
        std::size_t described = 0;
        // A capture begins when somebody looked: what the board said of itself had passed by then.
        bool running = replayed_;
        if (running) judge();
        while (!stop.stop_requested()) {
            const Instant t = now();
            if (const auto requests = newRequests()) {
                if (!want(*requests) || (running && !replayed_ && !begin())) return End::lost;
                if (running) judge();
            }
            if (!running && t - asked > milliseconds(700)) {
                asked = t;
                // Its firmware, what its pins can do, and which are analog.
                if (!send("\xF0\x79\xF7") || !send("\xF0\x6B\xF7") || !send("\xF0\x69\xF7")) return End::lost;
            }
            if (running) {
                if (!sendOutputs()) return End::lost;
                if (t >= nextRegisters_ && !replayed_ && !askRegisters(t)) return End::lost;
            }
            std::string bytes;
            const Duration wait = running && hasRegisters() && !replayed_
                                      ? std::clamp(nextRegisters_ - t, milliseconds(1), milliseconds(100))
                                      : milliseconds(100);
            if (link_->read(wait, bytes) == ByteLink::Got::lost) return End::lost;
            if (!bytes.empty()) lastByte = now();
            status().bytes += bytes.size();
            std::vector<firmata::Message> messages;
            reader_.feed(bytes, messages);
            for (const firmata::Message& m : messages) take(m);
            deliver();
            const bool known = !know_.firmware.empty() && know_.capabilities && know_.mapping;
            if (replayed_) {
                if (known != std::exchange(wasKnown, known) || (!known && seen_.size() > described)) judge();
                described = seen_.size();
            } else if (!running && known) {
                if (know_.major != 2 || know_.minor < 3) {
                    setState(
                        LinkState::failed,
                        text(
                            CRUSCOTTO_TEXT(
                                "The board speaks version {0}.{1} of the protocol; 2.3 or later is needed. Put a newer "
                                "firmware on it."),
                            know_.major, know_.minor));
                    pause(stop, milliseconds(1000));
                    return stop.stop_requested() ? End::stopped : End::again;
                }
                running = true;
                if (!begin()) return End::lost;
                judge();
            }
            if (!running && now() - opened > milliseconds(6000)) {
                setState(status().rejected > rejectedBefore ? LinkState::nonsense : LinkState::silent,
                         text(CRUSCOTTO_TEXT("{0} is open, but the board does not answer as this firmware does. Is the "
                                             "firmware on it, and is its speed {1} baud?"),
                              link_->name(), settings_.address.line.baud));
                return End::again;
            }
            // A board that reports something and has gone quiet has been reset, or is gone.
            if (running && reports() &&
                now() - lastByte > std::max(milliseconds(3000), milliseconds(10 * settings_.samplingMs))) {
                setState(LinkState::silent,
                         text(CRUSCOTTO_TEXT("{0} has stopped reporting. It is asked anew; the gap is kept."),
                              link_->name()));
                return End::again;
            }
            reportSometimes();
        }
        return End::stopped;
    }

private:
    struct Pin {
        Terminal what;
        ScanBuffer* scan = nullptr;
        Text problem{};
        bool begun = false;  // it is in its mode, or cannot be
    };
    struct Known {
        int major = 0, minor = 0;
        std::string firmware;
        std::vector<std::map<int, int>> pins;
        std::vector<int> channels;  // by pin; 127: none
        bool capabilities = false, mapping = false;
    };

    static std::set<std::string> outputsOf(const std::vector<TerminalRequest>& requests) {
        std::set<std::string> out;
        for (const TerminalRequest& r : requests)
            if (const auto t = firmata::terminal(r.terminal); t && t->out()) out.insert(r.terminal);
        return out;
    }
    [[nodiscard]] bool hasRegisters() const {
        return std::ranges::any_of(pins_, [](const Pin& p) { return p.what.mode == firmata::i2c; });
    }
    [[nodiscard]] bool reports() const {
        return !replayed_ && std::ranges::any_of(pins_, [](const Pin& p) {
            return p.what.mode == firmata::analog && p.problem.empty();
        });
    }

    bool send(std::string bytes) {
        const bool sent = link_->write(bytes);
        tell(WireMessage::Way::sent, std::move(bytes));
        return sent;
    }

    int pinOfChannel(int channel) const {
        const auto it = std::ranges::find(know_.channels, channel);
        return it == know_.channels.end() ? -1 : static_cast<int>(it - know_.channels.begin());
    }

    /// Pins as the bench asks for them; outputs stay, so that they can be safe. False if the link is lost.
    bool want(const std::vector<TerminalRequest>& requests) {
        const auto asked = [&](const Pin& p) {
            return std::ranges::count(requests, p.what.name, &TerminalRequest::terminal) > 0;
        };
        std::string out;
        deliver();
        for (const Pin& p : pins_) {
            if (asked(p) || !p.scan) continue;
            p.scan->away(now(), p.what.name + " was not asked for.");
            if (p.begun && p.problem.empty() && p.what.mode == firmata::analog)
                out += {static_cast<char>(0xC0 | (p.what.number & 0x0F)), '\x00'};
        }
        std::erase_if(pins_, [&](const Pin& p) { return p.scan && !asked(p); });
        for (const TerminalRequest& r : requests) {
            auto t = firmata::terminal(r.terminal);
            if (t && t->out() && atRest()) continue;  // to be an output is to drive
            if (t && t->mode == firmata::input && chosen(r.setup, pullUpSetting()) == "on") t->mode = firmata::pullUp;
            for (Pin& p : pins_)
                if (t && p.what.name == t->name && p.what.mode != t->mode) {
                    p.what.mode = t->mode;
                    p.begun = false;
                }
            if (!t || std::ranges::any_of(pins_, [&](const Pin& p) { return p.what.name == t->name; })) continue;
            Pin pin{*t};
            if (!t->out()) {
                const bool digital = t->mode == firmata::input || t->mode == firmata::pullUp;
                ScanBuffer*& scan = scans_[t->name];
                if (!scan)
                    scan = &addScan(t->name, {{t->name, digital ? SampleType::bit : SampleType::int32,
                                               digital ? ChannelKind::digitalInput : ChannelKind::analogInput}});
                pin.scan = scan;
            }
            pins_.push_back(std::move(pin));
        }
        return out.empty() || replayed_ || send(std::move(out));
    }

    /// Modes and reports of the pins that have none yet. What a pin cannot do is said and left.
    bool begin() {
        std::string out = firmata::sysex(std::string("\x7A") + static_cast<char>(settings_.samplingMs & 0x7F) +
                                         static_cast<char>(settings_.samplingMs >> 7));
        std::set<int> ports;
        readyAgain();
        for (Pin& p : pins_) {
            if (p.what.mode == firmata::i2c || std::exchange(p.begun, true)) continue;
            const int pin = p.what.mode == firmata::analog ? pinOfChannel(p.what.number) : p.what.number;
            const auto i = static_cast<std::size_t>(pin);
            p.problem = {};
            if (pin < 0 || i >= know_.pins.size())
                p.problem = text(CRUSCOTTO_TEXT("the board has no {0}"), p.what.name);
            else if (!know_.pins[i].contains(p.what.mode))
                p.problem = text(CRUSCOTTO_TEXT("{0}: its pin cannot do that"), p.what.name);
            if (!p.problem.empty()) continue;
            out += '\xF4';
            out += static_cast<char>(pin);
            out += static_cast<char>(p.what.mode);
            if (p.what.mode == firmata::analog) {
                out += static_cast<char>(0xC0 | (p.what.number & 0x0F));
                out += '\x01';
            } else if (!p.what.out()) {
                ports.insert(pin / 8);
            }
        }
        out += lookAtSpares();
        for (const int port : ports) {
            out += static_cast<char>(0xD0 | (port & 0x0F));
            out += '\x01';
        }
        if (hasRegisters()) out += firmata::sysex(std::string("\x78\x00\x00", 3));
        return send(std::move(out));
    }

    /// Analog inputs that nobody uses report as well, so that what hangs on them is seen before: no mode is set for
    /// that. Not where it would take more than a share of a serial line.
    std::string lookAtSpares() {
        std::string out;
        const auto used = [&](int channel) {
            return std::ranges::any_of(pins_, [&](const Pin& p) {
                return (p.what.mode == firmata::analog && p.what.number == channel) ||
                       (p.what.mode != firmata::analog && p.what.mode != firmata::i2c &&
                        p.what.number == pinOfChannel(channel));
            });
        };
        std::erase_if(spares_, [&](const Pin& p) {
            if (!used(p.what.number)) return false;
            p.scan->away(now(), p.what.name + " is used otherwise.");
            return true;
        });
        std::vector<int> open;
        for (const int channel : know_.channels)
            if (channel < 16 && !used(channel)) open.push_back(channel);
        constexpr double bytesOfReport = 3, bitsOfByte = 10, mostShare = 0.2;
        const double bits = static_cast<double>(open.size()) * bytesOfReport * bitsOfByte * 1000 / settings_.samplingMs;
        const bool serial = !settings_.address.line.port.empty();
        if (serial && bits > mostShare * settings_.address.line.baud) return out;
        for (const int channel : open) {
            const auto t = firmata::terminal("A" + std::to_string(channel));
            if (!t || std::ranges::any_of(spares_, [&](const Pin& p) { return p.what.number == channel; })) continue;
            Pin spare{*t};
            ScanBuffer*& scan = scans_[t->name];
            if (!scan) scan = &addScan(t->name, {{t->name, SampleType::int32, ChannelKind::analogInput}});
            spare.scan = scan;
            spares_.push_back(std::move(spare));
            out += static_cast<char>(0xC0 | channel);
            out += '\x01';
        }
        return out;
    }

    bool askRegisters(Instant t) {
        nextRegisters_ = std::max(nextRegisters_ + seconds(settings_.registersEvery), t);
        for (const Pin& p : pins_) {
            if (p.what.mode != firmata::i2c) continue;
            std::string data{'\x76', static_cast<char>(p.what.address), '\x08'};
            for (const int v : {p.what.reg, p.what.bytes}) {
                data += static_cast<char>(v & 0x7F);
                data += static_cast<char>(v >> 7);
            }
            if (!send(firmata::sysex(data))) return false;
        }
        return true;
    }

    /// `levels`: of the outputs that are digital, by pin.
    [[nodiscard]] std::string outputBytes(const Pin& pin, double set, std::map<int, bool>& levels) const {
        const int n = pin.what.number;
        if (pin.what.mode == firmata::output) {
            levels[n] = set != 0;
            // A message for a single pin came with 2.5; before that there is only the one for its port.
            if (std::pair(know_.major, know_.minor) >= std::pair(2, 5))
                return {'\xF5', static_cast<char>(n), set != 0 ? '\x01' : '\x00'};
            int port = 0;
            for (const auto& [other, on] : levels)
                if (on && other / 8 == n / 8) port |= 1 << (other % 8);
            return {static_cast<char>(0x90 | (n / 8 & 0x0F)), static_cast<char>(port & 0x7F),
                    static_cast<char>(port >> 7)};
        }
        const auto i = static_cast<std::size_t>(n);
        const auto mode =
            i < know_.pins.size() ? know_.pins[i].find(pin.what.mode) : std::map<int, int>::const_iterator();
        if (i >= know_.pins.size() || mode == know_.pins[i].end()) return {};  // it was asked for since
        const int bits = std::clamp(mode->second, 1, 28);
        const int most = pin.what.mode == firmata::servo ? 180 : (1 << bits) - 1;
        const int value = static_cast<int>(std::lround(std::clamp(set, 0., static_cast<double>(most))));
        constexpr int ofShort = 14;  // bits that the short message holds, for one of the first 16 pins
        std::string parts;
        for (int at = 0; at < std::max(bits, ofShort); at += 7) parts += static_cast<char>(value >> at & 0x7F);
        if (n < 16 && bits <= ofShort) return static_cast<char>(0xE0 | n) + parts;
        return firmata::sysex(std::string{'\x6F', static_cast<char>(n)} + parts);
    }

    bool sendOutputs() {
        const auto due = dueOutputs();
        if (replayed_) return true;
        for (std::size_t i = 0; i < due.size(); ++i) {
            const auto pin = std::ranges::find(pins_, due[i].first, [](const Pin& p) { return p.what.name; });
            if (pin == pins_.end()) owe(due[i].first, due[i].second);  // it is asked for in a moment
            if (pin == pins_.end()) continue;
            outputSent(due[i].first, pin->problem);
            if (!pin->problem.empty()) continue;
            if (send(outputBytes(*pin, due[i].second, levels_))) continue;
            for (std::size_t k = i; k < due.size(); ++k) owe(due[k].first, due[k].second);
            return false;
        }
        return true;
    }

    void take(const firmata::Message& m) {
        using What = firmata::Message::What;
        ++status().lines;
        std::vector<WireField> fields;
        Text problem;
        const Instant at = now();
        if (m.what == What::nonsense) {
            problem = CRUSCOTTO_TEXT("no message of the protocol");
            reject(m.bytes, problem);
        } else if (m.what == What::analog) {
            give(firmata::analog, m.number, m.value, at, {1, 2}, fields);
        } else if (m.what == What::digital) {
            for (int bit = 0; bit < 8; ++bit) {
                const int value = m.value >> bit & 1;
                give(firmata::input, m.number * 8 + bit, value, at, {1, 2}, fields);
                give(firmata::pullUp, m.number * 8 + bit, value, at, {1, 2}, fields);
            }
        } else if (m.what == What::version) {
            know_.major = m.bytes[1];
            know_.minor = m.bytes[2];
        } else if (!m.data.empty()) {
            const std::string_view data = std::string_view(m.data).substr(1);
            switch (m.data[0]) {
                case 0x79:
                    if (data.size() < 2) break;
                    know_.major = data[0];
                    know_.minor = data[1];
                    know_.firmware = firmata::fromPairs(data.substr(2)).substr(0, 80);
                    if (know_.firmware.empty()) know_.firmware = "?";
                    break;
                case 0x6C:
                    know_.pins = firmata::capabilities(data);
                    know_.capabilities = true;
                    break;
                case 0x6A:
                    know_.channels.assign(data.begin(), data.end());
                    know_.mapping = true;
                    break;
                case 0x6F:
                    if (data.size() >= 2) {
                        int value = 0;
                        for (std::size_t i = std::min<std::size_t>(data.size() - 1, 4); i >= 1; --i)
                            value = value << 7 | (data[i] & 0x7F);
                        const auto pin = static_cast<std::size_t>(data[0]);
                        if (pin < know_.channels.size())
                            give(firmata::analog, know_.channels[pin], value, at, {2, data.size() - 1}, fields);
                    }
                    break;
                case 0x77:
                    registerReply(firmata::fromPairs(data), at, m.bytes.size(), fields);
                    break;
                case 0x71:
                    problem = text(CRUSCOTTO_TEXT("the board says: {0}"), firmata::fromPairs(data).substr(0, 200));
                    reject(m.bytes, problem);
                    break;
                default:
                    break;
            }
        }
        tell(WireMessage::Way::received, m.bytes, std::move(fields), problem);
    }

    void give(firmata::Mode mode, int number, int value, Instant at, std::pair<std::size_t, std::size_t> where,
              std::vector<WireField>& fields) {
        if (replayed_) seen_.emplace(mode, number);
        for (Pin& p : pins_) {
            if (p.what.mode != mode || p.what.number != number || !p.scan) continue;
            const double v = value;
            p.scan->add(at, std::span(&v, 1));
            fields.push_back({where.first, where.second, p.what.name, v});
        }
        for (Pin& p : spares_) {
            if (p.what.mode != mode || p.what.number != number) continue;
            const double v = value;
            p.scan->add(at, std::span(&v, 1));
        }
    }

    void registerReply(const std::string& bytes, Instant at, std::size_t length, std::vector<WireField>& fields) {
        if (bytes.size() < 3) return;
        const auto byte = [&](std::size_t i) { return static_cast<std::uint8_t>(bytes[i]); };
        for (Pin& p : pins_) {
            const Terminal& t = p.what;
            if (t.mode != firmata::i2c || t.address != byte(0) || (t.reg & 0xFF) != byte(1)) continue;
            if (bytes.size() != 2U + static_cast<std::size_t>(t.bytes)) continue;
            int value = t.bytes == 1 ? byte(2) : t.bigEndian ? byte(2) << 8 | byte(3) : byte(3) << 8 | byte(2);
            if (t.isSigned && t.bytes == 1) value = static_cast<std::int8_t>(value);
            if (t.isSigned && t.bytes == 2) value = static_cast<std::int16_t>(value);
            const double v = value;
            p.scan->add(at, std::span(&v, 1));
            fields.push_back({6, length - 7, t.name, v});
        }
    }

    void judge() {
        status().found.clear();
        for (std::size_t i = 0; i < know_.pins.size(); ++i) {
            const auto& modes = know_.pins[i];
            const std::string pin = "D" + std::to_string(i);
            const auto analogNow = modes.find(firmata::analog);
            const bool isAnalog = analogNow != modes.end() && i < know_.channels.size() && know_.channels[i] < 127;
            const std::string place = isAnalog ? "A" + std::to_string(know_.channels[i]) : pin;
            const auto add = [&](std::string name, Text use, ChannelKind kind, int bits, ChainSpec chain = {},
                                 std::optional<Scale> range = {}) {
                TerminalInfo info{std::move(name), kind, isDigital(kind) ? SampleType::bit : SampleType::int32};
                info.title =
                    bits > 1 ? text(CRUSCOTTO_TEXT("pin {0}, {1} bits"), i, bits) : text(CRUSCOTTO_TEXT("pin {0}"), i);
                info.place = place;
                info.use = std::move(use);
                info.chain = std::move(chain);
                if (range) info.ranges = {*range};
                status().found.push_back(std::move(info));
            };
            if (isAnalog)
                add(place, CRUSCOTTO_TEXT("analog in"), ChannelKind::analogInput, analogNow->second,
                    {countsToVolts(std::clamp(analogNow->second, 1, 32), 0, 5, "unipolar")});
            if (modes.contains(firmata::input)) add(pin, CRUSCOTTO_TEXT("digital in"), ChannelKind::digitalInput, 1);
            if (modes.contains(firmata::output))
                add(pin + " out", CRUSCOTTO_TEXT("out"), ChannelKind::digitalOutput, 1);
            if (const auto it = modes.find(firmata::pwm); it != modes.end())
                add(pin + " pwm", CRUSCOTTO_TEXT("pulse width"), ChannelKind::analogOutput, it->second, {},
                    Scale{0, static_cast<double>((1 << std::clamp(it->second, 1, 28)) - 1)});
            if (const auto it = modes.find(firmata::servo); it != modes.end())
                add(pin + " servo", CRUSCOTTO_TEXT("servo"), ChannelKind::analogOutput, it->second,
                    {slopeOffset(1, 0, "deg")}, Scale{0, 180});
        }
        if (replayed_ && know_.firmware.empty()) {
            for (const auto& [mode, number] : seen_)
                if (mode != firmata::pullUp) {
                    const bool analog = mode == firmata::analog;
                    TerminalInfo info{(analog ? "A" : "D") + std::to_string(number),
                                      analog ? ChannelKind::analogInput : ChannelKind::digitalInput,
                                      analog ? SampleType::int32 : SampleType::bit};
                    info.title = CRUSCOTTO_TEXT("reported in the capture");
                    status().found.push_back(std::move(info));
                }
            setLive(text(CRUSCOTTO_TEXT("{0} is played again. What the board said of itself is not in it: its pins "
                                        "are those that report."),
                         link_->name()));
            sink().report(status());
            return;
        }
        Text problem;
        for (const Pin& p : pins_)
            if (problem.empty()) problem = p.problem;
        if (!problem.empty())
            setLive(text(CRUSCOTTO_TEXT("{0} answers, but {1}. The rest goes on."), know_.firmware, problem.english()));
        else
            setLive(text(CRUSCOTTO_TEXT("{0} (protocol {1}.{2}) answers, with {3} pins."), know_.firmware, know_.major,
                         know_.minor, know_.pins.size()));
        sink().report(status());
    }

    const FirmataSettings settings_;
    const bool replayed_ = settings_.address.isCapture();  // nobody is there to be asked
    bool sentAny_ = false;
    const std::unique_ptr<ByteLink> link_;
    firmata::Reader reader_;
    std::vector<Pin> pins_;
    std::vector<Pin> spares_;                   // analog inputs that nobody uses
    std::map<std::string, ScanBuffer*> scans_;  // by terminal, of all that were ever asked for
    std::map<int, bool> levels_;                // of digital outputs, by pin, as they were last sent
    Known know_;
    std::set<std::pair<firmata::Mode, int>> seen_;  // what has reported
    Instant nextRegisters_;
};

}  // namespace

std::unique_ptr<Device> makeFirmata(const DeviceContext& context, FirmataSettings settings,
                                    const std::vector<TerminalRequest>& requests) {
    return std::make_unique<FirmataBoard>(context, std::move(settings), requests);
}

}  // namespace cruscotto

#include "devices/modbus/modbus_device.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "devices/link/link_driver.h"
#include "devices/link/periodic_timer.h"
#include "devices/modbus/modbus_identity.h"

namespace cruscotto {

namespace {

constexpr int missesUntilSilent = 3;
constexpr Duration shortestRest = milliseconds(500), longestRest = milliseconds(10'000);
constexpr Duration giveUpAfter = milliseconds(4000);

class ModbusDevice : public LinkDriver {
public:
    ModbusDevice(DeviceContext context, ModbusSettings settings, const std::vector<TerminalRequest>& requests)
        : LinkDriver(std::move(context), outputsOf(settings)),
          settings_(std::move(settings)),
          link_(makeByteLink(settings_.address)),
          replies_(settings_.framing),
          atTerminals_(askedAtTerminals(settings_.rack, requests)),
          beatTimer_(settings_.heartbeat ? settings_.heartbeat->everySeconds : 1) {
        for (const ModbusRead& read : planReads(settings_.points, settings_.mostGap)) addRead(read);
        for (const RackModule::Setting& s : settings_.rack.settings) {
            DeviceParameter p;
            p.key = s.point.name;
            p.title = s.title;
            p.unit = s.unit;
            for (const auto& [word, code] : s.choices) p.choices.push_back(word);
            p.limits = s.limits;
            if (const auto it = settings_.wanted.find(p.key); it != settings_.wanted.end()) p.wanted = it->second;
            if (const auto it = atTerminals_.find(p.key); it != atTerminals_.end()) p.wanted = it->second;
            status().parameters.push_back(std::move(p));
        }
        for (const ModbusPoint& p : settings_.points) units_[p.unit];
        for (const auto& [slot, name] : settings_.slots)
            if (const auto module = rackModule(name))
                status().parts.push_back({fmt::format("slot {}", slot), moduleText(module.value(), name)});
    }

protected:
    std::optional<ByteLink::Failure> open() override { return link_->open(); }
    void close() override { link_->close(); }
    void wake() override { link_->wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("The connection to {0} broke. It is tried again; the gap is kept."), link_->name());
    }
    void finish() override { sendOutputs({}); }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        std::vector<std::string> messages;
        std::uint16_t number = 0xFF00;
        for (const ModbusPoint& p : settings_.points)
            if (const auto it = safe.find(p.name); it != safe.end())
                messages.push_back(modbusBytes(
                    settings_.framing, {++number, static_cast<std::uint8_t>(p.unit), modbusWritePdu(p, it->second)}));
        // On a serial line the unit's answer passes between two of them.
        crash.arm(link_->descriptor(), messages, std::chrono::milliseconds(serial() ? 30 : 0));
    }

    End talk(const std::stop_token& stop) override {
        replies_.reset();
        setState(LinkState::starting,
                 text(CRUSCOTTO_TEXT("Connected to {0}; waiting for the first reply."), link_->name()));
        const Instant opened = now();
        lastReply_ = opened;
        for (Read& r : reads_) r.due = opened;
        for (auto& [unit, health] : units_) health = {};
        if (settings_.points.empty()) {
            const Outcome said = identify(stop);
            if (said == Outcome::lost) return stop.stop_requested() ? End::stopped : End::lost;
            // A capture that began later does not hold it.
            if (said == Outcome::nothing && !settings_.address.isCapture()) return nobodyAnswers();
        }
        if (!armWatchdogs(stop) || !readParameters(stop)) return stop.stop_requested() ? End::stopped : End::lost;
        // What is set up at a terminal takes effect by itself; what the device's settings want waits for a word.
        if (!atRest() && !settings_.address.isCapture())
            for (const DeviceParameter& p : status().parameters)
                if (p.problem.empty() && atTerminals_.contains(p.key) && p.there != p.wanted)
                    setParameter(p.key, p.wanted.value_or(""));
        while (!stop.stop_requested()) {
            if (!sendOutputs(stop) || !beat(stop) || !writeParameters(stop))
                return stop.stop_requested() ? End::stopped : End::lost;
            reportSometimes();
            auto next = std::ranges::min_element(reads_, {}, &Read::due);
            if (next == reads_.end() || next->due > now()) {
                Duration rest = next == reads_.end() ? milliseconds(100) : next->due - now();
                if (settings_.heartbeat && mayBeat()) rest = std::min(rest, beatTimer_.left(now()));
                if (!idle(rest)) return End::lost;
                continue;
            }
            if (!ask(*next, stop)) return stop.stop_requested() ? End::stopped : End::lost;
            if (now() - lastReply_ > giveUpAfter + seconds(3 * settings_.timeoutSeconds)) return nobodyAnswers();
        }
        return End::stopped;
    }

private:
    struct Read {
        ModbusRead what;
        ScanBuffer* scan = nullptr;
        Instant due;
        double tookNs = 0;  // on the mean
        std::optional<Instant> lastGood;
        Text problem;
    };
    struct Health {
        int misses = 0;
        bool silent = false;
        Duration rest = shortestRest;  // until a silent one is asked again
    };
    enum class Outcome { good, refused, nothing, lost };
    struct Reply {
        Outcome outcome = Outcome::nothing;
        std::string pdu;
        Text problem;
        Instant at;  // the middle between request and reply
        std::string bytes;
        std::size_t pduAt = 0;
    };

    static std::set<std::string> outputsOf(const ModbusSettings& settings, std::optional<int> unit = {}) {
        std::set<std::string> out;
        for (const ModbusPoint& p : settings.points)
            if (p.out && (!unit || p.unit == *unit)) out.insert(p.name);
        return out;
    }

    void addRead(const ModbusRead& what) {
        std::vector<Channel> channels;
        for (const std::size_t i : what.points) channels.push_back(settings_.points[i].channel());
        Read& read = reads_.emplace_back();
        read.what = what;
        // Several rates may begin at one address: the first point tells them apart.
        read.scan = &addScan(
            fmt::format("{}/{}/{}", what.unit, modbusTableName(what.table), settings_.points[what.points.front()].name),
            std::move(channels));
        read.due = {};
    }

    End nobodyAnswers() {
        setState(LinkState::silent,
                 text(CRUSCOTTO_TEXT("{0} is open, but no unit answers. Check that it speaks Modbus there, the unit "
                                     "number and, on a serial line, speed, parity and the two wires."),
                      link_->name()));
        return End::again;
    }

    /// Waits for when the next is due; what comes unasked is no reply. False if the link is lost.
    bool idle(Duration d) {
        std::string bytes;
        const auto got = link_->read(std::clamp(d, milliseconds(1), milliseconds(100)), bytes);
        if (got == ByteLink::Got::lost) return false;
        if (!bytes.empty()) {
            status().bytes += bytes.size();
            reject(bytes, CRUSCOTTO_TEXT("came without being asked for, or too late"));
            tell(WireMessage::Way::received, bytes, {}, CRUSCOTTO_TEXT("came without being asked for, or too late"));
            replies_.reset();
        }
        return true;
    }

    [[nodiscard]] bool serial() const { return settings_.framing == ModbusFraming::rtu; }

    /// On a serial line nobody may speak for 3.5 characters between two frames, and a late reply would be taken for one
    /// to the next request: it is waited for.
    bool quiet(bool afterMiss) {
        if (!serial()) return true;
        const double charNs = 1e9 * settings_.address.line.bitsPerByte() / std::max(1U, settings_.address.line.baud);
        const Duration silence{std::max<std::int64_t>(1'750'000, static_cast<std::int64_t>(3.5 * charNs))};
        if (!afterMiss) {
            pause({}, silence);
            return true;
        }
        const Instant end = now() + seconds(settings_.timeoutSeconds);
        std::string bytes;
        while (now() < end) {
            bytes.clear();
            const auto got = link_->read(milliseconds(30), bytes);
            if (got == ByteLink::Got::lost) return false;
            if (bytes.empty()) break;
            reject(bytes, CRUSCOTTO_TEXT("came too late"));
            tell(WireMessage::Way::received, bytes, {}, CRUSCOTTO_TEXT("came too late"));
        }
        return true;
    }

    Reply exchange(int unit, const std::string& pdu, const std::stop_token& stop) {
        Reply reply;
        ModbusMessage request{++transaction_, static_cast<std::uint8_t>(unit), pdu};
        std::string bytes = modbusBytes(settings_.framing, request);
        replies_.reset();
        const Instant sent = now();
        tell(WireMessage::Way::sent, bytes);
        if (!link_->write(bytes)) {
            reply.outcome = Outcome::lost;
            return reply;
        }
        const Instant until = sent + seconds(settings_.timeoutSeconds);
        std::vector<ModbusReplies::Piece> pieces;
        // With a stop under way, an exchange that has begun is finished: the safe values go out that way.
        while (now() < until) {
            bytes.clear();
            const auto got = link_->read(std::max(milliseconds(1), until - now()), bytes);
            if (got == ByteLink::Got::lost) {
                reply.outcome = Outcome::lost;
                return reply;
            }
            status().bytes += bytes.size();
            replies_.feed(bytes, pieces);
            for (ModbusReplies::Piece& piece : pieces) {
                const bool ours = piece.problem.empty() && piece.message.unit == request.unit &&
                                  (serial() || piece.message.transaction == request.transaction) &&
                                  !piece.message.pdu.empty() && (piece.message.pdu[0] & 0x7f) == pdu[0];
                if (!ours) {
                    const Text why =
                        piece.problem.empty() ? Text(CRUSCOTTO_TEXT("no reply to what was asked")) : piece.problem;
                    reject(piece.bytes, why);
                    tell(WireMessage::Way::received, std::move(piece.bytes), {}, why);
                    continue;
                }
                const Instant t = now();
                ++status().lines;
                lastReply_ = t;
                reply.at = {sent.ns + (t.ns - sent.ns) / 2};
                reply.pdu = piece.message.pdu;
                reply.pduAt = serial() ? 1 : 7;
                reply.bytes = std::move(piece.bytes);
                if (reply.pdu[0] & 0x80) {
                    reply.outcome = Outcome::refused;
                    reply.problem = modbusException(reply.pdu.size() > 1 ? static_cast<std::uint8_t>(reply.pdu[1]) : 0);
                } else {
                    reply.outcome = Outcome::good;
                }
                tookNs_ = static_cast<double>(t.ns - sent.ns);
                quiet(false);
                return reply;
            }
            pieces.clear();
            if (stop.stop_requested() && now() - sent > milliseconds(100)) break;
        }
        replies_.pause(pieces);
        for (ModbusReplies::Piece& piece : pieces) {
            reject(piece.bytes, piece.problem);
            tell(WireMessage::Way::received, std::move(piece.bytes), {}, piece.problem);
        }
        tookNs_ = static_cast<double>((now() - sent).ns);
        reply.problem = text(CRUSCOTTO_TEXT("unit {0} did not answer within {1} s"), unit, settings_.timeoutSeconds);
        if (!quiet(true)) reply.outcome = Outcome::lost;
        return reply;
    }

    /// The registers, or bits as 0 and 1, of a reply; empty where it does not hold as many as were asked for.
    static std::vector<std::uint16_t> registersOf(const Reply& reply, ModbusTable table, std::size_t count) {
        const bool bits = table == ModbusTable::coil || table == ModbusTable::discrete;
        const std::size_t bytes = bits ? (count + 7) / 8 : count * 2;
        std::vector<std::uint16_t> out;
        if (reply.pdu.size() != bytes + 2 || static_cast<std::uint8_t>(reply.pdu[1]) != bytes) return out;
        const auto at = [&](std::size_t i) { return static_cast<std::uint8_t>(reply.pdu[2 + i]); };
        for (std::size_t i = 0; i < count; ++i)
            out.push_back(static_cast<std::uint16_t>(bits ? at(i / 8) >> (i % 8) & 1 : at(2 * i) << 8 | at(2 * i + 1)));
        return out;
    }

    /// False if the link is lost.
    bool ask(Read& read, const std::stop_token& stop) {
        const Duration every = seconds(read.what.everySeconds);
        Health& health = units_[read.what.unit];
        read.due = std::max(read.due + every, now());
        const ModbusRead what = read.what;
        Reply reply = exchange(what.unit, modbusReadPdu(what.table, what.address, what.count), stop);
        read.tookNs = read.tookNs == 0 ? tookNs_ : 0.9 * read.tookNs + 0.1 * tookNs_;
        if (reply.outcome == Outcome::lost) return false;
        if (reply.outcome == Outcome::nothing) {
            if (stop.stop_requested()) return true;
            tell(WireMessage::Way::received, {}, {}, reply.problem);
            read.problem = reply.problem;
            if (++health.misses >= missesUntilSilent && !std::exchange(health.silent, true))
                partFails(outputsOf(settings_, what.unit));
            notRead(read, fmt::format("Unit {} did not answer.", what.unit));
            if (health.silent) {
                // One that does not answer must not hold up the others of the line: it is asked less and less often.
                const bool others = std::ranges::any_of(units_, [](const auto& u) { return !u.second.silent; });
                for (Read& r : reads_)
                    if (r.what.unit == what.unit) {
                        notRead(r, fmt::format("Unit {} did not answer.", what.unit));
                        r.due = std::max(r.due, now() + (others ? health.rest : shortestRest));
                    }
                health.rest = std::min(health.rest + health.rest, longestRest);
            }
            judge();
            return true;
        }
        if (health.silent) partIsBack(outputsOf(settings_, what.unit));
        health = {};
        if (reply.outcome == Outcome::refused) {
            tell(WireMessage::Way::received, reply.bytes, {}, reply.problem);
            if (reply.pdu.size() > 1 && (reply.pdu[1] == 2 || reply.pdu[1] == 3) && what.points.size() > 1) {
                // A hole between the values, or one of them, is what it has not: each is asked for by itself.
                read.problem = {};
                split(read);
                return true;
            }
            read.problem = text(CRUSCOTTO_TEXT("{0} of unit {1} from {2}: {3}"), modbusTableName(what.table), what.unit,
                                what.address, reply.problem.english());
            reject(reply.bytes, read.problem);
            notRead(read, read.problem.english() + ".");
            judge();
            return true;
        }
        const auto registers = registersOf(reply, what.table, what.count);
        if (registers.empty()) {
            reject(reply.bytes, CRUSCOTTO_TEXT("not as many values as were asked for"));
            tell(WireMessage::Way::received, reply.bytes, {}, CRUSCOTTO_TEXT("not as many values as were asked for"));
            notRead(read, "The reply had not as many values as were asked for.");
            return true;
        }
        read.problem = {};
        take(read, reply, registers);
        judge();
        return true;
    }

    /// A gap from its last value to its next.
    void notRead(const Read& read, const std::string& cause) {
        if (!read.lastGood) return;
        read.scan->away(*read.lastGood, cause);
        read.scan->deliver(sink());
    }

    void take(Read& read, Reply& reply, const std::vector<std::uint16_t>& registers) {
        std::vector<double> values;
        std::vector<WireField> fields;
        const bool looked = wireOpen();
        for (const std::size_t i : read.what.points) {
            const ModbusPoint& p = settings_.points[i];
            const std::size_t offset = p.address - read.what.address;
            values.push_back(modbusValue(p, registers.data() + offset));
            if (!looked) continue;
            const bool bits = p.table == ModbusTable::coil || p.table == ModbusTable::discrete;
            fields.push_back(
                {reply.pduAt + 2 + (bits ? offset / 8 : offset * 2), bits ? 1 : p.words() * 2, p.name, values.back()});
        }
        tell(WireMessage::Way::received, std::move(reply.bytes), std::move(fields));
        read.scan->add(reply.at, values);
        read.scan->deliver(sink());
        read.lastGood = reply.at;
    }

    void split(const Read& read) {
        const ModbusRead what = read.what;
        std::erase_if(reads_, [&](const Read& r) { return &r == &read; });
        for (const std::size_t i : what.points) {
            const ModbusPoint& p = settings_.points[i];
            addRead({what.unit, what.table, p.address, static_cast<std::uint16_t>(p.words()), what.everySeconds, {i}});
            reads_.back().due = now();
        }
    }

    /// What there is to say about all of it together.
    void judge() {
        double share = 0;
        Text problem;
        for (const Read& r : reads_) {
            if (r.what.everySeconds > 0) share += r.tookNs * 1e-9 / r.what.everySeconds;
            if (problem.empty()) problem = r.problem;
        }
        status().linkShare = share;
        status().linkAdvice = {};
        if (share > 0.8)
            status().linkAdvice = text(
                share > 1
                    ? CRUSCOTTO_TEXT("The rates asked for need {0} % of the line: readings come later than asked. Read "
                                     "less often, raise the speed, or lay the registers side by side.")
                    : CRUSCOTTO_TEXT("The rates asked for need {0} % of the line; there is little room for more."),
                std::lround(share * 100));
        std::size_t silent = 0;
        for (const auto& [unit, health] : units_) silent += health.silent;
        if (silent == units_.size() && silent > 0) {
            setState(LinkState::silent,
                     text(CRUSCOTTO_TEXT("{0} is open, but no unit answers: {1}."), link_->name(), problem.english()));
        } else if (const auto& refused = status().outputProblems; !refused.empty()) {
            setLive(text(CRUSCOTTO_TEXT("The output {0} did not go through: {1}."), refused.begin()->first,
                         refused.begin()->second.english()));
        } else if (!watchdogProblem_.empty()) {
            setLive(text(CRUSCOTTO_TEXT("{0} answers, but its own watch over the outputs is not set: {1}. Without it "
                                        "they stay as they are if this program is killed."),
                         link_->name(), watchdogProblem_.english()));
        } else if (!problem.empty()) {
            setLive(text(CRUSCOTTO_TEXT("{0} answers, but not everything is well: {1}. The rest goes on."),
                         link_->name(), problem.english()));
        } else if (std::ranges::any_of(status().parameters, &DeviceParameter::differs)) {
            setLive(text(CRUSCOTTO_TEXT("{0} answers. Settings of its modules differ from the bench: {1}."),
                         link_->name(), std::ranges::find_if(status().parameters, &DeviceParameter::differs)->key));
        } else {
            setLive(text(CRUSCOTTO_TEXT("{0} answers: {1} requests for {2} values."), link_->name(), reads_.size(),
                         settings_.points.size() - outputsOf(settings_).size()));
        }
    }

    /// Writes, and reads back what stands there then. Nothing on success; the link may be lost (then `lost` is set).
    std::optional<Text> write(const ModbusPoint& p, double value, const std::stop_token& stop, bool& lost) {
        Reply reply = exchange(p.unit, modbusWritePdu(p, value), stop);
        lost = reply.outcome == Outcome::lost;
        tell(WireMessage::Way::received, std::move(reply.bytes), {}, reply.problem);
        if (reply.outcome != Outcome::good) return reply.problem;
        reply = exchange(p.unit, modbusReadPdu(p.table, p.address, static_cast<std::uint16_t>(p.words())), stop);
        lost = reply.outcome == Outcome::lost;
        tell(WireMessage::Way::received, reply.bytes, {}, reply.problem);
        if (reply.outcome == Outcome::refused) return std::nullopt;  // some can only be written
        const auto there = registersOf(reply, p.table, p.words());
        if (there.empty()) return reply.problem;
        const bool coil = p.table == ModbusTable::coil;
        const auto meant = coil ? std::vector<std::uint16_t>{value != 0} : modbusRegisters(p, value);
        if (there != meant)
            return text(CRUSCOTTO_TEXT("it was set to {0} and reads back {1}"), shortNumber(value),
                        shortNumber(modbusValue(p, there.data())));
        return std::nullopt;
    }

    /// Tells the units after how long to put their outputs to rest. False if the link is lost.
    bool armWatchdogs(const std::stop_token& stop) {
        watchdogProblem_ = {};
        beatTimer_.begin();
        if (atRest() || settings_.address.isCapture()) return true;
        for (const ModbusWrite& w : settings_.watchdogs) {
            bool lost = false;
            if (const auto problem = write(w.point, w.values[0], stop, lost)) watchdogProblem_ = *problem;
            if (lost) return false;
        }
        return true;
    }
    /// The sign of life, where one is due. False if the link is lost.
    bool beat(const std::stop_token& stop) {
        if (!settings_.heartbeat || !mayBeat() || settings_.address.isCapture() || !beatTimer_.due(now())) return true;
        const ModbusWrite& w = *settings_.heartbeat;
        Reply reply = exchange(w.point.unit, modbusWritePdu(w.point, w.values[beats_++ % w.values.size()]), stop);
        tell(WireMessage::Way::received, std::move(reply.bytes), {}, reply.problem);
        if (reply.outcome == Outcome::lost) return false;
        if (settings_.watchdogs.empty()) watchdogProblem_ = reply.problem;
        return true;
    }

    bool sendOutputs(const std::stop_token& stop) {
        const auto due = dueOutputs();
        for (std::size_t i = 0; i < due.size(); ++i) {
            const auto p = std::ranges::find(settings_.points, due[i].first, &ModbusPoint::name);
            bool lost = false;
            const auto problem = write(*p, due[i].second, stop, lost);
            if (lost) {
                for (std::size_t k = i; k < due.size(); ++k) owe(due[k].first, due[k].second);
                return false;
            }
            outputSent(p->name, problem.value_or(Text{}));
            judge();
        }
        return true;
    }

    /// Nothing is to be read yet: what the unit says that it is, and which modules it has, is all there is to tell.
    /// What is not answered is asked once more. `lost` if the link is, or it is to stop; `nothing` if nobody answers.
    Outcome identify(const std::stop_token& stop) {
        ModbusIdentity identity;
        bool answers = false;
        for (std::string pdu = identity.request(); !pdu.empty(); pdu = identity.request()) {
            Reply reply;
            for (int tries = 0; tries < 2 && reply.outcome == Outcome::nothing; ++tries) {
                reply = exchange(settings_.unit, pdu, stop);
                if (reply.outcome == Outcome::lost || stop.stop_requested()) return Outcome::lost;
                tell(WireMessage::Way::received, std::move(reply.bytes), {}, reply.problem);
            }
            answers = answers || reply.outcome != Outcome::nothing;
            identity.take(reply.outcome == Outcome::good ? reply.pdu : std::string());
        }
        if (!answers) return Outcome::nothing;
        status().parts = identity.parts();
        std::string lines;
        const auto slots = identity.slots();
        for (const auto& [slot, module] : slots) lines += fmt::format("{} = {}\n", slot, module);
        std::vector<DeviceStatus::Suggestion> suggestions;
        if (!slots.empty())
            suggestions = {
                {text(CRUSCOTTO_TEXT("Read the {0} modules that it says it has"), slots.size()), "slots", lines}};
        setLive(
            identity.name().empty()
                ? text(CRUSCOTTO_TEXT("{0} answers, and does not say what it is. Write under Values what to read."),
                       link_->name())
                : text(CRUSCOTTO_TEXT("{0} answers: {1}. Write under Values what to read, or which modules it has."),
                       link_->name(), identity.name()),
            std::move(suggestions));
        return Outcome::good;
    }

    bool readParameters(const std::stop_token& stop) {
        for (std::size_t i = 0; i < settings_.rack.settings.size() && !stop.stop_requested(); ++i) {
            if (!sendOutputs(stop) || !readParameter(i, stop)) return false;
            // A capture that began later holds none of them: each would be waited for in vain.
            if (!settings_.address.isCapture() || status().parameters[i].problem.empty()) continue;
            for (; i < settings_.rack.settings.size(); ++i)
                status().parameters[i].problem = text(CRUSCOTTO_TEXT("the capture does not hold it"));
        }
        return !stop.stop_requested();
    }

    bool readParameter(std::size_t i, const std::stop_token& stop) {
        const RackModule::Setting& s = settings_.rack.settings[i];
        DeviceParameter& out = status().parameters[i];
        Reply reply =
            exchange(s.point.unit,
                     modbusReadPdu(s.point.table, s.point.address, static_cast<std::uint16_t>(s.point.words())), stop);
        if (reply.outcome == Outcome::lost) return false;
        const auto registers = registersOf(reply, s.point.table, s.point.words());
        out.problem = registers.empty() ? reply.problem : Text{};
        tell(WireMessage::Way::received, std::move(reply.bytes), {}, reply.problem);
        if (registers.empty()) return true;
        const double value = modbusValue(s.point, registers.data());
        out.there = shortNumber(value);
        for (const auto& [word, code] : s.choices)
            if (code == value) out.there = word;
        return true;
    }

    bool writeParameters(const std::stop_token& stop) {
        return writeWaiting([&](std::size_t i, const std::string& value) -> std::optional<Written> {
            if (!sendOutputs(stop)) return std::nullopt;  // they never wait for settings
            const RackModule::Setting& s = settings_.rack.settings[i];
            double number = 0;
            bool known = parseNumber(value, number);
            if (!s.choices.empty()) {
                const auto choice = std::ranges::find(s.choices, value, [](const auto& c) { return c.first; });
                known = choice != s.choices.end();
                if (known) number = choice->second;
            }
            if (!known || (s.limits && !(number >= s.limits->low && number <= s.limits->high))) return notTaken(value);
            bool lost = false;
            const auto problem = write(s.point, number, stop, lost);
            if (lost || !readParameter(i, stop)) return std::nullopt;
            judge();
            return problem ? Written{{}, *problem} : writtenAndRead();
        });
    }

    const ModbusSettings settings_;
    const std::unique_ptr<ByteLink> link_;
    ModbusReplies replies_;
    const std::map<std::string, std::string> atTerminals_;  // settings of modules, as the terminals ask for them
    std::vector<Read> reads_;
    std::map<int, Health> units_;
    std::uint16_t transaction_ = 0;
    PeriodicTimer beatTimer_;
    std::size_t beats_ = 0;
    Text watchdogProblem_;
    Instant lastReply_;
    double tookNs_ = 0;
};

}  // namespace

std::unique_ptr<Device> makeModbus(const DeviceContext& context, ModbusSettings settings,
                                   const std::vector<TerminalRequest>& requests) {
    return std::make_unique<ModbusDevice>(context, std::move(settings), requests);
}

}  // namespace cruscotto

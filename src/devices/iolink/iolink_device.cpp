#include "devices/iolink/iolink_device.h"

#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/signal/scale.h"
#include "devices/iolink/http_client.h"
#include "devices/iolink/master_json.h"
#include "devices/link/byte_link.h"
#include "devices/link/link_driver.h"

namespace cruscotto {

namespace {

using nlohmann::json;
constexpr const char* apiRoot = "/iolink/v1";
constexpr std::size_t mostRaw = 32, longestTold = 65'536;
constexpr Duration lookAgainEvery = milliseconds(2000);
constexpr const char* commandName = "Command";

class IoLinkMaster : public LinkDriver {
    using Reply = MasterRequests::Reply;

public:
    IoLinkMaster(DeviceContext context, IoLinkSettings settings)
        : LinkDriver(std::move(context), outputsOf(settings)),
          settings_(std::move(settings)),
          requests_(settings_.capture.empty() ? std::make_unique<HttpClient>(settings_.host, settings_.port,
                                                                             seconds(settings_.timeoutSeconds))
                                              : capturedRequests(settings_.capture)) {
        for (const IoLinkSettings::Sensor& s : settings_.sensors) {
            Polled p;
            p.what = &s;
            p.in = s.iodd.in;
            p.inBytes = (s.iodd.inBits + 7) / 8;
            p.out.assign((s.iodd.outBits + 7) / 8, '\0');
            openScan(p);
            sensors_.push_back(std::move(p));
            for (const IoddParameter& parameter : s.iodd.parameters) addParameter(s, parameter);
            addCommands(s);
        }
    }

protected:
    std::optional<ByteLink::Failure> open() override {
        if (auto opened = requests_->open(); !opened)
            return ByteLink::Failure{
                access(settings_.capture.c_str(), F_OK) == 0 ? LinkState::failed : LinkState::absent,
                opened.error().message};
        const auto reply = get("/gateway/identification", stopToken());
        using What = Reply::What;
        switch (reply.what) {
            case What::refused:
                return hostRefused(name(), ECONNREFUSED);
            case What::unknown:
                return ByteLink::Failure{
                    LinkState::absent,
                    text(CRUSCOTTO_TEXT("The name {0} is not known. Check it, or give the address."), settings_.host)};
            case What::timedOut:
                return hostRefused(name(), ETIMEDOUT);
            case What::broken:
                return ByteLink::Failure{
                    LinkState::nonsense,
                    text(CRUSCOTTO_TEXT("{0} answers, but not in HTTP as a master does. Is it the right port?"),
                         name())};
            case What::stopped:
                return ByteLink::Failure{LinkState::stopped, CRUSCOTTO_TEXT("Stopped.")};
            case What::answered:
                break;
        }
        const json j = parseJson(reply.body);
        if (reply.status == 401 || reply.status == 403)
            return ByteLink::Failure{LinkState::noPermission,
                                     text(CRUSCOTTO_TEXT("{0} wants a name and a password for its JSON interface. "
                                                         "Allow reading without them in its settings."),
                                          name())};
        if (!notHeld(reply) && (reply.status == 404 || !j.is_object()))
            return ByteLink::Failure{LinkState::nonsense,
                                     text(CRUSCOTTO_TEXT("{0} is a web server, but has no {1}: its JSON interface is "
                                                         "of another version, or switched off."),
                                          name(), apiRoot)};
        product_ = within(j, {"productName"}).is_string() ? within(j, {"productName"}).get<std::string>().substr(0, 100)
                                                          : name();
        return std::nullopt;
    }
    void close() override {}
    void wake() override { requests_->wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("The connection to {0} broke. It is tried again; the gap is kept."), name());
    }
    void finish() override { (void)sendOutputs({}); }  // the stop has been asked for: what goes out now is the last

    End talk(const std::stop_token& stop) override {
        Instant due = now();
        for (Polled& p : sensors_) p.identified = p.failed = false;
        lookedAt_ = Instant{};
        while (!stop.stop_requested()) {
            if (now() - lookedAt_ >= lookAgainEvery || lookedAt_ == Instant{}) {
                lookedAt_ = now();
                if (!offerSensors(stop)) return ended(stop);
            }
            const Instant began = now();
            for (Polled& p : sensors_)
                if (!poll(p, stop)) return ended(stop);
            deliver();
            if (!sensors_.empty()) tookNs_ = 0.8 * tookNs_ + 0.2 * static_cast<double>((now() - began).ns);
            if (!writeParameters(stop)) return ended(stop);
            judge();
            reportSometimes();
            due = std::max(due + seconds(settings_.everySeconds), now());
            while (now() < due && !stop.stop_requested()) {
                requests_->idle(due - now());
                if (!sendOutputs(stop) || !writeParameters(stop)) return ended(stop);
            }
        }
        return End::stopped;
    }

private:
    struct Polled {
        const IoLinkSettings::Sensor* what = nullptr;
        std::vector<IoddValue> in{};
        std::size_t inBytes = 0;
        ScanBuffer* scan = nullptr;
        std::string out{};
        Text problem{};
        std::optional<Instant> lastGood{};
        bool identified = false;
        bool outChanged = false;
        bool outGiven = false;  // some of it has been set: what nobody sets is not sent
        bool failed = false;    // it was there, and is not
    };
    struct Parameter {
        const IoLinkSettings::Sensor* sensor;
        const IoddParameter* what;  // null: commands
        ShownAs shown;
    };

    void openScan(Polled& p) {
        std::vector<Channel> channels;
        for (const IoddValue& v : p.in)
            channels.push_back(
                {terminalOf(*p.what, v.name), v.sampleType(),
                 v.type == IoddValue::Type::boolean ? ChannelKind::digitalInput : ChannelKind::analogInput});
        if (!channels.empty()) p.scan = &addScan(p.what->alias, std::move(channels));
    }
    /// Of a sensor without a description there are the bytes.
    void describeBytes(Polled& p, std::size_t n) {
        p.inBytes = std::min(n, mostRaw);
        for (std::size_t i = 0; i < p.inBytes; ++i) {
            IoddValue v;
            v.name = fmt::format("Byte {}", i + 1);
            v.bitOffset = 8 * (p.inBytes - 1 - i);
            p.in.push_back(std::move(v));
        }
        openScan(p);
    }

    [[nodiscard]] std::string name() const {
        if (!settings_.capture.empty()) return settings_.capture;
        return text(CRUSCOTTO_TEXT("{0}, port {1}"), settings_.host, settings_.port).english();
    }

    static std::set<std::string> outputsOf(const IoLinkSettings& settings) {
        std::set<std::string> out;
        for (const auto& s : settings.sensors) out.merge(outputsOf(s));
        return out;
    }
    static std::set<std::string> outputsOf(const IoLinkSettings::Sensor& s) {
        std::set<std::string> out;
        for (const IoddValue& v : s.iodd.out) out.insert(terminalOf(s, v.name));
        return out;
    }

    static End ended(const std::stop_token& stop) { return stop.stop_requested() ? End::stopped : End::lost; }

    Reply get(const std::string& path, const std::stop_token& stop) {
        if (wireOpen()) tell(WireMessage::Way::sent, writtenRequest(apiRoot + path, nullptr));
        return heard(requests_->get(apiRoot + path, stop));
    }
    Reply post(const std::string& path, const json& body, const std::stop_token& stop) {
        const std::string written = jsonText(body);
        if (wireOpen()) tell(WireMessage::Way::sent, writtenRequest(apiRoot + path, &written));
        return heard(requests_->post(apiRoot + path, written, stop));
    }
    Reply heard(Reply reply) {
        status().bytes += reply.body.size();
        if (reply.what == Reply::What::answered) {
            ++status().lines;
            if (wireOpen()) {
                const Text problem = reply.status >= 400 ? refusal(reply) : Text{};
                tell(WireMessage::Way::received, writtenReply(reply).substr(0, longestTold), {}, problem);
            }
        }
        return reply;
    }
    /// Of a capture that is replayed: nobody asked that while it was taken.
    [[nodiscard]] bool notHeld(const Reply& reply) const {
        return !settings_.capture.empty() && reply.status == 404 && reply.body.empty();
    }
    /// In the master's words.
    [[nodiscard]] Text refusal(const Reply& reply) const {
        if (notHeld(reply)) return CRUSCOTTO_TEXT("the capture does not hold it");
        const json j = parseJson(reply.body);
        const json& deep = within(j, {"iolinkError", "message"});
        const json& message = deep.is_string() ? deep : within(j, {"message"});
        if (message.is_string() && !message.get<std::string>().empty())
            return text(CRUSCOTTO_TEXT("the master says: {0}"), message.get<std::string>().substr(0, 200));
        return text(CRUSCOTTO_TEXT("the master answers with {0}"), reply.status);
    }

    void addParameter(const IoLinkSettings::Sensor& s, const IoddParameter& parameter) {
        DeviceParameter p;
        const IoddValue& v = parameter.value;
        p.key = s.alias + "/" + v.name;
        p.title = Text{p.key};
        const ShownAs as = shownAs(v, settings_.units);
        if (as.unit != "1") p.unit = unitText(as.unit);
        for (const auto& [value, words] : v.words) p.choices.push_back(words);
        if (v.type == IoddValue::Type::boolean && p.choices.empty()) p.choices = {"0", "1"};
        if (v.limits) p.limits = Scale{v.limits->low * as.slope + as.offset, v.limits->high * as.slope + as.offset};
        p.writable = parameter.writable;
        p.readable = parameter.readable;
        if (const auto it = settings_.wanted.find(p.key); it != settings_.wanted.end()) p.wanted = it->second;
        status().parameters.push_back(std::move(p));
        parameters_.push_back({&s, &parameter, as});
    }
    void addCommands(const IoLinkSettings::Sensor& s) {
        if (s.iodd.commands.empty()) return;
        DeviceParameter p;
        p.key = s.alias + "/" + commandName;
        p.title = text(CRUSCOTTO_TEXT("{0}: tell it to"), s.alias);
        p.readable = false;
        for (const auto& [code, words] : s.iodd.commands) {
            p.choices.push_back(words);
            if (losesConnection(code)) p.warned.push_back(words);
        }
        p.warning = CRUSCOTTO_TEXT(
            "The sensor leaves the link for a moment and comes back by itself: its readings get a gap, and its "
            "settings may be those of the factory.");
        status().parameters.push_back(std::move(p));
        parameters_.push_back({&s, nullptr, {}});
    }

    /// Which sensors the master has; false if it is lost.
    bool offerSensors(const std::stop_token& stop) {
        const auto reply = get("/devices", stop);
        if (reply.what != Reply::What::answered) return false;
        const json j = parseJson(reply.body);
        std::vector<std::string> there;
        if (j.is_array())
            for (const json& d : j) {
                const json& alias = within(d, {"deviceAlias"});
                if (alias.is_string() && there.size() < 4 * mostIoLinkSensors)
                    there.push_back(alias.get<std::string>().substr(0, 100));
            }
        if (there == there_) return true;
        there_ = std::move(there);
        status().parts.clear();
        for (const std::string& alias : there_) {
            const auto says = get("/devices/" + escapedPath(alias) + "/identification", stop);
            if (says.what != Reply::What::answered) return false;
            status().parts.push_back({alias, identity(parseJson(says.body))});
        }
        return true;
    }
    /// What a sensor says it is: names are optional there, the two numbers are not.
    static Text identity(const json& j) {
        std::string names;
        for (const char* key : {"vendorName", "productName", "serialNumber"})
            if (const json& v = within(j, {key}); v.is_string() && !v.get_ref<const std::string&>().empty())
                names += (names.empty() ? "" : ", ") + v.get<std::string>().substr(0, 100);
        const json &vendor = within(j, {"vendorId"}), &id = within(j, {"deviceId"});
        if (!vendor.is_number_integer() || !id.is_number_integer()) return names;
        const Text numbers =
            text(CRUSCOTTO_TEXT("device {0} of vendor {1}"), id.get<std::int64_t>(), vendor.get<std::int64_t>());
        return names.empty() ? numbers
                             : text(CRUSCOTTO_TEXT("{0}; device {1} of vendor {2}"), names, id.get<std::int64_t>(),
                                    vendor.get<std::int64_t>());
    }

    /// False if the master is lost; what one sensor cannot do is its problem.
    bool poll(Polled& p, const std::stop_token& stop) {
        if (!sendOutputs(stop)) return false;
        const std::string path = "/devices/" + escapedPath(p.what->alias);
        if (!p.identified) {
            const auto reply = get(path + "/identification", stop);
            if (reply.what != Reply::What::answered) return false;
            if (reply.status != 200 && !notHeld(reply)) return away(p, refusal(reply));
            const json j = parseJson(reply.body);
            const json &vendor = within(j, {"vendorId"}), &id = within(j, {"deviceId"});
            p.problem = {};
            if (!p.what->path.empty() && vendor.is_number_integer() && id.is_number_integer() &&
                (vendor.get<std::int64_t>() != p.what->iodd.vendorId ||
                 id.get<std::int64_t>() != p.what->iodd.deviceId))
                return away(
                    p, text(CRUSCOTTO_TEXT(
                                "it is device {0} of vendor {1}, but the description is of device {2} of vendor {3}"),
                            id.get<std::int64_t>(), vendor.get<std::int64_t>(), p.what->iodd.deviceId,
                            p.what->iodd.vendorId));
            p.identified = true;
            if (!readParameters(p, stop)) return false;
            p.outChanged = p.outChanged || p.outGiven;
            if (std::exchange(p.failed, false)) partIsBack(outputsOf(*p.what));
        }
        if (!sendOutputs(stop)) return false;
        if (!p.scan && !p.what->path.empty()) return true;
        const Instant asked = now();
        const auto reply = get(path + "/processdata/value?format=byteArray", stop);
        if (reply.what != Reply::What::answered) return false;
        if (reply.status != 200) return away(p, refusal(reply));
        const json j = parseJson(reply.body);
        const auto bytes = byteArray(within(j, {"getData", "ioLink", "value"}));
        if (bytes && !p.scan && !bytes->empty()) describeBytes(p, bytes->size());
        if (!bytes || bytes->size() < p.inBytes) {
            reject(reply.body, CRUSCOTTO_TEXT("no process data as the description has it"));
            p.problem =
                bytes ? text(CRUSCOTTO_TEXT("it sends {0} bytes, the description says {1}"), bytes->size(), p.inBytes)
                      : Text(CRUSCOTTO_TEXT("its process data is not understood"));
            return true;
        }
        const json& valid = within(j, {"getData", "ioLink", "valid"});
        const bool good = !valid.is_boolean() || valid.get<bool>();
        if (!p.scan) return true;
        values_.clear();
        for (const IoddValue& v : p.in) values_.push_back(v.raw(*bytes).value_or(std::nan("")));
        qualities_.assign(values_.size(), good ? Quality::good : Quality::outOfRange);
        const Instant at{asked.ns + (now().ns - asked.ns) / 2};
        p.scan->add(at, values_, qualities_);
        p.lastGood = at;
        p.problem = good ? Text{} : Text(CRUSCOTTO_TEXT("it says itself that its values are not valid now"));
        return true;
    }
    bool away(Polled& p, Text why) {
        if (p.scan && p.lastGood) {
            deliver();
            p.scan->away(*std::exchange(p.lastGood, std::nullopt), p.what->alias + " was away.");
        }
        p.identified = false;
        p.problem = std::move(why);
        if (!std::exchange(p.failed, true)) partFails(outputsOf(*p.what));
        return true;
    }

    static std::string parameterPath(const IoLinkSettings::Sensor& s, const IoddParameter& p) {
        std::string out = "/devices/" + escapedPath(s.alias) + "/parameters/" + std::to_string(p.index);
        if (p.subindex > 0) out += "/subindices/" + std::to_string(p.subindex);
        return out + "/value";
    }
    bool readParameters(const Polled& p, const std::stop_token& stop) {
        for (std::size_t i = 0; i < parameters_.size(); ++i)
            if (parameters_[i].sensor == p.what && parameters_[i].what && parameters_[i].what->readable &&
                (!sendOutputs(stop) || !readParameter(i, stop)))
                return false;
        sink().report(status());
        return true;
    }
    bool readParameter(std::size_t i, const std::stop_token& stop) {
        const Parameter& p = parameters_[i];
        DeviceParameter& to = status().parameters[i];
        const auto reply = get(parameterPath(*p.sensor, *p.what) + "?format=byteArray", stop);
        if (reply.what != Reply::What::answered) return false;
        if (reply.status != 200) {
            to.problem = refusal(reply);
            return true;
        }
        const json j = parseJson(reply.body);
        const auto bytes = byteArray(within(j, {"value"}));
        const IoddValue& v = p.what->value;
        to.problem = {};
        if (bytes && v.type == IoddValue::Type::text) {
            to.there = bytes->substr(0, std::min(bytes->find('\0'), bytes->size()));
            return true;
        }
        // A part of a parameter comes alone, in its own bytes.
        IoddValue alone = v;
        alone.bitOffset = 0;
        const auto raw = bytes ? alone.raw(*bytes) : std::nullopt;
        if (!raw) {
            to.problem = CRUSCOTTO_TEXT("what came is not as the description has it");
            return true;
        }
        to.there = to.choices.empty() ? shortNumber(*raw * p.shown.slope + p.shown.offset)
                                      : fmt::format("{}", std::llround(*raw));
        for (const auto& [value, words] : v.words)
            if (static_cast<double>(value) == *raw) to.there = words;
        return true;
    }

    /// The bytes to write; empty where the value is none that it takes.
    static std::optional<std::string> written(const Parameter& p, const DeviceParameter& as, const std::string& value) {
        const IoddValue& v = p.what->value;
        if (v.type == IoddValue::Type::text) {
            if (8 * value.size() > v.bits) return std::nullopt;
            std::string out = value;
            out.resize(v.bits / 8, '\0');
            return out;
        }
        double raw = std::nan("");
        for (const auto& [code, words] : v.words)
            if (words == value) raw = static_cast<double>(code);
        if (double shown = 0; std::isnan(raw) && v.words.empty() && parseNumber(value, shown)) {
            if (as.limits && !(shown >= std::min(as.limits->low, as.limits->high) &&
                               shown <= std::max(as.limits->low, as.limits->high)))
                return std::nullopt;
            raw = (shown - p.shown.offset) / p.shown.slope;
        }
        if (std::isnan(raw)) return std::nullopt;
        IoddValue alone = v;
        alone.bitOffset = 0;
        std::string out((v.bits + 7) / 8, '\0');
        alone.put(raw, out);
        return out;
    }

    bool writeParameters(const std::stop_token& stop) {
        return writeWaiting([&](std::size_t i, const std::string& value) -> std::optional<Written> {
            if (!sendOutputs(stop)) return std::nullopt;  // they never wait for settings
            const Parameter& p = parameters_[i];
            if (!p.what) return command(p, value, stop);
            const auto bytes = written(p, status().parameters[i], value);
            if (!bytes) return notTaken(value);
            const auto reply = post(parameterPath(*p.sensor, *p.what), json{{"value", arrayOf(*bytes)}}, stop);
            if (reply.what != Reply::What::answered) return std::nullopt;
            Written out = writtenAndRead();
            if (!p.what->readable) out.done = CRUSCOTTO_TEXT("Written");
            if (reply.status >= 300) out = {{}, refusal(reply)};
            if (p.what->readable && !readParameter(i, stop)) return std::nullopt;
            judge();
            return out;
        });
    }
    std::optional<Written> command(const Parameter& p, const std::string& words, const std::stop_token& stop) {
        const auto& commands = p.sensor->iodd.commands;
        const auto it = std::ranges::find(commands, words, &std::pair<int, std::string>::second);
        if (it == commands.end()) return notTaken(words);
        const auto reply = post("/devices/" + escapedPath(p.sensor->alias) + "/parameters/2/value",
                                json{{"value", json::array({it->first})}}, stop);
        if (reply.what != Reply::What::answered) return std::nullopt;
        if (reply.status >= 300) return Written{{}, refusal(reply)};
        // What it is set to may be another thing now.
        for (Polled& s : sensors_)
            if (s.what == p.sensor) s.identified = false;
        return Written{text(CRUSCOTTO_TEXT("Done: {0}"), words), {}};
    }

    bool sendOutputs(const std::stop_token& stop) {
        for (const auto& [terminal, value] : dueOutputs())
            for (Polled& p : sensors_)
                for (const IoddValue& v : p.what->iodd.out)
                    if (terminalOf(*p.what, v.name) == terminal) {
                        const ShownAs as = shownAs(v, settings_.units);
                        v.put((value - as.offset) / as.slope, p.out);
                        p.outChanged = p.outGiven = true;
                    }
        for (Polled& p : sensors_) {
            if (!p.identified || !std::exchange(p.outChanged, false)) continue;
            const auto reply = post("/devices/" + escapedPath(p.what->alias) + "/processdata/value",
                                    json{{"ioLink", {{"valid", true}, {"value", arrayOf(p.out)}}}}, stop);
            if (reply.what != Reply::What::answered) {
                p.outChanged = true;
                return false;
            }
            const Text problem = reply.status >= 300 ? refusal(reply) : Text{};
            for (const std::string& terminal : outputsOf(*p.what)) outputSent(terminal, problem);
        }
        return true;
    }

    void judge() {
        status().linkShare = tookNs_ * 1e-9 / settings_.everySeconds;
        status().linkAdvice = {};
        if (*status().linkShare > 0.8)
            status().linkAdvice =
                text(CRUSCOTTO_TEXT("Asking all sensors takes {0} s, and they are asked every {1} s: read less often."),
                     shortNumber(tookNs_ * 1e-9), shortNumber(settings_.everySeconds));
        if (const auto& refused = status().outputProblems; !refused.empty())
            return setLive(text(CRUSCOTTO_TEXT("The output {0} did not go through: {1}."), refused.begin()->first,
                                refused.begin()->second.english()));
        for (const Polled& p : sensors_)
            if (!p.problem.empty())
                return setLive(text(CRUSCOTTO_TEXT("{0} answers, but {1} is not well: {2}. The rest goes on."),
                                    product_, p.what->alias, p.problem.english()));
        std::string others;
        for (const std::string& alias : there_)
            if (std::ranges::none_of(settings_.sensors, [&](const auto& s) { return s.alias == alias; }))
                others += (others.empty() ? "" : ", ") + alias;
        const auto differs = std::ranges::find_if(status().parameters, &DeviceParameter::differs);
        if (differs != status().parameters.end())
            setLive(text(CRUSCOTTO_TEXT("{0} answers. Settings of its sensors differ from the bench: {1}."), product_,
                         differs->key));
        else if (!others.empty())
            setLive(text(CRUSCOTTO_TEXT("{0} answers. Sensors read: {1}. Also there: {2}. Add them under \"Sensors\"."),
                         product_, sensors_.size(), others.substr(0, 300)));
        else
            setLive(text(CRUSCOTTO_TEXT("{0} answers. Sensors read: {1}."), product_, sensors_.size()));
    }

    const IoLinkSettings settings_;
    const std::unique_ptr<MasterRequests> requests_;
    std::vector<Polled> sensors_;
    std::vector<Parameter> parameters_;  // as status().parameters
    std::vector<std::string> there_;
    std::vector<double> values_;
    std::vector<Quality> qualities_;
    std::string product_;
    Instant lookedAt_;
    double tookNs_ = 0;
};

}  // namespace

std::unique_ptr<Device> makeIoLink(const DeviceContext& context, IoLinkSettings settings) {
    return std::make_unique<IoLinkMaster>(context, std::move(settings));
}

}  // namespace cruscotto

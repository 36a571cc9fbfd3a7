#include "standins/iolink/sensor_master.h"

#include <cmath>
#include <cstdlib>
#include <vector>

namespace cruscotto {

namespace {

std::string json(const std::vector<int>& bytes) {
    std::string out = "[";
    for (std::size_t i = 0; i < bytes.size(); ++i) out += (i > 0 ? "," : "") + std::to_string(bytes[i]);
    return out + "]";
}

/// The numbers of the first list in the text.
std::vector<int> listIn(const std::string& text) {
    std::vector<int> out;
    const std::size_t begin = text.find('['), end = text.find(']', begin);
    if (begin == std::string::npos || end == std::string::npos) return out;
    const char* at = text.c_str() + begin + 1;
    while (at < text.c_str() + end) {
        char* next = nullptr;
        const long v = std::strtol(at, &next, 10);
        if (next == at) break;
        out.push_back(static_cast<int>(v));
        at = next;
        while (*at == ',' || *at == ' ') ++at;
    }
    return out;
}

std::pair<int, std::string> refused(int status, const std::string& message) {
    return {status, R"({"code":307,"message":")" + message + R"("})"};
}

/// "parameters/60/subindices/1/value" is 60, 1.
std::pair<int, int> indexOf(const std::string& rest) {
    std::pair<int, int> out{-1, 0};
    if (!rest.starts_with("parameters/")) return out;
    out.first = std::atoi(rest.c_str() + 11);
    if (const std::size_t at = rest.find("subindices/"); at != std::string::npos)
        out.second = std::atoi(rest.c_str() + at + 11);
    return out;
}

}  // namespace

std::vector<Fault> MasterFaults::named() {
    return {fault("silent", silent),   fault("not-http", notHttp),  fault("giant", giant),
            fault("strange", strange), fault("pulled", pulled),     fault("valve-pulled", valvePulled),
            fault("invalid", invalid), fault("slow-drip", slowDrip)};
}

class MasterTalk : public Conversation {
public:
    explicit MasterTalk(SensorMaster& master) : master_(master) {}
    std::string hear(std::string_view bytes) override {
        if (heard_.size() < 100'000) heard_ += bytes;
        std::string out;
        while (true) {
            const std::size_t head = heard_.find("\r\n\r\n");
            if (head == std::string::npos) break;
            std::size_t length = 0;
            for (const char* name : {"Content-Length: ", "content-length: "})
                if (const std::size_t at = heard_.find(name); at < head)
                    length = static_cast<std::size_t>(std::atoi(heard_.c_str() + at + 16));
            if (heard_.size() < head + 4 + length) break;
            const std::string body = heard_.substr(head + 4, length);
            const std::size_t a = heard_.find(' '), b = heard_.find(' ', a + 1);
            const std::string method = heard_.substr(0, a), path = heard_.substr(a + 1, b - a - 1);
            heard_.erase(0, head + 4 + length);
            ++master_.requests_;
            if (master_.faults.silent) continue;
            if (master_.faults.notHttp) {
                out += "220 hello, this is something else\r\n";
                continue;
            }
            if (master_.faults.giant) {
                out += "HTTP/1.1 200 OK\r\nContent-Length: 1000000000\r\n\r\n";
                giant_ = true;
                continue;
            }
            auto [status, text] = master_.answer(method, path, body);
            if (master_.faults.strange) text = R"({"getData":[{"ioLink":7}],"value":{"a":"b"},"vendorId":"x"})";
            std::string reply = "HTTP/1.1 " + std::to_string(status) + " " + (status < 300 ? "OK" : "No") +
                                "\r\nContent-Type: application/json\r\nContent-Length: " + std::to_string(text.size()) +
                                "\r\n\r\n" + text;
            if (master_.faults.slowDrip)
                drip_ += reply;
            else
                out += reply;
        }
        return out;
    }
    std::string tick() override {
        if (giant_) return std::string(10'000, ' ');
        const auto now = std::chrono::steady_clock::now();
        if (drip_.empty() || now - dripped_ < std::chrono::milliseconds(100)) return {};
        dripped_ = now;
        std::string out(1, drip_.front());
        drip_.erase(0, 1);
        return out;
    }
    [[nodiscard]] bool ticks() const override { return giant_ || !drip_.empty(); }

private:
    SensorMaster& master_;
    std::string heard_, drip_;
    bool giant_ = false;
    std::chrono::steady_clock::time_point dripped_;
};

StandInHost::Begin SensorMaster::begin() {
    return [this] { return std::make_unique<MasterTalk>(*this); };
}

int SensorMaster::temperature(double t) {
    return static_cast<int>(std::lround(-85 + 6 * std::sin(t / 7)));
}
unsigned SensorMaster::level(double t) {
    return static_cast<unsigned>(std::lround(520 + 130 * std::sin(t / 11)));
}
int SensorMaster::parameter(int index, int subindex) const {
    const Lock lock(mutex_);
    const auto it = parameters_.find({index, subindex});
    return it == parameters_.end() ? -1 : it->second;
}
void SensorMaster::setParameter(int index, int subindex, int value) {
    const Lock lock(mutex_);
    parameters_[{index, subindex}] = value;
}

std::pair<int, std::string> SensorMaster::answer(const std::string& method, const std::string& whole,
                                                 const std::string& body) {
    const std::string base = "/iolink/v1/";
    const std::string path = whole.substr(0, whole.find('?'));
    if (!path.starts_with(base)) return refused(404, "no such resource");
    const std::string rest = path.substr(base.size());
    if (rest == "gateway/identification")
        return {200, R"({"vendorName":"Demonstration","productName":"Cold-store master 2","serialNumber":"0001"})"};
    if (rest == "devices")
        return {
            200,
            R"([{"deviceAlias":"level","masterNumber":1,"portNumber":1},{"deviceAlias":"valve","masterNumber":1,"portNumber":2}])"};
    if (rest.starts_with("devices/level/")) return levelSensor(method, rest.substr(14), body);
    if (rest.starts_with("devices/valve/")) return valve(method, rest.substr(14), body);
    return refused(404, "no such resource");
}

std::pair<int, std::string> SensorMaster::levelSensor(const std::string& method, const std::string& rest,
                                                      const std::string& body) {
    const auto now = std::chrono::steady_clock::now();
    const Lock lock(mutex_);
    if (faults.pulled || now < awayUntil_) return refused(500, "the device does not communicate");
    if (rest == "identification")
        return {
            200,
            R"({"vendorId":999,"deviceId":4711,"iolinkRevision":"1.1","vendorName":"Demonstration","productName":"Brine level"})"};
    if (rest == "processdata/value") {
        // 32 bits: temperature in the upper 16, level in 14, then the two switching outputs.
        const double t = std::chrono::duration<double>(now - began_).count();
        const unsigned mm = level(t);
        const bool one = static_cast<int>(mm) > parameters_[{60, 1}], two = static_cast<int>(mm) < parameters_[{60, 2}];
        const std::uint32_t bits =
            static_cast<std::uint32_t>(temperature(t)) << 16 | (mm & 0x3fffU) << 2 | (two ? 2U : 0U) | (one ? 1U : 0U);
        const std::vector<int> bytes{static_cast<int>(bits >> 24), static_cast<int>(bits >> 16 & 255),
                                     static_cast<int>(bits >> 8 & 255), static_cast<int>(bits & 255)};
        return {200, R"({"getData":{"ioLink":{"valid":)" + std::string(faults.invalid ? "false" : "true") +
                         R"(,"value":)" + json(bytes) + "}}}"};
    }
    const auto index = indexOf(rest);
    if (index.first == 2 && method == "POST") {
        const auto value = listIn(body);
        if (value.size() != 1) return refused(400, "one byte is expected");
        if (value[0] == 128) awayUntil_ = now + std::chrono::milliseconds(300);
        if (value[0] == 129 || value[0] == 130) parameters_[{61, 1}] = 0;
        if (value[0] == 130) parameters_[{60, 1}] = 600, parameters_[{60, 2}] = 450;
        return value[0] >= 128 && value[0] <= 130 ? std::pair<int, std::string>{204, ""}
                                                  : refused(400, "function not available");
    }
    if (index.first == 24) {
        std::vector<int> bytes(32, 0);
        if (method == "POST") {
            tag_.clear();
            for (const int b : listIn(body))
                if (b > 0) tag_ += static_cast<char>(b);
            return {204, ""};
        }
        for (std::size_t i = 0; i < tag_.size() && i < 32; ++i) bytes[i] = tag_[i];
        return {200, R"({"value":)" + json(bytes) + "}"};
    }
    const auto it = parameters_.find(index);
    if (it == parameters_.end()) return refused(404, "index not available");
    const bool wide = index.first == 60;
    if (method == "POST") {
        const auto bytes = listIn(body);
        if (bytes.size() != (wide ? 2U : 1U)) return refused(400, "parameter length");
        const int value = wide ? bytes[0] << 8 | bytes[1] : bytes[0];
        if (index.first == 60 && value > 1000) return refused(400, "value above limit");
        it->second = value;
        return {204, ""};
    }
    return {200, R"({"value":)" + (wide ? json({it->second >> 8, it->second & 255}) : json({it->second})) + "}"};
}

std::pair<int, std::string> SensorMaster::valve(const std::string& method, const std::string& rest,
                                                const std::string& body) {
    if (faults.valvePulled) return refused(500, "the device does not communicate");
    if (rest == "identification") return {200, R"({"vendorId":999,"deviceId":4712,"iolinkRevision":"1.1"})"};
    if (rest == "processdata/value" && method == "POST") {
        const auto bytes = listIn(body);
        if (bytes.size() != 1) return refused(400, "one byte is expected");
        valve_ = (bytes[0] & 1) != 0;
        return {204, ""};
    }
    if (rest == "processdata/value")
        return {200, R"({"getData":{"ioLink":{"valid":true,"value":)" + json({valve_ ? 0x81 : 0x00}) + "}}}"};
    return refused(404, "no such resource");
}

}  // namespace cruscotto

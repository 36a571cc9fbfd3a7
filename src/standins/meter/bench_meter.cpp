#include "standins/meter/bench_meter.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <vector>

namespace cruscotto {

namespace {

class MeterTalk : public Conversation {
public:
    explicit MeterTalk(BenchMeter& meter) : meter_(meter) {}
    std::string hear(std::string_view bytes) override {
        std::string now;
        for (const char c : bytes) {
            if (c != '\n' && c != '\r') {
                if (line_.size() < 4096) line_ += c;
                continue;
            }
            if (line_.empty()) continue;
            const bool atOnce = meter_.faults.identifiesAtOnce && line_ == "*IDN?";
            std::string out = meter_.answer(std::exchange(line_, {}));
            if (const int ms = meter_.faults.answersAfterMs; ms > 0 && !out.empty() && !atOnce)
                later_.emplace_back(std::chrono::steady_clock::now() + std::chrono::milliseconds(ms), std::move(out));
            else
                now += out;
        }
        return now;
    }
    std::string tick() override {
        std::string out;
        while (!later_.empty() && later_.front().first <= std::chrono::steady_clock::now()) {
            out += later_.front().second;
            later_.pop_front();
        }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return !later_.empty(); }

private:
    BenchMeter& meter_;
    std::string line_;
    std::deque<std::pair<std::chrono::steady_clock::time_point, std::string>> later_;
};

/// Upper case, no leading colon.
std::string plain(std::string s) {
    for (char& c : s) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    while (!s.empty() && (s.front() == ' ' || s.front() == ':')) s.erase(0, 1);
    while (!s.empty() && s.back() == ' ') s.pop_back();
    return s;
}

}  // namespace

std::vector<Fault> MeterFaults::named() {
    return {fault("silent", silent),
            fault("endless", endless),
            fault("giant-block", giantBlock),
            fault("wrong-length", wrongLength),
            {"late", [this](bool on) { answersAfterMs = on ? 3000 : 0; }},
            fault("plain", plain)};
}

StandInHost::Begin BenchMeter::begin() {
    return [this] { return std::make_unique<MeterTalk>(*this); };
}

std::string BenchMeter::answer(std::string message) {
    message = plain(std::move(message));
    const std::size_t space = message.find(' ');
    const std::string head = message.substr(0, space);
    const std::string tail = space == std::string::npos ? "" : message.substr(space + 1);
    const double t = std::chrono::duration<double>(std::chrono::steady_clock::now() - began_).count();
    const auto is = [&](const char* shortForm, const char* longForm) { return head == shortForm || head == longForm; };
    const auto complain = [&](const char* error) {
        const Lock lock(mutex_);
        if (errors_.size() < 30) errors_.emplace_back(error);
        return std::string{};
    };
    std::string out;
    if (head == "*IDN?") {
        out = identity;
    } else if (head == "*OPT?" && !faults.plain) {
        out = "0,SWITCH-6";
    } else if (is("INST:CAT?", "INSTRUMENT:CATALOG?") && !faults.plain) {
        out = "\"SOURCE\",\"METER, SLOW\"";
    } else if (head == "*OPC?") {
        out = "1";
    } else if (head == "*RST") {
        source_ = 0;
        return {};
    } else if (head == "*CLS") {
        const Lock lock(mutex_);
        errors_.clear();
        return {};
    } else if (is("SYST:ERR?", "SYSTEM:ERROR?")) {
        const Lock lock(mutex_);
        out = errors_.empty() ? "0,\"No error\"" : errors_.front();
        if (!errors_.empty()) errors_.pop_front();
    } else if (is("VOLT", "VOLTAGE")) {
        char* end = nullptr;
        const double v = std::strtod(tail.c_str(), &end);
        if (end == tail.c_str()) return complain("-104,\"Data type error\"");
        if (v < 0 || v > 30) return complain("-222,\"Data out of range\"");
        source_ = v;
        return {};
    } else if (is("VOLT?", "VOLTAGE?")) {
        out = fmt::format("{:.4f}", source_.load());
    } else if (is("MEAS:VOLT?", "MEASURE:VOLTAGE?")) {
        out = fmt::format("{:+.6E}", source_ + 0.002 * std::sin(t));
    } else if (is("FETC?", "FETCH?")) {
        out = fmt::format("{:+.5E},{:+.5E} A", source_ + 0.002 * std::sin(t), source_ / 47);
    } else if (is("OVER?", "OVERLOAD?")) {
        out = "9.9E37,9.91E37,-9.9E+37,+1.5";
    } else if (head == "READ?") {
        std::string list = tail;
        std::erase_if(list, [](char c) { return c == '(' || c == ')' || c == '@' || c == ' '; });
        while (!list.empty()) {
            const std::string entry = list.substr(0, list.find(','));
            list.erase(0, std::min(entry.size() + 1, list.size()));
            const int from = std::atoi(entry.c_str());
            const int to = entry.find(':') == std::string::npos ? from : std::atoi(entry.c_str() + entry.find(':') + 1);
            for (int n = from; n <= to; ++n) {
                if (n < 101 || n > 106) return complain("-224,\"Illegal parameter value\"");
                out += fmt::format("{}{:+.4E}", out.empty() ? "" : ",", n + 0.1 * std::sin(t + n));
            }
        }
        if (out.empty()) return complain("-109,\"Missing parameter\"");
    } else if (is("CURV?", "CURVE?")) {
        std::string bytes;
        for (int i = 0; i < 500; ++i) {
            const auto v =
                static_cast<unsigned>(static_cast<int>(std::lround(8000 * std::sin(2 * 3.14159265358979 * i / 50))));
            bytes += static_cast<char>(v & 0xffU);
            bytes += static_cast<char>(v >> 8 & 0xffU);
        }
        if (faults.giantBlock)
            out = "#9900000000" + bytes;
        else
            out = "#3" + std::to_string(faults.wrongLength ? 900 : 1000).substr(0, 3) + bytes;
        if (!faults.giantBlock && !faults.wrongLength) out = "#41000" + bytes;
    } else {
        return complain("-113,\"Undefined header\"");
    }
    if (faults.silent) return {};
    if (faults.endless) return std::string(100'000, '1');
    return out + "\n";
}

}  // namespace cruscotto

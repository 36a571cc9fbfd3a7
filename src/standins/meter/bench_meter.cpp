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

double BenchMeter::source() const {
    const Lock lock(mutex_);
    if (!listMode_ || !begun_ || listed_.empty()) return source_;
    double left = std::chrono::duration<double>(ended_.value_or(Clock::now()) - *begun_).count();
    std::size_t i = 0;
    while (i + 1 < listed_.size() && left >= dwells_[i]) left -= dwells_[i++];
    return listed_[i];
}

std::string BenchMeter::setSource(const std::string& head, const std::string& tail) {
    constexpr std::size_t longest = 100;
    std::vector<double> numbers;
    const char* at = tail.c_str();
    for (char* end = nullptr; *at != 0; at = *end == ',' ? end + 1 : end) {
        numbers.push_back(std::strtod(at, &end));
        if (end == at || (*end != 0 && *end != ',')) {
            numbers.clear();
            break;
        }
    }
    const bool volts = head.ends_with("VOLT") || head.ends_with("VOLTAGE");
    const bool dwells = head.ends_with("DWEL") || head.ends_with("DWELL");
    const Lock lock(mutex_);
    if (head == "VOLT:MODE" || head == "VOLTAGE:MODE") {
        if (!tail.starts_with("FIX") && tail != "LIST") return "-141,\"Invalid character data\"";
        listMode_ = tail == "LIST";
        begun_.reset();
        ended_.reset();
    } else if (head.starts_with("INIT")) {
        if (!listMode_ || listed_.empty() || listed_.size() != dwells_.size()) return "-221,\"Settings conflict\"";
        begun_ = Clock::now();
        ended_.reset();
        ++lists_;
    } else if (head.starts_with("ABOR")) {
        if (begun_ && !ended_) ended_ = Clock::now();
    } else if (numbers.empty()) {
        return "-104,\"Data type error\"";
    } else if (volts || dwells) {
        const double least = volts ? 0 : 0.001, most = volts ? 30 : 60;
        if (std::ranges::any_of(numbers, [&](double v) { return v < least || v > most; }))
            return "-222,\"Data out of range\"";
        if (head.starts_with("LIST")) {
            if (numbers.size() > longest) return "-223,\"Too much data\"";
            (volts ? listed_ : dwells_) = numbers;
        } else if (volts && numbers.size() == 1) {
            source_ = numbers[0];
        } else {
            return "-108,\"Parameter not allowed\"";
        }
    }
    return {};
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
        const Lock lock(mutex_);
        source_ = 0;
        listMode_ = false;
        return {};
    } else if (head == "*CLS") {
        const Lock lock(mutex_);
        errors_.clear();
        return {};
    } else if (is("SYST:ERR?", "SYSTEM:ERROR?")) {
        const Lock lock(mutex_);
        out = errors_.empty() ? "0,\"No error\"" : errors_.front();
        if (!errors_.empty()) errors_.pop_front();
    } else if (is("VOLT", "VOLTAGE") || is("VOLT:MODE", "VOLTAGE:MODE") || is("LIST:VOLT", "LIST:VOLTAGE") ||
               is("LIST:DWEL", "LIST:DWELL") || is("INIT", "INITIATE") || is("ABOR", "ABORT")) {
        const std::string error = setSource(head, tail);
        return error.empty() ? std::string{} : complain(error.c_str());
    } else if (is("VOLT?", "VOLTAGE?")) {
        out = fmt::format("{:.4f}", source());
    } else if (is("MEAS:VOLT?", "MEASURE:VOLTAGE?")) {
        out = fmt::format("{:+.6E}", source() + 0.002 * std::sin(t));
    } else if (is("FETC?", "FETCH?")) {
        out = fmt::format("{:+.5E},{:+.5E} A", source() + 0.002 * std::sin(t), source() / 47);
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

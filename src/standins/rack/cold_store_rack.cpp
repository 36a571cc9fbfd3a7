#include "standins/rack/cold_store_rack.h"

#include <cmath>
#include <cstring>
#include <vector>

namespace cruscotto {

namespace {

using Bytes = std::vector<unsigned char>;

unsigned checkSum(const Bytes& frame) {
    // By the table-free form of the serial line specification's appendix, a bit at a time.
    unsigned sum = 0xFFFFU;
    for (const unsigned char byte : frame) {
        sum ^= byte;
        for (int bit = 8; bit > 0; --bit) {
            const bool carry = sum & 1U;
            sum >>= 1;
            if (carry) sum ^= 0xA001U;
        }
    }
    return sum;
}

unsigned pair(const Bytes& b, std::size_t i) {
    return static_cast<unsigned>(b[i]) * 256U + b[i + 1];
}

void addPair(std::string& to, unsigned value) {
    to.push_back(static_cast<char>(value / 256U));
    to.push_back(static_cast<char>(value % 256U));
}

class Speaker : public Conversation {
public:
    Speaker(ColdStoreRack& rack, bool serial) : rack_(rack), serial_(serial) {}
    std::string hear(std::string_view bytes) override {
        for (const char c : bytes) in_.push_back(static_cast<unsigned char>(c));
        std::string now;
        while (in_.size() >= (serial_ ? 7 : 8)) {
            std::size_t used = 0;
            std::string reply = serial_ ? serialReply(used) : networkReply(used);
            if (used == 0) break;
            in_.erase(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(used));
            if (const int ms = rack_.faults.answersAfterMs; ms > 0) {
                later_.push_back({std::chrono::steady_clock::now() + std::chrono::milliseconds(ms), std::move(reply)});
                continue;
            }
            now += reply;
        }
        return now;
    }
    std::string tick() override {
        std::string out;
        while (!later_.empty() && later_.front().first <= std::chrono::steady_clock::now()) {
            out += later_.front().second;
            later_.erase(later_.begin());
        }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return !later_.empty(); }

private:
    std::string networkReply(std::size_t& used) {
        const std::size_t length = pair(in_, 4);
        if (in_.size() < 6 + length || length < 2) return {};
        used = 6 + length;
        const std::string request(in_.begin() + 7, in_.begin() + static_cast<std::ptrdiff_t>(used));
        const std::string reply = rack_.answer(in_[6], request);
        if (rack_.faults.silent || reply.empty()) return {};
        std::string out;
        if (rack_.faults.giant) {
            addPair(out, pair(in_, 0));
            addPair(out, 0);
            addPair(out, 65535);
            return out + std::string(1000, 'x');
        }
        if (rack_.faults.wrongOrder) {
            addPair(out, pair(in_, 0) ^ 0x1234U);
            addPair(out, 0);
            addPair(out, static_cast<unsigned>(reply.size()) + 1);
            out.push_back(static_cast<char>(in_[6]));
            out += reply;
        }
        addPair(out, pair(in_, 0));
        addPair(out, 0);
        addPair(out, static_cast<unsigned>(reply.size()) + 1);
        out.push_back(static_cast<char>(in_[6]));
        return out + reply;
    }
    std::string serialReply(std::size_t& used) {
        std::size_t length = in_[1] == 43 ? 7 : 8;
        if (in_[1] == 15 || in_[1] == 16) length = 9U + in_[6];
        if (in_.size() < length) return {};
        const Bytes frame(in_.begin(), in_.begin() + static_cast<std::ptrdiff_t>(length) - 2);
        const unsigned sum = checkSum(frame);
        if (in_[length - 2] != sum % 256U || in_[length - 1] != sum / 256U) {
            used = 1;  // looks for a request one byte on
            return {};
        }
        used = length;
        const std::string reply = rack_.answer(frame[0], std::string(frame.begin() + 1, frame.end()));
        if (rack_.faults.silent || reply.empty()) return {};
        Bytes out{frame[0]};
        for (const char c : reply) out.push_back(static_cast<unsigned char>(c));
        const unsigned theirs = checkSum(out) ^ (rack_.faults.wrongCheckSum ? 0x0100U : 0U);
        out.push_back(static_cast<unsigned char>(theirs % 256U));
        out.push_back(static_cast<unsigned char>(theirs / 256U));
        return {out.begin(), out.end()};
    }

    ColdStoreRack& rack_;
    const bool serial_;
    Bytes in_;
    std::vector<std::pair<std::chrono::steady_clock::time_point, std::string>> later_;
};

}  // namespace

std::vector<Fault> RackFaults::named() {
    return {fault("silent", silent),
            fault("wrong-check-sum", wrongCheckSum),
            fault("wrong-order", wrongOrder),
            fault("giant", giant),
            {"late", [this](bool on) { answersAfterMs = on ? 3000 : 0; }},
            fault("stuck-relay", stuckRelay),
            fault("open-contact", openContact),
            fault("strange-module", strangeModule),
            fault("secretive", secretive),
            fault("refuses", refuses)};
}

ColdStoreRack::ColdStoreRack(int unit, std::uint64_t seed) : unit_(unit), seed_(seed) {
    for (std::size_t i = 0; i < 8; ++i) {
        holding_[i] = 1;       // 10 V
        holding_[8 + i] = 20;  // ms
    }
    holding_[16] = 3;
    // -12345.678 as a float, 123456789 and -123456789 as integers, pi as a double; from 100 on with the most
    // significant word first.
    const auto lay = [this](int at, std::uint64_t bits, int words) HOLDING(mutex_) {
        for (int i = 0; i < words; ++i)
            holding_[static_cast<std::size_t>(at + i)] = static_cast<std::uint16_t>(bits >> (16 * (words - 1 - i)));
    };
    const float f = -12345.678F;
    const double d = 3.14159265358979312;
    std::uint32_t f32 = 0;
    std::uint64_t f64 = 0;
    std::memcpy(&f32, &f, 4);
    std::memcpy(&f64, &d, 8);
    lay(100, f32, 2);
    lay(102, 123456789, 2);
    lay(104, static_cast<std::uint32_t>(-123456789), 2);
    lay(106, f64, 4);
    lay(110, static_cast<std::uint64_t>(-1234567890123LL), 4);
    // The float again: words swapped, bytes swapped, both.
    holding_[114] = holding_[101];
    holding_[115] = holding_[100];
    for (std::size_t i = 0; i < 2; ++i) {
        holding_[116 + i] = static_cast<std::uint16_t>(holding_[100 + i] << 8 | holding_[100 + i] >> 8);
        holding_[118 + i] = static_cast<std::uint16_t>(holding_[101 - i] << 8 | holding_[101 - i] >> 8);
    }
}

StandInHost::Begin ColdStoreRack::onTcp() {
    return [this] { return std::make_unique<Speaker>(*this, false); };
}
StandInHost::Begin ColdStoreRack::onSerial() {
    return [this] { return std::make_unique<Speaker>(*this, true); };
}

bool ColdStoreRack::relay(int n) const {
    const Lock lock(mutex_);
    return relays_.at(static_cast<std::size_t>(n)) && !ranOut();
}
std::uint16_t ColdStoreRack::holding(int address) const {
    const Lock lock(mutex_);
    return holding_.at(static_cast<std::size_t>(address));
}
void ColdStoreRack::setHolding(int address, std::uint16_t value) {
    const Lock lock(mutex_);
    holding_.at(static_cast<std::size_t>(address)) = value;
}

int ColdStoreRack::code(int input) const {
    const Lock lock(mutex_);
    return codeNow(input);
}

int ColdStoreRack::codeNow(int input) const {
    const double t =
        std::chrono::duration<double>(std::chrono::steady_clock::now() - began_).count() + static_cast<double>(seed_);
    // Rooms about -20 degC (10 V are 50 degC), a defrosting that comes and goes, pressures that follow the compressor.
    constexpr std::array<double, 8> base{-4.0, -3.6, 0.8, 1.0, 4.6, -5.2, 1.9, 7.2};
    constexpr std::array<double, 8> swing{0.15, 0.2, 0.1, 0.12, 0.3, 0.5, 0.25, 0.6};
    const auto i = static_cast<std::size_t>(input);
    const double volts = (i == 0 ? room_ : base.at(i)) + swing.at(i) * std::sin(t / (4 + 1.7 * input)) +
                         0.004 * std::sin(t * 37.1 + input);
    return static_cast<int>(std::lround(volts * 2764.8));
}

bool ColdStoreRack::ranOut() const {
    const auto still = std::chrono::steady_clock::now() - lived_;
    return holding_[17] > 0 && still > std::chrono::milliseconds(holding_[17]);
}

void ColdStoreRack::live() {
    if (ranOut()) relays_.fill(false);
    const auto now = std::chrono::steady_clock::now();
    const double dt = std::chrono::duration<double>(now - lived_).count();
    lived_ = now;
    constexpr double coldest = -5.0, warmest = -3.0, tau = 40, contactSeconds = 0.2;  // volts, seconds
    const double to = relays_[0] ? coldest : warmest;
    room_ = to + (room_ - to) * std::exp(-dt / tau);
    contactFor_ = relays_[0] == contact_ ? 0 : contactFor_ + dt;
    if (contactFor_ > contactSeconds) contact_ = relays_[0];
}

/// One group of texts at a time; of the long list of modules two a reply.
std::string ColdStoreRack::whatItIs(int group, int from) const {
    const std::vector<std::pair<int, std::string>> texts[]{
        {{0, "Cruscotto"}, {1, "Cold store rack"}, {2, "1.0"}},
        {{4, "Rack of four modules"}, {6, "Cold store"}},
        {{0x81, "analog-in-8"},
         {0x82, "digital-in-16"},
         {0x83, faults.strangeModule ? "valve-driver-9" : "relay-out-8"},
         {0x84, "counter-in-2"}}};
    if (faults.secretive) return {'\xAB', 1};
    if (group < 1 || group > 3) return {'\xAB', 3};
    std::vector<std::pair<int, std::string>> left;
    for (const auto& text : texts[group - 1])
        if (text.first >= (from & 0xFF)) left.push_back(text);
    const std::size_t now = std::min<std::size_t>(left.size(), group < 3 ? 3 : 2);
    std::string out("\x2B\x0E", 2);
    out += static_cast<char>(group);
    out += '\x03';
    out += static_cast<char>(left.size() > now ? 0xFF : 0);
    out += static_cast<char>(left.size() > now ? left[now].first : 0);
    out += static_cast<char>(now);
    for (std::size_t i = 0; i < now; ++i) {
        out += static_cast<char>(left[i].first);
        out += static_cast<char>(left[i].second.size());
        out += left[i].second;
    }
    return out;
}

std::string ColdStoreRack::answer(int unit, const std::string& request) {
    if ((unit != unit_ && (unit != alsoUnit || unit == 0)) || request.empty()) return {};
    ++requests_;
    if (request.size() == 4 && request.substr(0, 2) == "\x2B\x0E") return whatItIs(request[2], request[3]);
    const Bytes r(request.begin(), request.end());
    const auto refuse = [&](char why) {
        std::string out;
        out.push_back(static_cast<char>(r[0] + 128));
        out.push_back(why);
        return out;
    };
    if (request.size() < 5) return refuse(1);
    const unsigned first = pair(r, 1), n = pair(r, 3);
    std::string out(1, static_cast<char>(r[0]));
    const Lock lock(mutex_);
    live();
    if (r[0] == 1 || r[0] == 2) {
        const unsigned size = r[0] == 1 ? 8 : 16;
        if (n == 0 || n > 2000) return refuse(3);
        if (first + n > size) return refuse(2);
        std::string bits((n + 7) / 8, '\0');
        for (unsigned i = 0; i < n; ++i) {
            // Every door is shut but the third, which somebody holds open now and then.
            const double t = std::chrono::duration<double>(std::chrono::steady_clock::now() - began_).count();
            const bool on = r[0] == 1        ? relays_[first + i]
                            : first + i == 2 ? std::fmod(t, 8) < 2
                            : first + i == 4 ? contact_ && !faults.openContact
                                             : (first + i) % 5 == 1;
            if (on) bits[i / 8] = static_cast<char>(bits[i / 8] | (1 << (i % 8)));
        }
        out.push_back(static_cast<char>(bits.size()));
        return out + bits;
    }
    if (r[0] == 3 || r[0] == 4) {
        const unsigned size = r[0] == 3 ? 132 : 12;
        if (r[0] == 4 && faults.refuses) return refuse(4);
        if (n == 0 || n > 125) return refuse(3);
        if (first + n > size) return refuse(2);
        out.push_back(static_cast<char>(2 * n));
        for (unsigned i = first; i < first + n; ++i) {
            if (r[0] == 3) {
                addPair(out, holding_[i]);
            } else if (i < 8) {
                addPair(out, static_cast<unsigned>(codeNow(static_cast<int>(i))) & 0xffffU);
            } else {
                const double t = std::chrono::duration<double>(std::chrono::steady_clock::now() - began_).count();
                const auto count = static_cast<std::uint32_t>(t * (i < 10 ? 40 : 6)) + 65530U;
                addPair(out, i % 2 == 0 ? count >> 16 : count & 0xffffU);
            }
        }
        return out;
    }
    if (r[0] == 5) {
        if (first >= 8) return refuse(2);
        if (n != 0 && n != 0xFF00U) return refuse(3);
        relays_[first] = n != 0 && !(faults.stuckRelay && first == 0);
        return request.substr(0, 5);
    }
    if (r[0] == 6) {
        if (first >= 132) return refuse(2);
        if (first < 8 && n > 3) return refuse(3);
        holding_[first] = static_cast<std::uint16_t>(n);
        return request.substr(0, 5);
    }
    if (r[0] == 16) {
        if (r.size() < 6 || n == 0 || n > 123 || r.size() != 6 + 2 * n || r[5] != 2 * n) return refuse(3);
        if (first + n > 132) return refuse(2);
        for (unsigned i = 0; i < n; ++i) holding_[first + i] = static_cast<std::uint16_t>(pair(r, 6 + 2 * i));
        return request.substr(0, 5);
    }
    return refuse(1);
}

}  // namespace cruscotto

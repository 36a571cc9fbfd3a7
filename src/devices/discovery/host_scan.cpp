#include "devices/discovery/host_scan.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <nlohmann/json.hpp>

#include "core/base/json_text.h"
#include "core/base/parsed.h"
#include "core/base/text.h"

namespace cruscotto {

namespace {

constexpr std::uint64_t mostHosts = 4096, atOnce = 64;
constexpr std::chrono::milliseconds connectFor{300}, answerFor{700};

bool parseAddress(const std::string& text, std::uint32_t& out) {
    in_addr a{};
    if (inet_pton(AF_INET, text.c_str(), &a) != 1) return false;
    out = ntohl(a.s_addr);
    return true;
}

struct Probe {
    std::uint32_t address = 0;
    int fd = -1;
    bool asked = false;
    std::string answer;
    std::chrono::steady_clock::time_point until;
};

std::string questionBytes(HostQuestion question) {
    if (question == HostQuestion::scpiIdentity) return "*IDN?\n";
    // MBAP header, unit 1, function 43, MEI type 14, basic identification from object 0.
    if (question == HostQuestion::modbusIdentity) return {"\x00\x01\x00\x00\x00\x05\x01\x2B\x0E\x01\x00", 11};
    if (question == HostQuestion::ioLinkIdentity)
        return "GET /iolink/v1/gateway/identification HTTP/1.1\r\nHost: master\r\nConnection: close\r\n\r\n";
    return {};
}

/// What the answer says, as far as it is there; false: more is to come.
bool understand(HostQuestion question, const std::string& answer, std::string& identity) {
    const auto printable = [](std::string s) {
        std::erase_if(s, [](char c) { return c < 32 || c > 126; });
        return s.substr(0, 120);
    };
    if (question == HostQuestion::scpiIdentity) {
        const std::size_t end = answer.find('\n');
        if (end == std::string::npos) return answer.size() > 1000;
        identity = printable(answer.substr(0, end));
        return true;
    }
    if (question == HostQuestion::ioLinkIdentity) {
        const std::size_t body = answer.find("\r\n\r\n");
        if (body == std::string::npos) return answer.size() > 4000;
        const auto j = parseJson(answer.substr(body + 4));
        if (!j.is_object()) return answer.size() > 8000;  // more of it may come
        for (const char* key : {"vendorName", "productName"})
            if (const auto it = j.find(key); it != j.end() && it->is_string())
                identity += (identity.empty() ? "" : " ") + printable(it->get<std::string>());
        return true;
    }
    const auto at = [&](std::size_t i) { return static_cast<std::uint8_t>(answer[i]); };
    if (answer.size() < 9) return false;
    if (at(7) & 0x80U) {  // it does not know the question, but it is a Modbus server
        identity = "Modbus";
        return true;
    }
    if (answer.size() < 6U + at(4) * 256U + at(5)) return false;
    identity = "Modbus";
    for (std::size_t i = 14; i + 2 <= answer.size();) {
        const std::size_t length = at(i + 1);
        if (i + 2 + length > answer.size()) break;
        identity += " " + printable(answer.substr(i + 2, length));
        i += 2 + length;
    }
    return true;
}

}  // namespace

std::string addressText(std::uint32_t address) {
    const in_addr a{htonl(address)};
    std::array<char, INET_ADDRSTRLEN> out{};
    inet_ntop(AF_INET, &a, out.data(), out.size());
    return out.data();
}

Result<HostRange> hostRange(const std::string& typed) {
    HostRange out;
    const auto wrong = [&] {
        return failure(
            "\"{0}\" is no range of addresses. Write 192.0.2.7, 192.0.2.1-20, 192.0.2.1-192.0.2.20 or 192.0.2.0/28.",
            typed);
    };
    if (const std::size_t slash = typed.find('/'); slash != std::string::npos) {
        int bits = 0;
        if (!parseAddress(typed.substr(0, slash), out.first) ||
            !parsed(std::string_view(typed).substr(slash + 1), bits) || bits < 1 || bits > 32)
            return wrong();
        const std::uint32_t mask = bits == 32 ? ~0U : ~(~0U >> bits);
        out.last = out.first | ~mask;
        out.first &= mask;
    } else {
        const std::size_t dash = typed.find('-');
        if (!parseAddress(typed.substr(0, dash), out.first)) return wrong();
        out.last = out.first;
        if (dash != std::string::npos) {
            std::uint32_t end = 0;
            const std::string behind = typed.substr(dash + 1);
            if (parsed(behind, end) && end <= 255)
                out.last = (out.first & ~255U) | end;
            else if (!parseAddress(behind, out.last))
                return wrong();
        }
    }
    if (out.last < out.first) return wrong();
    if (out.size() > mostHosts)
        return failure("\"{0}\" are {1} addresses; at most {2} are looked at in one go.", typed, out.size(), mostHosts);
    return out;
}

HostScan scanHosts(const HostRange& range, std::uint16_t port, HostQuestion question, const std::stop_token& stop,
                   const std::function<void(std::uint64_t done)>& progress) {
    using Clock = std::chrono::steady_clock;
    HostScan out;
    std::vector<Probe> probes;
    std::uint64_t next = 0, done = 0;
    const std::string ask = questionBytes(question);
    const auto finish = [&](Probe& p) {
        ::close(p.fd);
        p.fd = -1;
        progress(++done);
    };
    while (next < range.size() || !probes.empty()) {
        if (stop.stop_requested()) {
            for (const Probe& p : probes) ::close(p.fd);
            out.stopped = true;
            break;
        }
        while (probes.size() < atOnce && next < range.size()) {
            Probe p;
            p.address = range.first + static_cast<std::uint32_t>(next++);
            p.fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
            p.until = Clock::now() + connectFor;
            sockaddr_in a{};
            a.sin_family = AF_INET;
            a.sin_addr.s_addr = htonl(p.address);
            a.sin_port = htons(port);
            if (p.fd < 0 || (connect(p.fd, reinterpret_cast<sockaddr*>(&a), sizeof a) != 0 && errno != EINPROGRESS)) {
                out.refused += errno == ECONNREFUSED;
                if (p.fd >= 0) ::close(p.fd);
                progress(++done);
                continue;
            }
            probes.push_back(std::move(p));
        }
        std::vector<pollfd> watched;
        for (const Probe& p : probes) watched.push_back({p.fd, static_cast<short>(p.asked ? POLLIN : POLLOUT), 0});
        ::poll(watched.data(), watched.size(), 20);
        for (std::size_t i = 0; i < probes.size(); ++i) {
            Probe& p = probes[i];
            const auto found = [&](std::string identity) {
                out.found.push_back({p.address, std::move(identity)});
                finish(p);
            };
            if (watched[i].revents != 0 && !p.asked) {
                int error = 0;
                socklen_t size = sizeof error;
                getsockopt(p.fd, SOL_SOCKET, SO_ERROR, &error, &size);
                if (error != 0) {
                    out.refused += error == ECONNREFUSED;
                    finish(p);
                } else if (ask.empty() ||
                           ::send(p.fd, ask.data(), ask.size(), MSG_NOSIGNAL) != static_cast<ssize_t>(ask.size())) {
                    found({});
                } else {
                    p.asked = true;
                    p.until = Clock::now() + answerFor;
                }
            } else if (watched[i].revents != 0) {
                std::array<char, 1024> bytes;
                const ssize_t n = ::read(p.fd, bytes.data(), bytes.size());
                if (n > 0) p.answer.append(bytes.data(), static_cast<std::size_t>(n));
                std::string identity;
                if (n <= 0 || p.answer.size() > 4096 || understand(question, p.answer, identity)) found(identity);
            } else if (Clock::now() > p.until) {
                if (p.asked)
                    found({});
                else
                    finish(p);
            }
        }
        std::erase_if(probes, [](const Probe& p) { return p.fd < 0; });
    }
    std::ranges::sort(out.found, {}, &HostScan::Found::address);
    return out;
}

}  // namespace cruscotto

#include "devices/can/can_link.h"

#include <fcntl.h>
#include <linux/can.h>
#include <linux/can/error.h>
#include <linux/can/raw.h>
#include <net/if.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "devices/link/capture_playback.h"
#include "devices/link/waker.h"

namespace cruscotto {

namespace {

constexpr std::array<unsigned, 9> adapterRates{10'000,  20'000,  50'000,  100'000,  125'000,
                                               250'000, 500'000, 800'000, 1'000'000};

bool isInterface(const std::string& address) {
    return address.find('/') == std::string::npos && address.find(':') == std::string::npos &&
           !address.ends_with(".wire") && address.find('.') == std::string::npos && address.size() < IFNAMSIZ;
}

/// The kernel's own sockets (SocketCAN).
class KernelCan : public CanLink {
public:
    explicit KernelCan(std::string name) : name_(std::move(name)) {}
    ~KernelCan() override { KernelCan::close(); }
    std::optional<ByteLink::Failure> open() override {
        close();
        const int fd = socket(PF_CAN, SOCK_RAW | SOCK_CLOEXEC | SOCK_NONBLOCK, CAN_RAW);
        if (fd < 0)
            return ByteLink::Failure{
                LinkState::failed,
                text(CRUSCOTTO_TEXT(
                         "This system has no CAN ({0}). Load it with: sudo modprobe can_raw; or use a serial adapter."),
                     std::strerror(errno))};
        ifreq request{};
        name_.copy(request.ifr_name, IFNAMSIZ - 1);
        sockaddr_can a{};
        a.can_family = AF_CAN;
        const auto refuse = [&](LinkState state, Text sentence) {
            ::close(fd);
            return ByteLink::Failure{state, std::move(sentence)};
        };
        if (ioctl(fd, SIOCGIFINDEX, &request) != 0)
            return refuse(
                LinkState::absent,
                text(CRUSCOTTO_TEXT(
                         "There is no CAN interface {0}. Plug the adapter in; its readings begin by themselves."),
                     name_));
        a.can_ifindex = request.ifr_ifindex;
        if (ioctl(fd, SIOCGIFFLAGS, &request) == 0 && !(request.ifr_flags & IFF_UP))
            return refuse(
                LinkState::silent,
                text(CRUSCOTTO_TEXT(
                         "{0} is switched off. Switch it on with: sudo ip link set {0} up type can bitrate 500000"),
                     name_));
        const int on = 1;
        const can_err_mask_t errors = CAN_ERR_CRTL | CAN_ERR_BUSOFF | CAN_ERR_RESTARTED | CAN_ERR_ACK;
        setsockopt(fd, SOL_CAN_RAW, CAN_RAW_FD_FRAMES, &on, sizeof on);
        setsockopt(fd, SOL_CAN_RAW, CAN_RAW_ERR_FILTER, &errors, sizeof errors);
        const int buffer = 1 << 20;
        setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof buffer);
        if (bind(fd, reinterpret_cast<sockaddr*>(&a), sizeof a) != 0)
            return refuse(LinkState::failed,
                          text(CRUSCOTTO_TEXT("{0} does not open: {1}."), name_, std::strerror(errno)));
        fd_ = fd;
        return std::nullopt;
    }
    void close() override {
        if (fd_ >= 0) ::close(fd_);
        fd_ = -1;
    }
    bool read(Duration wait, Heard& out) override {
        if (!waker_.waitFor(fd_, wait)) return true;
        for (int i = 0; i < 1000; ++i) {
            canfd_frame f{};
            const ssize_t n = ::read(fd_, &f, sizeof f);
            if (n < 0) return errno == EAGAIN || errno == EINTR;
            if (n != CAN_MTU && n != CANFD_MTU) return n != 0;
            out.bytes += static_cast<std::size_t>(n);
            if (f.can_id & CAN_ERR_FLAG) {
                if (f.can_id & CAN_ERR_BUSOFF)
                    out.trouble = text(
                        CRUSCOTTO_TEXT("{0} has gone off the bus after too many errors. Check the bit rate and the two "
                                       "terminating resistors; then: sudo ip link set {0} type can restart"),
                        name_);
                else if (f.can_id & CAN_ERR_ACK)
                    out.trouble = text(CRUSCOTTO_TEXT("Nobody on {0} acknowledges what is sent. Is another device on "
                                                      "the bus, at the same bit rate?"),
                                       name_);
                else if (f.can_id & CAN_ERR_CRTL && f.data[1] & (CAN_ERR_CRTL_RX_PASSIVE | CAN_ERR_CRTL_TX_PASSIVE))
                    out.trouble = text(CRUSCOTTO_TEXT("{0} sees many errors on the bus. Check the bit rate, the cable "
                                                      "and the two terminating resistors."),
                                       name_);
                continue;
            }
            CanFrame frame;
            frame.extended = f.can_id & CAN_EFF_FLAG;
            frame.id = f.can_id & (frame.extended ? CAN_EFF_MASK : CAN_SFF_MASK);
            frame.remote = f.can_id & CAN_RTR_FLAG;
            frame.fd = n == CANFD_MTU;
            frame.bitRateSwitch = frame.fd && f.flags & CANFD_BRS;
            frame.length = std::min<std::uint8_t>(f.len, 64);
            std::copy_n(f.data, frame.length, frame.data.begin());
            out.frames.push_back(frame);
        }
        return true;
    }
    Wrote write(const CanFrame& frame) override {
        const std::string bytes = bytesOf(frame);
        if (::write(fd_, bytes.data(), bytes.size()) >= 0) return Wrote::all;
        // A full queue is a busy bus.
        return errno == ENOBUFS || errno == EAGAIN || errno == EINTR ? Wrote::nothing : Wrote::lost;
    }
    [[nodiscard]] int descriptor() const override { return fd_; }
    [[nodiscard]] std::string bytesOf(const CanFrame& frame) const override {
        canfd_frame f{};
        f.can_id = frame.id | (frame.extended ? CAN_EFF_FLAG : 0) | (frame.remote ? CAN_RTR_FLAG : 0);
        f.len = frame.length;
        if (frame.bitRateSwitch) f.flags = CANFD_BRS;
        std::copy_n(frame.data.begin(), frame.length, f.data);
        return {reinterpret_cast<const char*>(&f), frame.fd ? CANFD_MTU : CAN_MTU};
    }
    void wake() override { waker_.wake(); }
    [[nodiscard]] std::string name() const override { return name_; }

private:
    const std::string name_;
    Waker waker_;
    int fd_ = -1;
};

/// An adapter that speaks the text protocol.
class AdapterCan : public CanLink {
public:
    AdapterCan(CanLinkSettings settings, LinkAddress address)
        : settings_(std::move(settings)), link_(makeByteLink(address)) {}
    std::optional<ByteLink::Failure> open() override {
        if (auto refused = link_->open()) return refused;
        reader_.reset();
        const auto rate = std::ranges::find(adapterRates, settings_.bitRate) - adapterRates.begin();
        // Line ends clear what somebody left half typed; C closes, in case it is open; refusals of both say nothing.
        const std::string hello = "\r\r\rC\rS" + std::to_string(rate) + '\r' + (settings_.listenOnly ? "L\r" : "O\r");
        if (!link_->write(hello))
            return ByteLink::Failure{LinkState::lost,
                                     text(CRUSCOTTO_TEXT("{0} went away while it was opened."), link_->name())};
        return std::nullopt;
    }
    void close() override {
        link_->write("C\r");
        link_->close();
    }
    bool read(Duration wait, Heard& out) override {
        bytes_.clear();
        if (link_->read(wait, bytes_) == ByteLink::Got::lost) return false;
        out.bytes += bytes_.size();
        pieces_.clear();
        reader_.feed(bytes_, pieces_);
        using What = SlcanReader::Piece::What;
        for (SlcanReader::Piece& p : pieces_) {
            if (p.what == What::frame) out.frames.push_back(p.frame);
            if (p.what == What::nonsense)
                out.strange.emplace_back(std::move(p.bytes), CRUSCOTTO_TEXT("no frame and no answer of an adapter"));
        }
        return true;
    }
    Wrote write(const CanFrame& frame) override { return link_->write(slcanText(frame)) ? Wrote::all : Wrote::lost; }
    [[nodiscard]] int descriptor() const override { return link_->descriptor(); }
    [[nodiscard]] std::string bytesOf(const CanFrame& frame) const override { return slcanText(frame); }
    void wake() override { link_->wake(); }
    [[nodiscard]] Duration unheard() const override { return link_->unheard(); }
    [[nodiscard]] std::string name() const override { return link_->name(); }

private:
    const CanLinkSettings settings_;
    const std::unique_ptr<ByteLink> link_;
    SlcanReader reader_;
    std::string bytes_;
    std::vector<SlcanReader::Piece> pieces_;
};

/// What was saved from a bus, frame by frame.
class CaptureCan : public CanLink {
public:
    explicit CaptureCan(std::string path) : path_(std::move(path)) {}
    std::optional<ByteLink::Failure> open() override {
        auto opened = CapturePlayback::open(path_);
        if (!opened)
            return ByteLink::Failure{access(path_.c_str(), F_OK) == 0 ? LinkState::failed : LinkState::absent,
                                     opened.error().message};
        playback_ = std::move(opened.value());
        return std::nullopt;
    }
    void close() override { playback_.reset(); }
    bool read(Duration wait, Heard& out) override {
        messages_.clear();
        playback_->read(wait, messages_);
        for (std::string& m : messages_) {
            out.bytes += m.size();
            if (const auto frame = frameOfWire(m))
                out.frames.push_back(*frame);
            else
                out.strange.emplace_back(std::move(m), CRUSCOTTO_TEXT("no frame of a bus"));
        }
        return true;
    }
    Wrote write(const CanFrame&) override { return Wrote::all; }
    [[nodiscard]] int descriptor() const override { return -1; }
    [[nodiscard]] std::string bytesOf(const CanFrame&) const override { return {}; }
    void wake() override {}  // nothing waits here for long
    [[nodiscard]] std::string name() const override { return path_; }

private:
    const std::string path_;
    std::unique_ptr<CapturePlayback> playback_;
    std::vector<std::string> messages_;
};

}  // namespace

std::string wireBytes(const CanFrame& f) {
    std::string out;
    for (int i = f.extended ? 3 : 1; i >= 0; --i) out += static_cast<char>(f.id >> (8 * i));
    if (f.extended) out[0] = static_cast<char>(out[0] | 0x80);
    if (f.remote) out[0] = static_cast<char>(out[0] | 0x40);
    if (!f.remote) out.append(reinterpret_cast<const char*>(f.data.data()), f.length);
    return out;
}

std::optional<CanFrame> frameOfWire(std::string_view bytes) {
    CanFrame f;
    f.extended = !bytes.empty() && (bytes[0] & 0x80);
    f.remote = !bytes.empty() && (bytes[0] & 0x40);
    const std::size_t head = f.extended ? 4 : 2;
    if (bytes.size() < head || bytes.size() - head > f.data.size()) return std::nullopt;
    for (std::size_t i = 0; i < head; ++i) f.id = f.id << 8 | static_cast<unsigned char>(bytes[i]);
    f.id &= f.extended ? 0x1FFFFFFFU : 0x7FFU;
    f.length = static_cast<std::uint8_t>(bytes.size() - head);
    f.fd = f.length > 8;
    std::copy_n(bytes.data() + head, f.length, reinterpret_cast<char*>(f.data.data()));
    return f;
}

Result<void> checkCanLink(const CanLinkSettings& s) {
    if (s.address.empty())
        return failure(
            "Say where the bus is: an interface of this computer, as in can0, or an adapter's port, as in "
            "/dev/ttyACM0.");
    if (isInterface(s.address)) return {};
    if (std::ranges::find(adapterRates, s.bitRate) == adapterRates.end())
        return failure(
            "An adapter has the bit rates 10000, 20000, 50000, 100000, 125000, 250000, 500000, 800000 and 1000000.");
    if (auto address = linkAddress(s.address, 0); !address) return address.error();
    return {};
}

std::unique_ptr<CanLink> makeCanLink(const CanLinkSettings& s) {
    if (isInterface(s.address)) return std::make_unique<KernelCan>(s.address);
    if (s.address.ends_with(".wire")) return std::make_unique<CaptureCan>(s.address);
    auto address = linkAddress(s.address, 0);
    if (!address) return std::make_unique<KernelCan>(s.address);
    address.value().line.baud = 1'000'000;  // of a USB adapter it does not matter
    return std::make_unique<AdapterCan>(s, address.value());
}

}  // namespace cruscotto

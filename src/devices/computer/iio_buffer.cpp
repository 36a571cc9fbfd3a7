#include "devices/computer/iio_buffer.h"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <charconv>
#include <cmath>
#include <cstring>
#include <filesystem>

#include "devices/computer/sensor_tree.h"
#include "devices/kernel_file.h"
#include "devices/link/board_clock.h"
#include "devices/link/link_driver.h"
#include "devices/link/waker.h"

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

constexpr Duration bufferSilentAfter = milliseconds(2000);
constexpr std::size_t mostChannels = 128;

struct IioBufferSettings {
    std::string root = "/";
    std::string device;   ///< its name
    std::string trigger;  ///< its name; empty: as it is
    double rate = 0;      ///< 0: as it is
    int length = 1024;
};

Result<IioBufferSettings> iioBufferSettings(const JsonText& json) {
    IioBufferSettings out;
    SettingsReader settings(json);
    out.root = settings.word("root", "/");
    out.device = settings.word("device");
    out.trigger = settings.word("trigger");
    if (out.root.empty()) return failure("\"root\" must be a folder; / is this computer.");
    for (const std::string& name : {out.device, out.trigger})
        if (name.size() > 100 || name.find_first_of("/\n") != std::string::npos)
            return failure("\"{0}\" is no name of a device or trigger.", name);
    if (out.device.empty()) return failure("\"device\" is missing: the name of the input, as the kernel has it.");
    out.rate = settings.number("rate", 0, 0, 1e9);
    out.length = settings.whole("length", 1024, 2, 1'000'000);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

class IioBuffer : public LinkDriver {
public:
    IioBuffer(DeviceContext context, IioBufferSettings settings, const std::vector<TerminalRequest>& requests)
        : LinkDriver(std::move(context), {}), settings_(std::move(settings)), clock_(53, 1e-9) {
        for (const TerminalRequest& r : requests) wanted_.insert(r.terminal);
    }
    ~IioBuffer() override { IioBuffer::close(); }
    bool request(const std::vector<TerminalRequest>& requests) override {
        std::set<std::string> wanted;
        for (const TerminalRequest& r : requests) wanted.insert(r.terminal);
        return wanted == wanted_;  // a buffer that runs takes no other channels
    }

protected:
    std::optional<ByteLink::Failure> open() override {
        const fs::path devices = fs::path(settings_.root) / "sys/bus/iio/devices";
        const auto named = [&](const char* begins, const std::string& name) -> fs::path {
            std::error_code ec;
            for (fs::directory_iterator it(devices, ec), end; !ec && it != end; it.increment(ec))
                if (it->path().filename().string().starts_with(begins) && kernelLine(it->path() / "name") == name)
                    return it->path();
            return {};
        };
        device_ = named("iio:device", settings_.device);
        if (device_.empty())
            return ByteLink::Failure{
                LinkState::absent,
                text(CRUSCOTTO_TEXT("The kernel has no input \"{0}\" under {1}. Is its module loaded?"),
                     settings_.device, devices.string())};
        std::error_code ignored;
        if (!fs::exists(device_ / "scan_elements", ignored))
            return ByteLink::Failure{
                LinkState::failed,
                text(CRUSCOTTO_TEXT(
                         "{0} has no buffer: it is read one shot at a time, under \"This computer's own sensors\"."),
                     settings_.device)};
        if (auto refused = choose()) return refused;
        if (!settings_.trigger.empty())
            if (const int error = write(device_ / "trigger/current_trigger", settings_.trigger + "\n"))
                return refusedBy(error, text(CRUSCOTTO_TEXT("the trigger {0} is not taken"), settings_.trigger));
        if (settings_.rate > 0)
            if (const int error = write(device_ / "sampling_frequency", fmt::format("{}\n", settings_.rate)))
                return refusedBy(error, text(CRUSCOTTO_TEXT("the rate {0} is not taken"), settings_.rate));
        (void)write(device_ / "buffer/length", fmt::format("{}\n", settings_.length));  // some have a fixed one
        if (const int error = write(device_ / "buffer/enable", "1\n"))
            return refusedBy(error, error == EINVAL && settings_.trigger.empty()
                                        ? Text(CRUSCOTTO_TEXT("the buffer does not start; most inputs need a trigger"))
                                        : Text(CRUSCOTTO_TEXT("the buffer does not start")));
        const std::string path = (fs::path(settings_.root) / "dev" / device_.filename()).string();
        fd_ = ::open(path.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC);
        if (fd_ < 0) {
            const int error = errno;
            close();
            return refusedBy(error, text(CRUSCOTTO_TEXT("{0} does not open"), path));
        }
        return std::nullopt;
    }
    void close() override {
        if (fd_ >= 0) ::close(fd_);
        fd_ = -1;
        if (!device_.empty()) (void)write(device_ / "buffer/enable", "0\n");  // it may be gone
    }
    void wake() override { waker_.wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("{0} went away. It is looked for again; the gap is kept."), settings_.device);
    }

    End talk(const std::stop_token& stop) override {
        held_.clear();
        clock_.reset();
        setState(LinkState::starting,
                 text(CRUSCOTTO_TEXT("The buffer of {0} runs; waiting for the first scan."), settings_.device));
        Instant last = now();
        std::array<char, 65536> bytes;
        while (!stop.stop_requested()) {
            const bool something = waker_.waitFor(fd_, milliseconds(100));
            const Instant t = now();
            if (something) {
                const ssize_t n = ::read(fd_, bytes.data(), bytes.size());
                if (n == 0 || (n < 0 && errno != EAGAIN && errno != EINTR)) return End::lost;
                if (n > 0) {
                    last = t;
                    status().bytes += static_cast<std::uint64_t>(n);
                    held_.append(bytes.data(), static_cast<std::size_t>(n));
                    take(t);
                    setLive(text(CRUSCOTTO_TEXT("Scans arrive from {1}; channels: {0}."), values_.size(),
                                 settings_.device));
                }
            }
            if (t - last > bufferSilentAfter)
                setState(LinkState::silent,
                         text(CRUSCOTTO_TEXT("The buffer of {0} runs, but no scan comes. Does its trigger fire?"),
                              settings_.device));
            reportSometimes();
        }
        return End::stopped;
    }

private:
    [[nodiscard]] int write(const fs::path& path, const std::string& words) const {
        return writeKernelFile(settings_.root, path, words);
    }
    ByteLink::Failure refusedBy(int error, const Text& what) const {
        if (error == EACCES || error == EPERM)
            return {LinkState::noPermission, text(CRUSCOTTO_TEXT("{0}: {1}; your account may not set it up. Run: sudo "
                                                                 "chgrp -R plugdev {2} && sudo chmod -R g+w {2}"),
                                                  settings_.device, what.english(), device_.string())};
        if (error == EBUSY)
            return {LinkState::busy,
                    text(CRUSCOTTO_TEXT("{0}: {1}; another program uses it."), settings_.device, what.english())};
        return {LinkState::failed, text(CRUSCOTTO_TEXT("{0}: {1} ({2})."), settings_.device, what.english(),
                                        std::string(std::strerror(error)))};
    }

    /// Which channels are captured: those that signals use, or all, and the time stamp where there is one.
    std::optional<ByteLink::Failure> choose() {
        struct Element {
            int index;
            std::string name;
            IioElement packed;
        };
        std::vector<Element> all;
        std::error_code ec;
        for (fs::directory_iterator it(device_ / "scan_elements", ec), end;
             !ec && it != end && all.size() < mostChannels; it.increment(ec)) {
            const std::string leaf = it->path().filename().string();
            if (!leaf.starts_with("in_") || !leaf.ends_with("_type")) continue;
            const std::string name = leaf.substr(3, leaf.size() - 8);
            const auto packed = iioElement(kernelLine(it->path()));
            const auto index = readKernelNumber((device_ / "scan_elements" / ("in_" + name + "_index")).string());
            if (packed && index) all.push_back({static_cast<int>(std::clamp(*index, 0., 1e6)), name, packed.value()});
        }
        std::ranges::sort(all, {}, &Element::index);
        status().found.clear();
        std::vector<Channel> channels;
        std::vector<IioElement> elements;
        stamp_.reset();
        for (const Element& e : all) {
            const bool time = e.name == "timestamp";
            const std::string terminal = settings_.device + "." + e.name;
            if (!time) {
                TerminalInfo info{terminal};
                info.type = SampleType::float64;
                for (const KernelSensor& s : findKernelSensors(settings_.root))
                    if (s.info.terminal == terminal) info = s.info;
                status().found.push_back(std::move(info));
            }
            const bool on = time || wanted_.empty() || wanted_.contains(terminal);
            if (const int error = write(device_ / "scan_elements" / ("in_" + e.name + "_en"), on ? "1\n" : "0\n");
                error != 0 && on)
                return refusedBy(error, text(CRUSCOTTO_TEXT("the channel {0} is not switched on"), e.name));
            if (!on) continue;
            if (time)
                stamp_ = elements.size();
            else
                channels.push_back({terminal, SampleType::float64, ChannelKind::analogInput});
            elements.push_back(e.packed);
        }
        sink().report(status());
        if (channels.empty())
            return ByteLink::Failure{
                LinkState::failed, text(CRUSCOTTO_TEXT("{0} has no channels that can be captured."), settings_.device)};
        scanBytes_ = layOutScan(elements, offsets_);
        elements_ = std::move(elements);
        std::string key;
        for (const Channel& c : channels) key += c.terminal + " ";
        ScanBuffer*& scan = scans_[key];
        if (!scan) scan = &addScan("scan" + (scans_.size() > 1 ? std::to_string(scans_.size()) : ""), channels);
        scan_ = scan;
        values_.resize(channels.size());
        rate_ = readKernelNumber((device_ / "sampling_frequency").string()).value_or(0);
        return std::nullopt;
    }

    void take(Instant t) {
        const std::size_t n = held_.size() / scanBytes_;
        for (std::size_t i = 0; i < n; ++i) {
            const char* at = held_.data() + i * scanBytes_;
            // Without a time stamp of its own the last scan was taken now, and the others before it at their rate.
            Instant when{t.ns - (rate_ > 0 ? std::llround(static_cast<double>(n - 1 - i) * 1e9 / rate_) : 0)};
            std::size_t v = 0;
            for (std::size_t k = 0; k < elements_.size(); ++k) {
                if (stamp_ == k) {
                    std::uint64_t ns = 0;
                    std::memcpy(&ns, at + offsets_[k], sizeof ns);
                    when = clock_.at(ns, t);
                } else {
                    values_[v++] = elements_[k].value(at + offsets_[k]);
                }
            }
            scan_->add(when, values_);
        }
        held_.erase(0, n * scanBytes_);
        status().lines += n;
        deliver();
    }

    const IioBufferSettings settings_;
    std::set<std::string> wanted_;  // stays as it is: request() looks at it from another thread
    Waker waker_;
    int fd_ = -1;
    fs::path device_;
    std::vector<IioElement> elements_;
    std::vector<std::size_t> offsets_;
    std::optional<std::size_t> stamp_;
    std::size_t scanBytes_ = 1;
    std::map<std::string, ScanBuffer*> scans_;
    ScanBuffer* scan_ = nullptr;
    std::vector<double> values_;
    double rate_ = 0;
    BoardClock clock_;
    std::string held_;
};

}  // namespace

double IioElement::value(const char* from) const {
    std::uint64_t raw = 0;
    const int n = storageBits / 8;
    for (int i = 0; i < n; ++i) raw = raw << 8 | static_cast<std::uint8_t>(from[bigEndian ? i : n - 1 - i]);
    raw >>= shift;
    if (bits < 64) raw &= (std::uint64_t{1} << bits) - 1;
    if (!isSigned) return static_cast<double>(raw);
    if (bits < 64 && (raw >> (bits - 1) & 1U) != 0) raw |= ~std::uint64_t{0} << bits;
    return static_cast<double>(static_cast<std::int64_t>(raw));
}

Result<IioElement> iioElement(const std::string& text) {
    IioElement out;
    const auto bad = [&] { return failure("\"{0}\" does not say how a channel is packed.", text); };
    if (text.size() < 7 || (!text.starts_with("le:") && !text.starts_with("be:")) || (text[3] != 's' && text[3] != 'u'))
        return bad();
    out.bigEndian = text.starts_with("be:");
    out.isSigned = text[3] == 's';
    const char *at = text.data() + 4, *end = text.data() + text.size();
    const auto number = [&](int& to) {
        const auto [next, error] = std::from_chars(at, end, to);
        at = next;
        return error == std::errc{};
    };
    if (!number(out.bits) || at == end || *at++ != '/' || !number(out.storageBits)) return bad();
    if (at != end && *at == 'X' && (++at, !number(out.repeat))) return bad();
    if (end - at >= 2 && at[0] == '>' && at[1] == '>' && (at += 2, !number(out.shift))) return bad();
    const bool known = out.storageBits == 8 || out.storageBits == 16 || out.storageBits == 32 || out.storageBits == 64;
    if (at != end || !known || out.bits < 1 || out.bits > 64 || out.shift < 0 || out.shift > 64 ||
        out.bits + out.shift > out.storageBits || out.repeat < 1 || out.repeat > 64)
        return bad();
    return out;
}

std::size_t layOutScan(const std::vector<IioElement>& elements, std::vector<std::size_t>& offsets) {
    offsets.clear();
    std::size_t at = 0, largest = 1;
    for (const IioElement& e : elements) {
        const std::size_t bytes = e.bytes();
        at = (at + bytes - 1) / bytes * bytes;
        offsets.push_back(at);
        at += bytes;
        largest = std::max(largest, bytes);
    }
    return (at + largest - 1) / largest * largest;
}

DeviceKind iioBufferKind() {
    DeviceKind kind;
    kind.key = "iio-buffer";
    kind.title = CRUSCOTTO_TEXT("Fast inputs of this computer (IIO)");
    kind.name = CRUSCOTTO_TEXT("Fast inputs");
    using Type = SettingInfo::Type;
    kind.rateKey = "rate";
    kind.settings = {
        {"device",
         CRUSCOTTO_TEXT("Input"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("Its name, as in /sys/bus/iio/devices/iio:device0/name.")},
        {"trigger",
         CRUSCOTTO_TEXT("Trigger"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("The name of the trigger that takes the scans; empty: the one that is set.")},
        {"rate", CRUSCOTTO_TEXT("Scans a second"), Type::number, {}, "0", CRUSCOTTO_TEXT("0: as it is.")},
        {"length", CRUSCOTTO_TEXT("Scans in the kernel's buffer"), Type::number, {}, "1024", {}},
        {"root",
         CRUSCOTTO_TEXT("Tree"),
         Type::text,
         {},
         "/",
         CRUSCOTTO_TEXT("/ is this computer; a copied tree can be examined too.")},
    };
    kind.terminals = [](const JsonText&) { return std::vector<TerminalInfo>{}; };
    kind.check = checkedBy<iioBufferSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        return std::make_unique<IioBuffer>(context, settingsBy<iioBufferSettings>(json), requests);
    };
    return kind;
}

}  // namespace cruscotto

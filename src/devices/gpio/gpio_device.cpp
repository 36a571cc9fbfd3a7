#include "devices/gpio/gpio_device.h"

#include <linux/gpio.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>

#include "core/base/number_text.h"
#include "devices/link/access.h"
#include "devices/link/link_driver.h"
#include "devices/link/waker.h"

namespace cruscotto {

namespace {

constexpr std::uint32_t mostListed = 512;
constexpr Duration valueAgainEvery = milliseconds(500), lookEvery = milliseconds(10);
constexpr std::uint64_t edgeFlags = GPIO_V2_LINE_FLAG_EDGE_RISING | GPIO_V2_LINE_FLAG_EDGE_FALLING;

std::set<std::string> outputsOf(const GpioSettings& settings) {
    std::set<std::string> out;
    for (const GpioLine& l : settings.lines)
        if (l.out) out.insert(l.name);
    return out;
}

class GpioLines : public LinkDriver {
public:
    GpioLines(DeviceContext context, GpioSettings settings, KernelCalls calls)
        : LinkDriver(std::move(context), outputsOf(settings)), settings_(std::move(settings)), calls_(calls) {
        for (const GpioLine& l : settings_.lines) {
            if (l.out && atRest()) continue;  // to be an output is to drive
            Line line{l, nullptr, 0, {}, false, {}};
            if (!l.out) line.scan = &addScan(l.name, {{l.name, SampleType::bit, ChannelKind::digitalInput}});
            lines_.push_back(line);
        }
    }
    ~GpioLines() override { GpioLines::close(); }

protected:
    std::optional<ByteLink::Failure> open() override {
        chip_ = calls_.open(settings_.chip.c_str());
        if (chip_ < 0) {
            const int error = errno;
            if (error == EACCES || error == EPERM)
                return ByteLink::Failure{LinkState::noPermission, kernelPermissionSentence(settings_.chip)};
            if (error == ENOTTY)
                return ByteLink::Failure{LinkState::failed,
                                         text(CRUSCOTTO_TEXT("{0} is no GPIO chip."), settings_.chip)};
            return ByteLink::Failure{
                LinkState::absent,
                text(CRUSCOTTO_TEXT("There is no {0} ({1}). \"ls /dev/gpiochip*\" lists what this computer has."),
                     settings_.chip, std::string(std::strerror(error)))};
        }
        gpiochip_info about{};
        if (calls_.control(chip_, GPIO_GET_CHIPINFO_IOCTL, &about) < 0) {
            close();
            return ByteLink::Failure{LinkState::failed, text(CRUSCOTTO_TEXT("{0} is no GPIO chip."), settings_.chip)};
        }
        listLines(about.lines);
        if (lines_.empty()) return std::nullopt;
        gpio_v2_line_request request{};
        std::strncpy(request.consumer, "cruscotto", sizeof request.consumer - 1);
        request.num_lines = static_cast<std::uint32_t>(lines_.size());
        request.event_buffer_size = 1024;
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            const GpioLine& l = lines_[i].what;
            if (l.offset >= about.lines) {
                close();
                return ByteLink::Failure{LinkState::failed,
                                         text(CRUSCOTTO_TEXT("{0} has lines 0 to {1}, but \"{2}\" is line {3}."),
                                              settings_.chip, about.lines - 1, l.name, l.offset)};
            }
            request.offsets[i] = l.offset;
            const std::uint64_t flags = flagsOf(l);
            const std::uint64_t mask = std::uint64_t{1} << i;
            // Lines that are set alike share an attribute; there are ten.
            bool placed = i == 0 ? (request.config.flags = flags, true) : request.config.flags == flags;
            for (std::uint32_t k = 0; k < request.config.num_attrs && !placed; ++k) {
                auto& a = request.config.attrs[k];
                if (a.attr.id == GPIO_V2_LINE_ATTR_ID_FLAGS && a.attr.flags == flags) a.mask |= mask, placed = true;
            }
            if (!placed && !addAttribute(request.config, GPIO_V2_LINE_ATTR_ID_FLAGS, flags, mask)) {
                close();
                return ByteLink::Failure{
                    LinkState::failed,
                    CRUSCOTTO_TEXT(
                        "The lines are set in too many different ways; the kernel takes ten of them at once.")};
            }
            if (l.debounceSeconds > 0 && !addAttribute(request.config, GPIO_V2_LINE_ATTR_ID_DEBOUNCE,
                                                       static_cast<std::uint64_t>(l.debounceSeconds * 1e6), mask)) {
                close();
                return ByteLink::Failure{
                    LinkState::failed,
                    CRUSCOTTO_TEXT(
                        "The lines are set in too many different ways; the kernel takes ten of them at once.")};
            }
        }
        edges_ = true;
        int given = calls_.control(chip_, GPIO_V2_GET_LINE_IOCTL, &request);
        if (given < 0 && (errno == ENXIO || errno == EOPNOTSUPP || errno == EINVAL || errno == 524)) {  // ENOTSUPP
            const int error = errno;
            // Chips behind a slow bus often tell no edges: then the lines are asked again and again.
            request.config.flags &= ~edgeFlags;
            for (std::uint32_t k = 0; k < request.config.num_attrs; ++k)
                if (auto& a = request.config.attrs[k].attr; a.id == GPIO_V2_LINE_ATTR_ID_FLAGS) a.flags &= ~edgeFlags;
            edges_ = false;
            given = calls_.control(chip_, GPIO_V2_GET_LINE_IOCTL, &request);
            if (given < 0) errno = error;
        }
        if (given < 0) {
            const int error = errno;
            const auto [line, user] = error == EBUSY ? inUse() : std::pair<std::string, std::string>();
            close();
            if (!line.empty())
                return ByteLink::Failure{LinkState::busy,
                                         text(CRUSCOTTO_TEXT("{0} of {1} is in use by {2}. It is tried again."), line,
                                              settings_.chip, user.empty() ? "the kernel or another program" : user)};
            if (error == EBUSY)
                return ByteLink::Failure{
                    LinkState::busy,
                    text(CRUSCOTTO_TEXT(
                             "A line of {0} is in use by the kernel or another program. \"gpioinfo\" tells by which."),
                         settings_.chip)};
            if (error == ENOTTY)
                return ByteLink::Failure{
                    LinkState::failed,
                    CRUSCOTTO_TEXT("This kernel is older than 5.10, and does not know lines in this way.")};
            return ByteLink::Failure{LinkState::failed,
                                     text(CRUSCOTTO_TEXT("The lines of {0} are not given as asked for ({1})."),
                                          settings_.chip, std::string(std::strerror(error)))};
        }
        fd_ = request.fd;
        return std::nullopt;
    }
    void close() override {
        for (int* fd : {&fd_, &chip_}) {
            if (*fd >= 0) ::close(*fd);
            *fd = -1;
        }
    }
    void wake() override { waker_.wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(CRUSCOTTO_TEXT("{0} went away. It is looked for again; the gap is kept."), settings_.chip);
    }
    void finish() override { (void)sendOutputs(); }
    void keepReady(CrashSend& crash, const std::map<std::string, double>& safe) override {
        const gpio_v2_line_values values = valuesFor(safe);
        crash.armRequest(fd_, GPIO_V2_LINE_SET_VALUES_IOCTL,
                         std::string(reinterpret_cast<const char*>(&values), sizeof values));
    }

    End talk(const std::stop_token& stop) override {
        if (lines_.empty()) return onlyLook(stop);
        for (Line& l : lines_) {
            l.next = 0;
            l.stands.reset();
        }
        Instant valuesAt{};
        bool all = true;
        while (!stop.stop_requested()) {
            if (!sendOutputs()) return End::lost;
            if (!edges_) {
                if (!pollValues()) return End::lost;
                setLive(text(
                    CRUSCOTTO_TEXT("{1} is there; lines that are used: {0}. The chip tells no edges: they are read {2} "
                                   "times a second."),
                    lines_.size(), settings_.chip, std::llround(1 / lookEvery.seconds())));
            } else if (all || now() - valuesAt >= valueAgainEvery) {
                // A line that does not move is still known to stand where it does.
                valuesAt = now();
                if (!readValues()) return End::lost;
                deliver();
                setLive(text(CRUSCOTTO_TEXT("{1} is there; lines that are used: {0}."), lines_.size(), settings_.chip));
                all = false;
            }
            const bool something = waker_.waitFor(edges_ ? fd_ : -1, edges_ ? milliseconds(100) : lookEvery);
            if (something && edges_ && !readEdges()) return End::lost;
            deliver();
            reportSometimes();
        }
        return End::stopped;
    }

private:
    struct Line {
        GpioLine what;
        ScanBuffer* scan;
        std::uint32_t next;  // number of its next edge; 0: none has come
        std::optional<bool> stands;
        bool differed = false;  // from where its last edge left it, when it was last asked
        std::optional<Instant> last;
    };

    /// What the chip says of its lines, and those that could be read as they stand: nobody has them, and they drive
    /// nothing.
    void listLines(std::uint32_t count) {
        status().parts.clear();
        readable_.clear();
        chipLines_ = count;
        for (std::uint32_t i = 0; i < std::min(count, mostListed); ++i) {
            gpio_v2_line_info info{};
            info.offset = i;
            if (calls_.control(chip_, GPIO_V2_GET_LINEINFO_IOCTL, &info) < 0) return;
            const std::string name(info.name, strnlen(info.name, sizeof info.name)),
                user(info.consumer, strnlen(info.consumer, sizeof info.consumer));
            const bool used = (info.flags & GPIO_V2_LINE_FLAG_USED) != 0,
                       out = (info.flags & GPIO_V2_LINE_FLAG_OUTPUT) != 0;
            std::string what = name.empty() ? std::string() : name + ", ";
            what += out ? "output" : "input";
            if (used) what += ", used by " + (user.empty() ? std::string("another program") : user);
            status().parts.push_back({fmt::format("line {}", i), what});
            if (!used && !out) readable_.emplace_back(name, i);
        }
    }
    /// The first of the lines that are asked for which somebody has, and who, as the kernel tells.
    [[nodiscard]] std::pair<std::string, std::string> inUse() const {
        for (const Line& l : lines_) {
            gpio_v2_line_info info{};
            info.offset = l.what.offset;
            if (calls_.control(chip_, GPIO_V2_GET_LINEINFO_IOCTL, &info) < 0) return {};
            if ((info.flags & GPIO_V2_LINE_FLAG_USED) == 0) continue;
            return {fmt::format("\"{}\" (line {})", l.what.name, l.what.offset),
                    std::string(info.consumer, strnlen(info.consumer, sizeof info.consumer))};
        }
        return {};
    }
    End onlyLook(const std::stop_token& stop) {
        std::string words;
        std::set<std::string> taken;
        std::size_t proposed = 0;
        for (const auto& [name, offset] : readable_) {
            if (proposed == mostGpioLines) break;
            std::string called = pairName(name);
            if (called.empty() || !taken.insert(called).second) called = fmt::format("line{}", offset);
            words += fmt::format("{} = {} in\n", called, offset);
            ++proposed;
        }
        std::vector<DeviceStatus::Suggestion> suggestions;
        if (proposed > 0)
            suggestions = {
                {text(CRUSCOTTO_TEXT("Read the inputs that nobody else uses: {0}"), proposed), "lines", words}};
        while (!stop.stop_requested()) {
            setLive(text(CRUSCOTTO_TEXT("{0} has {1} lines, and none of them is used here. Name under Lines those that "
                                        "are read or set."),
                         settings_.chip, chipLines_),
                    suggestions);
            pause(stop, seconds(1));
            gpiochip_info about{};
            if (!stop.stop_requested() && calls_.control(chip_, GPIO_GET_CHIPINFO_IOCTL, &about) < 0) return End::lost;
        }
        return End::stopped;
    }

    static std::uint64_t flagsOf(const GpioLine& l) {
        std::uint64_t f =
            l.out ? GPIO_V2_LINE_FLAG_OUTPUT
                  : GPIO_V2_LINE_FLAG_INPUT | GPIO_V2_LINE_FLAG_EDGE_RISING | GPIO_V2_LINE_FLAG_EDGE_FALLING;
        if (l.activeLow) f |= GPIO_V2_LINE_FLAG_ACTIVE_LOW;
        if (l.openDrain) f |= GPIO_V2_LINE_FLAG_OPEN_DRAIN;
        if (l.bias == GpioLine::Bias::pullUp) f |= GPIO_V2_LINE_FLAG_BIAS_PULL_UP;
        if (l.bias == GpioLine::Bias::pullDown) f |= GPIO_V2_LINE_FLAG_BIAS_PULL_DOWN;
        if (l.bias == GpioLine::Bias::none) f |= GPIO_V2_LINE_FLAG_BIAS_DISABLED;
        return f;
    }
    static bool addAttribute(gpio_v2_line_config& config, std::uint32_t id, std::uint64_t value, std::uint64_t mask) {
        if (config.num_attrs >= GPIO_V2_LINE_NUM_ATTRS_MAX) return false;
        auto& a = config.attrs[config.num_attrs++];
        a.attr.id = id;
        if (id == GPIO_V2_LINE_ATTR_ID_DEBOUNCE)
            a.attr.debounce_period_us = static_cast<std::uint32_t>(value);
        else
            a.attr.flags = value;
        a.mask = mask;
        return true;
    }

    void store(Line& l, Instant at, bool on) {
        const double v = on ? 1 : 0;
        l.scan->add(at, std::span(&v, 1));
        l.stands = on;
        l.differed = false;
        l.last = at;
    }

    bool readValues() {
        gpio_v2_line_values values{};
        for (std::size_t i = 0; i < lines_.size(); ++i)
            if (!lines_[i].what.out) values.mask |= std::uint64_t{1} << i;
        if (values.mask == 0) return true;
        const Instant t = now();
        if (calls_.control(fd_, GPIO_V2_LINE_GET_VALUES_IOCTL, &values) < 0) return false;
        // What happened until then comes first, so that no edge lies behind a later reading.
        for (bool more = true; more;)
            if (!readEdges(&more)) return false;
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            Line& l = lines_[i];
            if (l.what.out) continue;
            const bool on = (values.bits >> i & 1U) != 0;
            // Where it stands otherwise than its last edge said, another edge is on its way; if it does not come, it
            // was lost.
            const bool differs = l.stands && *l.stands != on;
            const bool waits = differs && !l.differed;
            if (!waits && (!l.last || *l.last < t)) store(l, t, on);
            l.differed = waits;
        }
        return true;
    }

    /// Each change as it is found, and where a line stands twice a second.
    bool pollValues() {
        gpio_v2_line_values values{};
        for (std::size_t i = 0; i < lines_.size(); ++i)
            if (!lines_[i].what.out) values.mask |= std::uint64_t{1} << i;
        if (values.mask == 0) {
            gpiochip_info about{};
            return calls_.control(chip_, GPIO_GET_CHIPINFO_IOCTL, &about) >= 0;
        }
        if (calls_.control(fd_, GPIO_V2_LINE_GET_VALUES_IOCTL, &values) < 0) return false;
        const Instant t = now();
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            Line& l = lines_[i];
            const bool on = (values.bits >> i & 1U) != 0;
            if (!l.what.out && (l.stands != on || !l.last || t - *l.last >= valueAgainEvery)) store(l, t, on);
        }
        return true;
    }

    /// Once, what there is up to a number.
    bool readEdges(bool* more = nullptr) {
        std::array<gpio_v2_line_event, 64> events{};
        if (more) *more = false;
        const ssize_t n = ::read(fd_, events.data(), sizeof events);
        if (n < 0) return errno == EAGAIN || errno == EINTR;
        if (n == 0) return false;
        if (more) *more = true;
        kernelTime_.look([this] { return now(); });
        for (std::size_t i = 0; i < static_cast<std::size_t>(n) / sizeof events[0]; ++i) {
            const gpio_v2_line_event& e = events[i];
            const auto l =
                std::ranges::find_if(lines_, [&](const Line& x) { return x.what.offset == e.offset && !x.what.out; });
            if (l == lines_.end()) continue;
            ++status().lines;
            const Instant at = kernelTime_.at(static_cast<std::int64_t>(e.timestamp_ns));
            if (l->next != 0 && e.line_seqno != l->next && l->last) {
                // The kernel numbers them: edges came faster than they were fetched.
                deliver();
                l->scan->away(*l->last,
                              fmt::format("{} edges came faster than they were fetched.", e.line_seqno - l->next));
                status().rejected += e.line_seqno - l->next;
            }
            l->next = e.line_seqno + 1;
            store(*l, at, e.id == GPIO_V2_LINE_EVENT_RISING_EDGE);
        }
        return true;
    }

    template <class Outputs>
    [[nodiscard]] gpio_v2_line_values valuesFor(const Outputs& outputs) const {
        gpio_v2_line_values values{};
        for (const auto& [terminal, value] : outputs)
            for (std::size_t i = 0; i < lines_.size(); ++i)
                if (lines_[i].what.name == terminal) {
                    values.mask |= std::uint64_t{1} << i;
                    if (value != 0) values.bits |= std::uint64_t{1} << i;
                }
        return values;
    }

    bool sendOutputs() {
        gpio_v2_line_values values = valuesFor(dueOutputs());
        return values.mask == 0 || calls_.control(fd_, GPIO_V2_LINE_SET_VALUES_IOCTL, &values) >= 0;
    }

    const GpioSettings settings_;
    const KernelCalls calls_;
    Waker waker_;
    std::vector<Line> lines_;
    int chip_ = -1, fd_ = -1;
    bool edges_ = true;  // the chip tells of them
    std::uint32_t chipLines_ = 0;
    std::vector<std::pair<std::string, unsigned>> readable_;  // name and number
    KernelTime kernelTime_;
};

}  // namespace

std::unique_ptr<Device> makeGpio(const DeviceContext& context, GpioSettings settings, KernelCalls calls) {
    return std::make_unique<GpioLines>(context, std::move(settings), calls);
}

}  // namespace cruscotto

#include "devices/sound/sound_device.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <regex>

#include "core/base/number_text.h"
#include "core/chain/common_stages.h"
#include "core/signal/clock_fit.h"
#include "devices/link/link_driver.h"
#include "devices/sound/sound_source.h"

namespace cruscotto {

namespace {

constexpr std::array<const char*, 2> names{"left", "right"};
constexpr Duration noneAfter = milliseconds(2000);
// A source that is faster than any clock is wrong gets ahead by at most that many seconds, and is then waited for.
constexpr double mostAhead = 1.0;
constexpr double judgeClockAfter = 10.0;

class SoundInput : public LinkDriver {
public:
    SoundInput(DeviceContext context, SoundSettings settings)
        : LinkDriver(std::move(context), {}),
          settings_(std::move(settings)),
          source_(settings_.stream ? makeStreamSource(*settings_.stream) : makeAlsaSource(settings_.input)) {}

protected:
    std::optional<ByteLink::Failure> open() override {
        format_ = {settings_.rate, settings_.channels, settings_.bits};
        if (auto refused = source_->open(format_)) return refused;
        if (format_.channels > names.size() || format_.channels < 1 || format_.rate < 1) {
            source_->close();
            return ByteLink::Failure{
                LinkState::failed,
                text(CRUSCOTTO_TEXT(
                         "{0} gives {1} channels at once; one or two can be used. Choose plughw instead of hw."),
                     name(), format_.channels)};
        }
        if (!group_ || group_->rateHz != format_.rate || group_->channels.size() != format_.channels ||
            wide_ != (format_.bits == 32)) {
            auto group = std::make_shared<ScanGroup>();
            group->device = id();
            group->name = group_ ? fmt::format("sound {} Hz", format_.rate) : "sound";
            group->rateHz = format_.rate;
            wide_ = format_.bits == 32;
            for (std::size_t c = 0; c < format_.channels; ++c)
                group->channels.push_back(
                    {names[c], wide_ ? SampleType::int32 : SampleType::int16, ChannelKind::analogInput});
            group_ = std::move(group);
            next_ = 0;
            lastEnd_.reset();
        }
        return std::nullopt;
    }
    void close() override { source_->close(); }
    void wake() override { source_->wake(); }
    [[nodiscard]] Text lostSentence() const override {
        return text(
            CRUSCOTTO_TEXT("{0} went away. Plug it back in; the samples go on by themselves and the gap is kept."),
            name());
    }

    End talk(const std::stop_token& stop) override {
        setState(LinkState::starting, text(CRUSCOTTO_TEXT("{0} is open; waiting for the first samples."), name()));
        begin("The sound input was away.");
        Instant lastFrames = now();
        while (!stop.stop_requested()) {
            samples_.clear();
            const auto got = source_->read(milliseconds(50), samples_);
            const Instant t = now();
            if (got == SoundSource::Got::lost) return End::lost;
            if (got == SoundSource::Got::overrun) {
                ++overruns_;
                begin("The samples were not fetched in time.");
                continue;
            }
            if (!samples_.empty()) {
                lastFrames = t;
                deliverFrames(t);
                judge(t);
                const double ahead = static_cast<double>(taken_) / format_.rate - (t - began_).seconds();
                if (ahead > mostAhead) pause(stop, seconds(std::min(1.0, ahead - mostAhead)));
            } else if (t - lastFrames > noneAfter) {
                setState(LinkState::silent,
                         text(CRUSCOTTO_TEXT(
                                  "{0} is open, but no samples come. Is it switched on, and not muted or suspended?"),
                              name()));
            }
            reportSometimes();
        }
        return End::stopped;
    }

private:
    [[nodiscard]] std::string name() const {
        return settings_.stream ? settings_.stream->host + ":" + std::to_string(settings_.stream->port)
                                : settings_.input;
    }

    /// The source's count of samples begins anew.
    void begin(const char* cause) {
        clock_.emplace(format_.rate);
        began_ = now();
        taken_ = 0;
        cause_ = cause;
        fresh_ = true;
    }

    void deliverFrames(Instant t) {
        const std::size_t n = samples_.size() / format_.channels;
        clock_->observe(taken_ + n, t);
        const auto placed = clock_->place(taken_, n);
        auto block = std::make_shared<Block>();
        block->group = group_;
        block->t0 = placed.t0;
        block->dtNs = placed.dtNs;
        if (std::exchange(fresh_, false) && lastEnd_) {
            // How many are missing, only the clock can tell.
            if (block->t0 < *lastEnd_) block->t0 = *lastEnd_;
            const auto lost =
                static_cast<std::uint64_t>(std::llround((block->t0 - *lastEnd_).seconds() * format_.rate));
            block->gapBefore = Gap{*lastEnd_, block->t0, lost, cause_};
            next_ += lost;
        }
        block->firstIndex = next_;
        next_ += n;
        taken_ += n;
        for (std::size_t c = 0; c < format_.channels; ++c) {
            const auto fill = [&]<class T>(std::vector<T> column) {
                for (std::size_t i = 0; i < n; ++i) column[i] = static_cast<T>(samples_[i * format_.channels + c]);
                block->columns.emplace_back(std::move(column));
            };
            if (wide_)
                fill(std::vector<std::int32_t>(n));
            else
                fill(std::vector<std::int16_t>(n));
            block->quality.push_back(clipped(c, n));
        }
        lastEnd_ = block->timeOf(n);
        status().bytes += samples_.size() * (wide_ ? 4 : 2);
        status().lines += n;
        sink().deliver(std::move(block));
    }

    /// Where a channel stands at the end of what its converter can say.
    std::vector<QualityInterval> clipped(std::size_t c, std::size_t n) const {
        const std::int64_t top = wide_ ? 2147483647 : 32767;
        std::vector<QualityInterval> out;
        for (std::size_t i = 0; i < n; ++i) {
            const std::int64_t v = samples_[i * format_.channels + c];
            if (v < top && v > -top - 1) continue;
            if (!out.empty() && out.back().end == i)
                ++out.back().end;
            else
                out.push_back({i, i + 1, Quality::clipped});
        }
        return out;
    }

    void judge(Instant t) {
        std::string more;
        if ((t - began_).seconds() > judgeClockAfter) {
            const double ppm = std::round(clock_->ppm());
            more = ppm == 0 ? "; by this computer's clock that is right"
                            : fmt::format("; by this computer's clock its own is {} ppm too {}",
                                          shortNumber(std::fabs(ppm)), ppm > 0 ? "fast" : "slow");
        }
        if (format_.rate != settings_.rate) more += fmt::format("; {} Hz was asked for", shortNumber(settings_.rate));
        if (overruns_ > 0) more += fmt::format("; {} times samples were lost", overruns_);
        setLive(text(CRUSCOTTO_TEXT("{0} gives {2} bits at {3} Hz; channels: {1}{4}."), name(), format_.channels,
                     format_.bits, shortNumber(format_.rate), more));
    }

    const SoundSettings settings_;
    const std::unique_ptr<SoundSource> source_;
    SoundSource::Format format_;
    std::shared_ptr<const ScanGroup> group_;
    std::optional<ClockFit> clock_;
    std::vector<std::int32_t> samples_;
    Instant began_;
    std::optional<Instant> lastEnd_;
    std::uint64_t taken_ = 0, next_ = 0, overruns_ = 0;
    const char* cause_ = "";
    bool fresh_ = false, wide_ = false;
};

}  // namespace

Result<SoundSettings> soundSettings(const JsonText& json) {
    SoundSettings out;
    SettingsReader settings(json);
    out.input = settings.word("input", out.input.c_str());
    // To the sound library a name is a small program, which may open and write files: hardware, and what is usual
    // there.
    static const std::regex allowed(
        "default|pulse|pipewire|null|((sys)?default|hw|plughw|dsnoop|front):"
        "(CARD=)?[A-Za-z0-9_]{1,32}(,(DEV=)?[0-9]{1,3}){0,2}");
    if (out.input.size() > 100 || !std::regex_match(out.input, allowed))
        return failure("\"input\" must be default, or hardware as hw:1,0, plughw:1,0 or sysdefault:CARD=Device.");
    if (const std::string stream = settings.word("stream"); !stream.empty()) {
        auto address = linkAddress(stream, 0);
        if (!address) return address.error();
        if (address.value().host.empty()) return failure("\"stream\" is a host and a port, as in 127.0.0.1:4010.");
        out.stream = std::move(address.value());
    }
    out.rate = settings.whole("rate", 48000, 1000, 768000);
    out.channels = static_cast<std::size_t>(settings.oneOf("channels", 2, {1, 2}));
    out.bits = settings.oneOf("bits", 16, {16, 32});
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

DeviceKind soundKind() {
    DeviceKind kind;
    kind.key = "sound-input";
    kind.title = CRUSCOTTO_TEXT("Microphone or line input");
    kind.name = CRUSCOTTO_TEXT("Sound input");
    using Type = SettingInfo::Type;
    kind.rateKey = "rate";
    kind.settings = {
        {"input",
         CRUSCOTTO_TEXT("Input"),
         Type::text,
         {"default", "hw:0,0", "plughw:0,0"},
         "default",
         CRUSCOTTO_TEXT("As \"arecord -L\" lists them.")},
        {"rate", CRUSCOTTO_TEXT("Samples a second"), Type::number, {"44100", "48000", "96000", "192000"}, "48000", {}},
        {"channels", CRUSCOTTO_TEXT("Channels"), Type::number, {"1", "2"}, "2", {}},
        {"bits",
         CRUSCOTTO_TEXT("Bits of a sample"),
         Type::number,
         {"16", "32"},
         "16",
         CRUSCOTTO_TEXT("32 where the input has more than 16.")},
        {"stream",
         CRUSCOTTO_TEXT("Or a stream over the network"),
         Type::text,
         {},
         "",
         CRUSCOTTO_TEXT("A host and port that send samples of 16 bits, the lower byte first, as in 127.0.0.1:4010.")},
    };
    kind.terminals = [](const JsonText& json) {
        std::vector<TerminalInfo> out;
        const auto settings = soundSettings(json);
        if (!settings) return out;
        const SoundSettings& s = settings.value();
        for (std::size_t c = 0; c < s.channels; ++c) {
            TerminalInfo info{names[c]};
            const bool wide = s.bits == 32 && !s.stream;
            info.type = wide ? SampleType::int32 : SampleType::int16;
            info.chain = {slopeOffset(std::ldexp(1.0, wide ? -31 : -15), 0, "1")};
            info.title = CRUSCOTTO_TEXT("1 is the full scale; calibrate it against a known voltage.");
            out.push_back(std::move(info));
        }
        return out;
    };
    kind.check = checkedBy<soundSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>&) -> std::unique_ptr<Device> {
        return std::make_unique<SoundInput>(context, settingsBy<soundSettings>(json));
    };
    return kind;
}

}  // namespace cruscotto

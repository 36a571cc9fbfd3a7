#include "devices/sound/sound_source.h"

#include <alsa/asoundlib.h>
#include <unistd.h>

#include <algorithm>
#include <array>

#include "devices/link/waker.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostFrames = 8192;  // at once

// The library prints what went wrong; here it is said by the device.
void quiet(const char* /*file*/, int /*line*/, const char* /*function*/, int /*error*/, const char* /*format*/, ...) {}

class AlsaSource : public SoundSource {
public:
    explicit AlsaSource(std::string name) : name_(std::move(name)) { snd_lib_error_set_handler(quiet); }
    ~AlsaSource() override { AlsaSource::close(); }
    std::optional<ByteLink::Failure> open(Format& format) override {
        close();
        if (const int error = snd_pcm_open(&pcm_, name_.c_str(), SND_PCM_STREAM_CAPTURE, SND_PCM_NONBLOCK); error < 0) {
            pcm_ = nullptr;
            return refused(error);
        }
        snd_pcm_hw_params_t* wanted = nullptr;
        snd_pcm_hw_params_alloca(&wanted);
        int error = snd_pcm_hw_params_any(pcm_, wanted);
        if (error >= 0) error = snd_pcm_hw_params_set_access(pcm_, wanted, SND_PCM_ACCESS_RW_INTERLEAVED);
        if (error >= 0) {
            wide_ = format.bits > 16 && snd_pcm_hw_params_set_format(pcm_, wanted, SND_PCM_FORMAT_S32_LE) >= 0;
            if (!wide_) error = snd_pcm_hw_params_set_format(pcm_, wanted, SND_PCM_FORMAT_S16_LE);
        }
        auto channels = static_cast<unsigned>(format.channels);
        auto rate = static_cast<unsigned>(format.rate);
        unsigned period = 10'000, buffer = 500'000;  // microseconds
        if (error >= 0) error = snd_pcm_hw_params_set_channels_near(pcm_, wanted, &channels);
        if (error >= 0) error = snd_pcm_hw_params_set_rate_near(pcm_, wanted, &rate, nullptr);
        if (error >= 0) error = snd_pcm_hw_params_set_period_time_near(pcm_, wanted, &period, nullptr);
        if (error >= 0) error = snd_pcm_hw_params_set_buffer_time_near(pcm_, wanted, &buffer, nullptr);
        if (error >= 0) error = snd_pcm_hw_params(pcm_, wanted);
        if (error >= 0) error = snd_pcm_start(pcm_);
        if (error < 0) {
            auto failure = refused(error);
            close();
            return failure;
        }
        format.rate = rate;
        format.channels = channels;
        format.bits = wide_ ? 32 : 16;
        channels_ = channels;
        return std::nullopt;
    }
    void close() override {
        if (pcm_) snd_pcm_close(pcm_);
        pcm_ = nullptr;
    }
    Got read(Duration wait, std::vector<std::int32_t>& out) override {
        std::array<pollfd, 8> watched{};
        const int n = snd_pcm_poll_descriptors(pcm_, watched.data(), watched.size());
        if (n < 0) return Got::lost;
        waker_.wait({watched.data(), static_cast<std::size_t>(n)}, wait);
        buffer_.resize(mostFrames * channels_ * (wide_ ? 4 : 2));
        const snd_pcm_sframes_t got = snd_pcm_readi(pcm_, buffer_.data(), mostFrames);
        if (got == -EAGAIN || got == 0) return Got::nothing;
        if (got == -EPIPE || got == -ESTRPIPE) {
            // Nobody fetched in time, or the computer slept.
            if (snd_pcm_prepare(pcm_) < 0 || snd_pcm_start(pcm_) < 0) return Got::lost;
            return Got::overrun;
        }
        if (got < 0) return Got::lost;
        const std::size_t samples = static_cast<std::size_t>(got) * channels_;
        if (wide_) {
            const auto* from = reinterpret_cast<const std::int32_t*>(buffer_.data());
            out.insert(out.end(), from, from + samples);
        } else {
            const auto* from = reinterpret_cast<const std::int16_t*>(buffer_.data());
            out.insert(out.end(), from, from + samples);
        }
        return Got::frames;
    }
    void wake() override { waker_.wake(); }

private:
    ByteLink::Failure refused(int error) const {
        if (error == -EBUSY)
            return {LinkState::busy, text(CRUSCOTTO_TEXT("The sound input {0} is in use by another program. Close it "
                                                         "there, or choose \"default\", which several can share."),
                                          name_)};
        if (error == -EACCES || error == -EPERM)
            return {LinkState::noPermission, text(CRUSCOTTO_TEXT("Your account may not use the sound input {0}. Run: "
                                                                 "sudo usermod -aG audio $USER, and log in again."),
                                                  name_)};
        if (error == -EINVAL)
            return {LinkState::failed, text(CRUSCOTTO_TEXT("The sound input {0} gives no samples of 16 bits one after "
                                                           "the other. Choose another one, or plughw instead of hw."),
                                            name_)};
        return {LinkState::absent,
                text(CRUSCOTTO_TEXT(
                         "There is no sound input {0} ({1}). Plug it in, or choose one that \"arecord -L\" lists."),
                     name_, std::string(snd_strerror(error)))};
    }
    const std::string name_;
    Waker waker_;
    snd_pcm_t* pcm_ = nullptr;
    bool wide_ = false;
    std::size_t channels_ = 0;
    std::vector<char> buffer_;
};

class StreamSource : public SoundSource {
public:
    explicit StreamSource(const LinkAddress& address) : link_(makeByteLink(address)) {}
    std::optional<ByteLink::Failure> open(Format& format) override {
        held_.clear();
        format.bits = 16;
        channels_ = format.channels;
        return link_->open();
    }
    void close() override { link_->close(); }
    Got read(Duration wait, std::vector<std::int32_t>& out) override {
        const auto got = link_->read(wait, held_);
        if (got == ByteLink::Got::lost) return Got::lost;
        const std::size_t frame = 2 * channels_, whole = held_.size() / frame * frame;
        for (std::size_t i = 0; i < whole; i += 2)
            out.push_back(static_cast<std::int16_t>(static_cast<std::uint8_t>(held_[i]) |
                                                    static_cast<std::uint8_t>(held_[i + 1]) << 8));
        held_.erase(0, whole);
        return whole > 0 ? Got::frames : Got::nothing;
    }
    void wake() override { link_->wake(); }

private:
    const std::unique_ptr<ByteLink> link_;
    std::size_t channels_ = 2;
    std::string held_;
};

}  // namespace

std::unique_ptr<SoundSource> makeAlsaSource(const std::string& name) {
    return std::make_unique<AlsaSource>(name);
}
std::unique_ptr<SoundSource> makeStreamSource(const LinkAddress& address) {
    return std::make_unique<StreamSource>(address);
}

}  // namespace cruscotto

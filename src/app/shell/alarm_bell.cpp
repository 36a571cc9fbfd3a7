#include "app/shell/alarm_bell.h"

#include <alsa/asoundlib.h>

#include <QApplication>
#include <chrono>

namespace cruscotto {

namespace {

constexpr unsigned samplesASecond = 48'000;

/// What ALSA says of a missing sound card is not for the terminal.
void passOver(const char*, int, const char*, int, const char*, ...) {}

/// By ALSA's output "default", which a desktop leads to its own mixer.
bool playOnDefault(const std::vector<std::int16_t>& samples, unsigned hertz) {
    snd_lib_error_set_handler(passOver);
    snd_pcm_t* pcm = nullptr;
    if (snd_pcm_open(&pcm, "default", SND_PCM_STREAM_PLAYBACK, 0) < 0) return false;
    constexpr unsigned latencyUs = 100'000;
    bool well = snd_pcm_set_params(pcm, SND_PCM_FORMAT_S16, SND_PCM_ACCESS_RW_INTERLEAVED, 1, hertz, 1, latencyUs) >= 0;
    for (std::size_t at = 0; well && at < samples.size();) {
        const snd_pcm_sframes_t n = snd_pcm_writei(pcm, samples.data() + at, samples.size() - at);
        if (n > 0)
            at += static_cast<std::size_t>(n);
        else
            well = snd_pcm_recover(pcm, static_cast<int>(n), 1) >= 0;
    }
    if (well) snd_pcm_drain(pcm);
    snd_pcm_close(pcm);
    return well;
}

}  // namespace

AlarmBell::AlarmBell(Session& session, QObject* parent, Output output)
    : QObject(parent),
      session_(session),
      output_(output ? std::move(output)
              : QGuiApplication::platformName() == QLatin1String("offscreen")
                  ? [](const auto&, unsigned) { return true; }
                  : Output(playOnDefault)),
      thread_([this](const std::stop_token& stop) { work(stop); }) {}

AlarmBell::~AlarmBell() = default;

void AlarmBell::work(const std::stop_token& stop) {
    while (!stop.stop_requested()) {
        Tones tones;
        {
            std::unique_lock lock(mutex_);
            if (!changed_.wait(lock, stop, [this] { return !next_.empty(); })) return;
            tones = std::exchange(next_, {});
        }
        if (!output_(toneSamples(tones, samplesASecond), samplesASecond))
            QMetaObject::invokeMethod(
                this, [] { QApplication::beep(); }, Qt::QueuedConnection);
    }
}

void AlarmBell::play(const Tones& tones) {
    const std::lock_guard lock(mutex_);
    next_ = tones;  // of what waits the newest
    changed_.notify_all();
}

void AlarmBell::refresh() {
    const Instant now{std::chrono::nanoseconds(std::chrono::steady_clock::now().time_since_epoch()).count()};
    const Tones due = tone_.due(session_.engine() ? session_.alarms() : std::vector<Alarm>(), now);
    if (wanted_ && !due.empty()) play(due);
}

void AlarmBell::silence() {
    tone_.silence();
}

}  // namespace cruscotto

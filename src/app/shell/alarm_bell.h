#pragma once

#include <QObject>
#include <condition_variable>
#include <functional>
#include <mutex>
#include <thread>

#include "app/document/session.h"
#include "core/rules/alarm_tone.h"

namespace cruscotto {

/// Makes the alarms heard, and what rules ask for: by the computer's sound output, or, where there is none, by the
/// beep that the desktop has. The window waits for neither.
class AlarmBell : public QObject {
    Q_OBJECT
public:
    /// Plays 16-bit samples of one channel; false where that is not possible. Called on a thread of its own.
    using Output = std::function<bool(const std::vector<std::int16_t>& samples, unsigned rate)>;
    /// Without an output: the computer's own.
    AlarmBell(Session& session, QObject* parent, Output output = {});
    ~AlarmBell() override;
    /// Called by the frame clock.
    void refresh();
    void play(const Tones& tones);
    /// What stands now is not heard any more.
    void silence();
    /// Alarms are to be heard at all.
    void setWanted(bool wanted) { wanted_ = wanted; }
    [[nodiscard]] bool sounds() const { return wanted_ && tone_.sounds(); }

private:
    void work(const std::stop_token& stop);

    Session& session_;
    const Output output_;
    AlarmTone tone_;
    bool wanted_ = true;
    std::mutex mutex_;
    std::condition_variable_any changed_;
    Tones next_;           // the thread's, guarded by mutex_
    std::jthread thread_;  // last: it uses the others
};

}  // namespace cruscotto

#pragma once

#include <QString>
#include <future>
#include <optional>

#include "core/bench/bench.h"

namespace cruscotto {

/// Keeps what a session that is cut short would lose: the bench as edited, and where a recording goes. One object a
/// process; what it keeps is gone when it goes in order, and stays when it does not.
class Recovery {
public:
    struct Left {
        Bench bench;
        QString path;          ///< of the bench's file; empty: it had none yet
        bool unsaved = false;  ///< the bench differs from the file
        QString run;           ///< that was being recorded; empty: none
        bool inOrder = false;  ///< it was ended from outside, and all but the edits was closed
        bool atRest = false;   ///< the bench's outputs were
    };

    /// Files go into `folder`, which is made where it is missing; empty: nothing is kept.
    explicit Recovery(const QString& folder);
    ~Recovery();
    Recovery(const Recovery&) = delete;
    Recovery& operator=(const Recovery&) = delete;

    /// To be called now and then; writes, on another thread, only what has changed. Nothing to keep: nothing unsaved
    /// and no recording.
    void keep(const Left& now);
    /// The session ends without somebody to ask: its unsaved edits stay for the next one, as if it had been cut short.
    void leave(const Left& now);
    /// What a process that is no longer there has left in the folder. With the path of a bench only what was left of
    /// that one. It stays there until done(): what goes wrong meanwhile costs nothing. What does not read is kept
    /// beside it.
    std::optional<Left> take(const QString& only = {});
    /// What was taken has been restored, and what is open now is kept instead.
    void done(const Left& now);

    /// $XDG_STATE_HOME/cruscotto/recovery, or below ~/.local/state; empty where there is no home.
    static QString defaultFolder();

private:
    [[nodiscard]] QString file(const QString& owner, const char* ending) const;
    const QString folder_;
    const QString owner_;
    int lock_ = -1;
    std::optional<Left> kept_;
    QString taken_;  // whose owner is gone
    int takenLock_ = -1;
    bool left_ = false;  // what is kept outlives this
    std::future<void> writing_;
};

}  // namespace cruscotto

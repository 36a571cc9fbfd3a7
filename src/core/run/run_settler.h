#pragma once

#include <condition_variable>
#include <optional>
#include <string>
#include <thread>

#include "core/base/guarded.h"
#include "core/base/result.h"

namespace cruscotto {

/// Brings what a run's commits wrote into its journal (write-ahead log) safely onto the disk, and from there into the
/// run, on a thread and a connection of its own: however slow the disk confirms, whoever commits does not wait for it.
/// What a commit wrote survives the process at once, and a power cut as soon as this has confirmed it.
class RunSettler {
public:
    /// Looks after the run at `path`, which is open elsewhere in SQLite's WAL mode.
    explicit RunSettler(std::string path);
    /// Ends after the step at hand. What is not settled by then stays in the journal.
    ~RunSettler();
    RunSettler(const RunSettler&) = delete;
    RunSettler& operator=(const RunSettler&) = delete;

    /// A commit has been made; the journal now holds so many bytes. Any thread.
    void written(std::size_t journalBytes);
    /// The disk did not confirm what was written. Any thread.
    [[nodiscard]] std::optional<Error> trouble() const;

private:
    void work();

    const std::string path_;
    mutable Mutex mutex_;
    std::condition_variable_any changed_;
    bool ending_ GUARDED_BY(mutex_) = false;
    std::size_t journalBytes_ GUARDED_BY(mutex_) = 0;  // 0: nothing new
    std::optional<Error> trouble_ GUARDED_BY(mutex_);
    std::thread thread_;
};

}  // namespace cruscotto

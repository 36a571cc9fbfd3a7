#pragma once

#include <condition_variable>
#include <map>
#include <string>
#include <thread>
#include <vector>

#include "core/base/guarded.h"
#include "core/history/source.h"
#include "core/run/run_card.h"

namespace cruscotto {

/// The runs of a folder, read on a thread of its own: first what each is called and how long it is, then, for those
/// that are looked at, a small picture of the signal of its ribbon. Screen thread only.
class RunShelf {
public:
    RunShelf() = default;
    ~RunShelf() { close(); }
    RunShelf(const RunShelf&) = delete;
    RunShelf& operator=(const RunShelf&) = delete;

    /// Begins to read; what was read of another folder is forgotten.
    void open(const std::string& folder);
    void close();
    [[nodiscard]] bool reading() const;
    /// How many runs there are, once that is known.
    [[nodiscard]] std::size_t files() const;
    /// Those that were read since it was asked last, in the order of the list; of a path that was there before, the new
    /// one counts.
    std::vector<RunCard> take();

    struct Picture {
        std::string path;
        std::vector<Column> columns;  ///< empty: there is none
        bool steps = false;
        int colour = 0;  ///< of its signal
    };
    /// Begins to make one.
    void wantPicture(const std::string& path);
    std::vector<Picture> takePictures();
    /// Begins to write what was found of a run into it; take() gives it anew. takeProblem() tells what went wrong.
    void describe(const std::string& path, const std::string& verdict);
    Text takeProblem();

    static constexpr std::size_t pictureColumns = 96;

private:
    void work(const std::stop_token& stop, const std::string& folder);

    mutable Mutex mutex_;
    std::condition_variable_any wanting_;
    std::vector<RunCard> read_ GUARDED_BY(mutex_);
    std::vector<Picture> pictures_ GUARDED_BY(mutex_);
    std::vector<std::string> wanted_ GUARDED_BY(mutex_);
    std::vector<std::pair<std::string, std::string>> verdicts_ GUARDED_BY(mutex_);
    std::size_t files_ GUARDED_BY(mutex_) = 0;
    bool reading_ GUARDED_BY(mutex_) = false;
    Text problem_ GUARDED_BY(mutex_);
    std::jthread thread_;
};

}  // namespace cruscotto

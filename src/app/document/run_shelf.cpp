#include "app/document/run_shelf.h"

#include <algorithm>

#include "core/run/run_notes.h"
#include "engine/run_source.h"

namespace cruscotto {

namespace {

/// What is stored of the run tells it at once; a short run has to be read.
RunShelf::Picture pictureOfRun(const std::string& path, const std::stop_token& stop) {
    RunShelf::Picture out{path, {}, false, 0};
    constexpr std::size_t memory = std::size_t{64} << 20;
    const RunSource source(path, memory);
    const auto wait = [&](auto&& until) {
        while (!until(source.state()) && !source.state().error && !stop.stop_requested())
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
        return until(source.state()) && !source.state().error;
    };
    if (!wait([](const RunSource::State& s) { return s.opened; })) return out;
    const Bench& bench = source.info()->bench;
    const SignalSpec* shown = bench.signal(bench.ribbonSignal);
    if (!shown && !bench.signals.empty()) shown = bench.signals.front().get();
    if (!shown) return out;
    out.steps = holds(*shown);
    out.colour = shown->colour;
    const auto any = [&] {
        return std::ranges::any_of(out.columns, [](const Column& c) { return c.summary.count > 0; });
    };
    const auto look = [&] {
        const Span whole = source.extent();
        const auto n = static_cast<std::int64_t>(RunShelf::pictureColumns);
        source.columns(shown->id,
                       {whole.from, Duration{std::max<std::int64_t>(1, (whole.to - whole.from).ns / n + 1)},
                        RunShelf::pictureColumns},
                       out.columns);
        return any();
    };
    // What is soon read looks better by its samples.
    constexpr std::uint64_t soonRead = std::uint64_t{4} << 20;
    const bool isSmall = source.info()->fileBytes <= soonRead;
    if ((isSmall || !look()) && wait([](const RunSource::State& s) { return s.done; })) look();
    if (!any()) out.columns.clear();
    return out;
}

}  // namespace

void RunShelf::open(const std::string& folder) {
    close();
    {
        const Lock lock(mutex_);
        reading_ = true;
    }
    thread_ = std::jthread([this, folder](const std::stop_token& stop) { work(stop, folder); });
}

void RunShelf::close() {
    if (thread_.joinable()) {
        thread_.request_stop();
        thread_.join();
    }
    const Lock lock(mutex_);
    read_.clear();
    pictures_.clear();
    wanted_.clear();
    verdicts_.clear();
    files_ = 0;
    reading_ = false;
}

bool RunShelf::reading() const {
    const Lock lock(mutex_);
    return reading_;
}

std::size_t RunShelf::files() const {
    const Lock lock(mutex_);
    return files_;
}

std::vector<RunCard> RunShelf::take() {
    const Lock lock(mutex_);
    return std::exchange(read_, {});
}

void RunShelf::wantPicture(const std::string& path) {
    {
        const Lock lock(mutex_);
        // What has been scrolled past can wait for ever.
        constexpr std::size_t mostWanted = 40;
        wanted_.push_back(path);
        if (wanted_.size() > mostWanted) wanted_.erase(wanted_.begin());
    }
    wanting_.notify_all();
}

std::vector<RunShelf::Picture> RunShelf::takePictures() {
    const Lock lock(mutex_);
    return std::exchange(pictures_, {});
}

void RunShelf::describe(const std::string& path, const std::string& verdict) {
    {
        const Lock lock(mutex_);
        verdicts_.emplace_back(path, verdict);
    }
    wanting_.notify_all();
}

Text RunShelf::takeProblem() {
    const Lock lock(mutex_);
    return std::exchange(problem_, {});
}

void RunShelf::work(const std::stop_token& stop, const std::string& folder) {
    const std::vector<std::string> paths = runsIn(folder);
    {
        const Lock lock(mutex_);
        files_ = paths.size();
    }
    for (const std::string& path : paths) {
        if (stop.stop_requested()) return;
        RunCard card = readRunCard(path);
        const Lock lock(mutex_);
        read_.push_back(std::move(card));
    }
    {
        const Lock lock(mutex_);
        reading_ = false;
    }
    while (!stop.stop_requested()) {
        std::string picture;
        std::pair<std::string, std::string> verdict;
        {
            Lock lock(mutex_);
            if (!wanting_.wait(lock, stop, [&]() HOLDING(mutex_) { return !wanted_.empty() || !verdicts_.empty(); }))
                return;
            if (!verdicts_.empty()) {
                verdict = verdicts_.front();
                verdicts_.erase(verdicts_.begin());
            } else {
                picture = wanted_.back();  // what was asked for last is what is looked at now
                wanted_.pop_back();
            }
        }
        if (!picture.empty()) {
            Picture made = pictureOfRun(picture, stop);
            const Lock lock(mutex_);
            pictures_.push_back(std::move(made));
            continue;
        }
        Text problem;
        if (auto reader = RunReader::open(verdict.first)) {
            RunNotes notes = reader.value()->info().notes;
            notes.verdict = verdict.second;
            const std::vector<RunMark> marks = reader.value()->info().marks;
            reader.value().reset();
            if (const auto done = describeRun(verdict.first, notes, marks); !done) problem = done.error().message;
        } else {
            problem = reader.error().message;
        }
        RunCard card = readRunCard(verdict.first);
        const Lock lock(mutex_);
        if (!problem.empty()) problem_ = std::move(problem);
        read_.push_back(std::move(card));
    }
}

}  // namespace cruscotto

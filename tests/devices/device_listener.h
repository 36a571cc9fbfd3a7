#pragma once

#include <malloc.h>

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <limits>
#include <map>
#include <mutex>

#include "devices/device_kind.h"
#include "support.h"

namespace cruscotto::test {

/// A driver on its thread, and everything it said.
class DeviceListener {
public:
    DeviceListener(const std::string& kind, const JsonText& settings, const std::vector<TerminalRequest>& requests = {})
        : device_(deviceKind(kind)->make({"device", Pace::realTime, {}, wire, false, pulse}, settings, requests)) {
        const auto checked = deviceKind(kind)->check(settings);
        EXPECT_TRUE(checked.ok()) << checked.error().english();
        thread_ = std::jthread([this](const std::stop_token& stop) { device_->run(sink_, stop); });
    }
    explicit DeviceListener(std::unique_ptr<Device> device) : device_(std::move(device)) {
        thread_ = std::jthread([this](const std::stop_token& stop) { device_->run(sink_, stop); });
    }
    ~DeviceListener() { stop(); }
    DeviceListener(const DeviceListener&) = delete;
    DeviceListener& operator=(const DeviceListener&) = delete;
    void stop() {
        thread_.request_stop();
        if (thread_.joinable()) thread_.join();
    }
    /// Whoever sets the outputs does not go on; or does again.
    void hang(bool hangs) { *pulse = hangs ? 0 : std::numeric_limits<std::int64_t>::max(); }
    void deliver(const BlockPtr& block) {
        const std::lock_guard lock(mutex_);
        for (std::size_t c = 0; c < block->columns.size(); ++c) {
            auto& to = samples_[block->group->channels[c].terminal];
            groupOf_[block->group->channels[c].terminal] = block->group->name;
            std::vector<double> v;
            appendAsDouble(block->columns[c], v);
            for (std::size_t i = 0; i < v.size(); ++i) {
                Quality quality = Quality::good;
                if (c < block->quality.size())
                    for (const QualityInterval& q : block->quality[c])
                        if (i >= q.begin && i < q.end) quality = q.quality;
                to.push_back({block->timeOf(i), v[i], quality});
            }
        }
        if (block->firstIndex != next_[block->group->name]) ++outOfStep_;
        next_[block->group->name] = block->firstIndex + block->size();
        if (block->gapBefore) gaps_[block->group->name].push_back(*block->gapBefore);
    }
    /// Groups of which the driver has said that nothing comes any more.
    std::vector<std::string> quiet() {
        const std::lock_guard lock(mutex_);
        return quiet_;
    }
    void quiet(const ScanGroup& group) {
        const std::lock_guard lock(mutex_);
        quiet_.push_back(group.name);
    }
    void report(DeviceStatus status) {
        const std::lock_guard lock(mutex_);
        if (states_.empty() || states_.back() != status.state) states_.push_back(status.state);
        status_ = std::move(status);
    }
    [[nodiscard]] Instant now() const {
        return {
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::steady_clock::now() - began_).count()};
    }
    struct Sample {
        Instant t;
        double v;
        Quality quality = Quality::good;
    };
    std::vector<Sample> samples(const std::string& terminal) {
        const std::lock_guard lock(mutex_);
        return samples_[terminal];
    }
    /// The newest; not a number where there is none yet.
    double latest(const std::string& terminal) {
        const std::lock_guard lock(mutex_);
        const auto& all = samples_[terminal];
        return all.empty() ? std::nan("") : all.back().v;
    }
    std::size_t count(const std::string& terminal) {
        const std::lock_guard lock(mutex_);
        return samples_[terminal].size();
    }
    DeviceStatus status() {
        const std::lock_guard lock(mutex_);
        return status_;
    }
    /// Of all scan groups.
    std::vector<Gap> gaps() {
        const std::lock_guard lock(mutex_);
        std::vector<Gap> out;
        for (const auto& [group, gaps] : gaps_) out.insert(out.end(), gaps.begin(), gaps.end());
        return out;
    }
    std::vector<Gap> gapsOf(const std::string& terminal) {
        const std::lock_guard lock(mutex_);
        const auto it = groupOf_.find(terminal);
        return it == groupOf_.end() ? std::vector<Gap>{} : gaps_[it->second];
    }
    std::vector<LinkState> states() {
        const std::lock_guard lock(mutex_);
        return states_;
    }
    /// Blocks whose first sample is not the one behind the last of the block before.
    int outOfStep() {
        const std::lock_guard lock(mutex_);
        return outOfStep_;
    }
    /// Bytes of what is kept here of what was said.
    std::size_t kept() {
        const std::lock_guard lock(mutex_);
        std::size_t out = states_.capacity() * sizeof(LinkState);
        for (const auto& [terminal, all] : samples_) out += all.capacity() * sizeof(Sample);
        for (const auto& [group, gaps] : gaps_) {
            out += gaps.capacity() * sizeof(Gap);
            // With what the heap itself needs for each: a chunk's head.
            for (const Gap& gap : gaps)
                if (gap.cause.capacity() >= sizeof(std::string) / 2)
                    out += malloc_usable_size(const_cast<char*>(gap.cause.data())) + sizeof(std::size_t);
        }
        return out;
    }
    bool reaches(LinkState state) {
        return eventually([&] { return status().state == state; });
    }
    Device& device() { return *device_; }
    const std::shared_ptr<std::atomic<std::int64_t>> pulse =
        std::make_shared<std::atomic<std::int64_t>>(std::numeric_limits<std::int64_t>::max());
    const std::shared_ptr<WireTap> wire = std::make_shared<WireTap>();

private:
    /// What the driver's thread calls: an object that is whole before the thread begins, whatever is made of the
    /// listener meanwhile.
    class Sink : public DeviceSink {
    public:
        explicit Sink(DeviceListener& to) : to_(to) {}
        void deliver(BlockPtr block) override { to_.deliver(block); }
        void quiet(const std::shared_ptr<const ScanGroup>& group) override { to_.quiet(*group); }
        void report(DeviceStatus status) override { to_.report(std::move(status)); }
        [[nodiscard]] Instant now() const override { return to_.now(); }

    private:
        DeviceListener& to_;
    };
    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    std::mutex mutex_;
    std::map<std::string, std::vector<Sample>> samples_;
    std::map<std::string, std::vector<Gap>> gaps_;
    std::map<std::string, std::uint64_t> next_;
    std::map<std::string, std::string> groupOf_;
    int outOfStep_ = 0;
    std::vector<std::string> quiet_;
    std::vector<LinkState> states_;
    DeviceStatus status_;
    std::unique_ptr<Device> device_;
    Sink sink_{*this};
    std::jthread thread_;
};

/// Bytes that the whole process has taken from the heap and not given back.
inline std::size_t heapInUse() {
    char* text = nullptr;
    std::size_t size = 0;
    FILE* to = open_memstream(&text, &size);
    malloc_info(0, to);
    std::fclose(to);
    const std::string all(text, size);
    std::free(text);
    // The sums of all arenas stand behind the last of them.
    const std::string sums = all.substr(all.rfind("</heap>"));
    const auto number = [&](const std::string& begins) {
        const std::size_t at = sums.find("size=\"", sums.find(begins));
        return at == std::string::npos ? 0 : std::stoull(sums.substr(at + 6));
    };
    return number("<system type=\"current\"") - number("<total type=\"fast\"") - number("<total type=\"rest\"") +
           number("<total type=\"mmap\"");
}

inline std::size_t entries(const char* folder) {
    return static_cast<std::size_t>(std::distance(std::filesystem::directory_iterator(folder), {}));
}

/// Each gap begins behind the last sample before it and ends with the next.
inline void eachGapLiesBetweenSamples(const std::vector<Gap>& gaps,
                                      const std::vector<DeviceListener::Sample>& samples) {
    std::size_t at = 0;
    for (const Gap& gap : gaps) {
        while (at < samples.size() && samples[at].t < gap.to) ++at;
        ASSERT_LT(at, samples.size());
        ASSERT_GT(at, 0U);
        EXPECT_EQ(samples[at].t, gap.to) << "it ends with the first sample";
        EXPECT_LE(samples[at - 1].t, gap.from) << "it begins behind the last";
    }
}

/// Pulls the plug again and again: no state sticks, no descriptor and no thread is left over, and each absence is a gap
/// that begins behind the last sample and ends with the next. `terminal` delivers by itself while plugged in.
inline void unplugAgainAndAgain(DeviceListener& listener, const std::string& terminal, std::size_t times,
                                const std::function<void()>& unplug, const std::function<void()>& plug) {
    ASSERT_TRUE(eventually([&] { return listener.count(terminal) > 0 && listener.status().state == LinkState::live; }))
        << listener.status().sentence.english();
    std::size_t files = 0, threads = 0;
    // What is heard of grows with the cycles; all else may not.
    const auto othersHeap = [&] { return static_cast<double>(heapInUse()) - static_cast<double>(listener.kept()); };
    double heapBefore = 0;
    for (std::size_t i = 0; i < times; ++i) {
        unplug();
        ASSERT_TRUE(eventually([&] { return listener.status().state != LinkState::live; }))
            << "not noticed the " << i << ". time";
        const std::size_t before = listener.count(terminal);
        plug();
        ASSERT_TRUE(eventually([&] {
            return listener.count(terminal) > before && listener.status().state == LinkState::live;
        })) << "stuck after "
            << i << " times: " << listener.status().sentence.english();
        if (i == 1) {
            files = entries("/proc/self/fd");
            threads = entries("/proc/self/task");
        }
        if (i == times / 10) heapBefore = othersHeap();
    }
    // A sanitizer has a heap of its own, and looks for leaks itself.
    if (!SANITIZED) {
        const double perCycle = (othersHeap() - heapBefore) / (0.9 * static_cast<double>(times));
        testing::Test::RecordProperty("bytes-a-cycle", static_cast<int>(perCycle));
        // Threads that come and go leave some in their arenas: about a hundred kilobytes in all.
        EXPECT_LT(perCycle, 250) << "bytes more with each time";
    }
    // A driver that opens the files it reads each time holds one more for a moment: what is left over stays.
    EXPECT_TRUE(eventually([&] { return entries("/proc/self/fd") <= files; }))
        << entries("/proc/self/fd") << " descriptors, " << files << " before";
    EXPECT_TRUE(eventually([&] { return entries("/proc/self/task") <= threads; }))
        << entries("/proc/self/task") << " threads, " << threads << " before";
    listener.stop();
    EXPECT_EQ(listener.outOfStep(), 0);
    const auto samples = listener.samples(terminal);
    const auto gaps = listener.gapsOf(terminal);
    ASSERT_EQ(gaps.size(), times);
    eachGapLiesBetweenSamples(gaps, samples);
}

}  // namespace cruscotto::test

#include "engine/recorder.h"

#include <sys/resource.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>

#include "core/base/log.h"
#include "core/bench/keep.h"
#include "core/bench/run_name.h"
#include "core/chain/input_aligner.h"

namespace cruscotto {

Recorder::Recorder(std::unique_ptr<RunWriter> writer, std::string path, Instant since, Pace pace, RecorderLimits limits,
                   Beginning beginning)
    : pace_(pace),
      limits_(std::move(limits)),
      writer_(std::move(writer)),
      beginning_(std::move(beginning)),
      firstPath_(path),
      path_(path),
      fileSince_(since),
      end_(since) {
    status_.active = true;
    status_.path = std::move(path);
    status_.since = since;
    thread_ = std::thread([this] { work(); });
}

Recorder::~Recorder() {
    close();
}

void Recorder::add(BlockPtr block, Columns columns, std::vector<RecordedBucket> buckets) {
    if (columns->empty()) return;
    Item item;
    item.bytes = 256 + block->times.size() * sizeof(Instant);
    for (const RecordedColumn& c : *columns) item.bytes += bytesOf(block->columns[c.column]).size();
    item.block = std::move(block);
    item.columns = std::move(columns);
    item.buckets = std::move(buckets);
    push(std::move(item));
}

void Recorder::note(std::function<void(RunWriter&)> what) {
    Item item;
    item.note = std::move(what);
    push(std::move(item));
}

void Recorder::take(const Bench& bench, Instant at) {
    Item item;
    item.note = [at, bench](RunWriter& w) { w.addBench(bench, at); };
    item.remember = [this, bench] { beginning_.bench = bench; };
    push(std::move(item));
}

void Recorder::anchor(WallAnchor anchor) {
    Item item;
    item.note = [anchor](RunWriter& w) { w.addAnchor(anchor); };
    item.remember = [this, anchor] { beginning_.anchor = anchor; };
    push(std::move(item));
}

void Recorder::push(Item item) {
    Lock lock(mutex_);
    if (ended_) return;
    if (item.block && queuedBytes_ + item.bytes > limits_.queueBytes) {
        hurry();
        if (pace_ == Pace::realTime) return lose(item);
        changed_.wait(lock, [&]() HOLDING(mutex_) {
            return queuedBytes_ + item.bytes <= limits_.queueBytes || queue_.empty() || closing_;
        });
    }
    if (item.block) noteLost(item.block->group.get());
    queuedBytes_ += item.bytes;
    queue_.push_back(std::move(item));
    if (queuedBytes_ >= std::min(limits_.soonBytes, limits_.queueBytes / 2)) hurry();
}

/// Little is fetched in time for the next commit only: to be woken for each block of a slow bench costs more than to
/// write it.
void Recorder::hurry() {
    if (!std::exchange(hurry_, true)) changed_.notify_all();
}

/// The writer is behind by more than memory may hold: this block is lost, and the run says so exactly.
void Recorder::lose(const Item& item) {
    const Block& block = *item.block;
    LostSamples& lost = losing_[block.group.get()];
    if (lost.n > 0 && lost.firstIndex + lost.n != block.firstIndex) noteLost(block.group.get());
    if (lost.n == 0) {
        lost.group = block.group;
        lost.firstIndex = block.firstIndex;
        lost.span.from = block.timeOf(0);
        lost.cause = "The disk could not follow.";
        lost.signals.clear();
        for (const RecordedColumn& c : *item.columns)
            lost.signals.emplace_back(c.signal, typeOf(block.columns[c.column]));
    }
    lost.n += block.size();
    lost.span.to = endOf(block);
    status_.lost += block.size() * countedOf(*item.columns);
    status_.lostTo = lost.cause;
    status_.problem =
        text(CRUSCOTTO_TEXT("The disk cannot follow; {0} samples are missing from the run so far."), status_.lost);
}

/// Puts what was lost of the group into its place in the queue.
void Recorder::noteLost(const ScanGroup* group) {
    const auto it = losing_.find(group);
    if (it == losing_.end() || it->second.n == 0) return;
    Item item;
    item.note = [lost = it->second](RunWriter& w) { w.addLost(lost); };
    it->second.n = 0;
    queue_.push_back(std::move(item));
}

void Recorder::close() {
    {
        const Lock lock(mutex_);
        for (const auto& [group, lost] : losing_) noteLost(group);
        closing_ = true;
        changed_.notify_all();
    }
    if (thread_.joinable()) thread_.join();
}

RecordingStatus Recorder::status() const {
    const Lock lock(mutex_);
    return status_;
}

void Recorder::commit() {
    auto committed = writer_->commit();
    std::uint64_t dropped = 0;
    if (!committed && writer_->pendingBytes() > limits_.pendingBytes)
        dropped = writer_->dropPending(committed.error().english());
    const auto unconfirmed = writer_->trouble();
    const Lock lock(mutex_);
    status_.bytes = bytesBefore_ + writer_->bytesOnDisk();
    status_.samples = samplesBefore_ + writer_->samplesWritten();
    status_.lost += dropped;
    if (dropped) status_.lostTo = committed.error().english();
    if (ended_) return;  // why is told already
    status_.stuck = !committed.ok();
    if (committed) {
        status_.memoryLeft.reset();  // with the problem goes what it means
        status_.problem =
            unconfirmed    ? unconfirmed->message
            : status_.lost ? text(CRUSCOTTO_TEXT("{0} samples are missing from the run; it says where."), status_.lost)
                           : Text();
    } else {
        if (status_.problem.empty()) logWarning("recording: " + committed.error().english());
        status_.problem =
            status_.lost
                ? text(CRUSCOTTO_TEXT("{0} {1} samples are missing so far."), committed.error().english(), status_.lost)
                : text(CRUSCOTTO_TEXT("{0} New samples are kept in memory; make room and they are written."),
                       committed.error().english());
    }
}

/// How long the disk and memory will last; ends the recording in order before the disk is full.
void Recorder::watchDisk() {
    const auto now = std::chrono::steady_clock::now();
    lately_.push_back({now, bytesBefore_ + writer_->bytesOnDisk(), taken_});
    while (lately_.size() > 2 && now - lately_.front().at > std::chrono::seconds(10)) lately_.pop_front();
    const double span = std::chrono::duration<double>(now - lately_.front().at).count();
    const auto perSecond = [&](std::uint64_t Moment::*what) {
        return span > 0.5 ? static_cast<double>(lately_.back().*what - lately_.front().*what) / span : 0;
    };
    const auto lasts = [](double bytes, double rate) {
        return rate > 0 ? std::optional(seconds(std::min(1e8, std::max(0.0, bytes) / rate))) : std::nullopt;
    };
    std::optional<std::uint64_t> free;
    if (limits_.freeBytes) {
        free = limits_.freeBytes(path_);
    } else {
        std::error_code ec;
        const auto space = std::filesystem::space(path_, ec);
        if (!ec) free = space.available;
    }
    const std::size_t pending = writer_->pendingBytes();
    const Lock lock(mutex_);
    status_.diskLeft.reset();
    status_.memoryLeft.reset();
    if (free)
        status_.diskLeft =
            lasts(static_cast<double>(*free) - static_cast<double>(limits_.keepFreeBytes), perSecond(&Moment::onDisk));
    if (!status_.problem.empty() && pending > 0)
        status_.memoryLeft =
            lasts(static_cast<double>(limits_.pendingBytes) - static_cast<double>(pending), perSecond(&Moment::taken));
    if (free && *free < limits_.keepFreeBytes && !closing_) {
        ended_ = status_.complete = true;
        status_.problem = text(CRUSCOTTO_TEXT("The recording was ended in order, with all samples so far: only {0} MB "
                                              "are free on the disk, and {1} MB are kept free."),
                               *free / 1'000'000, limits_.keepFreeBytes / 1'000'000);
        logWarning(status_.problem.english());
        writer_->addEvent(end_, "ended", status_.problem.english());
    }
}

/// The next file takes over between two blocks; if it cannot be made, the one at hand goes on.
void Recorder::splitWhereItIsTime() {
    const bool time = limits_.splitEvery.ns > 0 && end_ - fileSince_ >= limits_.splitEvery;
    const bool size = limits_.splitBytes > 0 && writer_->bytesOnDisk() >= limits_.splitBytes;
    if ((!time && !size) || writer_->pendingBytes() > 0) return;
    {
        const Lock lock(mutex_);
        if (ended_) return;
    }
    const std::string path = partName(firstPath_, part_ + 1);
    const std::int64_t unix = beginning_.anchor.unixNs + (end_ - beginning_.anchor.at).ns;
    auto next = RunWriter::create(path, beginning_.bench, {end_, unix});
    if (!next) {
        logWarning("the next file of the recording: " + next.error().english());
        return;
    }
    writer_->addEvent(end_, "part", "Goes on in " + std::filesystem::path(path).filename().string());
    next.value()->addEvent(end_, "part", "Comes after " + std::filesystem::path(path_).filename().string());
    if (auto closed = writer_->close(); !closed) logWarning("closing the run: " + closed.error().english());
    samplesBefore_ += writer_->samplesWritten();
    bytesBefore_ += writer_->bytesOnDisk();
    writer_ = std::move(next.value());
    repeatStanding();
    path_ = path;
    fileSince_ = end_;
    const Lock lock(mutex_);
    status_.path = path;
    status_.parts = ++part_;
}

/// The last sample of each output, as the new file's first one.
void Recorder::repeatStanding() {
    for (const auto& [key, standing] : standing_) {
        const Block& last = *standing.block;
        const std::size_t at = last.size() - 1;
        auto block = std::make_shared<Block>();
        block->group = last.group;
        block->firstIndex = last.firstIndex + at;
        // A little before the file's first samples: clocks of devices may be ahead of the one that stamps outputs.
        block->t0 = std::max(last.times.back(), end_ - milliseconds(20));
        block->times = {block->t0};
        for (const Samples& column : last.columns)
            std::visit([&](const auto& v) { block->columns.emplace_back(std::decay_t<decltype(v)>{v[at]}); }, column);
        writer_->add(std::move(block), standing.columns, {});
    }
}

void Recorder::work() {
    // Where processors are short, who packs and writes gives way to who measures and sets outputs.
    setpriority(PRIO_PROCESS, static_cast<id_t>(gettid()), 5);
    auto lastCommit = std::chrono::steady_clock::now();
    // Begun a fifth early: what a commit takes, and what others take of the processor meanwhile, lies within the time.
    const auto every = std::chrono::nanoseconds(limits_.commitEvery.ns * 4 / 5);
    while (true) {
        std::deque<Item> items;
        bool closing = false;
        {
            Lock lock(mutex_);
            changed_.wait_until(lock, lastCommit + every, [&]() HOLDING(mutex_) { return hurry_ || closing_; });
            items.swap(queue_);
            hurry_ = false;
            queuedBytes_ = 0;
            closing = closing_;
            changed_.notify_all();
        }
        for (Item& item : items) {
            taken_ += item.bytes;
            if (item.block) writer_->add(item.block, item.columns, item.buckets);
            if (item.block && isOutput(item.block->group->channels.front().kind))
                standing_[{item.block->group->device, item.block->group->name}] = {item.block, item.columns};
            if (item.block) end_ = std::max(end_, endOf(*item.block));
            if (item.note) item.note(*writer_);
            if (item.remember) item.remember();
        }
        const auto now = std::chrono::steady_clock::now();
        const std::size_t pending = writer_->pendingBytes();
        const bool soon =
            pending > limits_.soonBytes && now - lastCommit >= std::chrono::nanoseconds(limits_.commitSoon.ns);
        if (closing || soon || now - lastCommit >= every || pending > limits_.pendingBytes / 4) {
            commit();
            watchDisk();
            splitWhereItIsTime();
            lastCommit = now;
        }
        if (closing) break;
    }
    auto closed = writer_->close();
    std::uint64_t dropped = 0;
    if (!closed) {
        logWarning("closing the run: " + closed.error().english());
        dropped = writer_->dropPending(closed.error().english());
    }
    const std::uint64_t bytes = bytesBefore_ + writer_->bytesOnDisk(),
                        samples = samplesBefore_ + writer_->samplesWritten();
    writer_.reset();
    const Lock lock(mutex_);
    status_.active = false;
    status_.bytes = bytes;
    status_.samples = samples;
    status_.lost += dropped;
    if (dropped) status_.lostTo = closed.error().english();
    status_.stuck = false;
    if (!closed) status_.problem = closed.error().message;
}

}  // namespace cruscotto

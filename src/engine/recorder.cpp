#include "engine/recorder.h"

#include <chrono>

#include "core/log.h"

namespace cruscotto {

Recorder::Recorder(std::unique_ptr<RunWriter> writer, std::string path, Instant since, Pace pace, RecorderLimits limits)
    : pace_(pace), limits_(limits), writer_(std::move(writer)) {
    status_.active = true;
    status_.path = std::move(path);
    status_.since = since;
    thread_ = std::thread([this] { work(); });
}

Recorder::~Recorder() {
    close();
}

void Recorder::add(BlockPtr block, std::vector<RecordedColumn> columns) {
    if (columns.empty()) return;
    Item item;
    for (const RecordedColumn& c : columns) item.bytes += bytesOf(block->columns[c.column]).size() + 8 * block->size();
    item.block = std::move(block);
    item.columns = std::move(columns);
    push(std::move(item));
}

void Recorder::note(std::function<void(RunWriter&)> what) {
    Item item;
    item.note = std::move(what);
    push(std::move(item));
}

void Recorder::push(Item item) {
    std::unique_lock lock(mutex_);
    if (item.block && queuedBytes_ + item.bytes > limits_.queueBytes) {
        if (pace_ == Pace::asFastAsPossible) {
            changed_.wait(
                lock, [&] { return queuedBytes_ + item.bytes <= limits_.queueBytes || queue_.empty() || closing_; });
        } else {
            // The writer is behind by more than memory may hold. What comes now is lost, and the run says so exactly.
            const Block& block = *item.block;
            status_.lost += block.size() * item.columns.size();
            status_.problem = text(
                CRUSCOTTO_TEXT("The disk cannot follow; {0} samples are missing from the run so far."), status_.lost);
            auto words = fmt::format("{} samples of {}/{} lost: the disk could not follow", block.size(),
                                     block.group->device, block.group->name);
            item.note = [at = block.timeOf(0), words = std::move(words)](RunWriter& w) {
                w.addEvent(at, "loss", words);
            };
            item.block.reset();
            item.bytes = 0;
        }
    }
    queuedBytes_ += item.bytes;
    queue_.push_back(std::move(item));
    changed_.notify_all();
}

void Recorder::close() {
    {
        const std::lock_guard lock(mutex_);
        closing_ = true;
        changed_.notify_all();
    }
    if (thread_.joinable()) thread_.join();
}

RecordingStatus Recorder::status() const {
    const std::lock_guard lock(mutex_);
    return status_;
}

void Recorder::commit() {
    auto committed = writer_->commit();
    std::uint64_t dropped = 0;
    if (!committed && writer_->pendingBytes() > limits_.pendingBytes)
        dropped = writer_->dropPending(committed.error().english());
    const std::lock_guard lock(mutex_);
    status_.bytes = writer_->bytesOnDisk();
    status_.samples = writer_->samplesWritten();
    status_.lost += dropped;
    if (committed) {
        status_.problem =
            status_.lost ? text(CRUSCOTTO_TEXT("{0} samples are missing from the run; it says where."), status_.lost)
                         : Text();
    } else {
        if (status_.problem.empty()) logWarning("recording: " + committed.error().english());
        status_.problem = status_.lost
                              ? text(CRUSCOTTO_TEXT("Nothing can be written ({0}); {1} samples are missing so far."),
                                     committed.error().english(), status_.lost)
                              : text(CRUSCOTTO_TEXT("Nothing can be written ({0}). New samples are kept in memory; "
                                                    "make room and they are written."),
                                     committed.error().english());
    }
}

void Recorder::work() {
    auto lastCommit = std::chrono::steady_clock::now();
    const auto every = std::chrono::nanoseconds(limits_.commitEvery.ns);
    while (true) {
        std::deque<Item> items;
        bool closing = false;
        {
            std::unique_lock lock(mutex_);
            changed_.wait_until(lock, lastCommit + every, [&] { return !queue_.empty() || closing_; });
            items.swap(queue_);
            queuedBytes_ = 0;
            closing = closing_;
            changed_.notify_all();
        }
        for (Item& item : items) {
            if (item.block) writer_->add(item.block, item.columns);
            if (item.note) item.note(*writer_);
        }
        const auto now = std::chrono::steady_clock::now();
        if (closing || now - lastCommit >= every || writer_->pendingBytes() > limits_.pendingBytes / 4) {
            commit();
            lastCommit = std::chrono::steady_clock::now();
        }
        if (closing) break;
    }
    auto closed = writer_->close();
    if (!closed) logWarning("closing the run: " + closed.error().english());
    const std::uint64_t bytes = writer_->bytesOnDisk(), samples = writer_->samplesWritten();
    writer_.reset();
    const std::lock_guard lock(mutex_);
    status_.active = false;
    status_.bytes = bytes;
    status_.samples = samples;
    if (!closed) status_.problem = closed.error().message;
}

}  // namespace cruscotto

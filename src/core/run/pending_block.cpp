#include "core/run/pending_block.h"

#include <cstring>
#include <span>

#include "core/run/run_format.h"
#include "core/run/sample_codec.h"

namespace cruscotto {

void storedForm(const PendingBlock& b, std::vector<std::byte>& data) {
    data.assign(1, static_cast<std::byte>(runformat::BlockForm::packed));
    bool saved = false;
    const auto part = [&](auto&& append) {
        const std::size_t head = data.size();
        data.resize(head + 5);
        const codec::Packing packing = append();
        saved = saved || packing != codec::Packing::raw;
        const auto length = static_cast<std::uint32_t>(data.size() - head - 5);
        data[head] = static_cast<std::byte>(packing);
        std::memcpy(data.data() + head + 1, &length, sizeof length);
    };
    const auto raw = [&](std::span<const std::byte> bytes) { data.insert(data.end(), bytes.begin(), bytes.end()); };
    if (b.n >= codec::frameSamples / 2) {
        if (!b.clocked()) part([&] { return raw(std::as_bytes(std::span(b.times))), codec::Packing::raw; });
        for (const Samples& c : b.columns) part([&] { return codec::encode(c, data); });
    }
    if (saved) return;
    data.assign(1, static_cast<std::byte>(runformat::BlockForm::plain));
    raw(std::as_bytes(std::span(b.times)));
    for (const Samples& c : b.columns) raw(bytesOf(c));
}

BlockPacker::BlockPacker() : thread_([this](const std::stop_token& stop) { work(stop); }) {}

void BlockPacker::add(PendingBlock& block) {
    const Lock lock(mutex_);
    queue_.push_back(&block);
    unfinished_.insert(&block);
    changed_.notify_all();
}

void BlockPacker::waitFor(const PendingBlock& block) {
    Lock lock(mutex_);
    changed_.wait(lock, [&]() HOLDING(mutex_) { return !unfinished_.contains(&block); });
}

void BlockPacker::reuse(std::vector<std::byte> room) {
    const Lock lock(mutex_);
    if (spare_.size() < 32) spare_.push_back(std::move(room));
}

void BlockPacker::work(const std::stop_token& stop) {
    while (true) {
        PendingBlock* block = nullptr;
        std::vector<std::byte> room;
        {
            Lock lock(mutex_);
            if (!changed_.wait(lock, stop, [&]() HOLDING(mutex_) { return !queue_.empty(); }) || stop.stop_requested())
                return;
            block = queue_.front();
            queue_.pop_front();
            if (!spare_.empty()) {
                room = std::move(spare_.back());
                spare_.pop_back();
            }
        }
        storedForm(*block, room);
        const Lock lock(mutex_);
        block->packed = std::move(room);
        unfinished_.erase(block);
        changed_.notify_all();
    }
}

}  // namespace cruscotto

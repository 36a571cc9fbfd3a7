#include "core/export/run_export.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <memory>
#include <string_view>
#include <utility>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/run/run_reader.h"
#include "core/run/run_replay.h"

namespace cruscotto {

namespace {

std::string quoted(const std::string& s) {
    if (s.find_first_of(",\"\r\n") == std::string::npos) return s;
    std::string out = "\"";
    for (const char c : s) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + '"';
}

/// Text on its way to the file, with room kept for what is written next.
class Buffer {
public:
    explicit Buffer(std::size_t most) : data_(most) {}
    void add(char c) { data_[size_++] = c; }
    void add(std::string_view s) {
        if (size_ + s.size() > data_.size()) data_.resize(size_ + s.size());
        std::copy(s.begin(), s.end(), data_.begin() + static_cast<std::ptrdiff_t>(size_));
        size_ += s.size();
    }
    /// Precondition: longestNumber more characters have room.
    void add(double v) {
        char* const at = data_.data() + size_;
        size_ += static_cast<std::size_t>(writeShortest(at, v) - at);
    }
    void reserve(std::size_t more) {
        if (size_ + more > data_.size()) data_.resize(size_ + more);
    }
    [[nodiscard]] std::size_t size() const { return size_; }
    /// All of it, and begins anew.
    bool writeTo(std::FILE* file) {
        const std::size_t n = std::exchange(size_, 0);
        return std::fwrite(data_.data(), 1, n, file) == n;
    }

private:
    std::vector<char> data_;
    std::size_t size_ = 0;
};

Quality qualityAt(const Readings& r, std::size_t i) {
    Quality q = Quality::good;
    for (const QualityInterval& interval : r.quality)
        if (i >= interval.begin && i < interval.end) q = worse(q, interval.quality);
    return q;
}

/// One scan group on its way through the file.
struct Lane {
    RunReplay replay;
    RunReplay::Step step;
    std::size_t at = 0;
    bool ended = false;
    Instant now;
    explicit Lane(RunReplay r) : replay(std::move(r)) {}
    void load() {
        at = 0;
        ended = !replay.next(step);
        if (!ended) now = step.block->timeOf(0);
    }
    void advance() {
        if (++at >= step.block->size()) return load();
        now = step.block->timeOf(at);
    }
};

/// What stands in a column: a signal of a lane.
struct Cell {
    const Lane* lane = nullptr;
    std::size_t column = 0;
};

}  // namespace

Result<ExportResult> exportCsv(const std::string& runPath, const std::string& csvPath, const ExportOptions& options,
                               Progress& progress) {
    auto opened = RunReader::open(runPath, options.version);
    if (!opened) return opened.error();
    RunReader& reader = *opened.value();
    const RunInfo& info = reader.info();

    auto found = chosenSignals(info, options.signals);
    if (!found) return found.error();
    const std::vector<const RunSignal*>& chosen = found.value();
    const auto [from, to] = chosenSpan(info, options);

    ExportResult result;
    const std::uint64_t total = beginResult(chosen, result);
    std::uint64_t done = 0;
    std::vector<std::unique_ptr<Lane>> lanes;
    std::vector<Cell> cells(chosen.size());
    for (const RunGroup& group : info.groups) {
        RunReader::Part part;
        for (const RunSignal* s : chosen)
            if (s->group == group.id) part.signals.push_back(s->id);
        if (part.signals.empty()) continue;
        part.span = {reader.replayFrom(group.id, part.signals, from), to};
        auto lane = std::make_unique<Lane>(RunReplay(reader, group.id, part));
        const auto& members = lane->replay.signals();
        for (std::size_t i = 0; i < members.size(); ++i)
            if (const auto it = std::find(chosen.begin(), chosen.end(), members[i]); it != chosen.end())
                cells[static_cast<std::size_t>(it - chosen.begin())] = {lane.get(), i};
        lane->load();
        lanes.push_back(std::move(lane));
    }

    auto file = NewFile::create(csvPath, options.existing);
    if (!file) return file.error();

    constexpr std::size_t flushAt = std::size_t{1} << 20;
    const std::size_t widestRow = 64 + cells.size() * 64;
    Buffer out(flushAt + widestRow);
    out.add("time [s]");
    for (const RunSignal* s : chosen) {
        const std::string unit = unitText(s->current().unit());
        out.add("," + quoted(s->current().name + (unit.empty() ? "" : " [" + unit + "]")));
        if (options.qualityColumns) out.add("," + quoted(s->current().name + " quality"));
    }
    out.add("\r\n");
    out.reserve(widestRow);
    const auto diskFull = [&] { return failure("{0} could not be written to the end. Is the disk full?", csvPath); };

    while (true) {
        const Lane* first = nullptr;
        for (const auto& lane : lanes)
            if (!lane->ended && (!first || lane->now < first->now)) first = lane.get();
        if (!first || first->now >= to) break;
        const Instant t = first->now;
        if (t >= from) {
            out.add(secondsText((t - info.span.from).ns));
            for (std::size_t i = 0; i < cells.size(); ++i) {
                const auto& [lane, column] = cells[i];
                const bool here = lane && !lane->ended && lane->now == t;
                out.add(',');
                if (here) {
                    const double v = lane->step.readings[column].values[lane->at];
                    if (!std::isnan(v)) out.add(v);
                    ++result.samples[i].second;
                    ++done;
                }
                if (options.qualityColumns) {
                    out.add(',');
                    if (here) out.add(qualityWord(qualityAt(lane->step.readings[column], lane->at)));
                }
            }
            out.add("\r\n");
            ++result.rows;
        }
        for (const auto& lane : lanes)
            if (!lane->ended && lane->now == t) lane->advance();
        if (out.size() > flushAt) {
            if (!out.writeTo(file.value().stream())) return diskFull();
            progress.advance(done, total);
            if (progress.cancelled()) return failure("The export was cancelled; nothing was left behind.");
        }
    }
    if (!out.writeTo(file.value().stream())) return diskFull();
    if (auto put = file.value().put(); !put) return put.error();
    for (const auto& lane : lanes) result.damagedBlocks += lane->replay.damagedBlocks();
    progress.advance(total, total);
    return result;
}

}  // namespace cruscotto

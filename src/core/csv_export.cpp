#include "core/csv_export.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <cstdio>
#include <memory>

#include "core/run_reader.h"
#include "core/units.h"

namespace cruscotto {

namespace {

std::string quoted(const std::string& s) {
    if (s.find_first_of(",\"\r\n") == std::string::npos) return s;
    std::string out = "\"";
    for (const char c : s) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + '"';
}

void appendNumber(std::string& out, double v) {
    if (std::isnan(v)) return;
    std::array<char, 32> buffer;
    const auto [end, error] = std::to_chars(buffer.data(), buffer.data() + buffer.size(), v);
    out.append(buffer.data(), end);
}

Quality qualityAt(const Readings& r, std::size_t i) {
    Quality q = Quality::good;
    for (const QualityInterval& interval : r.quality)
        if (i >= interval.begin && i < interval.end) q = std::max(q, interval.quality);
    return q;
}

/// One scan group on its way through the file.
struct Lane {
    RunReplay replay;
    RunReplay::Step step;
    std::size_t at = 0;
    bool ended = false;
    struct Cell {
        std::size_t replayColumn;
        std::size_t csvColumn;
    };
    std::vector<Cell> cells;
    explicit Lane(RunReplay r) : replay(std::move(r)) {}
    void load() {
        at = 0;
        ended = !replay.next(step);
    }
    [[nodiscard]] Instant time() const { return step.block->timeOf(at); }
    void advance() {
        if (++at >= step.block->size()) load();
    }
};

}  // namespace

Result<CsvResult> exportCsv(const std::string& runPath, const std::string& csvPath, const CsvOptions& options,
                            Progress& progress) {
    auto opened = RunReader::open(runPath);
    if (!opened) return opened.error();
    RunReader& reader = *opened.value();
    const RunInfo& info = reader.info();

    std::vector<const RunSignal*> chosen;
    if (options.signals.empty()) {
        for (const auto& spec : info.bench.signals)  // in the bench's order, then what it no longer had at the end
            if (const RunSignal* s = info.signal(spec->id)) chosen.push_back(s);
        for (const RunSignal& s : info.signals)
            if (std::find(chosen.begin(), chosen.end(), &s) == chosen.end()) chosen.push_back(&s);
    }
    for (const std::string& wanted : options.signals) {
        const auto it = std::find_if(info.signals.begin(), info.signals.end(), [&](const RunSignal& s) {
            return s.key == wanted || s.current().name == wanted || s.current().tag == wanted;
        });
        if (it == info.signals.end()) {
            std::string all;
            for (const RunSignal& s : info.signals) all += (all.empty() ? "" : ", ") + s.key;
            return failure("This run has no signal \"{0}\". It has: {1}.", wanted, all);
        }
        if (std::find(chosen.begin(), chosen.end(), &*it) == chosen.end()) chosen.push_back(&*it);
    }
    const Instant from = info.span.from + options.from.value_or(Duration{0});
    const Instant to = options.to ? info.span.from + *options.to : info.span.to;

    CsvResult result;
    std::uint64_t total = 0, done = 0;
    for (const RunSignal* s : chosen) {
        result.samples.push_back({s->key, 0});
        total += s->samples;
    }
    std::vector<std::unique_ptr<Lane>> lanes;
    for (const RunGroup& group : info.groups) {
        auto lane = std::make_unique<Lane>(RunReplay(reader, group.id));
        const auto& members = lane->replay.signals();
        for (std::size_t i = 0; i < members.size(); ++i)
            if (const auto it = std::find(chosen.begin(), chosen.end(), members[i]); it != chosen.end())
                lane->cells.push_back({i, static_cast<std::size_t>(it - chosen.begin())});
        if (lane->cells.empty()) continue;
        lane->load();
        lanes.push_back(std::move(lane));
    }

    const std::string beside = csvPath + ".part";
    const auto closeFile = [](std::FILE* f) { std::fclose(f); };
    std::unique_ptr<std::FILE, decltype(closeFile)> file(std::fopen(beside.c_str(), "wb"), closeFile);
    if (!file) return failure("{0} cannot be written. Is the folder there, and may you write to it?", csvPath);
    const auto giveUp = [&](Error error) -> Result<CsvResult> {
        file.reset();
        std::remove(beside.c_str());
        return error;
    };

    std::string out = "time [s]";
    for (const RunSignal* s : chosen) {
        const std::string unit = unitText(s->current().unit());
        out += "," + quoted(s->current().name + (unit.empty() ? "" : " [" + unit + "]"));
        if (options.qualityColumns) out += "," + quoted(s->current().name + " quality");
    }
    out += "\r\n";

    std::vector<std::pair<Lane*, std::size_t>> cellOf(chosen.size());  // lane and column that fill a cell in this row
    while (true) {
        const Lane* first = nullptr;
        for (const auto& lane : lanes)
            if (!lane->ended && (!first || lane->time() < first->time())) first = lane.get();
        if (!first || first->time() >= to) break;
        const Instant t = first->time();
        const bool inside = t >= from;
        std::fill(cellOf.begin(), cellOf.end(), std::pair<Lane*, std::size_t>{nullptr, 0});
        for (const auto& lane : lanes)
            if (!lane->ended && lane->time() == t)
                for (const Lane::Cell& cell : lane->cells) cellOf[cell.csvColumn] = {lane.get(), cell.replayColumn};
        if (inside) {
            out += secondsText((t - info.span.from).ns);
            for (std::size_t i = 0; i < cellOf.size(); ++i) {
                const auto [lane, column] = cellOf[i];
                out += ',';
                if (lane) {
                    appendNumber(out, lane->step.readings[column].values[lane->at]);
                    ++result.samples[i].second;
                    ++done;
                }
                if (options.qualityColumns) {
                    out += ',';
                    if (lane) out += qualityWord(qualityAt(lane->step.readings[column], lane->at));
                }
            }
            out += "\r\n";
            ++result.rows;
        }
        for (const auto& lane : lanes)
            if (!lane->ended && lane->time() == t) lane->advance();
        if (out.size() > (1U << 20)) {
            if (std::fwrite(out.data(), 1, out.size(), file.get()) != out.size())
                return giveUp(failure("{0} could not be written to the end. Is the disk full?", csvPath));
            out.clear();
            progress.advance(done, total);
            if (progress.cancelled()) return giveUp(failure("The export was cancelled; nothing was left behind."));
        }
    }
    if (std::fwrite(out.data(), 1, out.size(), file.get()) != out.size() || std::fflush(file.get()) != 0)
        return giveUp(failure("{0} could not be written to the end. Is the disk full?", csvPath));
    file.reset();
    if (std::rename(beside.c_str(), csvPath.c_str()) != 0)
        return giveUp(failure("{0} cannot be written. Is there a folder of that name?", csvPath));
    for (const auto& lane : lanes) result.damagedBlocks += lane->replay.damagedBlocks();
    progress.advance(total, total);
    return result;
}

}  // namespace cruscotto

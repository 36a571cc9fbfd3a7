#include "core/run_reader.h"

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <limits>

#include "core/run_format.h"
#include "core/sqlite.h"

namespace cruscotto {

using sqlite::Statement;

namespace {
constexpr std::int64_t largestBlock = std::int64_t{1} << 28;
}

std::uint64_t RunInfo::lostSamples() const {
    std::uint64_t lost = 0;
    for (const RunGroup& g : groups) {
        const auto members = static_cast<std::uint64_t>(
            std::count_if(signals.begin(), signals.end(), [&](const RunSignal& s) { return s.group == g.id; }));
        for (const Gap& gap : g.gaps) lost += gap.lostSamples * members;
    }
    return lost;
}

const RunSignal* RunInfo::signal(const std::string& key) const {
    for (const RunSignal& s : signals)
        if (s.key == key) return &s;
    return nullptr;
}

struct RunReader::State {
    sqlite::Database db;
    RunInfo info;
};

RunReader::RunReader(std::unique_ptr<State> state) : state_(std::move(state)) {}
RunReader::~RunReader() = default;
const RunInfo& RunReader::info() const {
    return state_->info;
}

Result<std::unique_ptr<RunReader>> RunReader::open(const std::string& path) {
    std::error_code ec;
    if (!std::filesystem::is_regular_file(path, ec)) return failure("{0} is not there, or is not a file.", path);
    auto state = std::make_unique<State>();
    sqlite3* db = nullptr;
    // Writable where that is allowed, so that SQLite can take back the half of a commit that a kill has left.
    int opened = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    if (opened != SQLITE_OK) {
        sqlite3_close_v2(db);
        opened = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, nullptr);
    }
    state->db.reset(db);
    if (opened != SQLITE_OK) return failure("{0} cannot be opened ({1}).", path, sqlite3_errmsg(db));
    sqlite3_busy_timeout(db, 2000);
    // What a hostile file's schema could do by itself is switched off.
    sqlite3_db_config(db, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
    sqlite3_db_config(db, SQLITE_DBCONFIG_ENABLE_VIEW, 0, nullptr);
    sqlite3_limit(db, SQLITE_LIMIT_LENGTH, 1 << 30);

    RunInfo& info = state->info;
    info.path = path;
    info.fileBytes = std::filesystem::file_size(path, ec);
    Statement version(db, "SELECT value FROM run WHERE key='version'");
    if (!version.step())
        return failure("{0} is not a run, or its beginning is damaged ({1}).", path, sqlite3_errmsg(db));
    if (version.integer(0) > runformat::version)
        return failure("{0} was recorded by a newer version of Cruscotto (format {1}). Update to open it.", path,
                       version.integer(0));
    version = {};
    Statement closed(db, "SELECT value FROM run WHERE key='state'");
    info.closed = closed.step() && closed.string(0) == "closed";

    Statement bench(db, "SELECT json FROM bench ORDER BY rowid DESC LIMIT 1");
    if (bench.step()) {
        BenchReading reading = readBench(bench.string(0));
        if (!reading.bench)
            return failure("{0}: the bench kept in this run does not read: {1}", path,
                           reading.problems.front().english());
        info.bench = std::move(*reading.bench);
    }
    for (Statement s(db, "SELECT at_ns, unix_ns FROM anchor ORDER BY rowid"); s.step();)
        info.anchors.push_back({{s.integer(0)}, s.integer(1)});
    for (Statement s(db, "SELECT id, device, name, rate_hz FROM scan_group ORDER BY id"); s.step();)
        info.groups.push_back({s.integer(0), s.string(1), s.string(2), s.real(3), 0, {}, {}});
    for (Statement s(db, "SELECT id, key, group_id, type FROM signal ORDER BY id"); s.step();) {
        if (s.integer(3) < 0 || s.integer(3) > 5) continue;
        info.signals.push_back({s.integer(0), s.string(1), s.integer(2), static_cast<SampleType>(s.integer(3)), 0, {}});
    }
    std::map<std::int64_t, RunSignal*> byId;
    for (RunSignal& s : info.signals) byId[s.id] = &s;
    for (Statement s(db, "SELECT signal_id, from_ns, json FROM definition ORDER BY rowid"); s.step();) {
        const auto it = byId.find(s.integer(0));
        if (it == byId.end()) continue;
        if (auto spec = signalFromJson(s.string(2)))
            it->second->definitions.push_back({{s.integer(1)}, std::move(spec.value())});
    }
    std::erase_if(info.signals, [](const RunSignal& s) { return s.definitions.empty(); });
    byId.clear();
    for (RunSignal& s : info.signals) byId[s.id] = &s;

    bool any = false;
    for (RunGroup& g : info.groups) {
        Statement s(db, "SELECT n, t0_ns, dt_ns, times FROM block WHERE group_id=? ORDER BY id");
        s.bind(1, g.id);
        bool first = true;
        while (s.step()) {
            const std::int64_t n = s.integer(0);
            if (n <= 0 || n > largestBlock) continue;
            const Instant t0{s.integer(1)};
            Instant end{t0.ns + std::llround(static_cast<double>(n) * s.real(2))};
            if (const auto times = s.blob(3); times.size() >= 8) {
                std::memcpy(&end.ns, times.data() + (times.size() / 8 - 1) * 8, 8);
                end.ns += 1;
            }
            g.samples += static_cast<std::uint64_t>(n);
            if (first) g.span = {t0, end};
            g.span.to = std::max(g.span.to, end);
            first = false;
        }
        if (!first) {
            info.span = any ? Span{std::min(info.span.from, g.span.from), std::max(info.span.to, g.span.to)} : g.span;
            any = true;
        }
    }
    for (Statement s(
             db, "SELECT s.signal_id, sum(b.n) FROM samples s JOIN block b ON b.id = s.block_id GROUP BY s.signal_id");
         s.step();)
        if (const auto it = byId.find(s.integer(0)); it != byId.end())
            it->second->samples = static_cast<std::uint64_t>(s.integer(1));
    for (Statement s(db, "SELECT group_id, from_ns, to_ns, lost, cause FROM gap ORDER BY rowid"); s.step();)
        for (RunGroup& g : info.groups)
            if (g.id == s.integer(0))
                g.gaps.push_back(
                    {{s.integer(1)}, {s.integer(2)}, static_cast<std::uint64_t>(s.integer(3)), s.string(4)});
    for (Statement s(db, "SELECT at_ns, words FROM mark ORDER BY at_ns"); s.step();)
        info.marks.push_back({{s.integer(0)}, s.string(1)});
    for (Statement s(db, "SELECT at_ns, kind, words FROM event ORDER BY at_ns"); s.step();)
        info.events.push_back({{s.integer(0)}, s.string(1), s.string(2)});
    return std::unique_ptr<RunReader>(new RunReader(std::move(state)));
}

struct RunReader::Blocks::State {
    sqlite3* db = nullptr;
    Statement blocks, samples, quality;
    std::shared_ptr<ScanGroup> group;
    std::vector<std::int64_t> signalIds;
    std::vector<SampleType> types;
    std::vector<std::pair<std::uint64_t, Gap>> gaps;  // by the index behind them
    std::uint64_t damaged = 0;
    std::optional<Instant> end;
};

RunReader::Blocks::Blocks(std::unique_ptr<State> state) : state_(std::move(state)) {}
RunReader::Blocks::Blocks(Blocks&&) noexcept = default;
RunReader::Blocks::~Blocks() = default;
std::uint64_t RunReader::Blocks::damaged() const {
    return state_->damaged;
}

RunReader::Blocks RunReader::blocks(std::int64_t group) {
    auto s = std::make_unique<Blocks::State>();
    s->db = state_->db.get();
    s->blocks =
        Statement(s->db, "SELECT id, first_index, n, t0_ns, dt_ns, times FROM block WHERE group_id=? ORDER BY id");
    s->blocks.bind(1, group);
    s->samples = Statement(s->db, "SELECT signal_id, data FROM samples WHERE block_id=?");
    s->quality = Statement(s->db, "SELECT signal_id, begin, end, quality FROM quality WHERE block_id=?");
    s->group = std::make_shared<ScanGroup>();
    for (const RunGroup& g : state_->info.groups)
        if (g.id == group) {
            s->group->device = g.device;
            s->group->name = g.name;
            s->group->rateHz = g.rateHz;
        }
    for (const RunSignal& signal : state_->info.signals)
        if (signal.group == group) {
            s->signalIds.push_back(signal.id);
            s->types.push_back(signal.type);
            s->group->channels.push_back({signal.key, signal.type, signal.current().kind});
        }
    Statement gaps(s->db, "SELECT before_index, from_ns, to_ns, lost, cause FROM gap WHERE group_id=?");
    for (gaps.bind(1, group); gaps.step();)
        s->gaps.push_back(
            {static_cast<std::uint64_t>(gaps.integer(0)),
             {{gaps.integer(1)}, {gaps.integer(2)}, static_cast<std::uint64_t>(gaps.integer(3)), gaps.string(4)}});
    return Blocks(std::move(s));
}

BlockPtr RunReader::Blocks::next() {
    State& s = *state_;
    while (s.blocks.step()) {
        const std::int64_t id = s.blocks.integer(0);
        const std::int64_t n = s.blocks.integer(2);
        auto block = std::make_shared<Block>();
        block->group = s.group;
        block->firstIndex = static_cast<std::uint64_t>(s.blocks.integer(1));
        block->t0 = {s.blocks.integer(3)};
        block->dtNs = s.blocks.real(4);
        const auto times = s.blocks.blob(5);
        const bool unclocked = !s.blocks.isNull(5);
        if (n <= 0 || n > largestBlock || (unclocked && times.size() != static_cast<std::size_t>(n) * 8) ||
            (!unclocked && !(block->dtNs > 0 && block->dtNs < 1e18))) {
            ++s.damaged;
            continue;
        }
        if (unclocked) {
            block->times.resize(static_cast<std::size_t>(n));
            std::memcpy(block->times.data(), times.data(), times.size());
            std::sort(block->times.begin(), block->times.end());
        }
        // A signal that this block does not hold (added or removed while recording) reads as nothing: NaN is not
        // possible in whole numbers, so its column is marked as a gap.
        std::vector<bool> found(s.signalIds.size());
        block->quality.resize(s.signalIds.size());
        for (std::size_t i = 0; i < s.signalIds.size(); ++i) block->columns.push_back(makeSamples(s.types[i], 0));
        bool whole = true;
        for (s.samples.bind(1, id); s.samples.step();) {
            const auto it = std::find(s.signalIds.begin(), s.signalIds.end(), s.samples.integer(0));
            if (it == s.signalIds.end()) continue;
            const auto i = static_cast<std::size_t>(it - s.signalIds.begin());
            const auto data = s.samples.blob(1);
            if (data.size() != static_cast<std::size_t>(n) * sampleBytes(s.types[i])) {
                whole = false;
                continue;
            }
            block->columns[i] = makeSamples(s.types[i], static_cast<std::size_t>(n));
            std::visit([&](auto& v) { std::memcpy(v.data(), data.data(), data.size()); }, block->columns[i]);
            found[i] = true;
        }
        s.samples.reset();
        if (!whole) ++s.damaged;
        for (s.quality.bind(1, id); s.quality.step();) {
            const auto it = std::find(s.signalIds.begin(), s.signalIds.end(), s.quality.integer(0));
            const std::int64_t begin = s.quality.integer(1), end = s.quality.integer(2), q = s.quality.integer(3);
            if (it == s.signalIds.end() || begin < 0 || end > n || begin >= end || q < 0 || q > 5) continue;
            block->quality[static_cast<std::size_t>(it - s.signalIds.begin())].push_back(
                {static_cast<std::size_t>(begin), static_cast<std::size_t>(end), static_cast<Quality>(q)});
        }
        s.quality.reset();
        for (std::size_t i = 0; i < found.size(); ++i)
            if (!found[i]) {
                block->columns[i] =
                    std::vector<double>(static_cast<std::size_t>(n), std::numeric_limits<double>::quiet_NaN());
                block->quality[i] = {{0, static_cast<std::size_t>(n), Quality::gap}};
            }
        if (block->columns.empty()) continue;
        for (const auto& [before, gap] : s.gaps)
            if (before == block->firstIndex) block->gapBefore = gap;
        // A file that jumps back in time is damaged; time never does.
        if (s.end && block->timeOf(0) < *s.end - nanoseconds(2)) {
            ++s.damaged;
            continue;
        }
        s.end = block->timeOf(static_cast<std::size_t>(n) - 1);
        return block;
    }
    return nullptr;
}

std::vector<Bucket> RunReader::summaries(std::int64_t signal, int level) {
    std::vector<Bucket> out;
    Statement s(state_->db.get(), "SELECT data FROM pyramid WHERE signal_id=? AND level=? ORDER BY first_bucket");
    s.bind(1, signal).bind(2, static_cast<std::int64_t>(level));
    while (s.step()) {
        const auto buckets = runformat::unpackBuckets(s.blob(0));
        out.insert(out.end(), buckets.begin(), buckets.end());
    }
    return out;
}

struct RunReplay::State {
    RunReader::Blocks blocks;
    std::vector<const RunSignal*> signals;
    struct Column {
        std::size_t definition = 0;
        std::optional<ChainEvaluator> evaluator;
    };
    std::vector<Column> columns;
};

RunReplay::RunReplay(RunReader& reader, std::int64_t group) : state_(new State{reader.blocks(group), {}, {}}) {
    for (const RunSignal& s : reader.info().signals)
        if (s.group == group) state_->signals.push_back(&s);
    state_->columns.resize(state_->signals.size());
}
RunReplay::~RunReplay() = default;
RunReplay::RunReplay(RunReplay&&) noexcept = default;

const std::vector<const RunSignal*>& RunReplay::signals() const {
    return state_->signals;
}
std::uint64_t RunReplay::damagedBlocks() const {
    return state_->blocks.damaged();
}

bool RunReplay::next(Step& step) {
    step.block = state_->blocks.next();
    if (!step.block) return false;
    step.readings.resize(state_->signals.size());
    for (std::size_t i = 0; i < state_->signals.size(); ++i) {
        const auto& definitions = state_->signals[i]->definitions;
        State::Column& c = state_->columns[i];
        // Blocks never straddle a change: the writer ends one where a definition begins.
        std::size_t holds = c.definition;
        while (holds + 1 < definitions.size() && definitions[holds + 1].first <= step.block->timeOf(0)) ++holds;
        if (!c.evaluator || holds != c.definition) {
            const bool sameChain =
                c.evaluator && definitions[holds].second.chain == definitions[c.definition].second.chain;
            c.definition = holds;
            if (!sameChain) {
                auto made = ChainEvaluator::make(definitions[holds].second.chain, definitions[holds].second.kind);
                if (!made) made = ChainEvaluator::make({}, definitions[holds].second.kind);
                c.evaluator.emplace(std::move(made.value()));
            }
        }
        c.evaluator->process(*step.block, i, step.readings[i]);
    }
    return true;
}

}  // namespace cruscotto

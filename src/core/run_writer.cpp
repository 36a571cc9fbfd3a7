// Layout: docs/run-format.md. Everything here is frozen once a version has been released; add, do not change.
#include "core/run_writer.h"

#include <sys/stat.h>
#include <unistd.h>

#include <deque>
#include <functional>
#include <map>

#include "core/pyramid.h"
#include "core/run_format.h"
#include "core/sqlite.h"

namespace cruscotto {

using sqlite::Statement;

namespace {

struct PendingColumn {
    std::int64_t signal = 0;
    Samples samples;
    std::vector<QualityInterval> quality;  // counted from the pending block's first sample
};

/// Blocks of one group that follow each other without a gap, joined until the next commit.
struct PendingBlock {
    std::int64_t group = 0;
    std::uint64_t firstIndex = 0;
    std::size_t n = 0;
    Instant t0;
    double dtNs = 0;
    std::vector<Instant> times;
    std::vector<PendingColumn> columns;
    std::optional<Gap> gapBefore;
    bool open = true;
    [[nodiscard]] std::size_t bytes() const {
        std::size_t sum = times.size() * sizeof(Instant) + 128;
        for (const auto& c : columns) sum += bytesOf(c.samples).size() + 64;
        return sum;
    }
    [[nodiscard]] Instant end() const {
        return times.empty() ? Instant{t0.ns + std::llround(static_cast<double>(n) * dtNs)} : times.back();
    }
};

void join(Samples& to, const Samples& from) {
    std::visit(
        [&](auto& a) {
            using V = std::decay_t<decltype(a)>;
            if (const auto* b = std::get_if<V>(&from)) a.insert(a.end(), b->begin(), b->end());
        },
        to);
}

}  // namespace

struct RunWriter::State {
    sqlite::Database db;
    std::string path;
    std::map<const ScanGroup*, std::int64_t> groups;
    std::map<std::pair<std::string, std::string>, std::int64_t> groupNames;
    std::vector<std::shared_ptr<const ScanGroup>> keep;  // so that no address is used twice
    std::map<std::pair<std::string, std::int64_t>, std::int64_t> signals;
    std::map<std::string, std::string> definitions;
    std::map<std::string, Instant> definedFrom;
    struct Pyramid {
        PyramidBuilder builder;
        std::array<std::vector<Bucket>, pyramidLevels> pending;
        std::array<std::uint64_t, pyramidLevels> next{};
    };
    std::map<std::int64_t, Pyramid> pyramids;
    std::deque<PendingBlock> pending;
    std::map<std::int64_t, PendingBlock*> openBlocks;
    std::deque<std::function<bool()>> rows;  // small rows, in order; run inside the next commit
    std::size_t pendingBytes = 0;
    std::uint64_t samplesWritten = 0;
    std::uint64_t bytesOnDisk = 0;
    Statement insertBlock, insertSamples, insertQuality, insertGap, insertPyramid;

    [[nodiscard]] Error failed(const char* what) const {
        return failure("{0}: {1} ({2}).", path, what, sqlite3_errmsg(db.get()));
    }

    template <class... V>
    void row(const char* sql, V... values) {
        rows.push_back([this, sql, values...] {
            Statement s(db.get(), sql);
            int i = 0;
            (s.bind(++i, values), ...);
            return s.run();
        });
    }

    std::int64_t groupId(const std::shared_ptr<const ScanGroup>& group) {
        if (const auto it = groups.find(group.get()); it != groups.end()) return it->second;
        auto [named, fresh] =
            groupNames.try_emplace({group->device, group->name}, static_cast<std::int64_t>(groupNames.size() + 1));
        if (fresh)
            row("INSERT INTO scan_group VALUES (?,?,?,?)", named->second, group->device, group->name, group->rateHz);
        keep.push_back(group);
        return groups[group.get()] = named->second;
    }

    std::int64_t signalId(const std::string& signal, std::int64_t group, SampleType type) {
        auto [it, fresh] = signals.try_emplace({signal, group}, static_cast<std::int64_t>(signals.size() + 1));
        if (fresh) {
            row("INSERT INTO signal VALUES (?,?,?,?)", it->second, signal, group, static_cast<std::int64_t>(type));
            if (const auto d = definitions.find(signal); d != definitions.end())
                row("INSERT INTO definition VALUES (?,?,?)", it->second, definedFrom[signal].ns, d->second);
        }
        return it->second;
    }

    bool writeBlock(const PendingBlock& b) {
        insertBlock.bind(1, b.group)
            .bind(2, static_cast<std::int64_t>(b.firstIndex))
            .bind(3, static_cast<std::int64_t>(b.n));
        insertBlock.bind(4, b.t0.ns).bind(5, b.dtNs);
        if (b.times.empty())
            insertBlock.bindNull(6);
        else
            insertBlock.bind(6, std::as_bytes(std::span(b.times)));
        if (!insertBlock.run()) return false;
        const std::int64_t id = sqlite3_last_insert_rowid(db.get());
        for (const PendingColumn& c : b.columns) {
            if (!insertSamples.bind(1, id).bind(2, c.signal).bind(3, bytesOf(c.samples)).run()) return false;
            for (const QualityInterval& q : c.quality)
                if (!insertQuality.bind(1, id)
                         .bind(2, c.signal)
                         .bind(3, static_cast<std::int64_t>(q.begin))
                         .bind(4, static_cast<std::int64_t>(q.end))
                         .bind(5, static_cast<std::int64_t>(q.quality))
                         .run())
                    return false;
        }
        if (b.gapBefore) {
            const Gap& g = *b.gapBefore;
            insertGap.bind(1, b.group)
                .bind(2, static_cast<std::int64_t>(b.firstIndex))
                .bind(3, g.from.ns)
                .bind(4, g.to.ns);
            if (!insertGap.bind(5, static_cast<std::int64_t>(g.lostSamples)).bind(6, g.cause).run()) return false;
        }
        return true;
    }

    bool writePyramids() {
        for (auto& [signal, pyramid] : pyramids)
            for (std::size_t l = 0; l < pyramid.pending.size(); ++l) {
                const auto& buckets = pyramid.pending[l];
                if (buckets.empty()) continue;
                const std::vector<std::byte> data = runformat::packBuckets(buckets);
                if (!insertPyramid.bind(1, signal)
                         .bind(2, static_cast<std::int64_t>(l + 1))
                         .bind(3, static_cast<std::int64_t>(pyramid.next[l]))
                         .bind(4, static_cast<std::int64_t>(buckets.size()))
                         .bind(5, std::span<const std::byte>(data))
                         .run())
                    return false;
            }
        return true;
    }
};

RunWriter::RunWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
RunWriter::~RunWriter() = default;

Result<std::unique_ptr<RunWriter>> RunWriter::create(const std::string& path, const Bench& bench, WallAnchor start) {
    struct stat found {};
    if (::stat(path.c_str(), &found) == 0)
        return failure("{0} is there already, and a recording never overwrites one. Choose another name.", path);
    auto state = std::make_unique<State>();
    state->path = path;
    sqlite3* raw = nullptr;
    const int opened =
        sqlite3_open_v2(path.c_str(), &raw, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX, nullptr);
    state->db.reset(raw);
    sqlite3_busy_timeout(raw, 1500);  // somebody who reads the run, even now, lets go of it again
    if (opened != SQLITE_OK || !sqlite::execute(raw, runformat::schema)) {
        const Error error =
            failure("{0} cannot be written ({1}). Is the folder there, may you write to it, and is there room?", path,
                    sqlite3_errmsg(raw));
        if (opened == SQLITE_OK) std::remove(path.c_str());  // it was not there before
        return error;
    }
    state->insertBlock =
        Statement(raw, "INSERT INTO block(group_id,first_index,n,t0_ns,dt_ns,times) VALUES (?,?,?,?,?,?)");
    state->insertSamples = Statement(raw, "INSERT INTO samples(block_id,signal_id,data) VALUES (?,?,?)");
    state->insertQuality = Statement(raw, "INSERT INTO quality VALUES (?,?,?,?,?)");
    state->insertGap = Statement(raw, "INSERT INTO gap VALUES (?,?,?,?,?,?)");
    state->insertPyramid = Statement(raw, "INSERT INTO pyramid VALUES (?,?,?,?,?)");
    auto writer = std::unique_ptr<RunWriter>(new RunWriter(std::move(state)));
    writer->state_->row("INSERT INTO run VALUES ('bench',?)", bench.name);
    writer->state_->row("INSERT INTO run VALUES ('start_ns',?)", start.at.ns);
    writer->addBench(bench, start.at);
    writer->addAnchor(start);
    for (const auto& signal : bench.signals) writer->define(*signal, start.at);
    if (auto committed = writer->commit(); !committed) return committed.error();
    return writer;
}

void RunWriter::add(const BlockPtr& block, const std::vector<RecordedColumn>& columns) {
    State& s = *state_;
    if (columns.empty() || block->size() == 0) return;
    const std::int64_t group = s.groupId(block->group);
    PendingBlock*& open = s.openBlocks[group];
    const bool clocked = block->times.empty();
    const bool goesOn =
        open && open->open && !block->gapBefore && open->columns.size() == columns.size() &&
        open->firstIndex + open->n == block->firstIndex &&
        (!clocked || (open->dtNs == block->dtNs && std::llabs(open->end().ns - block->t0.ns) <= 1)) &&
        std::equal(columns.begin(), columns.end(), open->columns.begin(), [&](const auto& a, const auto& b) {
            return s.signalId(a.signal, group, typeOf(block->columns[a.column])) == b.signal;
        });
    if (!goesOn) {
        if (open) open->open = false;
        s.pending.push_back({});
        open = &s.pending.back();
        open->group = group;
        open->firstIndex = block->firstIndex;
        open->t0 = block->timeOf(0);
        open->dtNs = block->dtNs;
        open->gapBefore = block->gapBefore;
        for (const RecordedColumn& c : columns)
            open->columns.push_back({s.signalId(c.signal, group, typeOf(block->columns[c.column])),
                                     makeSamples(typeOf(block->columns[c.column]), 0),
                                     {}});
        s.pendingBytes += open->bytes();
    }
    open->times.insert(open->times.end(), block->times.begin(), block->times.end());
    for (std::size_t i = 0; i < columns.size(); ++i) {
        PendingColumn& to = open->columns[i];
        const Samples& from = block->columns[columns[i].column];
        join(to.samples, from);
        s.pendingBytes += bytesOf(from).size();
        if (columns[i].column < block->quality.size())
            for (const QualityInterval& q : block->quality[columns[i].column])
                to.quality.push_back({q.begin + open->n, q.end + open->n, q.quality});
        auto& pyramid = s.pyramids[to.signal];
        if (const Readings* readings = columns[i].readings.get())
            for (std::size_t k = 0; k < readings->values.size(); ++k)
                pyramid.builder.add(block->timeOf(k), readings->values[k], [&](int level, const Bucket& bucket) {
                    pyramid.pending[static_cast<std::size_t>(level - 1)].push_back(bucket);
                });
    }
    s.pendingBytes += block->times.size() * sizeof(Instant);
    open->n += block->size();
}

void RunWriter::define(const SignalSpec& signal, Instant from) {
    State& s = *state_;
    std::string json = signalToJson(signal);
    std::string& known = s.definitions[signal.id];
    if (known == json) return;
    known = std::move(json);
    s.definedFrom[signal.id] = from;
    for (const auto& [key, id] : s.signals) {
        if (key.first != signal.id) continue;
        if (PendingBlock* open = s.openBlocks[key.second]) open->open = false;
        s.row("INSERT INTO definition VALUES (?,?,?)", id, from.ns, known);
    }
}

void RunWriter::addBench(const Bench& bench, Instant at) {
    state_->row("INSERT INTO bench VALUES (?,?)", at.ns, writeBench(bench));
}
void RunWriter::addAnchor(WallAnchor anchor) {
    state_->row("INSERT INTO anchor VALUES (?,?)", anchor.at.ns, anchor.unixNs);
}
void RunWriter::addEvent(Instant at, const std::string& kind, const std::string& words) {
    state_->row("INSERT INTO event VALUES (?,?,?)", at.ns, kind, words);
}
void RunWriter::addMark(Instant at, const std::string& words) {
    state_->row("INSERT INTO mark(at_ns,words) VALUES (?,?)", at.ns, words);
}

std::size_t RunWriter::pendingBytes() const {
    return state_->pendingBytes;
}
std::uint64_t RunWriter::bytesOnDisk() const {
    return state_->bytesOnDisk;
}
std::uint64_t RunWriter::samplesWritten() const {
    return state_->samplesWritten;
}

Result<void> RunWriter::commit() {
    State& s = *state_;
    sqlite3* db = s.db.get();
    if (s.pending.empty() && s.rows.empty()) return {};
    if (!sqlite::execute(db, "BEGIN IMMEDIATE")) return s.failed("nothing can be written");
    bool ok = true;
    for (auto& row : s.rows) ok = ok && row();
    for (const PendingBlock& b : s.pending) ok = ok && s.writeBlock(b);
    ok = ok && s.writePyramids();
    if (!ok || !sqlite::execute(db, "COMMIT")) {
        const Error error = s.failed("nothing can be written");
        sqlite::execute(db, "ROLLBACK");
        return error;
    }
    for (const PendingBlock& b : s.pending) s.samplesWritten += b.n * b.columns.size();
    for (auto& [signal, pyramid] : s.pyramids)
        for (std::size_t l = 0; l < pyramid.pending.size(); ++l) {
            pyramid.next[l] += pyramid.pending[l].size();
            pyramid.pending[l].clear();
        }
    s.rows.clear();
    s.pending.clear();
    s.openBlocks.clear();
    s.pendingBytes = 0;
    struct stat found {};
    if (::stat(s.path.c_str(), &found) == 0) s.bytesOnDisk = static_cast<std::uint64_t>(found.st_size);
    return {};
}

std::uint64_t RunWriter::dropPending(const std::string& cause) {
    State& s = *state_;
    std::uint64_t lost = 0;
    struct Dropped {
        Instant from, to;
        std::uint64_t before = 0, n = 0;
    };
    std::map<std::int64_t, Dropped> dropped;
    for (const PendingBlock& b : s.pending) {
        lost += b.n * b.columns.size();
        auto [it, fresh] = dropped.try_emplace(b.group, Dropped{b.t0, b.end(), 0, 0});
        it->second.to = b.end();
        it->second.before = b.firstIndex + b.n;
        it->second.n += b.n;
    }
    for (const auto& [group, d] : dropped)
        s.row("INSERT INTO gap VALUES (?,?,?,?,?,?)", group, static_cast<std::int64_t>(d.before), d.from.ns, d.to.ns,
              static_cast<std::int64_t>(d.n), cause);
    s.pending.clear();
    s.openBlocks.clear();
    s.pendingBytes = 0;
    return lost;
}

Result<void> RunWriter::close() {
    state_->row("INSERT OR REPLACE INTO run VALUES ('state',?)", std::string("closed"));
    auto committed = commit();
    // Back to the mode that leaves no empty journal beside a run that was closed in order.
    if (committed) sqlite::execute(state_->db.get(), "PRAGMA journal_mode = DELETE");
    return committed;
}

}  // namespace cruscotto

// Layout: docs/run-format.md. Everything here is frozen once a version has been released; add, do not change.
#include "core/run/run_writer.h"

#include <fmt/ranges.h>
#include <sys/stat.h>

#include <deque>
#include <functional>
#include <list>
#include <map>

#include "core/base/new_file.h"
#include "core/bench/keep.h"
#include "core/run/pending_block.h"
#include "core/run/run_file.h"
#include "core/run/run_format.h"

namespace cruscotto {

using sqlite::Statement;

namespace {

/// A block that takes less than this is written again, longer, by the next commit that has more of its samples: slow
/// signals would otherwise pay for a row of each table every time.
constexpr std::size_t growBytes = 2048;
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
    RunFile file;
    std::map<const ScanGroup*, std::int64_t> groups;
    std::map<std::pair<std::string, std::string>, std::int64_t> groupNames;
    std::vector<std::shared_ptr<const ScanGroup>> keep;  // so that no address is used twice
    std::map<std::pair<std::string, std::int64_t>, std::int64_t> signals;
    /// The run's own count of a group's samples. It goes on where a device that was made anew begins its count again,
    /// so that a number names one sample only.
    struct Numbers {
        bool any = false;
        std::uint64_t expected = 0, next = 0;
        /// The number of the sample that the device calls so; what it left out is counted.
        std::uint64_t begin(std::uint64_t first) {
            if (!std::exchange(any, true))
                next = first;
            else if (first > expected)
                next += first - expected;
            expected = first;
            return next;
        }
        void end(std::uint64_t first, std::uint64_t n) {
            expected = first + n;
            next += n;
        }
        [[nodiscard]] std::int64_t now() const { return static_cast<std::int64_t>(next); }
    };
    std::map<std::int64_t, Numbers> numbers;  // by group
    struct Layout {
        std::int64_t id = 0;
        std::int64_t group = 0;
        std::vector<std::int64_t> signals;
    };
    std::map<std::vector<std::int64_t>, Layout> layouts;  // by group and signals
    std::map<std::int64_t, const Layout*> layoutById;
    struct Seen {
        RecordedColumns columns;  // so that no address is used twice
        const Layout* layout = nullptr;
    };
    std::map<std::pair<std::int64_t, const void*>, Seen> seenColumns;  // by group and columns
    std::map<std::string, std::string> definitions;
    std::map<std::int64_t, RecordedColumns> defined;  // by group: those whose definitions are the last
    std::optional<Bench> bench;                       // as it is now
    Instant benchFrom;
    std::map<std::string, Instant> definedFrom;
    std::map<std::int64_t, Instant> firstSample;                          // by signal
    std::map<std::pair<std::int64_t, int>, std::vector<Bucket>> buckets;  // by signal and level, not yet on disk
    std::list<PendingBlock> pending;  // those with samples that are not on disk, and those that may yet grow
    std::map<std::int64_t, PendingBlock*> openBlocks;  // by group
    std::deque<std::function<bool(sqlite3*)>> rows;    // small rows, in order; run inside the next commit
    std::size_t pendingBytes = 0;
    std::uint64_t samplesWritten = 0;
    std::vector<std::byte> data;  // of a block that is written while it may yet grow
    Statement insertBlock, growBlock, insertQuality, dropQuality, insertGap, insertPyramid;
    std::unique_ptr<BlockPacker> packer;  // where samples come fast; goes before what it packs

    explicit State(std::string path) : file(std::move(path)) {}

    void prepare() {
        sqlite3* raw = file.db();
        insertBlock =
            Statement(raw, "INSERT INTO block(layout_id,first_index,n,t0_ns,end_ns,dt_ns,data) VALUES (?,?,?,?,?,?,?)");
        growBlock = Statement(raw, "UPDATE block SET n=?, end_ns=?, data=? WHERE id=?");
        dropQuality = Statement(raw, "DELETE FROM quality WHERE block_id=?");
        insertQuality = Statement(raw, "INSERT INTO quality VALUES (?,?,?,?,?)");
        insertGap = Statement(raw, "INSERT INTO gap VALUES (?,?,?,?,?,?,?)");
        insertPyramid = Statement(raw, "INSERT INTO pyramid VALUES (?,?,?)");
    }

    Result<void> writeAnew() {
        for (Statement* s : {&insertBlock, &growBlock, &dropQuality, &insertQuality, &insertGap, &insertPyramid})
            *s = {};
        auto written = file.writeAnew();
        prepare();
        return written;
    }

    template <class... V>
    void row(const char* sql, V... values) {
        rows.push_back([sql, values...](sqlite3* db) {
            Statement s(db, sql);
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
                row("INSERT INTO definition VALUES (?,?,?,?)", it->second, numbers[group].now(), definedFrom[signal].ns,
                    d->second);
        }
        return it->second;
    }

    const Layout& layoutFor(const Block& block, std::int64_t group, const RecordedColumns& columns) {
        constexpr std::size_t mostSeen = 4096;
        if (seenColumns.size() > mostSeen) seenColumns.clear();
        Seen& seen = seenColumns[{group, columns.get()}];
        if (seen.layout) return *seen.layout;
        std::vector<std::int64_t> key{group};
        for (const RecordedColumn& c : *columns)
            key.push_back(signalId(c.signal, group, typeOf(block.columns[c.column])));
        auto [it, fresh] = layouts.try_emplace(key);
        Layout& layout = it->second;
        seen = {columns, &layout};
        if (fresh) {
            layout.id = static_cast<std::int64_t>(layouts.size());
            layout.group = group;
            layout.signals.assign(key.begin() + 1, key.end());
            layoutById[layout.id] = &layout;
            for (const std::int64_t signal : layout.signals) firstSample.try_emplace(signal, block.timeOf(0));
            row("INSERT INTO layout VALUES (?,?,?)", layout.id, group,
                fmt::format("[{}]", fmt::join(layout.signals, ",")));
        }
        return layout;
    }

    /// It can take no more samples.
    void complete(PendingBlock& b) {
        b.open = false;
        // Small ones are packed sooner than handed over.
        if (b.bytes() < runformat::blockBytes) return;
        if (!packer) packer = std::make_unique<BlockPacker>();
        b.handedOver = true;
        packer->add(b);
    }

    const std::vector<std::byte>& storedFormOf(const PendingBlock& b) {
        if (b.handedOver) {
            packer->waitFor(b);
            return b.packed;
        }
        storedForm(b, data);
        return data;
    }

    bool writeBlock(PendingBlock& b) {
        const std::span<const std::byte> stored = storedFormOf(b);
        const Layout& layout = *layoutById[b.layout];
        const std::int64_t end = b.clocked() ? b.end().ns : b.end().ns + 1;
        const bool fresh = b.id == 0;
        if (fresh) {
            insertBlock.bind(1, b.layout)
                .bind(2, static_cast<std::int64_t>(b.firstIndex))
                .bind(3, static_cast<std::int64_t>(b.n))
                .bind(4, b.t0.ns)
                .bind(5, end);
            if (b.clocked())
                insertBlock.bind(6, b.dtNs);
            else
                insertBlock.bindNull(6);
            if (!insertBlock.bind(7, stored).run()) return false;
            b.id = sqlite3_last_insert_rowid(file.db());
        } else {
            growBlock.bind(1, static_cast<std::int64_t>(b.n)).bind(2, end).bind(3, stored);
            if (!growBlock.bind(4, b.id).run()) return false;
            if (!dropQuality.bind(1, b.id).run()) return false;
        }
        for (std::size_t c = 0; c < b.quality.size(); ++c)
            for (const QualityInterval& q : b.quality[c])
                if (!insertQuality.bind(1, b.id)
                         .bind(2, layout.signals[c])
                         .bind(3, static_cast<std::int64_t>(q.begin))
                         .bind(4, static_cast<std::int64_t>(q.end))
                         .bind(5, static_cast<std::int64_t>(q.quality))
                         .run())
                    return false;
        if (fresh && b.gapBefore) {
            const Gap& g = *b.gapBefore;
            insertGap.bind(1, layout.group)
                .bind(2, static_cast<std::int64_t>(b.firstIndex))
                .bind(3, g.from.ns)
                .bind(4, g.to.ns);
            insertGap.bind(5, static_cast<std::int64_t>(g.lostSamples)).bind(6, static_cast<std::int64_t>(g.quality));
            if (!insertGap.bind(7, g.cause).run()) return false;
        }
        return true;
    }

    /// One transaction with everything that is pending.
    Result<void> writeAll() {
        errno = 0;
        if (!sqlite::execute(file.db(), "BEGIN IMMEDIATE")) return file.failed("nothing can be written");
        std::vector<PendingBlock*> fresh;
        bool ok = true;
        for (auto& row : rows) ok = ok && row(file.db());
        for (PendingBlock& b : pending) {
            if (b.n == b.written) continue;
            if (b.id == 0) fresh.push_back(&b);
            ok = ok && writeBlock(b);
        }
        ok = ok && writePyramids();
        if (ok && sqlite::execute(file.db(), "COMMIT")) return {};
        const Error error = file.failed("nothing can be written");
        sqlite::execute(file.db(), "ROLLBACK");
        for (PendingBlock* b : fresh) b->id = 0;
        return error;
    }

    bool writePyramids() {
        for (const auto& [key, list] : buckets) {
            if (list.empty()) continue;
            const std::vector<std::byte> packed = runformat::packBuckets(list);
            if (!insertPyramid.bind(1, key.first)
                     .bind(2, static_cast<std::int64_t>(key.second))
                     .bind(3, std::span<const std::byte>(packed))
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
    if (::lstat(path.c_str(), &found) == 0)
        return failure("{0} is there already, and a recording never overwrites one. Choose another name.", path);
    // Under a name of its own until it is a run, so that whoever is killed meanwhile leaves none that does not open.
    auto file = NewFile::create(path, NewFile::Existing::refuse);
    if (!file) return file.error();
    auto writer = std::unique_ptr<RunWriter>(new RunWriter(std::make_unique<State>(path)));
    State& s = *writer->state_;
    const auto failed = [&](sqlite3* db) {
        return failure("{0} cannot be written ({1}). Is the folder there, may you write to it, and is there room?",
                       path, sqlite::problemOf(db));
    };
    sqlite::Database first;
    if (RunFile::open(file.value().temporaryPath(), first) != SQLITE_OK ||
        !sqlite::execute(first.get(), runformat::pages) || !sqlite::execute(first.get(), runformat::schema))
        return failed(first.get());
    s.row("INSERT INTO run VALUES ('bench',?)", bench.name);
    s.row("INSERT INTO run VALUES ('start_ns',?)", start.at.ns);
    for (const auto& [key, words] : runNoteKeys)
        if (const std::string& said = bench.recording.notes.*words; !said.empty())
            s.row("INSERT INTO run VALUES (?,?)", std::string(key), said);
    writer->addBench(bench, start.at);
    writer->addAnchor(start);
    for (const auto& signal : bench.signals)
        for (const SignalSpec& spec : asRecorded(*signal)) writer->define(spec, start.at);
    s.bench.reset();  // no edit yet
    bool ok = sqlite::execute(first.get(), "BEGIN");
    for (auto& row : s.rows) ok = ok && row(first.get());
    if (!ok || !sqlite::execute(first.get(), "COMMIT")) return failed(first.get());
    s.rows.clear();
    first.reset();
    if (auto put = file.value().put(); !put) return put.error();
    if (auto begun = s.file.begin(); !begun) return failed(s.file.db());
    s.prepare();
    return writer;
}

void RunWriter::add(const BlockPtr& block, std::vector<RecordedColumn> columns,
                    const std::vector<RecordedBucket>& buckets) {
    add(block, std::make_shared<const std::vector<RecordedColumn>>(std::move(columns)), buckets);
}

void RunWriter::add(const BlockPtr& block, const RecordedColumns& recorded,
                    const std::vector<RecordedBucket>& buckets) {
    State& s = *state_;
    const std::vector<RecordedColumn>& columns = *recorded;
    if (columns.empty() || block->size() == 0) return;
    const std::int64_t group = s.groupId(block->group);
    State::Numbers& numbers = s.numbers[group];
    const std::uint64_t first = numbers.begin(block->firstIndex);
    if (s.defined[group] != recorded) {
        s.defined[group] = recorded;
        for (const RecordedColumn& c : columns)
            if (c.spec) define(*c.spec, block->timeOf(0));
    }
    const State::Layout& layout = s.layoutFor(*block, group, recorded);
    PendingBlock*& open = s.openBlocks[group];
    const bool clocked = block->times.empty();
    const bool goesOn = open && open->open && !block->gapBefore && open->layout == layout.id &&
                        open->firstIndex + open->n == first && open->clocked() == clocked &&
                        (!clocked || (open->dtNs == block->dtNs && std::llabs(open->end().ns - block->t0.ns) <= 1));
    if (!goesOn) {
        if (open) open->open = false;
        open = &s.pending.emplace_back();
        open->layout = layout.id;
        open->firstIndex = first;
        open->t0 = block->timeOf(0);
        open->dtNs = block->dtNs;
        open->gapBefore = block->gapBefore;
        std::size_t rowBytes = 0;
        for (const RecordedColumn& c : columns) rowBytes += sampleBytes(typeOf(block->columns[c.column]));
        const std::size_t room = std::min(block->size() * 64, runformat::blockBytes / rowBytes + block->size());
        for (const RecordedColumn& c : columns) {
            open->columns.push_back(makeSamples(typeOf(block->columns[c.column]), 0));
            std::visit([&](auto& v) { v.reserve(room); }, open->columns.back());
        }
        open->quality.resize(columns.size());
        open->counted = countedOf(columns);
        s.pendingBytes += 256;
    }
    open->times.insert(open->times.end(), block->times.begin(), block->times.end());
    for (std::size_t i = 0; i < columns.size(); ++i) {
        const Samples& from = block->columns[columns[i].column];
        join(open->columns[i], from);
        s.pendingBytes += bytesOf(from).size();
        if (columns[i].column < block->quality.size())
            for (const QualityInterval& q : block->quality[columns[i].column])
                open->quality[i].push_back({q.begin + open->n, q.end + open->n, q.quality});
    }
    s.pendingBytes += block->times.size() * sizeof(Instant);
    open->n += block->size();
    numbers.end(block->firstIndex, block->size());
    if (open->bytes() >= runformat::blockBytes) s.complete(*open);
    for (const RecordedBucket& b : buckets) {
        const std::int64_t signal = layout.signals[b.index];
        if (b.finished.level < runformat::firstStoredLevel || b.finished.bucket.begin < s.firstSample[signal]) continue;
        s.buckets[{signal, b.finished.level}].push_back(b.finished.bucket);
        s.pendingBytes += sizeof(Bucket);
    }
}

void RunWriter::addLost(const LostSamples& lost) {
    State& s = *state_;
    const std::int64_t group = s.groupId(lost.group);
    State::Numbers& numbers = s.numbers[group];
    numbers.begin(lost.firstIndex);
    for (const auto& [signal, type] : lost.signals) s.signalId(signal, group, type);
    if (PendingBlock* open = s.openBlocks[group]) open->open = false;
    numbers.end(lost.firstIndex, lost.n);
    s.row("INSERT INTO gap VALUES (?,?,?,?,?,?,?)", group, numbers.now(), lost.span.from.ns, lost.span.to.ns,
          static_cast<std::int64_t>(lost.n), static_cast<std::int64_t>(Quality::gap), lost.cause);
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
        s.row("INSERT INTO definition VALUES (?,?,?,?)", id, s.numbers[key.second].now(), from.ns, known);
    }
}

void RunWriter::addBench(const Bench& bench, Instant at) {
    state_->row("INSERT INTO bench VALUES (?,?)", at.ns, writeBench(bench));
    state_->bench = bench;
    state_->benchFrom = at;
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
    return state_->file.bytesOnDisk();
}
std::size_t countedOf(const std::vector<RecordedColumn>& columns) {
    return static_cast<std::size_t>(std::ranges::count(columns, false, &RecordedColumn::beside));
}

std::uint64_t RunWriter::samplesWritten() const {
    return state_->samplesWritten;
}

Result<void> RunWriter::commit() {
    State& s = *state_;
    if (s.rows.empty() && std::all_of(s.pending.begin(), s.pending.end(), [](auto& b) { return b.n == b.written; }))
        return {};
    if (s.file.removed())
        if (auto again = s.writeAnew(); !again) return again;
    if (auto written = s.writeAll(); !written) return written;
    for (auto b = s.pending.begin(); b != s.pending.end();) {
        s.samplesWritten += (b->n - b->written) * b->counted;
        b->written = b->n;
        const bool grows = b->open && b->bytes() < growBytes;
        if (grows) {
            ++b;
            continue;
        }
        if (PendingBlock*& open = s.openBlocks[s.layoutById[b->layout]->group]; open == &*b) open = nullptr;
        if (b->handedOver) s.packer->reuse(std::move(b->packed));
        b = s.pending.erase(b);
    }
    for (auto& [key, list] : s.buckets) list.clear();
    s.rows.clear();
    s.pendingBytes = 0;
    s.file.committed();
    return {};
}

std::optional<Error> RunWriter::trouble() const {
    return state_->file.trouble();
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
        if (b.handedOver) s.packer->waitFor(b);
        const std::size_t n = b.n - b.written;
        if (n == 0) continue;
        lost += n * b.counted;
        auto [it, fresh] =
            dropped.try_emplace(s.layoutById[b.layout]->group, Dropped{b.timeOf(b.written), b.end(), 0, 0});
        it->second.to = b.end();
        it->second.before = b.firstIndex + b.n;
        it->second.n += n;
    }
    for (const auto& [group, d] : dropped)
        s.row("INSERT INTO gap VALUES (?,?,?,?,?,?,?)", group, static_cast<std::int64_t>(d.before), d.from.ns, d.to.ns,
              static_cast<std::int64_t>(d.n), static_cast<std::int64_t>(Quality::gap), cause);
    s.pending.clear();
    s.openBlocks.clear();
    s.buckets.clear();
    s.pendingBytes = 0;
    return lost;
}

Result<void> RunWriter::close() {
    if (state_->bench)
        for (const auto& signal : state_->bench->signals)
            for (const SignalSpec& spec : asRecorded(*signal)) define(spec, state_->benchFrom);
    state_->row("INSERT OR REPLACE INTO run VALUES ('state',?)", std::string("closed"));
    state_->file.stopSettling();
    auto committed = commit();
    if (committed) state_->file.endLog();
    return committed;
}

}  // namespace cruscotto

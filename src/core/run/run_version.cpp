#include "core/run/run_version.h"

#include <algorithm>
#include <array>
#include <map>

#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/keep.h"
#include "core/run/run_format.h"
#include "core/run/run_recompute.h"
#include "core/run/run_replay.h"
#include "core/run/sqlite.h"

namespace cruscotto {

namespace {

/// A signal of the run with what its samples read as in the new version.
struct Reworked {
    const RunSignal* signal = nullptr;
    SignalSpec spec;
    std::array<std::vector<Bucket>, pyramidLevels> buckets;  // by level - 1
    std::vector<RecomputedBlock> blocks;                     // of one whose readings were recorded
    std::shared_ptr<const SignalSpec> fullChain = {};  // where raw samples lie beside readings: what those go through
};

Reworked withRawBeside(const RunSignal& signal, const SignalSpec& corrected) {
    const std::vector<SignalSpec> as = asRecorded(corrected);
    return {&signal, as.front(), {}, {}, std::make_shared<const SignalSpec>(as.back())};
}

/// Readings that were recorded are held until they are written, all of them at once.
constexpr std::uint64_t mostRecomputed = 150'000'000;

/// The new readings of one whose readings were recorded.
Result<void> workOut(RunReader& reader, const SignalSpec& by, const std::map<std::string, SignalSpec>& corrected,
                     Reworked& r, Progress& progress) {
    PyramidBuilder pyramid;
    return recompute(
        reader, {r.signal, std::make_shared<const SignalSpec>(by)}, corrected,
        [&](RecomputedBlock block) {
            pyramid.add(
                block.readings.values, [&](std::size_t k) { return block.times[k]; },
                [&](int level, const Bucket& b) {
                    if (level >= runformat::firstStoredLevel)
                        r.buckets[static_cast<std::size_t>(level - 1)].push_back(b);
                });
            block.times.clear();
            block.times.shrink_to_fit();
            r.blocks.push_back(std::move(block));
        },
        progress);
}

/// Those of these whose readings were recorded, and the signals that come from any of these, with their new readings.
Result<void> addWorkedOut(RunReader& reader, std::vector<Reworked>& all, std::vector<Text>& left, Progress& progress) {
    std::map<std::string, SignalSpec> corrected;
    std::vector<std::string> changed;
    std::uint64_t samples = 0;
    for (const Reworked& r : all) {
        SignalSpec spec = r.fullChain ? *r.fullChain : r.spec;
        spec.id = r.spec.id;
        corrected.emplace(r.spec.id, spec);
        changed.push_back(r.spec.id);
        if (r.fullChain) samples += r.signal->samples;
    }
    if (samples > mostRecomputed)
        return failure("{0} readings are more than are worked out at once, which are {1}: take fewer signals.", samples,
                       mostRecomputed);
    for (Reworked& r : all)
        if (r.fullChain)
            if (auto done = workOut(reader, corrected.at(r.spec.id), corrected, r, progress); !done) return done;
    for (const Recomputed& c : computedFrom(reader.info(), changed, left)) {
        if (corrected.contains(c.spec->id)) continue;
        samples += c.signal->samples;
        if (samples > mostRecomputed) {
            left.push_back(
                text(CRUSCOTTO_TEXT("{0} stays as it was recorded: its {1} readings are more than are worked "
                                    "out at once."),
                     c.spec->name, c.signal->samples));
            continue;
        }
        Reworked r{c.signal, c.signal->current(), {}, {}};
        if (auto done = workOut(reader, *c.spec, corrected, r, progress); !done) return done;
        all.push_back(std::move(r));
    }
    return {};
}

Result<std::vector<Reworked>> reworked(const RunInfo& run, const std::vector<SignalSpec>& corrected) {
    std::vector<Reworked> out;
    for (const SignalSpec& spec : corrected) {
        if (auto fine = checkChain(spec.chain, spec.kind); !fine)
            return failure("{0}: {1}", spec.name, fine.error().english());
        bool found = false;
        for (const RunSignal& s : run.signals) {
            if (s.key != spec.id) continue;
            found = true;
            if (s.samples == 0)
                return failure("Nothing was recorded of {0}: there is nothing to work out.", s.current().name);
            const SignalSpec& was = s.current();
            if (was.keep.asReadings && !s.raw)
                return failure(
                    "Of {0} the readings were recorded, not the raw samples: they cannot be worked out "
                    "again.",
                    was.name);
            Reworked r{&s, spec, {}, {}};
            r.spec.device = was.device;
            r.spec.terminal = was.terminal;
            r.spec.kind = was.kind;
            r.spec.keep = was.keep;
            out.push_back(s.raw ? withRawBeside(s, r.spec) : std::move(r));
        }
        if (!found) return failure("This run has no signal \"{0}\".", spec.id);
    }
    if (out.empty()) return failure("All chains are as they were; there is nothing to work out again.");
    return out;
}

/// Fills the buckets; false if it was cancelled.
bool summarise(RunReader& reader, std::vector<Reworked>& all, Progress& progress) {
    std::uint64_t total = 0, done = 0;
    for (const Reworked& r : all) total += r.signal->samples;
    for (const RunGroup& group : reader.info().groups) {
        std::vector<Reworked*> members;
        RunReader::Part part;
        for (Reworked& r : all)
            if (r.signal->group == group.id && !r.fullChain) {
                members.push_back(&r);
                part.signals.push_back(r.signal->id);
            }
        if (members.empty()) continue;
        // The reader hands out a group's signals in the order in which the run names them.
        std::sort(members.begin(), members.end(),
                  [](const Reworked* a, const Reworked* b) { return a->signal->id < b->signal->id; });
        std::vector<ChainEvaluator> evaluators;
        for (const Reworked* r : members) {
            auto made = ChainEvaluator::make(r->spec.chain, r->spec.kind);
            if (!made) made = ChainEvaluator::nothing(r->spec.chain.size());
            evaluators.push_back(std::move(made.value()));
        }
        std::vector<PyramidBuilder> pyramids(members.size());
        Readings readings;
        auto blocks = reader.blocks(group.id, part);
        while (const BlockPtr block = blocks.next()) {
            if (progress.cancelled()) return false;
            for (std::size_t i = 0; i < members.size(); ++i) {
                evaluators[i].process(*block, i, readings);
                pyramids[i].add(
                    readings.values, [&](std::size_t k) { return block->timeOf(k); },
                    [&](int level, const Bucket& b) {
                        if (level >= runformat::firstStoredLevel)
                            members[i]->buckets[static_cast<std::size_t>(level - 1)].push_back(b);
                    });
            }
            done += block->size() * members.size();
            progress.advance(std::min(done, total), total);
        }
    }
    return true;
}

}  // namespace

std::vector<SignalSpec> correctedSignals(const RunInfo& run, const Bench& bench) {
    std::vector<SignalSpec> out;
    for (const auto& spec : bench.signals) {
        const RunSignal* s = run.signal(spec->id);
        if (!s) continue;
        const SignalSpec& was = run.measuredAs(*s);
        // Of readings that were recorded alone there is nothing to work out again.
        if (keepsRaw(was.keep) && was.chain != spec->chain) out.push_back(*spec);
    }
    return out;
}

Result<int> addRunVersion(const std::string& path, const std::vector<SignalSpec>& corrected, const std::string& words,
                          std::int64_t unixNs, Progress& progress, std::vector<Text>* left) {
    auto opened = RunReader::open(path);
    if (!opened) return opened.error();
    const RunInfo& run = opened.value()->info();
    auto made = reworked(run, corrected);
    if (!made) return made.error();
    if (!summarise(*opened.value(), made.value(), progress)) return failure("Stopped. The run is as it was.");
    std::vector<Text> stay;
    if (auto done = addWorkedOut(*opened.value(), made.value(), left ? *left : stay, progress); !done)
        return done.error();

    sqlite3* raw = nullptr;
    const int result = sqlite3_open_v2(path.c_str(), &raw, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX, nullptr);
    const sqlite::Database db(raw);
    const auto failed = [&] {
        return failure("The new readings could not be written into {0} ({1}). May you write to it, and is there room?",
                       path, sqlite3_errmsg(raw));
    };
    if (result != SQLITE_OK) return failed();
    sqlite3_busy_timeout(raw, runformat::busyMs);
    sqlite3_db_config(raw, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
    const auto write = [&]() -> int {
        if (!sqlite::execute(raw, runformat::versionTables)) return 0;
        std::int64_t next = 0, version = 0;
        if (sqlite::Statement s(raw,
                                "SELECT max(coalesce((SELECT max(id) FROM signal),0),"
                                "coalesce((SELECT max(as_id) FROM version_signal),0))");
            s.step())
            next = s.integer(0) + 1;
        if (!sqlite::Statement(raw, "INSERT INTO version(made_unix_ns,words) VALUES (?,?)")
                 .bind(1, unixNs)
                 .bind(2, words)
                 .run())
            return 0;
        version = sqlite3_last_insert_rowid(raw);
        sqlite::Statement signal(raw, "INSERT INTO version_signal VALUES (?,?,?)");
        sqlite::Statement definition(raw, "INSERT INTO definition VALUES (?,?,?,?)");
        sqlite::Statement pyramid(raw, "INSERT INTO pyramid VALUES (?,?,?)");
        sqlite::Statement block(raw, "INSERT INTO version_block VALUES (?,?,?)");
        sqlite::Statement quality(raw, "INSERT INTO version_quality VALUES (?,?,?,?,?)");
        const auto define = [&](std::int64_t of, const RunDefinition& first, const SignalSpec& spec) {
            const std::int64_t as = next++;
            return signal.bind(1, version).bind(2, of).bind(3, as).run() &&
                   definition.bind(1, as)
                       .bind(2, static_cast<std::int64_t>(first.first))
                       .bind(3, first.from.ns)
                       .bind(4, signalToJson(spec))
                       .run();
        };
        for (const Reworked& r : made.value()) {
            const std::int64_t as = next;
            if (!define(r.signal->id, r.signal->definitions.front(), r.spec)) return 0;
            if (r.fullChain && !define(*r.signal->raw, r.signal->definitions.front(), *r.fullChain)) return 0;
            for (const RecomputedBlock& b : r.blocks) {
                const auto first = static_cast<std::int64_t>(b.firstIndex);
                if (!block.bind(1, as).bind(2, first).bind(3, std::as_bytes(std::span(b.readings.values))).run())
                    return 0;
                for (const QualityInterval& q : b.readings.quality)
                    if (!quality.bind(1, as)
                             .bind(2, first)
                             .bind(3, static_cast<std::int64_t>(q.begin))
                             .bind(4, static_cast<std::int64_t>(q.end))
                             .bind(5, static_cast<std::int64_t>(q.quality))
                             .run())
                        return 0;
            }
            for (int level = runformat::firstStoredLevel; level <= pyramidLevels; ++level) {
                const auto& buckets = r.buckets[static_cast<std::size_t>(level - 1)];
                constexpr std::size_t most = 4096;
                for (std::size_t i = 0; i < buckets.size(); i += most) {
                    const auto packed =
                        runformat::packBuckets(std::span(buckets).subspan(i, std::min(most, buckets.size() - i)));
                    if (!pyramid.bind(1, as)
                             .bind(2, static_cast<std::int64_t>(level))
                             .bind(3, std::span<const std::byte>(packed))
                             .run())
                        return 0;
                }
            }
        }
        return static_cast<int>(version);
    };
    if (!sqlite::execute(raw, "BEGIN IMMEDIATE")) return failed();
    const int version = write();
    if (version > 0 && sqlite::execute(raw, "COMMIT")) return version;
    const Error error = failed();
    sqlite::execute(raw, "ROLLBACK");
    return error;
}

std::vector<Text> whatChanged(const std::string& path, int version) {
    std::vector<Text> out;
    const auto now = RunReader::open(path, version), before = RunReader::open(path, version - 1);
    if (!now || !before) return out;
    for (const RunVersion& v : now.value()->info().versions) {
        if (v.id != version) continue;
        for (const std::string& id : v.signals) {
            const RunSignal *is = now.value()->info().signal(id), *was = before.value()->info().signal(id);
            if (!is || !was) continue;
            const Summary a = summaryOf(*before.value(), *was), b = summaryOf(*now.value(), *is);
            const std::string unit = unitText(is->current().unit()), unitBefore = unitText(was->current().unit());
            if (a.count == 0 || b.count == 0 || unit != unitBefore)
                out.push_back(text(CRUSCOTTO_TEXT("{0}: mean {1} {2}; it was {3} {4}."), is->current().name,
                                   shortNumber(b.mean), unit, shortNumber(a.mean), unitBefore));
            else
                out.push_back(text(CRUSCOTTO_TEXT("{0}: mean {1} {2}, {3} more than before; from {4} to {5}, before "
                                                  "from {6} to {7}."),
                                   is->current().name, shortNumber(b.mean), unit, shortNumber(b.mean - a.mean),
                                   shortNumber(b.min), shortNumber(b.max), shortNumber(a.min), shortNumber(a.max)));
        }
    }
    return out;
}

}  // namespace cruscotto

#include "core/run/run_reader.h"

#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <limits>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "core/base/json_text.h"
#include "core/bench/keep.h"
#include "core/chain/chain.h"
#include "core/run/run_file.h"
#include "core/run/run_format.h"
#include "core/run/sample_codec.h"
#include "core/run/sqlite.h"

namespace cruscotto {

using sqlite::Statement;

using runformat::largestBlock;

Bench RunInfo::benchThatComputes() const {
    Bench out = bench;
    for (const auto& signal : computed) out = withSignal(std::move(out), *signal);
    return out;
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

namespace {

/// Raw samples beside readings are no signals of their own: they go from `signals` into `raw`.
void takeRawAside(RunInfo& info) {
    std::map<std::pair<std::int64_t, std::string>, RunSignal*> withRaw;
    for (RunSignal& s : info.signals)
        if (!s.definitions.empty() && s.current().keep.rawBeside && !s.key.ends_with(rawEnding))
            withRaw.emplace(std::pair(s.group, s.key + std::string(rawEnding)), &s);
    for (RunSignal& s : info.signals) {
        const auto of = withRaw.find({s.group, s.key});
        if (of == withRaw.end() || s.definitions.empty() || of->second->raw) continue;
        RunSignal& readings = *of->second;
        readings.raw = s.id;
        s.key = readings.key;
        for (RunDefinition& d : s.definitions) {
            d.spec.id = readings.key;
            d.spec.name = readings.current().name;
        }
    }
    std::set<std::int64_t> aside;
    for (const auto& [key, s] : withRaw)
        if (s->raw) aside.insert(*s->raw);
    for (RunSignal& s : info.signals)
        if (aside.contains(s.id)) info.raw.emplace(s.id, std::move(s));
    std::erase_if(info.signals, [&](const RunSignal& s) { return aside.contains(s.id); });
    for (RunVersion& v : info.versions)
        std::erase_if(v.signals, [&](const std::string& key) {
            return std::ranges::any_of(withRaw, [&](const auto& w) { return w.second->raw && w.first.second == key; });
        });
}

}  // namespace

const SignalSpec& RunInfo::measuredAs(const RunSignal& s) const {
    return s.raw ? raw.at(*s.raw).current() : s.current();
}

struct RunReader::State {
    sqlite::Database db;
    RunInfo info;
    struct Layout {
        std::int64_t group = 0;
        std::vector<std::int64_t> signals;
    };
    std::map<std::int64_t, Layout> layouts;
    std::map<std::int64_t, std::vector<std::int64_t>> layoutsOf;  // by group
    std::map<std::int64_t, std::int64_t> readAs;  // signals that this version corrects, and whose definitions they have

    bool hasBlocks = false;  // some version has readings of its own

    Result<void> readVersions(std::optional<int> asked);
};

/// Which versions there are, and what the chosen one changes.
Result<void> RunReader::State::readVersions(std::optional<int> asked) {
    if (Statement s(db.get(), "SELECT 1 FROM sqlite_master WHERE type='table' AND name='version'"); s.step())
        for (Statement v(db.get(), "SELECT id, made_unix_ns, words FROM version ORDER BY id LIMIT 10000"); v.step();)
            info.versions.push_back({static_cast<int>(v.integer(0)), v.integer(1), v.string(2), {}});
    info.version = asked.value_or(info.versions.empty() ? 0 : info.versions.back().id);
    const auto known = [&](int id) {
        return std::any_of(info.versions.begin(), info.versions.end(), [&](const RunVersion& v) { return v.id == id; });
    };
    if (info.version != 0 && !known(info.version))
        return failure("{0} has no version {1}; it has {2}, and 0 is what was recorded.", info.path, info.version,
                       info.versions.size());
    if (info.versions.empty()) return {};
    if (Statement s(db.get(), "SELECT 1 FROM sqlite_master WHERE type='table' AND name='version_quality'"); s.step())
        hasBlocks = true;
    std::map<std::int64_t, std::string> keys;
    for (const RunSignal& s : info.signals) keys[s.id] = s.key;
    std::map<std::int64_t, RunVersion*> byId;
    for (RunVersion& v : info.versions) byId[v.id] = &v;
    for (Statement s(db.get(), "SELECT version_id, signal_id, as_id FROM version_signal ORDER BY version_id");
         s.step();) {
        const auto key = keys.find(s.integer(1));
        if (key == keys.end()) continue;
        if (s.integer(0) <= info.version) readAs[s.integer(1)] = s.integer(2);
        if (const auto v = byId.find(s.integer(0)); v != byId.end()) v->second->signals.push_back(key->second);
    }
    return {};
}

RunReader::RunReader(std::unique_ptr<State> state) : state_(std::move(state)) {}
RunReader::~RunReader() = default;
const RunInfo& RunReader::info() const {
    return state_->info;
}

Result<std::unique_ptr<RunReader>> RunReader::open(const std::string& path, std::optional<int> asked) {
    auto opened = openRunToRead(path);
    if (!opened) return opened.error();
    auto state = std::make_unique<State>();
    state->db = std::move(opened.value());
    sqlite3* const db = state->db.get();
    RunInfo& info = state->info;
    info.path = path;
    if (Statement pages(db, "SELECT page_count * page_size FROM pragma_page_count, pragma_page_size"); pages.step())
        info.fileBytes = static_cast<std::uint64_t>(pages.integer(0));
    Statement closed(db, "SELECT value FROM run WHERE key='state'");
    info.closed = closed.step() && closed.string(0) == "closed";

    Statement fact(db, "SELECT value FROM run WHERE key=?");
    for (const auto& [key, words] : runNoteKeys) {
        if (fact.bind(1, std::string(key)).step()) info.notes.*words = fact.string(0);
        fact.reset();
    }
    // What is not read to its end for another reason than that it ends there is said, and the rest is read. A row
    // whose times or counts no run can have is left out.
    const auto each = [&](const char* what, const char* sql, auto&& row) {
        Statement s(db, sql);
        std::uint64_t impossible = 0;
        while (s.step()) {
            if constexpr (std::is_same_v<decltype(row(s)), bool>)
                impossible += !row(s);
            else
                row(s);
        }
        if (impossible)
            info.problems.push_back(text(CRUSCOTTO_TEXT("{0} of this run: {1} have impossible times or numbers and are "
                                                        "left out. The file is damaged."),
                                         what, impossible));
        if (!s.ended())
            info.problems.push_back(
                text(CRUSCOTTO_TEXT("{0} of this run could not all be read ({1})."), what, sqlite3_errmsg(db)));
    };
    bool benchThere = false;
    each("The bench", "SELECT json FROM bench ORDER BY rowid DESC LIMIT 1", [&](Statement& s) {
        BenchReading reading = readBench(s.string(0));
        if (reading.bench) {
            info.bench = std::move(*reading.bench);
            benchThere = true;
        } else {
            info.problems.push_back(
                text(CRUSCOTTO_TEXT("The bench that is kept in this run does not read ({0}): there are no pages."),
                     reading.problems.front().english()));
        }
    });
    if (!benchThere)
        each("The facts", "SELECT value FROM run WHERE key='bench'",
             [&](Statement& s) { info.bench.name = s.string(0); });
    each("The ties to the wall clock", "SELECT at_ns, unix_ns FROM anchor ORDER BY rowid", [&](Statement& s) {
        const WallAnchor anchor{{s.integer(0)}, s.integer(1)};
        if (!plausible(anchor)) return false;
        info.anchors.push_back(anchor);
        return true;
    });
    // A group has a signal at least.
    for (const auto& [sql, what] :
         {std::pair{"SELECT count(*) FROM signal", "signals"}, std::pair{"SELECT count(*) FROM scan_group", "groups"}})
        if (Statement count(db, sql); count.step() && count.integer(0) > std::int64_t{mostSignals})
            return failure("{0} names {1} {2}; a run has {3} at most. It is damaged, or not a run.", path,
                           count.integer(0), what, mostSignals);
    each("The groups", "SELECT id, device, name, rate_hz FROM scan_group ORDER BY id", [&](Statement& s) {
        const double rate = s.real(3);
        info.groups.push_back({s.integer(0), s.string(1), s.string(2), rate, 0, {}, {}, {}});
        if (rate >= 0 && rate <= 1e12) return true;
        info.groups.pop_back();
        return false;
    });
    each("The signals", "SELECT id, key, group_id, type FROM signal ORDER BY id", [&](Statement& s) {
        if (s.integer(3) < 0 || s.integer(3) > 5) return false;
        info.signals.push_back({s.integer(0), s.string(1), s.integer(2), static_cast<SampleType>(s.integer(3)), 0, {}});
        return true;
    });
    if (auto versions = state->readVersions(asked); !versions) return versions.error();
    std::map<std::int64_t, RunSignal*> byId;
    for (RunSignal& s : info.signals) {
        const auto as = state->readAs.find(s.id);
        byId[as == state->readAs.end() ? s.id : as->second] = &s;
    }
    std::set<std::int64_t> unread;  // signals
    each("The definitions", "SELECT signal_id, from_ns, json, from_index FROM definition ORDER BY rowid",
         [&](Statement& s) {
             const auto it = byId.find(s.integer(0));
             if (it == byId.end()) return;
             const Instant from{s.integer(1)};
             if (auto spec = signalFromJson(s.string(2)); spec && plausible(from) && s.integer(3) >= 0)
                 it->second->definitions.push_back(
                     {static_cast<std::uint64_t>(s.integer(3)), from, std::move(spec.value())});
             else
                 unread.insert(it->second->id);
         });
    takeRawAside(info);
    std::size_t remembered = 0;
    for (RunSignal& s : info.signals) {
        std::size_t most = 0;
        for (const RunDefinition& d : s.definitions) most = std::max(most, rememberedSamples(d.spec.chain));
        const bool fits = remembered + most <= mostRemembered;
        if (fits) remembered += most;
        if (fits && !s.definitions.empty() && !unread.contains(s.id)) continue;
        // Its samples as they came are shown rather than nothing.
        SignalSpec raw;
        raw.id = raw.name = raw.terminal = s.key;
        if (!s.definitions.empty()) raw.name = s.definitions.front().spec.name;
        for (const RunGroup& g : info.groups)
            if (g.id == s.group) raw.device = g.device;
        raw.kind = s.type == SampleType::bit ? ChannelKind::digitalInput : ChannelKind::analogInput;
        info.problems.push_back(text(
            CRUSCOTTO_TEXT("What {0} was set to does not read: its raw samples are shown, without a scale."), s.key));
        s.definitions = {{0, Instant{}, std::move(raw)}};
    }
    for (RunSignal& s : info.signals) {
        if (!s.raw) continue;
        std::size_t most = 0;
        for (const RunDefinition& d : info.raw.at(*s.raw).definitions)
            most = std::max(most, rememberedSamples(d.spec.chain));
        remembered += most;
        if (remembered <= mostRemembered && !unread.contains(*s.raw)) continue;
        info.raw.erase(*s.raw);
        s.raw.reset();
    }
    if (!benchThere)
        for (const RunSignal& s : info.signals) info.bench.signals.push_back(std::make_shared<SignalSpec>(s.current()));
    // What the bench asked for and nothing came of has its place too, with no samples.
    std::set<std::string> here;
    for (const RunSignal& s : info.signals) here.insert(s.key);
    for (std::size_t i = 0; i < info.bench.signals.size(); ++i) {
        const SignalSpec& spec = *info.bench.signals[i];
        if (here.contains(spec.id)) continue;
        RunSignal none;
        none.id = -1 - static_cast<std::int64_t>(i);
        none.key = spec.id;
        none.definitions.push_back({0, Instant{}, spec});
        info.signals.push_back(std::move(none));
    }
    byId.clear();
    std::map<std::string, std::size_t> inBench;
    for (std::size_t i = 0; i < info.bench.signals.size(); ++i) inBench[info.bench.signals[i]->id] = i;
    for (RunSignal& s : info.signals) {
        byId[s.id] = &s;
        // What was recorded as readings is shown as what it is, and a summary's extremes beside its mean; and a chain
        // that was corrected as it is now.
        if (!s.current().keep.asReadings && !state->readAs.contains(s.id)) continue;
        auto& signals = info.bench.signals;
        const auto [at, fresh] = inBench.try_emplace(s.current().id, signals.size());
        if (fresh) signals.emplace_back();
        if (!fresh && signals[at->second]->computed) info.computed.push_back(signals[at->second]);
        signals[at->second] = std::make_shared<const SignalSpec>(info.measuredAs(s));
    }
    for (auto& [id, s] : info.raw) byId[id] = &s;

    each("The layouts", "SELECT id, group_id, signals FROM layout", [&](Statement& s) {
        const auto list = parseJson(s.string(2));
        if (!list.is_array() || list.size() > mostSignals) return false;
        State::Layout layout{s.integer(1), {}};
        for (const auto& id : list) layout.signals.push_back(id.is_number_integer() ? id.get<std::int64_t>() : -1);
        state->layoutsOf[layout.group].push_back(s.integer(0));
        state->layouts[s.integer(0)] = std::move(layout);
        return true;
    });
    std::map<std::int64_t, RunGroup*> groupOf;
    for (RunGroup& g : info.groups) groupOf[g.id] = &g;
    // Only the index is read for this, however large the samples are.
    bool any = false;
    const std::string sound =
        fmt::format("n BETWEEN 1 AND {0} AND t0_ns BETWEEN -{1} AND {1} AND end_ns BETWEEN t0_ns AND {1}", largestBlock,
                    furthestNs);
    each("The blocks",
         fmt::format("SELECT layout_id, sum(n), min(t0_ns), max(end_ns) FROM block WHERE {} GROUP BY layout_id", sound)
             .c_str(),
         [&](Statement& s) {
             const auto layout = state->layouts.find(s.integer(0));
             if (layout == state->layouts.end() || s.integer(1) <= 0) return;
             const auto n = static_cast<std::uint64_t>(s.integer(1));
             const Span span{{s.integer(2)}, {s.integer(3)}};
             const auto widen = [&](Span& to, bool fresh) {
                 to = fresh ? span : Span{std::min(to.from, span.from), std::max(to.to, span.to)};
             };
             if (const auto g = groupOf.find(layout->second.group); g != groupOf.end()) {
                 widen(g->second->span, g->second->samples == 0);
                 g->second->samples += n;
             }
             for (const std::int64_t id : layout->second.signals)
                 if (const auto it = byId.find(id); it != byId.end()) it->second->samples += n;
             widen(info.span, !any);
             any = true;
         });
    constexpr std::int64_t mostLost = 1'000'000'000'000'000;
    each("The gaps", "SELECT group_id, from_ns, to_ns, lost, cause, before_index, quality FROM gap ORDER BY rowid",
         [&](Statement& s) {
             const Gap gap{{s.integer(1)},
                           {s.integer(2)},
                           static_cast<std::uint64_t>(s.integer(3)),
                           s.string(4),
                           s.integer(6) == static_cast<int>(Quality::stale) ? Quality::stale : Quality::gap};
             if (!plausible(gap.from) || !plausible(gap.to) || s.integer(3) < 0 || s.integer(3) > mostLost)
                 return false;
             if (const auto g = groupOf.find(s.integer(0)); g != groupOf.end()) {
                 g->second->gaps.push_back(gap);
                 g->second->gapsBefore.push_back(static_cast<std::uint64_t>(s.integer(5)));
             }
             return true;
         });
    each("The marks", "SELECT at_ns, words FROM mark ORDER BY at_ns", [&](Statement& s) {
        if (!plausible(Instant{s.integer(0)})) return false;
        info.marks.push_back({{s.integer(0)}, s.string(1)});
        return true;
    });
    each("The events", "SELECT at_ns, kind, words FROM event ORDER BY at_ns", [&](Statement& s) {
        if (!plausible(Instant{s.integer(0)})) return false;
        info.events.push_back({{s.integer(0)}, s.string(1), s.string(2)});
        return true;
    });
    return std::unique_ptr<RunReader>(new RunReader(std::move(state)));
}

struct RunReader::Blocks::State {
    const std::map<std::int64_t, RunReader::State::Layout>* layouts = nullptr;
    Statement fetch, quality;
    std::vector<std::int64_t> ids;
    std::size_t nextId = 0;
    std::shared_ptr<ScanGroup> group;
    std::vector<std::int64_t> signalIds;
    std::vector<SampleType> types;
    std::vector<std::int64_t> readAs;  // by column: under which id this version has its readings; 0: it has none
    Statement anew, anewQuality;       // readings that were worked out again
    struct Place {
        SampleType type;
        std::optional<std::size_t> column;  // where it is read
    };
    std::map<std::int64_t, Place> placeOf;   // of all of the group's signals
    std::multimap<std::uint64_t, Gap> gaps;  // by the number of the sample behind them
    std::uint64_t damaged = 0;
    std::optional<Instant> end;
    bool lost = false;  // a block since then could not be read
    /// The block that is being handed out: the columns that it holds, and which of all they are.
    struct Held {
        BlockPtr block;
        std::vector<std::size_t> columns;
        std::size_t n = 0, done = 0;
    };
    std::optional<Held> held;

    std::optional<Held> read(std::int64_t id);
    bool takeAnew(std::int64_t as, Block& block, std::size_t column);
    BlockPtr part();
    bool readData(Block& block, std::span<const std::byte> data, const RunReader::State::Layout& layout, bool unclocked,
                  std::size_t n, std::vector<bool>& found);
};

RunReader::Blocks::Blocks(std::unique_ptr<State> state) : state_(std::move(state)) {}
RunReader::Blocks::Blocks(Blocks&&) noexcept = default;
RunReader::Blocks::~Blocks() = default;
std::uint64_t RunReader::Blocks::damaged() const {
    return state_->damaged;
}

RunReader::Blocks RunReader::blocks(std::int64_t group, const Part& part) {
    auto s = std::make_unique<Blocks::State>();
    sqlite3* db = state_->db.get();
    s->layouts = &state_->layouts;
    for (const std::int64_t layout : state_->layoutsOf[group]) {
        Statement ids(db, "SELECT id FROM block WHERE layout_id=? AND t0_ns<? AND end_ns>?");
        for (ids.bind(1, layout).bind(2, part.span.to.ns).bind(3, part.span.from.ns); ids.step();)
            s->ids.push_back(ids.integer(0));
        if (!ids.ended()) ++s->damaged;  // which are missing, nobody can say
    }
    std::sort(s->ids.begin(), s->ids.end());
    s->fetch = Statement(db, "SELECT layout_id, first_index, n, t0_ns, dt_ns, data FROM block WHERE id=?");
    s->quality = Statement(db, "SELECT signal_id, begin, end, quality FROM quality WHERE block_id=?");
    if (state_->hasBlocks) {
        constexpr const char* within = "as_id=? AND first_index>=? AND first_index<?";
        s->anew = Statement(db, fmt::format("SELECT first_index, data FROM version_block WHERE {}", within).c_str());
        s->anewQuality = Statement(
            db, fmt::format("SELECT first_index, begin, end, quality FROM version_quality WHERE {}", within).c_str());
    }
    s->group = std::make_shared<ScanGroup>();
    for (const RunGroup& g : state_->info.groups)
        if (g.id == group) {
            s->group->device = g.device;
            s->group->name = g.name;
            s->group->rateHz = g.rateHz;
            for (std::size_t i = 0; i < g.gaps.size(); ++i) s->gaps.emplace(g.gapsBefore[i], g.gaps[i]);
        }
    const std::set<std::int64_t> wanted(part.signals.begin(), part.signals.end());
    for (const RunSignal& signal : state_->info.signals) {
        if (signal.group != group) continue;
        Blocks::State::Place& place = s->placeOf[signal.id];
        place.type = signal.type;
        if (!part.signals.empty() && !wanted.contains(signal.id)) continue;
        place.column = s->signalIds.size();
        s->signalIds.push_back(signal.id);
        s->types.push_back(signal.type);
        const auto as = state_->readAs.find(signal.id);
        const bool anew = state_->hasBlocks && as != state_->readAs.end() && signal.type == SampleType::float64;
        s->readAs.push_back(anew ? as->second : 0);
        s->group->channels.push_back({signal.key, signal.type, signal.current().kind});
    }
    for (const RunSignal& signal : state_->info.signals) {
        if (signal.group != group || !signal.raw) continue;
        const RunSignal& raw = state_->info.raw.at(*signal.raw);
        Blocks::State::Place& place = s->placeOf[raw.id];
        place.type = raw.type;
        if (!part.raw || !s->placeOf[signal.id].column) continue;
        place.column = s->signalIds.size();
        s->signalIds.push_back(raw.id);
        s->types.push_back(raw.type);
        s->readAs.push_back(0);
        s->group->channels.push_back({raw.key + std::string(rawEnding), raw.type, raw.current().kind});
    }
    return Blocks(std::move(s));
}

/// Takes the parts out of a block's data; false where they do not fit it.
bool RunReader::Blocks::State::readData(Block& block, std::span<const std::byte> data,
                                        const RunReader::State::Layout& layout, bool unclocked, std::size_t n,
                                        std::vector<bool>& found) {
    if (data.empty()) return false;
    const bool packed = data[0] == static_cast<std::byte>(runformat::BlockForm::packed);
    if (!packed && data[0] != static_cast<std::byte>(runformat::BlockForm::plain)) return false;
    data = data.subspan(1);
    const auto take = [&](std::size_t rawBytes, codec::Packing& packing, std::span<const std::byte>& part) {
        packing = codec::Packing::raw;
        std::size_t length = rawBytes;
        if (packed) {
            if (data.size() < 5) return false;
            packing = static_cast<codec::Packing>(data[0]);
            std::uint32_t stored = 0;
            std::memcpy(&stored, data.data() + 1, sizeof stored);
            length = stored;
            data = data.subspan(5);
        }
        if (data.size() < length) return false;
        part = data.first(length);
        data = data.subspan(length);
        return true;
    };
    codec::Packing packing{};
    std::span<const std::byte> part;
    if (unclocked) {
        if (!take(n * sizeof(Instant), packing, part) || part.size() != n * sizeof(Instant)) return false;
        block.times.resize(n);
        std::memcpy(block.times.data(), part.data(), part.size());
        std::sort(block.times.begin(), block.times.end());
        if (!plausible(block.times.front()) || !plausible(block.times.back())) return false;
    }
    for (const std::int64_t id : layout.signals) {
        const auto place = placeOf.find(id);
        if (place == placeOf.end()) return false;
        if (!take(n * sampleBytes(place->second.type), packing, part)) return false;
        if (!place->second.column) continue;
        const std::size_t i = *place->second.column;
        found[i] = codec::decode(packing, part, types[i], n, block.columns[i]);
        if (!found[i]) return false;
    }
    return true;
}

/// The readings that were worked out again in place of those that were recorded; false where they do not fit.
bool RunReader::Blocks::State::takeAnew(std::int64_t as, Block& block, std::size_t column) {
    auto* values = std::get_if<std::vector<double>>(&block.columns[column]);
    const auto first = static_cast<std::int64_t>(block.firstIndex);
    const auto n = values ? static_cast<std::int64_t>(values->size()) : 0;
    std::int64_t covered = 0;
    anew.reset();
    for (anew.bind(1, as).bind(2, first).bind(3, first + n); anew.step();) {
        const auto data = anew.blob(1);
        const std::int64_t at = anew.integer(0) - first;
        const auto here = static_cast<std::int64_t>(data.size() / sizeof(double));
        if (at < 0 || here > n - at) return false;
        std::memcpy(values->data() + at, data.data(), static_cast<std::size_t>(here) * sizeof(double));
        covered += here;
    }
    if (covered == 0) return true;  // its raw samples are there, and its chain was corrected
    block.quality[column].clear();
    if (covered != n) block.quality[column].push_back({0, static_cast<std::size_t>(n), Quality::suspect});
    anewQuality.reset();
    for (anewQuality.bind(1, as).bind(2, first).bind(3, first + n); anewQuality.step();) {
        const std::int64_t at = anewQuality.integer(0) - first, begin = anewQuality.integer(1),
                           to = anewQuality.integer(2);
        if (begin < 0 || begin >= to || to > n - at) return false;
        block.quality[column].push_back({static_cast<std::size_t>(at + begin), static_cast<std::size_t>(at + to),
                                         qualityFromNumber(anewQuality.integer(3))});
    }
    return covered == n;
}

std::optional<RunReader::Blocks::State::Held> RunReader::Blocks::State::read(std::int64_t id) {
    const auto refuse = [&] {
        ++damaged;
        lost = true;
        return std::nullopt;
    };
    fetch.reset();
    if (!fetch.bind(1, id).step()) {
        if (!fetch.ended()) return refuse();
        return std::nullopt;
    }
    const auto layout = layouts->find(fetch.integer(0));
    const std::int64_t n = fetch.integer(2);
    auto out = std::make_shared<Block>();
    out->group = group;
    out->firstIndex = static_cast<std::uint64_t>(fetch.integer(1));
    out->t0 = {fetch.integer(3)};
    out->dtNs = fetch.real(4);
    const bool unclocked = fetch.isNull(4);
    const auto data = fetch.blob(5);
    // A sample takes at least a bit of its frame's head: more than that cannot be in so few bytes.
    if (layout == layouts->end() || n <= 0 || n > largestBlock ||
        static_cast<std::size_t>(n) / codec::frameSamples > data.size() || fetch.integer(1) < 0 ||
        !plausible(out->t0) ||
        (!unclocked && !(out->dtNs > 0 && static_cast<double>(n) * out->dtNs <
                                              static_cast<double>(furthestNs) - static_cast<double>(out->t0.ns))))
        return refuse();
    const auto samples = static_cast<std::size_t>(n);
    std::vector<bool> found(signalIds.size());
    out->quality.resize(signalIds.size());
    for (const SampleType type : types) out->columns.push_back(makeSamples(type, 0));
    if (!readData(*out, data, layout->second, unclocked, samples, found)) {
        const bool any = std::ranges::find(found, true) != found.end();
        if (!any || (unclocked && out->times.size() != samples)) return refuse();
        ++damaged;
    }
    quality.reset();
    for (quality.bind(1, id); quality.step();) {
        const auto it = placeOf.find(quality.integer(0));
        const std::int64_t begin = quality.integer(1), to = quality.integer(2), q = quality.integer(3);
        if (it == placeOf.end() || !it->second.column || begin < 0 || to > n || begin >= to) continue;
        out->quality[*it->second.column].push_back(
            {static_cast<std::size_t>(begin), static_cast<std::size_t>(to), qualityFromNumber(q)});
    }
    if (!quality.ended()) ++damaged;
    if (signalIds.empty()) return std::nullopt;
    for (std::size_t i = 0; i < found.size(); ++i)
        if (found[i] && readAs[i] != 0 && !takeAnew(readAs[i], *out, i)) ++damaged;
    const auto [first, last] = gaps.equal_range(out->firstIndex);
    for (auto it = first; it != last; ++it) {
        const Gap& gap = it->second;
        if (!out->gapBefore) {
            out->gapBefore = gap;
            continue;
        }
        // Two losses with nothing between them are one.
        out->gapBefore->from = std::min(out->gapBefore->from, gap.from);
        out->gapBefore->to = std::max(out->gapBefore->to, gap.to);
        out->gapBefore->lostSamples += gap.lostSamples;
        out->gapBefore->quality = worse(out->gapBefore->quality, gap.quality);
    }
    const Instant begins = out->timeOf(0);
    // A file that jumps back in time is damaged; time never does.
    if (end && begins < *end - nanoseconds(2)) return refuse();
    if (std::exchange(lost, false) && end && !out->gapBefore && begins > *end)
        out->gapBefore = Gap{*end + nanoseconds(1), begins, 0, "damaged"};
    end = out->timeOf(samples - 1);
    Held made{nullptr, {}, samples};
    std::vector<Samples> columns;
    std::vector<std::vector<QualityInterval>> qualities;
    for (std::size_t i = 0; i < found.size(); ++i)
        if (found[i]) {
            made.columns.push_back(i);
            columns.push_back(std::move(out->columns[i]));
            qualities.push_back(std::move(out->quality[i]));
        }
    out->columns = std::move(columns);
    out->quality = std::move(qualities);
    made.block = std::move(out);
    return made;
}

/// The block that is held, with all columns. A signal that it does not hold (added or removed while recording) reads as
/// nothing: NaN is not possible in whole numbers, so its column is marked as a gap. These are made up by the piece, so
/// that their memory does not grow with what a block says of itself.
BlockPtr RunReader::Blocks::State::part() {
    constexpr std::size_t mostMadeUp = std::size_t{1} << 22, fewestRows = 1024;
    const std::size_t missing = signalIds.size() - held->columns.size();
    if (missing == 0) return std::exchange(held, std::nullopt)->block;
    const std::size_t rows = std::min(held->n - held->done, std::max(fewestRows, mostMadeUp / missing));
    auto out = std::make_shared<Block>(*partOf(held->block, held->done, held->done + rows));
    std::vector<Samples> columns(signalIds.size(), std::vector<double>());
    std::vector<std::vector<QualityInterval>> qualities(signalIds.size(), {{0, rows, Quality::gap}});
    for (std::size_t i = 0; i < held->columns.size(); ++i) {
        columns[held->columns[i]] = std::move(out->columns[i]);
        qualities[held->columns[i]] = std::move(out->quality[i]);
    }
    for (std::size_t i = 0, next = 0; i < columns.size(); ++i)
        if (next < held->columns.size() && held->columns[next] == i)
            ++next;
        else
            columns[i] = std::vector<double>(rows, std::numeric_limits<double>::quiet_NaN());
    out->columns = std::move(columns);
    out->quality = std::move(qualities);
    held->done += rows;
    if (held->done == held->n) held.reset();
    return out;
}

BlockPtr RunReader::Blocks::next() {
    while (!state_->held) {
        if (state_->nextId == state_->ids.size()) return nullptr;
        state_->held = state_->read(state_->ids[state_->nextId++]);
    }
    return state_->part();
}

Instant RunReader::replayFrom(std::int64_t group, const std::vector<std::int64_t>& signals, Instant from) {
    const Instant start = state_->info.span.from;
    std::uint64_t samples = 0;
    Duration reach;
    for (const RunSignal& s : state_->info.signals) {
        if (s.group != group || (!signals.empty() && std::ranges::find(signals, s.id) == signals.end())) continue;
        for (const RunDefinition& d : s.definitions)
            if (const auto chain = ChainEvaluator::make(d.spec.chain, d.spec.kind)) {
                samples = std::max<std::uint64_t>(samples, chain.value().memorySamples());
                reach = std::max(reach, chain.value().memoryTime());
            }
    }
    if (reach.ns >= (from - start).ns) return start;
    const Instant since = from - reach;
    // Blocks are read whole: as many of them before that as hold the samples.
    struct Held {
        Instant t0;
        std::uint64_t n;
    };
    std::vector<Held> before;
    for (const std::int64_t id : state_->layoutsOf[group]) {
        Statement s(state_->db.get(), "SELECT t0_ns, n FROM block WHERE layout_id=? AND t0_ns<? ORDER BY t0_ns DESC");
        std::uint64_t held = 0;
        // The newest of them may lie across the moment itself and hold no more than its first sample before it.
        bool newest = true;
        for (s.bind(1, id).bind(2, since.ns); s.step() && held < samples;) {
            const auto n = static_cast<std::uint64_t>(std::max<std::int64_t>(s.integer(1), 0));
            before.push_back({{s.integer(0)}, std::exchange(newest, false) ? 1 : n});
            held += before.back().n;
        }
    }
    std::ranges::sort(before, std::ranges::greater(), &Held::t0);
    std::uint64_t held = 0;
    for (const Held& h : before)
        if ((held += h.n) >= samples) return std::max(h.t0, start);
    return start;
}

std::vector<Bucket> RunReader::summaries(std::int64_t signal, int level) {
    std::vector<Bucket> out;
    Statement s(state_->db.get(), "SELECT data FROM pyramid WHERE signal_id=? AND level=? ORDER BY rowid");
    const auto as = state_->readAs.find(signal);
    s.bind(1, as == state_->readAs.end() ? signal : as->second).bind(2, static_cast<std::int64_t>(level));
    while (s.step()) {
        for (const Bucket& b : runformat::unpackBuckets(s.blob(0)))
            if (plausible(b.begin) && (out.empty() || b.begin >= out.back().begin)) out.push_back(b);
    }
    return out;
}

}  // namespace cruscotto

#include <fcntl.h>
#include <hdf5.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <future>
#include <map>
#include <memory>
#include <utility>

#include "core/base/units.h"
#include "core/export/run_export.h"
#include "core/run/run_replay.h"

namespace cruscotto {

namespace {

/// Something of HDF5's that is closed when it goes.
class Handle {
public:
    Handle() = default;
    Handle(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
    Handle(Handle&& other) noexcept : id_(std::exchange(other.id_, -1)), close_(other.close_) {}
    Handle& operator=(Handle&& other) noexcept {
        std::swap(id_, other.id_);
        std::swap(close_, other.close_);
        return *this;
    }
    ~Handle() {
        if (id_ >= 0) close_(id_);
    }
    [[nodiscard]] hid_t id() const { return id_; }
    [[nodiscard]] bool ok() const { return id_ >= 0; }

private:
    hid_t id_ = -1;
    herr_t (*close_)(hid_t) = nullptr;
};

template <class T>
hid_t typeFor() {
    return std::is_same_v<T, double>         ? H5T_NATIVE_DOUBLE
           : std::is_same_v<T, std::uint8_t> ? H5T_NATIVE_UINT8
                                             : H5T_NATIVE_INT64;
}

bool attribute(hid_t on, const char* name, const std::string& text) {
    const Handle type(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(type.id(), std::max<std::size_t>(1, text.size()));
    H5Tset_cset(type.id(), H5T_CSET_UTF8);
    const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    const Handle a(H5Acreate2(on, name, type.id(), space.id(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    const std::string padded = text.empty() ? std::string(1, '\0') : text;
    return a.ok() && H5Awrite(a.id(), type.id(), padded.data()) >= 0;
}

template <class T>
bool attribute(hid_t on, const char* name, T value) {
    const Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    const Handle a(H5Acreate2(on, name, typeFor<T>(), space.id(), H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return a.ok() && H5Awrite(a.id(), typeFor<T>(), &value) >= 0;
}

/// A growing dataset of rows of `width` values. Whole chunks go straight to the file, past HDF5's selections and cache.
template <class T>
class Dataset {
public:
    /// A chunk is no longer than what is `expected`: the file would be made larger by what the last one does not hold.
    Dataset(hid_t in, const std::string& name, std::uint64_t expected, hsize_t width = 1)
        : width_(width), chunkRows_(std::clamp<hsize_t>(expected, 1, 32'768)) {
        const hsize_t none[2] = {0, width}, most[2] = {H5S_UNLIMITED, width}, chunk[2] = {chunkRows_, width};
        const Handle space(H5Screate_simple(rank(), none, most), H5Sclose);
        const Handle properties(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_chunk(properties.id(), rank(), chunk);
        H5Pset_fill_time(properties.id(), H5D_FILL_TIME_NEVER);
        set_ = Handle(H5Dcreate2(in, name.c_str(), typeFor<T>(), space.id(), H5P_DEFAULT, properties.id(), H5P_DEFAULT),
                      H5Dclose);
    }
    bool append(const T* values, hsize_t n) {
        const std::size_t whole = chunkRows_ * width_;
        for (std::size_t left = n * width_; left > 0;) {
            if (held_.empty() && left >= whole) {
                if (!write(values)) return false;
                values += whole;
                left -= whole;
                continue;
            }
            const std::size_t more = std::min(left, whole - held_.size());
            held_.insert(held_.end(), values, values + more);
            values += more;
            left -= more;
            if (held_.size() < whole) continue;
            if (!write(held_.data())) return false;
            held_.clear();
        }
        rows_ += n;
        return true;
    }
    /// Writes what fills no chunk; nothing can be appended behind it.
    bool finish() {
        const hsize_t size[2] = {rows_, width_};
        if (held_.empty()) return true;
        held_.resize(chunkRows_ * width_);
        return write(held_.data()) && H5Dset_extent(set_.id(), size) >= 0;
    }
    [[nodiscard]] hsize_t rows() const { return rows_; }
    [[nodiscard]] hid_t id() const { return set_.id(); }
    [[nodiscard]] bool ok() const { return set_.ok(); }

private:
    [[nodiscard]] int rank() const { return width_ > 1 ? 2 : 1; }
    bool write(const T* chunk) {
        const hsize_t at[2] = {chunks_ * chunkRows_, 0}, size[2] = {++chunks_ * chunkRows_, width_};
        return set_.ok() && H5Dset_extent(set_.id(), size) >= 0 &&
               H5Dwrite_chunk(set_.id(), H5P_DEFAULT, 0, at, chunkRows_ * width_ * sizeof(T), chunk) >= 0;
    }
    Handle set_;
    hsize_t width_, chunkRows_;
    hsize_t rows_ = 0, chunks_ = 0;
    std::vector<T> held_;
};

/// Has the disk begin with what was written while the next is worked out, and wait for the rest at the end.
class Disk {
public:
    explicit Disk(hid_t file) {
        void* handle = nullptr;
        if (H5Fget_vfd_handle(file, H5P_DEFAULT, &handle) >= 0 && handle) fd_ = *static_cast<int*>(handle);
    }
    void wrote(std::size_t bytes) {
        constexpr std::size_t often = 16'000'000;
        if (fd_ < 0 || (waiting_ += bytes) < often) return;
        waiting_ = 0;
        sync_file_range(fd_, 0, 0, SYNC_FILE_RANGE_WRITE);  // what cannot be begun is written at the end
    }
    [[nodiscard]] bool finish() const { return fd_ < 0 || fdatasync(fd_) == 0; }

private:
    int fd_ = -1;
    std::size_t waiting_ = 0;
};

/// A name that HDF5 takes as one link: no slash, not just dots.
std::string linkName(std::string name) {
    std::replace(name.begin(), name.end(), '/', '_');
    if (name.empty() || name.find_first_not_of('.') == std::string::npos) name = "_" + name;
    return name;
}

bool describe(hid_t dataset, const RunSignal& s) {
    const SignalSpec& spec = s.current();
    std::string calibration;
    for (const Stage& stage : spec.chain) {
        calibration += (calibration.empty() ? "" : " ") + describeStage(stage).english();
        if (const std::string note = stageNote(stage); !note.empty()) calibration += " (" + note + ")";
    }
    return attribute(dataset, "name", spec.name) && attribute(dataset, "tag", spec.tag) &&
           attribute(dataset, "unit", unitText(spec.unit())) && attribute(dataset, "unit_ucum", spec.unit()) &&
           attribute(dataset, "chain", signalToJson(spec)) && attribute(dataset, "calibration", calibration);
}

/// What the numbers of a quality are, in words.
std::string qualityMeaning() {
    std::string out;
    for (int q = 0; q <= static_cast<int>(Quality::suspect); ++q)
        out += (q ? ", " : "") + std::to_string(q) + " " + qualityWord(static_cast<Quality>(q));
    return out;
}

struct Total {
    std::uint64_t done = 0, all = 0;
};

/// The steps of a replay, the next one worked out on another thread while one is written.
class StepsAhead {
public:
    explicit StepsAhead(RunReplay& replay) : replay_(replay) { begin(); }
    /// Stays valid until the next call. Null at the end. Precondition: it has not been null.
    const RunReplay::Step* next() {
        if (!ahead_.get()) return nullptr;
        std::swap(now_, then_);
        begin();
        return &now_;
    }

private:
    void begin() {
        ahead_ = std::async(std::launch::async, [this] { return replay_.next(then_); });
    }
    RunReplay& replay_;
    RunReplay::Step now_, then_;
    std::future<bool> ahead_;  // waits for it when it goes, before the others
};

/// One scan group into a group of the file. False if HDF5 could not; cancelled() says so where it was that.
bool writeGroup(hid_t file, RunReader& reader, const RunGroup& group, const std::vector<const RunSignal*>& members,
                Span span, Progress& progress, Disk& disk, Total& total, ExportResult& result) {
    const Handle out(
        H5Gcreate2(file, linkName(group.device + " " + group.name).c_str(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT),
        H5Gclose);
    if (!out.ok()) return false;
    RunReader::Part part{span, {}};
    for (const RunSignal* s : members) part.signals.push_back(s->id);
    // Chains look back: the replay begins so early that the readings are those that were shown.
    part.span.from = reader.replayFrom(group.id, part.signals, span.from);
    RunReplay replay(reader, group.id, part);
    std::vector<Dataset<double>> columns;
    for (const RunSignal* s : replay.signals()) {
        columns.emplace_back(out.id(), linkName(s->key), s->samples);
        if (!columns.back().ok() || !describe(columns.back().id(), *s)) return false;
    }
    std::vector<Dataset<std::uint8_t>> qualities;
    for (const RunSignal* s : replay.signals()) {
        qualities.emplace_back(out.id(), linkName(s->key) + "_quality", s->samples);
        if (!qualities.back().ok() || !attribute(qualities.back().id(), "meaning", qualityMeaning())) return false;
    }
    std::vector<std::uint8_t> numbers;
    std::optional<Dataset<double>> times;
    std::optional<Dataset<double>> pieces;
    std::optional<Instant> first, next;
    double dt = 0, lastDt = 0;
    std::uint64_t written = 0;
    const Instant zero = reader.info().span.from;
    StepsAhead steps(replay);
    while (const RunReplay::Step* step = steps.next()) {
        const Block& b = *step->block;
        std::size_t begin = 0, end = b.size();
        while (begin < end && b.timeOf(begin) < span.from) ++begin;
        while (end > begin && b.timeOf(end - 1) >= span.to) --end;
        if (begin == end) continue;
        if (!first) first = b.timeOf(begin);
        if (!b.times.empty()) {
            if (!times) times.emplace(out.id(), "time", group.samples);
            std::vector<double> seconds;
            for (std::size_t i = begin; i < end; ++i) seconds.push_back((b.times[i] - zero).seconds());
            if (!times->append(seconds.data(), seconds.size())) return false;
        } else {
            dt = b.dtNs;
            const Instant t0 = b.timeOf(begin);
            if (!next || lastDt != dt || std::llabs(t0.ns - next->ns) > 1) {
                if (!pieces) pieces.emplace(out.id(), "pieces", 64, 3);
                const double row[3] = {static_cast<double>(written), static_cast<double>((t0 - zero).ns), dt};
                if (!pieces->append(row, 1)) return false;
            }
            lastDt = dt;
            next = b.timeOf(end);
        }
        for (std::size_t c = 0; c < columns.size(); ++c) {
            if (!columns[c].append(step->readings[c].values.data() + begin, end - begin)) return false;
            numbers.assign(end - begin, 0);
            if (!step->readings[c].quality.empty()) {
                const auto each = worstOfEach(step->readings[c].quality, end);
                std::transform(each.begin() + static_cast<std::ptrdiff_t>(begin), each.end(), numbers.begin(),
                               [](Quality q) { return static_cast<std::uint8_t>(q); });
            }
            if (!qualities[c].append(numbers.data(), numbers.size())) return false;
        }
        written += end - begin;
        disk.wrote((end - begin) * columns.size() * sizeof(double));
        total.done += (end - begin) * columns.size();
        progress.advance(total.done, total.all);
        if (progress.cancelled()) return false;
    }
    result.damagedBlocks += replay.damagedBlocks();
    for (Dataset<double>& column : columns)
        if (!column.finish()) return false;
    for (Dataset<std::uint8_t>& column : qualities)
        if (!column.finish()) return false;
    if ((times && !times->finish()) || (pieces && !pieces->finish())) return false;
    for (std::size_t c = 0; c < columns.size(); ++c) {
        for (auto& [key, n] : result.samples)
            if (key == replay.signals()[c]->key) n += columns[c].rows();
        if (!attribute(columns[c].id(), "t0", first ? (*first - zero).seconds() : 0.0) ||
            !attribute(columns[c].id(), "dt", dt * 1e-9))
            return false;
    }
    const auto& anchors = reader.info().anchors;
    const std::int64_t t0 = first.value_or(zero).ns;
    return attribute(out.id(), "device", group.device) && attribute(out.id(), "rate_hz", group.rateHz) &&
           attribute(out.id(), "t0_ns", t0 - zero.ns) && attribute(out.id(), "dt", dt * 1e-9) &&
           (anchors.empty() ||
            attribute(out.id(), "t0_unix_ns", anchors.front().unixNs + (t0 - anchors.front().at.ns)));
}

}  // namespace

Result<ExportResult> exportHdf5(const std::string& runPath, const std::string& path, const ExportOptions& options,
                                Progress& progress) {
    auto opened = RunReader::open(runPath, options.version);
    if (!opened) return opened.error();
    RunReader& reader = *opened.value();
    const RunInfo& info = reader.info();
    auto found = chosenSignals(info, options.signals);
    if (!found) return found.error();
    ExportResult result;
    Total total{0, beginResult(found.value(), result)};
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);  // what fails is said by us
    auto made = NewFile::create(path, options.existing);
    if (!made) return made.error();
    // Ours already, and empty.
    Handle file(H5Fcreate(made.value().temporaryPath().c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
    if (!file.ok()) return failure("{0} cannot be written. Is the folder there, and may you write to it?", path);
    Disk disk(file.id());
    bool ok = attribute(file.id(), "bench", info.bench.name) && attribute(file.id(), "run", runPath);
    for (const RunGroup& group : info.groups) {
        std::vector<const RunSignal*> members;
        for (const RunSignal* s : found.value())
            if (s->group == group.id) members.push_back(s);
        if (members.empty()) continue;
        ok = ok &&
             writeGroup(file.id(), reader, group, members, chosenSpan(info, options), progress, disk, total, result);
    }
    ok = ok && H5Fflush(file.id(), H5F_SCOPE_LOCAL) >= 0 && disk.finish();
    file = {};
    const bool cancelled = progress.cancelled();
    if (cancelled) return failure("The export was cancelled; nothing was left behind.");
    if (!ok) return failure("{0} could not be written to the end. Is the disk full?", path);
    if (auto put = made.value().put(); !put) return put.error();
    progress.advance(total.all, total.all);
    return result;
}

}  // namespace cruscotto

#include "engine/keep_filter.h"

#include <algorithm>
#include <cmath>

#include "core/run/run_format.h"

namespace cruscotto {

namespace {

void append(Samples& to, const Samples& from, std::size_t i) {
    std::visit(
        [&](auto& v) {
            if (const auto* f = std::get_if<std::decay_t<decltype(v)>>(&from)) v.push_back((*f)[i]);
        },
        to);
}

Recorder::Columns columnsOf(const SignalSpec& signal) {
    auto out = std::make_shared<std::vector<RecordedColumn>>();
    for (SignalSpec& s : asRecorded(signal)) {
        std::string id = s.id;
        const bool beside = signal.keep.rawBeside && id != signal.id;
        out->push_back({out->size(), std::move(id), std::make_shared<const SignalSpec>(std::move(s)), beside});
    }
    return out;
}

const std::vector<QualityInterval>& rawQuality(const Block& block, std::size_t column) {
    static const std::vector<QualityInterval> good;
    return column < block.quality.size() ? block.quality[column] : good;
}

}  // namespace

KeepFilter::KeepFilter(const SignalSpec& signal) : id_(signal.id), keep_(signal.keep), columns_(columnsOf(signal)) {
    pyramids_.resize(columns_->size());
}

void KeepFilter::define(SignalSpec signal) {
    signal.keep = keep_;
    columns_ = columnsOf(signal);
}

void KeepFilter::begin(const Block& block, std::size_t column) {
    if (from_ != block.group) {
        from_ = block.group;
        auto made = std::make_shared<ScanGroup>();
        made->device = from_->device;
        made->name = "kept " + id_;
        const bool evenly = keep_.what == KeepSpec::What::everything || keep_.what == KeepSpec::What::oneInN;
        if (from_->clocked() && evenly)
            made->rateHz = from_->rateHz / (keep_.what == KeepSpec::What::oneInN ? keep_.every : 1);
        for (const RecordedColumn& c : *columns_) {
            const bool readings = keep_.asReadings && !c.beside;
            made->channels.push_back({c.signal, readings ? SampleType::float64 : typeOf(block.columns[column]),
                                      from_->channels[column].kind});
        }
        group_ = std::move(made);
    }
    if (const auto& gap = block.gapBefore)
        gap_ = gap_ ? Gap{gap_->from, gap->to, 0, gap_->cause, worse(gap_->quality, gap->quality)} : *gap;
    out_ = std::make_shared<Block>();
    out_->group = group_;
    for (const Channel& c : group_->channels) out_->columns.push_back(makeSamples(c.type, 0));
    out_->quality.resize(group_->channels.size());
}

KeepFilter::Sample KeepFilter::sampleAt(const Block& block, std::size_t column, const Readings& readings, std::size_t i,
                                        Quality quality) const {
    Sample s{block.timeOf(i), {}, readings.values[i], quality};
    if (!keep_.asReadings) {
        s.raw = makeSamples(typeOf(block.columns[column]), 0);
        append(s.raw, block.columns[column], i);
    }
    return s;
}

void KeepFilter::put(const Sample& sample) {
    const std::size_t at = out_->times.size();
    out_->times.push_back(sample.time);
    values_.push_back(sample.reading);
    if (keep_.asReadings)
        std::get<std::vector<double>>(out_->columns[0]).push_back(sample.reading);
    else
        append(out_->columns[0], sample.raw, 0);
    if (sample.quality != Quality::good) out_->quality[0].push_back({at, at + 1, sample.quality});
}

std::optional<ShotGate::Part> KeepFilter::look(const Block& block, std::size_t column, const Readings& readings) {
    begin(block, column);
    switch (keep_.what) {
        case KeepSpec::What::everything:
        case KeepSpec::What::oneInN:
            everyNth(block, column, readings);
            break;
        case KeepSpec::What::changes:
            changes(block, column, readings);
            break;
        case KeepSpec::What::summary:
            intervals(block, readings);
            break;
    }
    return give();
}

/// Counted from the device's first sample, so that what a gap costs stays exact.
void KeepFilter::everyNth(const Block& block, std::size_t column, const Readings& readings) {
    const auto n = static_cast<std::uint64_t>(keep_.what == KeepSpec::What::oneInN ? keep_.every : 1);
    const std::uint64_t first = (block.firstIndex + n - 1) / n;  // of what is kept
    const auto each = worstOfEach(keep_.asReadings ? readings.quality : rawQuality(block, column), block.size());
    std::size_t k = 0;
    for (std::uint64_t i = first * n - block.firstIndex; i < block.size(); i += n, ++k) {
        const auto at = static_cast<std::size_t>(i);
        if (k == 0) {
            out_->firstIndex = first;
            out_->t0 = block.timeOf(at);
            out_->dtNs = block.dtNs * static_cast<double>(n);
        }
        if (!block.times.empty()) out_->times.push_back(block.times[at]);
        values_.push_back(readings.values[at]);
        if (keep_.asReadings)
            std::get<std::vector<double>>(out_->columns[0]).push_back(readings.values[at]);
        else
            append(out_->columns[0], block.columns[column], at);
        // It stands for those that are left out behind it.
        Quality q = Quality::good;
        for (std::size_t j = at; j < std::min<std::size_t>(at + n, each.size()); ++j) q = worse(q, each[j]);
        if (q != Quality::good) {
            auto& list = out_->quality[0];
            if (!list.empty() && list.back().end == k && list.back().quality == q)
                ++list.back().end;
            else
                list.push_back({k, k + 1, q});
        }
    }
    if (keep_.rawBeside) {
        out_->columns[1] = block.columns[column];
        out_->quality[1] = rawQuality(block, column);
    }
    if (gap_ && k > 0) gap_->lostSamples = next_ > 0 && first > next_ ? first - next_ : 0;
    if (k > 0) next_ = first + k;
}

void KeepFilter::changes(const Block& block, std::size_t column, const Readings& readings) {
    const auto each = worstOfEach(keep_.asReadings ? readings.quality : rawQuality(block, column), block.size());
    const auto moved = [&](double a, double b) {
        return std::isnan(a) != std::isnan(b) || std::fabs(a - b) > keep_.deadBand;
    };
    // Nothing joins what was before a gap with what comes behind it.
    if (block.gapBefore) {
        if (skipped_) put(*skipped_);
        skipped_.reset();
        kept_.reset();
    }
    std::optional<std::size_t> skipped;  // in this block
    Quality skippedQuality = Quality::good;
    for (std::size_t i = 0; i < block.size(); ++i) {
        const Quality q = each[i];
        const double reading = readings.values[i];
        const bool change = !kept_ || moved(reading, kept_->reading) || q != kept_->quality;
        const bool due =
            kept_ && keep_.atLeastEvery > 0 && block.timeOf(i) - kept_->time >= seconds(keep_.atLeastEvery);
        if (!change && !due) {
            skipped = i;
            skippedQuality = q;
            continue;
        }
        if (change && kept_) {
            if (skipped)
                put(sampleAt(block, column, readings, *skipped, skippedQuality));
            else if (skipped_)
                put(*skipped_);
        }
        skipped.reset();
        skipped_.reset();
        kept_ = sampleAt(block, column, readings, i, q);
        put(*kept_);
    }
    if (skipped) skipped_ = sampleAt(block, column, readings, *skipped, skippedQuality);
}

void KeepFilter::intervals(const Block& block, const Readings& readings) {
    const auto each = worstOfEach(readings.quality, block.size());
    const double dt = block.times.empty() ? block.dtNs * 1e-9 : 0;
    const auto samples =
        static_cast<std::uint64_t>(dt > 0 ? std::max(1.0, std::round(keep_.intervalSeconds / dt)) : 1.0);
    for (std::size_t i = 0; i < block.size(); ++i) {
        const std::int64_t interval =
            dt > 0 ? static_cast<std::int64_t>((block.firstIndex + i) / samples)
                   : static_cast<std::int64_t>(std::floor(block.times[i].seconds() / keep_.intervalSeconds));
        if (any_ && interval != interval_) endInterval();
        if (!any_) {
            any_ = true;
            interval_ = interval;
            intervalBegin_ = block.timeOf(i);
        }
        sum_.add(readings.values[i]);
        worst_ = worse(worst_, each[i]);
    }
}

void KeepFilter::endInterval() {
    const std::size_t at = out_->times.size();
    out_->times.push_back(intervalBegin_);
    const double values[] = {sum_.mean, sum_.min, sum_.max};
    for (std::size_t c = 0; c < 3; ++c) {
        std::get<std::vector<double>>(out_->columns[c]).push_back(values[c]);
        if (worst_ != Quality::good) out_->quality[c].push_back({at, at + 1, worst_});
    }
    any_ = false;
    sum_ = {};
    worst_ = Quality::good;
}

std::optional<ShotGate::Part> KeepFilter::rest() {
    if (!group_) return std::nullopt;
    out_ = std::make_shared<Block>();
    out_->group = group_;
    for (const Channel& c : group_->channels) out_->columns.push_back(makeSamples(c.type, 0));
    out_->quality.resize(group_->channels.size());
    if (any_) endInterval();
    if (skipped_) put(*std::exchange(skipped_, std::nullopt));
    return give();
}

std::optional<ShotGate::Part> KeepFilter::give() {
    const std::size_t n = sizeOf(out_->columns[0]);
    if (n == 0) return std::nullopt;
    if (keep_.what == KeepSpec::What::changes || keep_.what == KeepSpec::What::summary) {
        out_->firstIndex = next_;
        out_->t0 = out_->times.front();
        next_ += n;
        if (gap_) gap_->lostSamples = 0;  // how many would have been kept, nobody knows
    }
    out_->gapBefore = std::exchange(gap_, std::nullopt);
    ShotGate::Part part;
    for (std::size_t c = 0; c < columns_->size(); ++c) {
        if ((*columns_)[c].beside) continue;  // it is not shown
        const bool summary = keep_.what == KeepSpec::What::summary;
        pyramids_[c].add(
            summary ? std::get<std::vector<double>>(out_->columns[c]) : values_,
            [&](std::size_t i) { return out_->timeOf(i); },
            [&](int level, const Bucket& b) {
                if (level >= runformat::firstStoredLevel) part.buckets.push_back({c, {level, b}});
            });
    }
    values_.clear();
    part.block = std::move(out_);
    part.columns = columns_;
    return part;
}

}  // namespace cruscotto

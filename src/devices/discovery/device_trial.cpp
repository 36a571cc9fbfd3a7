#include "devices/discovery/device_trial.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <nlohmann/json.hpp>
#include <optional>

#include "core/base/guarded.h"
#include "core/base/json_text.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "devices/settings_reader.h"

namespace cruscotto {

namespace {
constexpr int mostTries = 4;
}

class DeviceTrial::Sink : public DeviceSink {
public:
    /// A try begins, which ends with the first proposal where they are taken.
    JsonText begin(const DeviceKind& kind, std::stop_source end, bool takesProposals) {
        const Lock lock(mutex_);
        if (proposed_) state_.settings = std::move(*proposed_);
        proposed_.reset();
        state_.channels.clear();
        for (TerminalInfo& info : kind.terminals(state_.settings)) add(std::move(info));
        kind_ = &kind;
        end_ = std::move(end);
        takesProposals_ = takesProposals;
        return state_.settings;
    }
    [[nodiscard]] bool hasProposal() const {
        const Lock lock(mutex_);
        return proposed_.has_value();
    }
    explicit Sink(JsonText settings) { state_.settings = std::move(settings); }
    void deliver(BlockPtr block) override {
        if (block->size() == 0) return;
        const Lock lock(mutex_);
        for (std::size_t c = 0; c < block->columns.size(); ++c) {
            const auto& channel = block->group->channels[c];
            TerminalInfo info;
            info.terminal = channel.terminal;
            info.kind = channel.kind;
            info.type = channel.type;
            Channel& to = add(std::move(info));
            // The newest alone: a look needs no chain with a memory.
            std::vector<double> all;
            appendAsDouble(block->columns[c], all);
            if (std::isnan(all.back())) continue;
            auto chain = ChainEvaluator::make(to.info.chain, to.info.kind);
            if (!chain) continue;
            Readings readings;
            chain.value().process({all.back()}, {block->timeOf(all.size() - 1)}, readings);
            if (readings.values.empty()) continue;
            to.reading = shortNumber(readings.values.back());
            if (!to.info.chain.empty()) to.reading += " " + unitText(readingUnit(to.info.chain, to.info.kind));
        }
    }
    void report(DeviceStatus status) override {
        const Lock lock(mutex_);
        state_.link = status.state;
        state_.sentence = std::move(status.sentence);
        state_.parts = std::move(status.parts);
        for (TerminalInfo& info : status.found) {
            Channel& to = add(info);
            to.info = std::move(info);
        }
        if (takesProposals_ && !proposed_ && !status.suggestions.empty()) {
            proposed_ = with(status.suggestions.front());
            if (proposed_) end_.request_stop();
        }
    }
    [[nodiscard]] Instant now() const override {
        return {
            std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::steady_clock::now() - began_).count()};
    }
    [[nodiscard]] State state() const {
        const Lock lock(mutex_);
        return state_;
    }

private:
    std::optional<JsonText> with(const DeviceStatus::Suggestion& s) const HOLDING(mutex_) {
        const auto info = std::ranges::find(kind_->settings, s.key, &SettingInfo::key);
        auto settings = parseOrderedJson(state_.settings.empty() ? "{}" : state_.settings);
        if (info == kind_->settings.end() || !settings.is_object()) return std::nullopt;
        double number = 0;
        if (info->type == SettingInfo::Type::number && parseNumber(s.value, number))
            settings[s.key] = number;
        else if (info->type == SettingInfo::Type::pairs)
            settings[s.key] = pairsFromLines(s.value);
        else
            settings[s.key] = s.value;
        JsonText out = jsonText(settings);
        if (out == state_.settings || !kind_->check(out)) return std::nullopt;
        return out;
    }
    Channel& add(TerminalInfo info) HOLDING(mutex_) {
        const auto it = std::ranges::find(state_.channels, info.terminal,
                                          [](const Channel& c) -> const std::string& { return c.info.terminal; });
        if (it != state_.channels.end()) return *it;
        return state_.channels.emplace_back(Channel{std::move(info), {}});
    }
    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    mutable Mutex mutex_;
    State state_ GUARDED_BY(mutex_);
    const DeviceKind* kind_ GUARDED_BY(mutex_) = nullptr;
    std::stop_source end_ GUARDED_BY(mutex_);
    std::optional<JsonText> proposed_ GUARDED_BY(mutex_);
    bool takesProposals_ GUARDED_BY(mutex_) = false;
};

DeviceTrial::DeviceTrial(const DeviceKind& kind, const JsonText& settings)
    : kind_(kind),
      sink_(std::make_unique<Sink>(settings)),
      thread_([this](const std::stop_token& stop) { run(stop); }) {}

void DeviceTrial::run(const std::stop_token& stop) {
    for (int tries = 1; !stop.stop_requested(); ++tries) {
        std::stop_source end;
        const std::stop_callback both(stop, [&end] { end.request_stop(); });
        const JsonText settings = sink_->begin(kind_, end, tries < mostTries);
        kind_.make({"trial", Pace::realTime, {}, std::make_shared<WireTap>()}, settings, {})
            ->run(*sink_, end.get_token());
        if (!sink_->hasProposal()) return;
    }
}

DeviceTrial::~DeviceTrial() {
    thread_.request_stop();
    thread_.join();
}

DeviceTrial::State DeviceTrial::state() const {
    return sink_->state();
}

}  // namespace cruscotto

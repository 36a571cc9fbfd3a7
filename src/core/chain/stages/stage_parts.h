#pragma once

#include "core/chain/stage_kind.h"

/// What several kinds of stage have in common.
namespace cruscotto::stages {

/// y = slope * x + offset, for the stages that come down to that.
class Line : public StageProcessor {
public:
    Line(double slope, double offset) : slope_(slope), offset_(offset) {}
    void run(Stretch& s) override {
        for (double& x : s.values) x = slope_ * x + offset_;
    }

private:
    double slope_, offset_;
};

/// A number as it stands in a stage's sentence: six digits, with the minus of readings.
std::string number(double v);
/// The field that says in which unit a stage gives its readings.
StageField unitField();
/// The field by which a person sets a sum or an extreme back: each time it is another number, which makes the stage
/// begin anew, live and in a replay alike.
StageField resetField();
/// For stages whose unit is typed.
inline std::string typedUnit(const Stage& s, const std::string&) {
    return s.text("unit");
}
inline bool isAnalogInput(ChannelKind kind) {
    return kind == ChannelKind::analogInput;
}
/// Whose readings are numbers: also a counter's, as a frequency.
inline bool isAnalog(ChannelKind kind) {
    return kind == ChannelKind::analogInput || kind == ChannelKind::counterInput || kind == ChannelKind::computed;
}
/// Of what gives back something that came in, as it was.
inline std::optional<CarriedError> carriedAsItIs(const Stage&, const std::string&, const StageMoment& m) {
    return CarriedError{.offset = 1, .gain = m.out, .each = 1, .noise = 1};
}
/// Of a mean over so long.
inline CarriedError carriedAsMean(const StageMoment& m, Duration over) {
    return {.offset = 1, .gain = m.out, .each = 1, .noise = 1, .averaged = over};
}
/// Of the root of the mean square of so many samples. What is no error of its own with each sample counts in full.
std::optional<CarriedError> carriedAsRms(const StageMoment& m, double samples);
inline bool isComputed(ChannelKind kind) {
    return kind == ChannelKind::computed;
}

}  // namespace cruscotto::stages

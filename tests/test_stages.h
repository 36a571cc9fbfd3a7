#pragma once

#include "core/chain/common_stages.h"

/// Stages in short, for tests.
namespace cruscotto {

inline Stage formula(std::string text, std::string unit = "1") {
    return Stage::of("formula", {{"formula", std::move(text)}, {"unit", std::move(unit)}});
}
inline Stage movingMean(int samples) {
    return Stage::of("moving-mean", {{"samples", double(samples)}});
}
inline Stage convertUnit(std::string unit) {
    return Stage::of("convert-unit", {{"unit", std::move(unit)}});
}
inline Stage validRange(double low, double high) {
    return Stage::of("valid-range", {{"low", low}, {"high", high}});
}
inline Stage invert() {
    return Stage::of("invert");
}

}  // namespace cruscotto

// A formula and numbers as people type them, and units: refused, or worked out without a crash. Before the first line
// break the formula, then a number, then a unit.
#include "core/chain/chain.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const std::string all(reinterpret_cast<const char*>(data), size);
    const std::size_t first = std::min(all.find('\n'), all.size());
    const std::size_t second = std::min(all.find('\n', std::min(first + 1, all.size())), all.size());
    Stage formula = Stage::of("formula", {{"formula", all.substr(0, first)}});
    double typed = 0;
    if (first < all.size()) parseNumber(all.substr(first + 1, second - first - 1), typed);
    if (second < all.size()) {
        const std::string unit = unitFromTyped(all.substr(second + 1));
        unitText(unit);
        convertUnit(unit, "bar");
        compatibleUnits(unit);
        formula = formula.with("unit", unit);
    }
    shortNumber(typed);
    if (!checkStage(formula, "V")) return 0;
    auto chain = ChainEvaluator::make({formula}, ChannelKind::analogInput);
    if (!chain) return 0;
    Readings out;
    chain.value().process({0, 1, -1, typed, 1e300}, {{0}, {1}, {2}, {3}, {4}}, out);
    return out.values.size() == 5 ? 0 : 1;
}

#include "core/base/units.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <utility>

namespace cruscotto {

namespace {

struct Unit {
    const char* code;
    const char* shown;
    int quantity;   // same number: same kind of quantity
    double factor;  // to the quantity's base unit: base = factor * x + offset
    double offset;
};

// Factors are exact by definition (SI Brochure, 9th edition; NIST SP 811, appendix B, for psi, degF, the inch and the
// gallon).
constexpr std::array units{
    Unit{"bar", "bar", 1, 1e5, 0},
    Unit{"mbar", "mbar", 1, 100, 0},
    Unit{"Pa", "Pa", 1, 1, 0},
    Unit{"kPa", "kPa", 1, 1e3, 0},
    Unit{"MPa", "MPa", 1, 1e6, 0},
    Unit{"[psi]", "psi", 1, 6894.757293168, 0},
    Unit{"Cel", "°C", 2, 1, 273.15},
    Unit{"K", "K", 2, 1, 0},
    Unit{"[degF]", "°F", 2, 5.0 / 9.0, 459.67 * 5.0 / 9.0},
    Unit{"L/min", "L/min", 3, 1e-3 / 60, 0},
    Unit{"L/s", "L/s", 3, 1e-3, 0},
    Unit{"m3/h", "m³/h", 3, 1.0 / 3600, 0},
    Unit{"[gal_us]/min", "gal/min", 3, 3.785411784e-3 / 60, 0},
    Unit{"Hz", "Hz", 4, 1, 0},
    Unit{"kHz", "kHz", 4, 1e3, 0},
    Unit{"{rpm}", "rpm", 5, 1, 0},
    Unit{"{rev}/s", "rev/s", 5, 60, 0},
    Unit{"A", "A", 6, 1, 0},
    Unit{"mA", "mA", 6, 1e-3, 0},
    Unit{"V", "V", 7, 1, 0},
    Unit{"mV", "mV", 7, 1e-3, 0},
    Unit{"uV", "µV", 7, 1e-6, 0},
    Unit{"[g]", "g", 8, 9.80665, 0},
    Unit{"m/s2", "m/s²", 8, 1, 0},
    Unit{"kg", "kg", 9, 1, 0},
    Unit{"g", "g", 9, 1e-3, 0},
    Unit{"Ohm", "Ω", 10, 1, 0},
    Unit{"kOhm", "kΩ", 10, 1e3, 0},
    Unit{"%", "%", 11, 1e-2, 0},
    Unit{"1", "", 11, 1, 0},
    Unit{"um/m", "µm/m", 20, 1e-6, 0},
    Unit{"s", "s", 12, 1, 0},
    Unit{"ms", "ms", 12, 1e-3, 0},
    Unit{"min", "min", 12, 60, 0},
    Unit{"h", "h", 12, 3600, 0},
    Unit{"m", "m", 13, 1, 0},
    Unit{"cm", "cm", 13, 1e-2, 0},
    Unit{"mm", "mm", 13, 1e-3, 0},
    Unit{"[in_i]", "in", 13, 0.0254, 0},
    Unit{"W", "W", 14, 1, 0},
    Unit{"kW", "kW", 14, 1e3, 0},
    Unit{"N", "N", 15, 1, 0},
    Unit{"kN", "kN", 15, 1e3, 0},
    Unit{"L", "L", 16, 1e-3, 0},
    Unit{"mL", "mL", 16, 1e-6, 0},
    Unit{"J", "J", 19, 1, 0},
    Unit{"kJ", "kJ", 19, 1e3, 0},
    Unit{"W.h", "Wh", 19, 3.6e3, 0},
    Unit{"kW.h", "kWh", 19, 3.6e6, 0},
    Unit{"m/s", "m/s", 21, 1, 0},
    Unit{"cm/s", "cm/s", 21, 1e-2, 0},
    Unit{"mm/s", "mm/s", 21, 1e-3, 0},
    Unit{"m/min", "m/min", 21, 1.0 / 60, 0},
    Unit{"km/h", "km/h", 21, 1 / 3.6, 0},
    Unit{"kg/m3", "kg/m³", 22, 1, 0},
    Unit{"g/m3", "g/m³", 22, 1e-3, 0},
    Unit{"g/cm3", "g/cm³", 22, 1e3, 0},
    Unit{"deg", "°", 23, std::numbers::pi / 180, 0},
    Unit{"rad", "rad", 23, 1, 0},
    Unit{"m2", "m²", 24, 1, 0},
    Unit{"cm2", "cm²", 24, 1e-4, 0},
    Unit{"m3", "m³", 16, 1, 0},
    Unit{"{counts}", "counts", 17, 1, 0},
    Unit{"{pulses}", "pulses", 18, 1, 0},
};

// What else people type. Micro and ohm have two characters each in Unicode that look the same.
constexpr std::pair<const char*, const char*> typedOtherwise[] = {
    {"degC", "Cel"},     {"deg C", "Cel"},  {"celsius", "Cel"}, {"Celsius", "Cel"},  {"degF", "[degF]"},
    {"deg F", "[degF]"}, {"RPM", "{rpm}"},  {"r/min", "{rpm}"}, {"l", "L"},          {"ml", "mL"},
    {"l/min", "L/min"},  {"l/s", "L/s"},    {"m^3/h", "m3/h"},  {"m/s^2", "m/s2"},   {"ohm", "Ohm"},
    {"kohm", "kOhm"},    {"\u03bcV", "uV"}, {"\u2126", "Ohm"},  {"k\u2126", "kOhm"},
};

using Dimension = std::array<int, 5>;  // of kg, m, s, A, K
struct Quantity {
    int number;
    Dimension dimension;
};
// Those that products are made of and can make. Speeds of rotation and angles are not among them: whether a turn
// counts there as 1 or as 2 pi is for people to say.
constexpr std::array quantities{
    Quantity{1, {1, -1, -2, 0, 0}}, Quantity{2, {0, 0, 0, 0, 1}},   Quantity{3, {0, 3, -1, 0, 0}},
    Quantity{4, {0, 0, -1, 0, 0}},  Quantity{6, {0, 0, 0, 1, 0}},   Quantity{7, {1, 2, -3, -1, 0}},
    Quantity{8, {0, 1, -2, 0, 0}},  Quantity{9, {1, 0, 0, 0, 0}},   Quantity{10, {1, 2, -3, -2, 0}},
    Quantity{11, {0, 0, 0, 0, 0}},  Quantity{12, {0, 0, 1, 0, 0}},  Quantity{13, {0, 1, 0, 0, 0}},
    Quantity{14, {1, 2, -3, 0, 0}}, Quantity{15, {1, 1, -2, 0, 0}}, Quantity{16, {0, 3, 0, 0, 0}},
    Quantity{19, {1, 2, -2, 0, 0}}, Quantity{21, {0, 1, -1, 0, 0}}, Quantity{22, {1, -3, 0, 0, 0}},
    Quantity{24, {0, 2, 0, 0, 0}},
};

const Unit* find(const std::string& code) {
    for (const Unit& u : units)
        if (code == u.code) return &u;
    return nullptr;
}

/// "bar.s/m", with what stands below the line behind it.
std::string writtenProduct(std::span<const UnitPower> powers) {
    std::string above, below;
    for (const UnitPower& p : powers) {
        if (p.power == 0 || p.unit == "1") continue;
        const bool compound = p.unit.find_first_of("./") != std::string::npos;
        const int size = std::abs(p.power);
        std::string one = compound && (p.power < 0 || size > 1) ? "(" + p.unit + ")" : p.unit;
        if (size > 1) one += std::to_string(size);
        if (p.power > 0)
            above += (above.empty() ? "" : ".") + one;
        else
            below += "/" + one;
    }
    return above.empty() && below.empty() ? "1" : above + below;
}

}  // namespace

UnitProduct unitProduct(std::span<const UnitPower> powers) {
    Dimension all{};
    double factor = 1;
    for (const UnitPower& p : powers) {
        const Unit* u = find(p.unit);
        const auto q = u ? std::ranges::find(quantities, u->quantity, &Quantity::number) : quantities.end();
        if (q == quantities.end() || u->offset != 0) return {writtenProduct(powers), 1};
        for (std::size_t i = 0; i < all.size(); ++i) all[i] += p.power * q->dimension[i];
        factor *= std::pow(u->factor, p.power);
    }
    const auto made = std::ranges::find(quantities, all, &Quantity::dimension);
    if (made == quantities.end()) return {writtenProduct(powers), 1};
    if (all == Dimension{}) return {"1", factor};
    // Of its units the one in whose size the numbers stay nearest to what they are.
    const Unit* nearest = nullptr;
    const auto distance = [&](const Unit& u) { return std::fabs(std::log(u.factor / factor)); };
    for (const Unit& u : units)
        if (u.quantity == made->number && u.offset == 0 && (!nearest || distance(u) < distance(*nearest))) nearest = &u;
    return {nearest->code, factor / nearest->factor};
}

std::string unitText(const std::string& ucum) {
    if (const Unit* u = find(ucum)) return u->shown;
    std::string out;
    bool exponent = false;
    for (const char c : ucum) {
        if (c == '{' || c == '}' || c == '[' || c == ']') continue;
        if (c == '2' && exponent)
            out += "²";
        else if (c == '3' && exponent)
            out += "³";
        else if (c == '.')
            out += "·";
        else
            out += c;
        exponent = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
    }
    return out;
}

std::string unitFromTyped(const std::string& typed) {
    const auto first = typed.find_first_not_of(" \t");
    if (first == std::string::npos) return "1";
    std::string trimmed = typed.substr(first, typed.find_last_not_of(" \t") - first + 1);
    if (find(trimmed)) return trimmed;
    for (const Unit& u : units)
        if (trimmed == u.shown) return u.code;
    for (const auto& [other, code] : typedOtherwise)
        if (trimmed == other) return code;
    if (trimmed.find_first_of("{}") != std::string::npos) return trimmed;
    return "{" + trimmed + "}";
}

std::optional<UnitConversion> convertUnit(const std::string& from, const std::string& to) {
    if (from == to) return UnitConversion{};
    const Unit* a = find(from);
    const Unit* b = find(to);
    if (!a || !b || a->quantity != b->quantity) return std::nullopt;
    return UnitConversion{a->factor / b->factor, (a->offset - b->offset) / b->factor};
}

std::vector<std::string> compatibleUnits(const std::string& ucum) {
    std::vector<std::string> out;
    if (const Unit* own = find(ucum))
        for (const Unit& u : units)
            if (u.quantity == own->quantity) out.emplace_back(u.code);
    return out;
}

}  // namespace cruscotto

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/parsed.h"

namespace cruscotto {

std::string exactNumber(double v) {
    if (std::isnan(v)) return {};
    std::array<char, 32> buffer;
    const auto [end, error] = std::to_chars(buffer.data(), buffer.data() + buffer.size(), v);
    return {buffer.data(), end};
}

std::string shortNumber(double v) {
    if (std::isnan(v)) return "–";
    return fmt::format("{:.6g}", v);
}

std::string threeDigits(double v) {
    if (v == 0 || !std::isfinite(v)) return readingText(v, 0);
    const double size = std::fabs(v);
    if (size >= 1e-4 && size < 1e6)
        return readingText(v, std::clamp(2 - static_cast<int>(std::floor(std::log10(size))), 0, 6));
    std::string out = fmt::format("{:.2e}", v);
    for (std::size_t at = 0; (at = out.find('-', at)) != std::string::npos; at += 3) out.replace(at, 1, "\u2212");
    return out;
}

std::string readingText(double v, int decimals) {
    if (std::isnan(v)) return "–";
    if (std::isinf(v)) return v > 0 ? "+∞" : "−∞";
    if (std::fabs(v) >= 1e10) return fmt::format("{:.4g}", v);
    std::string out = fmt::format("{:.{}f}", v, std::clamp(decimals, 0, 9));
    if (out.front() == '-') {
        // "-0.00" is zero to this many digits
        if (out.find_first_of("123456789") == std::string::npos) return out.substr(1);
        out.replace(0, 1, "−");
    }
    return out;
}

int decimalsFor(double low, double high) {
    const double span = std::fabs(high - low);
    if (!(span > 0) || !std::isfinite(span)) return 2;
    return std::clamp(3 - static_cast<int>(std::ceil(std::log10(span) - 1e-9)), 0, 6);
}

bool parseNumber(const std::string& typed, double& out) {
    std::string s;
    for (std::size_t i = 0; i < typed.size(); ++i) {
        if (typed.compare(i, 3, "−") == 0) {
            s += '-';
            i += 2;
        } else if (typed[i] == ',') {
            s += '.';
        } else if (typed[i] != ' ' && typed[i] != '\t') {
            s += typed[i];
        }
    }
    if (!s.empty() && s.front() == '+') s.erase(0, 1);
    double value = 0;
    if (!parsed(s, value) || !std::isfinite(value)) return false;
    out = value;
    return true;
}

}  // namespace cruscotto

#pragma once

#include <span>
#include <string_view>

#include "core/signal/scale.h"

namespace cruscotto {

/// The reference function of a thermocouple type: NIST Monograph 175 (1993), the same as IEC 60584-1:2013, ITS-90.
class ThermocoupleFunction {
public:
    /// "B", "E", "J", "K", "N", "R", "S" or "T"; nullptr for any other. Any thread.
    static const ThermocoupleFunction* of(std::string_view type);

    /// Millivolts with the reference junction at 0 degC. `celsius` within range().
    [[nodiscard]] double millivolts(double celsius) const;
    /// The temperature at which millivolts() gives this: by Newton's method on the reference function itself, to
    /// 1e-9 degC. `mv` within unique().
    [[nodiscard]] double celsius(double mv) const;
    [[nodiscard]] const Scale& range() const { return range_; }
    /// Millivolts that only one temperature gives: all of the range but for type B, whose function turns at 21 degC and
    /// which is inverted from 50 degC on.
    [[nodiscard]] const Scale& unique() const { return unique_; }

    /// The slope of millivolts() at `celsius`: mV a degree.
    [[nodiscard]] double slope(double celsius) const;

    struct Piece {
        double from;                           ///< degC
        std::span<const double> coefficients;  ///< of t^0, t^1 ...
    };

private:
    ThermocoupleFunction(std::span<const Piece> pieces, Scale range, double invertedFrom, bool exponential);
    [[nodiscard]] const Piece& pieceAt(double celsius) const;

    std::span<const Piece> pieces_;
    Scale range_, unique_;
    double invertedFrom_;
    bool exponential_;  ///< type K above 0 degC has a term with e besides
};

}  // namespace cruscotto

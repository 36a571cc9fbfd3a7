#include "core/chain/stages/thermocouple_functions.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

namespace {

using Piece = ThermocoupleFunction::Piece;

// NIST Monograph 175, tables of coefficients; millivolts and degC.
namespace coefficients {
constexpr double b0[] = {
    0, -0.00024650818346, 5.9040421171e-06, -1.3257931636e-09, 1.5668291901e-12, -1.694452924e-15, 6.2990347094e-19};
constexpr double b1[] = {-3.8938168621,    0.02857174747,     -8.4885104785e-05, 1.5785280164e-07, -1.6835344864e-10,
                         1.1109794013e-13, -4.4515431033e-17, 9.8975640821e-21,  -9.3791330289e-25};
constexpr Piece bPieces[] = {{0, b0}, {630.615, b1}};
constexpr double e0[] = {0,
                         0.058665508708,
                         4.5410977124e-05,
                         -7.7998048686e-07,
                         -2.5800160843e-08,
                         -5.9452583057e-10,
                         -9.3214058667e-12,
                         -1.0287605534e-13,
                         -8.0370123621e-16,
                         -4.3979497391e-18,
                         -1.6414776355e-20,
                         -3.9673619516e-23,
                         -5.5827328721e-26,
                         -3.4657842013e-29};
constexpr double e1[] = {0,
                         0.05866550871,
                         4.5032275582e-05,
                         2.8908407212e-08,
                         -3.3056896652e-10,
                         6.502440327e-13,
                         -1.9197495504e-16,
                         -1.2536600497e-18,
                         2.1489217569e-21,
                         -1.4388041782e-24,
                         3.5960899481e-28};
constexpr Piece ePieces[] = {{-270, e0}, {0, e1}};
constexpr double j0[] = {0,
                         0.050381187815,
                         3.047583693e-05,
                         -8.568106572e-08,
                         1.3228195295e-10,
                         -1.7052958337e-13,
                         2.0948090697e-16,
                         -1.2538395336e-19,
                         1.5631725697e-23};
constexpr double j1[] = {296.45625681,      -1.4976127786,    0.0031787103924,
                         -3.1847686701e-06, 1.5720819004e-09, -3.0691369056e-13};
constexpr Piece jPieces[] = {{-210, j0}, {760, j1}};
constexpr double k0[] = {0,
                         0.039450128025,
                         2.3622373598e-05,
                         -3.2858906784e-07,
                         -4.9904828777e-09,
                         -6.7509059173e-11,
                         -5.7410327428e-13,
                         -3.1088872894e-15,
                         -1.0451609365e-17,
                         -1.9889266878e-20,
                         -1.6322697486e-23};
constexpr double k1[] = {-0.017600413686,   0.038921204975,   1.8558770032e-05,  -9.9457592874e-08, 3.1840945719e-10,
                         -5.6072844889e-13, 5.6075059059e-16, -3.2020720003e-19, 9.7151147152e-23,  -1.2104721275e-26};
constexpr Piece kPieces[] = {{-270, k0}, {0, k1}};
constexpr double n0[] = {0,
                         0.026159105962,
                         1.0957484228e-05,
                         -9.3841111554e-08,
                         -4.6412039759e-11,
                         -2.6303357716e-12,
                         -2.2653438003e-14,
                         -7.6089300791e-17,
                         -9.3419667835e-20};
constexpr double n1[] = {0,
                         0.025929394601,
                         1.571014188e-05,
                         4.3825627237e-08,
                         -2.5261169794e-10,
                         6.4311819339e-13,
                         -1.0063471519e-15,
                         9.9745338992e-19,
                         -6.0863245607e-22,
                         2.0849229339e-25,
                         -3.0682196151e-29};
constexpr Piece nPieces[] = {{-270, n0}, {0, n1}};
constexpr double r0[] = {0,
                         0.00528961729765,
                         1.39166589782e-05,
                         -2.38855693017e-08,
                         3.56916001063e-11,
                         -4.62347666298e-14,
                         5.00777441034e-17,
                         -3.73105886191e-20,
                         1.57716482367e-23,
                         -2.81038625251e-27};
constexpr double r1[] = {2.95157925316,      -0.00252061251332, 1.59564501865e-05,
                         -7.64085947576e-09, 2.05305291024e-12, -2.93359668173e-16};
constexpr double r2[] = {152.232118209, -0.268819888545, 0.000171280280471, -3.45895706453e-08, -9.34633971046e-15};
constexpr Piece rPieces[] = {{-50, r0}, {1064.18, r1}, {1664.5, r2}};
constexpr double s0[] = {0,
                         0.00540313308631,
                         1.2593428974e-05,
                         -2.32477968689e-08,
                         3.22028823036e-11,
                         -3.31465196389e-14,
                         2.55744251786e-17,
                         -1.25068871393e-20,
                         2.71443176145e-24};
constexpr double s1[] = {1.32900444085, 0.00334509311344, 6.54805192818e-06, -1.64856259209e-09, 1.29989605174e-14};
constexpr double s2[] = {146.628232636, -0.258430516752, 0.000163693574641, -3.30439046987e-08, -9.43223690612e-15};
constexpr Piece sPieces[] = {{-50, s0}, {1064.18, s1}, {1664.5, s2}};
constexpr double t0[] = {0,
                         0.038748106364,
                         4.4194434347e-05,
                         1.1844323105e-07,
                         2.0032973554e-08,
                         9.0138019559e-10,
                         2.2651156593e-11,
                         3.6071154205e-13,
                         3.8493939883e-15,
                         2.8213521925e-17,
                         1.4251594779e-19,
                         4.8768662286e-22,
                         1.079553927e-24,
                         1.3945027062e-27,
                         7.9795153927e-31};
constexpr double t1[] = {0,
                         0.038748106364,
                         3.329222788e-05,
                         2.0618243404e-07,
                         -2.1882256846e-09,
                         1.0996880928e-11,
                         -3.0815758772e-14,
                         4.547913529e-17,
                         -2.7512901673e-20};
constexpr Piece tPieces[] = {{-270, t0}, {0, t1}};
}  // namespace coefficients

double polynomial(std::span<const double> c, double x) {
    double y = 0;
    for (std::size_t i = c.size(); i-- > 0;) y = y * x + c[i];
    return y;
}

double derivative(std::span<const double> c, double x) {
    double y = 0;
    for (std::size_t i = c.size(); i-- > 1;) y = y * x + c[i] * static_cast<double>(i);
    return y;
}

// The term of type K above 0 degC: size, width and place.
constexpr double hump = 0.1185976, narrow = -0.1183432e-3, humpAt = 126.9686;

double humpOf(double t) {
    return hump * std::exp(narrow * (t - humpAt) * (t - humpAt));
}

}  // namespace

ThermocoupleFunction::ThermocoupleFunction(std::span<const Piece> pieces, Scale range, double invertedFrom,
                                           bool exponential)
    : pieces_(pieces), range_(range), invertedFrom_(invertedFrom), exponential_(exponential) {
    unique_ = {millivolts(invertedFrom), millivolts(range.high)};
}

const ThermocoupleFunction* ThermocoupleFunction::of(std::string_view type) {
    static const ThermocoupleFunction b(coefficients::bPieces, {0, 1820}, 50, false);
    static const ThermocoupleFunction e(coefficients::ePieces, {-270, 1000}, -270, false);
    static const ThermocoupleFunction j(coefficients::jPieces, {-210, 1200}, -210, false);
    static const ThermocoupleFunction k(coefficients::kPieces, {-270, 1372}, -270, true);
    static const ThermocoupleFunction n(coefficients::nPieces, {-270, 1300}, -270, false);
    static const ThermocoupleFunction r(coefficients::rPieces, {-50, 1768.1}, -50, false);
    static const ThermocoupleFunction s(coefficients::sPieces, {-50, 1768.1}, -50, false);
    static const ThermocoupleFunction t(coefficients::tPieces, {-270, 400}, -270, false);
    if (type.size() != 1) return nullptr;
    switch (type[0]) {
        case 'B':
            return &b;
        case 'E':
            return &e;
        case 'J':
            return &j;
        case 'K':
            return &k;
        case 'N':
            return &n;
        case 'R':
            return &r;
        case 'S':
            return &s;
        case 'T':
            return &t;
        default:
            return nullptr;
    }
}

const ThermocoupleFunction::Piece& ThermocoupleFunction::pieceAt(double celsius) const {
    std::size_t i = 0;
    while (i + 1 < pieces_.size() && celsius >= pieces_[i + 1].from) ++i;
    return pieces_[i];
}

double ThermocoupleFunction::millivolts(double celsius) const {
    const double mv = polynomial(pieceAt(celsius).coefficients, celsius);
    return exponential_ && celsius >= 0 ? mv + humpOf(celsius) : mv;
}

double ThermocoupleFunction::slope(double celsius) const {
    const double d = derivative(pieceAt(celsius).coefficients, celsius);
    return exponential_ && celsius >= 0 ? d + 2 * narrow * (celsius - humpAt) * humpOf(celsius) : d;
}

double ThermocoupleFunction::celsius(double mv) const {
    // Newton's method, kept within a bracket: near absolute zero the function is almost flat.
    double low = invertedFrom_, high = range_.high;
    double t = low + (high - low) * (mv - unique_.low) / (unique_.high - unique_.low);
    for (int i = 0; i < 200; ++i) {
        const double off = millivolts(t) - mv;
        (off > 0 ? high : low) = t;
        double next = t - off / slope(t);
        if (!(next > low && next < high)) next = low + (high - low) / 2;
        if (std::fabs(next - t) < 1e-10) return next;
        t = next;
    }
    return t;
}

}  // namespace cruscotto

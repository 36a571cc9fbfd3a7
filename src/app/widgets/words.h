#pragma once

#include <QCoreApplication>
#include <QDateTime>
#include <QLocale>
#include <QString>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/text.h"
#include "core/base/units.h"
#include "core/bench/bench.h"
#include "core/bench/seen_readings.h"
#include "core/history/source.h"

namespace cruscotto {

/// A sentence from core or devices in the person's language.
inline QString shown(const Text& text) {
    return QString::fromStdString(text.fill(QCoreApplication::translate("core", text.pattern.c_str()).toStdString()));
}
inline QString shown(const std::string& s) {
    return QString::fromStdString(s);
}

/// How many, with its thousands set apart.
inline QString countText(std::uint64_t n) {
    return QLocale(QLocale::English).toString(static_cast<qulonglong>(n));
}

/// `one` for one of them, else `many`, in which %1 is their number.
inline QString counted(std::uint64_t n, const QString& one, const QString& many) {
    return n == 1 ? one : many.arg(countText(n));
}

/// A number exactly as it is kept, with the minus that readings have.
inline QString exactText(double v) {
    return shown(exactNumber(v)).replace('-', QChar(0x2212));
}
/// A value with three digits and its unit (UCUM), where it has one.
inline QString quantityText(double v, const std::string& ucum) {
    const std::string unit = unitText(ucum);
    return shown(threeDigits(v) + (unit.empty() || unit == "1" ? "" : " " + unit));
}
/// An output's value with the decimals that suit what it can be set to.
inline QString outputText(const SignalSpec& s, double v) {
    const Scale scale = expectedScale(s).value_or(Scale{});
    return shown(readingText(v, decimalsFor(scale.low, scale.high)));
}
/// What stands beside a trace's end and an axis: its tag, or else its name.
inline QString tagOf(const SignalSpec& s) {
    return shown(s.tag.empty() ? s.name : s.tag);
}
inline QString unitOf(const SignalSpec& s) {
    return shown(unitText(s.unit()));
}

/// "open", "closed" ...: what a digital reading is called.
inline QString stateWord(const SignalSpec& s, double v) {
    if (v != v) return QStringLiteral("–");
    if (v > 0.5) return s.onWord.empty() ? QCoreApplication::translate("core", "on") : shown(s.onWord);
    return s.offWord.empty() ? QCoreApplication::translate("core", "off") : shown(s.offWord);
}

/// A length of time with three digits, in the unit that suits it: "1.25 s", "340 ms", "2 h 5 min".
inline QString lengthText(Duration d) {
    const double s = d.seconds();
    constexpr double minute = 60, hour = 3600;
    const auto in = [](double v, const char* unit) { return shown(threeDigits(v)) + QStringLiteral(" ") + unit; };
    if (s >= hour)
        return QStringLiteral("%1 h %2 min")
            .arg(static_cast<int>(s / hour))
            .arg(std::fmod(s, hour) / minute, 0, 'f', 1);
    if (s >= 2 * minute)
        return QStringLiteral("%1 min %2 s").arg(static_cast<int>(s / minute)).arg(std::fmod(s, minute), 0, 'f', 1);
    return s >= 1 ? in(s, "s") : s >= 1e-3 ? in(s * 1e3, "ms") : in(s * 1e6, "µs");
}

/// For how much of a stretch a state was on.
inline QString shareText(const SignalSpec& s, double share) {
    if (share != share) return QStringLiteral("–");
    if (share == 0 || share == 1) return stateWord(s, share);
    return QStringLiteral("%1 % ").arg(shown(threeDigits(100 * share))) + stateWord(s, 1);
}

/// The kind of data that a signal is dragged as.
inline constexpr const char* signalMime = "application/x-cruscotto-signal";

/// With its date, to a tenth of a second: "2026-01-15 08:31:07.4".
inline QString wallDateText(const Source& source, Instant t) {
    const WallAnchor anchor = source.anchor();
    const qint64 ms = (anchor.unixNs + (t.ns - anchor.at.ns)) / 1'000'000;
    constexpr int toTenths = 21;
    return QDateTime::fromMSecsSinceEpoch(ms).toString("yyyy-MM-dd HH:mm:ss.zzz").left(toTenths);
}
/// "12:31:07" by the wall clock of the source's anchor.
inline QString wallTimeText(const Source& source, Instant t, bool tenths = false) {
    const WallAnchor anchor = source.anchor();
    const qint64 ms = (anchor.unixNs + (t.ns - anchor.at.ns)) / 1'000'000;
    return QDateTime::fromMSecsSinceEpoch(ms).toString(tenths ? "HH:mm:ss.z" : "HH:mm:ss").left(tenths ? 10 : 8);
}

}  // namespace cruscotto

#pragma once

#include <QCoreApplication>
#include <QDateTime>
#include <QLocale>
#include <QString>

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

/// An output's value with the decimals that suit what it can be set to.
inline QString outputText(const SignalSpec& s, double v) {
    const Scale scale = expectedScale(s).value_or(Scale{});
    return shown(readingText(v, decimalsFor(scale.low, scale.high)));
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

/// Whether it stands where it was until it is read or set again, and is drawn so.
inline bool holds(const SignalSpec& s) {
    return s.isState() || isOutput(s.kind);
}

/// The kind of data that a signal is dragged as.
inline constexpr const char* signalMime = "application/x-cruscotto-signal";

/// "12:31:07" by the wall clock of the source's anchor.
inline QString wallTimeText(const Source& source, Instant t, bool tenths = false) {
    const WallAnchor anchor = source.anchor();
    const qint64 ms = (anchor.unixNs + (t.ns - anchor.at.ns)) / 1'000'000;
    return QDateTime::fromMSecsSinceEpoch(ms).toString(tenths ? "HH:mm:ss.z" : "HH:mm:ss").left(tenths ? 10 : 8);
}

}  // namespace cruscotto

#pragma once

#include <QCoreApplication>
#include <QLocale>
#include <QString>

#include "core/bench.h"
#include "core/text.h"
#include "core/units.h"

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

/// A reading as a number with the decimals that suit the signal; its unit separately.
inline int decimalsOf(const SignalSpec& s) {
    return s.scale ? decimalsFor(s.scale->low, s.scale->high) : 2;
}
inline QString numberText(const SignalSpec& s, double v) {
    return shown(readingText(v, decimalsOf(s)));
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
    return isDigital(s.kind) || isOutput(s.kind);
}

/// The scale that a tile shows a signal on: its own for the unit, else the signal's, else 0 to 1.
inline Scale scaleOf(const TileSpec& tile, const SignalSpec& s) {
    if (const auto it = tile.scales.find(s.unit()); it != tile.scales.end()) return it->second;
    return s.scale.value_or(Scale{0, 1});
}

}  // namespace cruscotto

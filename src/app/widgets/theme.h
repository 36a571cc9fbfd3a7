#pragma once

#include <QColor>
#include <QFont>
#include <QPainter>
#include <QString>
#include <array>

#include "core/bench/bench.h"
#include "core/history/source.h"
#include "core/rules/alarm_book.h"

/// Colours, type and the few painting habits that all views share. Screen thread only.
namespace cruscotto {

struct Theme {
    bool night = false;
    QColor ground;  ///< the page
    QColor panel;   ///< lists and drawers beside it
    QColor ink;
    QColor muted;  ///< secondary text; 4.5:1 on ground and panel
    QColor hairline;
    QColor track;   ///< an empty scale
    QColor accent;  ///< only what is live or selected
    QColor amber, red;
    std::array<QColor, 8> signal;
};

const Theme& dayTheme();
const Theme& nightTheme();
/// The theme in force.
const Theme& theme();
/// Sets palette and style sheet of the application.
void applyTheme(bool night);

/// Inter at a size in pixels.
QFont uiFont(double px, QFont::Weight weight = QFont::Normal);
/// The small caption above a value.
QFont captionFont();

/// Text whose figures all have one width, so that numbers stand still while they change. Other characters keep theirs.
double figuresWidth(const QFont& font, const QString& text);
/// Draws from the left at a baseline; returns the x behind the text.
double drawFigures(QPainter& painter, QPointF baseline, const QFont& font, const QString& text);

/// What is to be said beside a reading, with a shape before it; no words where there is nothing to say.
struct Remark {
    QString words;
    QColor colour;
};
/// What is wrong with it, in the word of the evidence where there is one; else which limit it passed; else what is to
/// be known of it all the same.
Remark remarkOn(const SignalSpec& s, const Reading& reading, const std::vector<Evidence>& evidence);
/// An alarm in its words, with the shape of its priority before them.
QString alarmText(const Alarm& alarm);
/// The evidence with its grounds, for a hint; empty: nothing is to be said.
QString evidenceText(const std::vector<Evidence>& evidence);

/// A quality as one or two translated words with a shape before them ("▲ clipped"); empty for good.
QString qualityText(Quality quality);
/// Amber or red for what is not good.
QColor qualityColour(Quality quality);

}  // namespace cruscotto

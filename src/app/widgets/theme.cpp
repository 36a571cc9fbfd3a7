#include "app/widgets/theme.h"

#include <QApplication>
#include <QCoreApplication>
#include <QFontMetricsF>
#include <QPalette>
#include <algorithm>
#include <cmath>

#include "app/widgets/words.h"

namespace cruscotto {

namespace {

bool nightInForce = false;

Theme makeDay() {
    return {false,
            "#F7F3EA",
            "#F0EADD",
            "#211D18",
            "#675F53",
            "#DBD3C3",
            "#E4DCCC",
            "#BA3214",
            "#8F5F00",
            "#B3261E",
            {"#0B65A3", "#A86200", "#00795B", "#8A3F86", "#1F7A99", "#8B5526", "#6A6F00", "#57626C"}};
}

Theme makeNight() {
    return {true,
            "#1C242B",
            "#171E24",
            "#DFE5E8",
            "#97A4AD",
            "#35414B",
            "#2B363F",
            "#FF7F57",
            "#F0B445",
            "#FF8A80",
            {"#62B2EC", "#F0A63A", "#3FC99C", "#DA94D5", "#86D3F2", "#D3A67E", "#CFD253", "#AAB6BF"}};
}

QString styleSheet(const Theme& t) {
    // One sheet for the standard widgets; tiles and lists paint themselves.
    return QString(R"(
* { font-family: Inter; font-size: 13px; }
QMainWindow, QWidget#page, QScrollArea#pageScroll { background: %1; }
QWidget { color: %3; }
QWidget#panel, QScrollArea#panel, QListView#signals { background: %2; border: none; }
QToolTip { background: %3; color: %1; border: none; padding: 4px 6px; }
QMenu { background: %2; border: 1px solid %5; padding: 4px 0; }
QMenu::item { padding: 6px 28px 6px 16px; }
QMenu::item:selected { background: %6; color: %3; }
QMenu::item:disabled { color: %4; }
QMenu::separator { height: 1px; background: %5; margin: 4px 12px; }
QPushButton, QToolButton { background: transparent; border: 1px solid %5; border-radius: 4px; padding: 4px 12px; min-height: 18px; outline: none; }
QPushButton:hover, QToolButton:hover { background: %6; }
QPushButton:focus, QToolButton:focus, QLineEdit:focus, QComboBox:focus { border: 1px solid %7; }
QPushButton:default { border: 1px solid %3; }
QPushButton:disabled, QToolButton:disabled { color: %4; }
QFileDialog QToolButton { padding: 3px; min-height: 0; }
QPushButton#quiet, QToolButton#quiet { border-color: transparent; padding: 4px 8px; }
QPushButton#record[recording="true"] { background: %7; color: %1; border-color: %7; }
QToolButton::menu-indicator, QPushButton::menu-indicator { image: none; }
QLineEdit, QComboBox { background: %1; border: 1px solid %5; border-radius: 4px; padding: 3px 6px; min-height: 18px; selection-background-color: %7; selection-color: %1; }
QPlainTextEdit, QTableWidget { background: %1; border: 1px solid %5; border-radius: 4px; padding: 3px; selection-background-color: %7; selection-color: %1; }
QPlainTextEdit:focus, QTableWidget:focus { border: 1px solid %7; }
QTableWidget::item:selected { background: %6; color: %3; }
QTableWidget QLineEdit { border-radius: 0; padding: 0 2px; min-height: 0; }
QTableCornerButton::section { background: %1; border: none; border-bottom: 1px solid %5; }
QHeaderView::section { background: %1; color: %4; border: none; border-bottom: 1px solid %5; padding: 4px 3px; }
QLineEdit[wrong="true"] { border: 1px solid %8; }
QComboBoxPrivateContainer { border: none; background: %2; }
QComboBox::drop-down { border: none; width: 22px; }
QComboBox::down-arrow { image: url(:/icons/choose-%9.png); width: 10px; height: 6px; }
QTimeEdit { background: %1; border: 1px solid %5; border-radius: 4px; padding: 3px 6px; min-height: 18px; }
QComboBox { selection-background-color: %6; selection-color: %3; }
QComboBox QAbstractItemView { background: %2; border: 1px solid %5; selection-background-color: %6; selection-color: %3; }
QTabBar { background: transparent; }
QTabBar::tab { background: transparent; color: %4; padding: 7px 4px 6px 4px; margin-right: 16px; border: none; border-bottom: 2px solid transparent; }
QTabBar::tab:selected { color: %3; border-bottom: 2px solid %3; }
QTabBar::tab:focus { color: %7; }
QLineEdit#scaleEnd { background: transparent; border: none; border-bottom: 1px solid transparent; border-radius: 0; padding: 0; min-height: 0; font-size: 12px; color: %4; }
QLineEdit#scaleEnd:hover { border-bottom: 1px solid %4; }
QLineEdit#scaleEnd:focus { border-bottom: 1px solid %7; color: %3; }
QLineEdit#scaleEnd[wrong="true"] { color: %8; border-bottom: 2px solid %8; }
QScrollBar:vertical { background: transparent; width: 8px; margin: 0; }
QScrollBar::handle:vertical { background: %5; border-radius: 4px; min-height: 32px; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QScrollBar:horizontal { background: transparent; height: 8px; }
QScrollBar::handle:horizontal { background: %5; border-radius: 4px; min-width: 32px; }
QSlider { min-height: 22px; }
QSlider::groove:horizontal { height: 2px; background: %5; }
QSlider::sub-page:horizontal { height: 2px; background: %3; }
QSlider::handle:horizontal { width: 8px; height: 18px; margin: -8px 0; border-radius: 2px; background: %3; }
QSlider::handle:horizontal:focus, QSlider::handle:horizontal:hover { background: %7; }
QSlider::handle:horizontal:disabled, QSlider::sub-page:horizontal:disabled { background: %4; }
QProgressBar { background: %6; border: none; border-radius: 2px; max-height: 4px; }
QProgressBar::chunk { background: %3; border-radius: 2px; }
QCheckBox { spacing: 8px; }
QDialogButtonBox { dialogbuttonbox-buttons-have-icons: 0; }
QCheckBox::indicator { width: 14px; height: 14px; border: 1px solid %4; border-radius: 3px; background: %1; }
QCheckBox::indicator:checked { background: %3; border-color: %3; }
QLabel#caption { color: %4; font-size: 11px; font-weight: 500; }
QLabel#muted { color: %4; }
QLabel#wrong { color: %8; }
QFrame#rule { background: %5; border: none; max-height: 1px; min-height: 1px; }
QFrame#rulev { background: %5; border: none; max-width: 1px; min-width: 1px; }
QSplitter::handle { background: %5; }
QFrame#palette { background: %2; border: 1px solid %3; border-radius: 6px; }
QFrame#palette QListWidget { background: transparent; border: none; outline: none; }
QFrame#palette QListWidget::item { padding: 0; border-radius: 4px; }
QFrame#palette QListWidget::item:selected { background: %6; color: %3; }
)")
        .arg(t.ground.name(), t.panel.name(), t.ink.name(), t.muted.name(), t.hairline.name(), t.track.name(),
             t.accent.name(), t.red.name(), t.night ? "night" : "day");
}

}  // namespace

const Theme& dayTheme() {
    static const Theme t = makeDay();
    return t;
}
const Theme& nightTheme() {
    static const Theme t = makeNight();
    return t;
}
const Theme& theme() {
    return nightInForce ? nightTheme() : dayTheme();
}

void applyTheme(bool night) {
    // Every widget is dressed anew by it, which takes its time.
    if (!qApp->styleSheet().isEmpty() && night == nightInForce) return;
    nightInForce = night;
    const Theme& t = theme();
    QPalette p;
    p.setColor(QPalette::Window, t.ground);
    p.setColor(QPalette::Base, t.ground);
    p.setColor(QPalette::AlternateBase, t.panel);
    p.setColor(QPalette::Button, t.panel);
    for (const auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText}) {
        p.setColor(role, t.ink);
        p.setColor(QPalette::Disabled, role, t.muted);
    }
    p.setColor(QPalette::PlaceholderText, t.muted);
    p.setColor(QPalette::Highlight, t.accent);
    p.setColor(QPalette::HighlightedText, t.ground);
    QApplication::setPalette(p);
    QApplication::setFont(uiFont(13));
    qApp->setStyleSheet(styleSheet(t));
}

QFont uiFont(double px, QFont::Weight weight) {
    QFont f("Inter");
    f.setPixelSize(static_cast<int>(std::lround(px)));
    f.setWeight(weight);
    f.setHintingPreference(QFont::PreferNoHinting);
    return f;
}

QFont captionFont() {
    return uiFont(12, QFont::Medium);
}

namespace {
double figureWidth(const QFontMetricsF& m) {
    double widest = 0;
    for (char c = '0'; c <= '9'; ++c) widest = std::max(widest, m.horizontalAdvance(QLatin1Char(c)));
    return widest;
}
}  // namespace

double figuresWidth(const QFont& font, const QString& text) {
    const QFontMetricsF m(font);
    const double figure = figureWidth(m);
    double x = 0;
    for (const QChar c : text) x += c.isDigit() ? figure : m.horizontalAdvance(c);
    return x;
}

double drawFigures(QPainter& painter, QPointF baseline, const QFont& font, const QString& text) {
    const QFontMetricsF m(font);
    const double figure = figureWidth(m);
    painter.setFont(font);
    for (const QChar c : text) {
        const double own = m.horizontalAdvance(c);
        const double wide = c.isDigit() ? figure : own;
        painter.drawText(baseline + QPointF((wide - own) / 2, 0), QString(c));
        baseline.rx() += wide;
    }
    return baseline.x();
}

QString qualityText(Quality quality) {
    if (quality == Quality::good) return {};
    return QStringLiteral("▲ ") + QCoreApplication::translate("core", qualityWord(quality));
}

QString alarmText(const Alarm& alarm) {
    const QString shape = alarm.priority == 1   ? QStringLiteral("▲▲ ")
                          : alarm.priority == 2 ? QStringLiteral("▲ ")
                                                : QStringLiteral("△ ");
    return shape + shown(alarm.words);
}

Remark remarkOn(const SignalSpec& s, const Reading& reading, const std::vector<Evidence>& evidence) {
    const auto said = std::ranges::find_if(evidence, [](const Evidence& e) { return doubtKind(e.doubt).aloud; });
    const QString word =
        said == evidence.end() ? QString() : QStringLiteral("▲ ") + cruscotto::shown(doubtKind(said->doubt).word);
    if (reading.quality == Quality::suspect && !word.isEmpty()) return {word, theme().amber};
    if (reading.quality != Quality::good) return {qualityText(reading.quality), qualityColour(reading.quality)};
    switch (verdictOf(s.limits, reading.value)) {
        case Verdict::low:
            return {QCoreApplication::translate("core", "▼ below limit"), theme().red};
        case Verdict::high:
            return {QCoreApplication::translate("core", "▲ above limit"), theme().red};
        default:
            return {word, theme().amber};
    }
}

QString evidenceText(const std::vector<Evidence>& evidence) {
    QStringList lines;
    for (const Evidence& e : evidence)
        lines << QStringLiteral("%1, %2: %3")
                     .arg(cruscotto::shown(doubtKind(e.doubt).word), cruscotto::shown(surenessWord(e.sure)),
                          cruscotto::shown(e.grounds));
    return lines.join('\n');
}

QColor qualityColour(Quality quality) {
    return quality == Quality::gap || quality == Quality::openSensor ? theme().red : theme().amber;
}

}  // namespace cruscotto

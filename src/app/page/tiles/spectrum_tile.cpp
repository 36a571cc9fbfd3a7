#include "app/page/tiles/spectrum_tile.h"
#include "app/page/tiles/tile_form.h"

#include <QMouseEvent>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

namespace {
constexpr Duration spectrumAnew = milliseconds(100);
constexpr std::size_t mostSamples = std::size_t{1} << 21, labelled = 5;
constexpr std::size_t mostHarmonics = 20;
constexpr double shareOverTime = 0.45, rowHeight = 2, gapAbove = 6;
}  // namespace

void SpectrumTile::rebuild() {
    measured_.reset();
    highest_.clear();
    overTime_.clear();
    overTimeRow_ = -1;
}

double SpectrumTile::resolution() const {
    return numberOf(spec_, "resolution-hz").value_or(1);
}
double SpectrumTile::averages() const {
    return numberOf(spec_, "averages").value_or(1);
}

SpectrumWindow SpectrumTile::window() const {
    const std::string& wanted = settingOf(spec_, "for");
    return wanted == "frequency" ? SpectrumWindow::frequency
           : wanted == "level"   ? SpectrumWindow::level
                                 : SpectrumWindow::both;
}

double SpectrumTile::levelOf(double amplitude) const {
    const std::string& shows = settingOf(spec_, "shows");
    return shows == "amplitude" ? amplitude
           : shows == "power"   ? amplitude * amplitude / 2
           : shows == "density" ? amplitude * amplitude / 2 / (spectrum_.stepHz * spectrum_.noiseBandwidth)
                                : amplitude / std::sqrt(2.0);
}
double SpectrumTile::levelOf(const Spectrum& s, std::size_t line) const {
    return levelOf(std::sqrt(2 * s.power[line]));
}

QString SpectrumTile::unit() const {
    if (!first()) return {};
    const std::string& shows = settingOf(spec_, "shows");
    const QString plain = unitOf(*first());
    if (shows == "power") return plain + QStringLiteral("²");
    if (shows == "density") return plain + QStringLiteral("²/Hz");
    return shows == "amplitude" ? plain : plain + tr(" RMS");
}

void SpectrumTile::refresh(Instant t, bool digits) {
    read(t, digits);
    if (!first()) return;
    refreshOverTime(t);
    const auto stretch = session_.stretch();
    const bool hangs = session_.cursor().stretchHangsOnNow();
    const Span span = stretch ? *stretch : Span{t - seconds((averages() + 1) / 2 / resolution()), t};
    if (measured_ == span) return;
    const bool goesOn = (hangs || !stretch) && session_.cursor().atEnd();
    if (measured_ && goesOn && t >= measuredAt_ && t - measuredAt_ < lookAgainAfter(span, spectrumAnew)) return;
    measured_ = span;
    measuredAt_ = t;
    measure(span);
    label(stretch ? stretch->to : t);
    markHarmonics();
    frame_ = frame();
    update();
}

Duration SpectrumTile::timeBelow() const {
    const std::string& over = settingOf(spec_, "over-time");
    if (over == "no") return {};
    return over == "window" ? session_.cursor().window() : seconds(numberOf(spec_, "over-time").value_or(0));
}

QRectF SpectrumTile::areaOfLines() const {
    QRectF b = body();
    if (timeBelow().ns > 0) b.setHeight(b.height() * (1 - shareOverTime));
    return b;
}

QRectF SpectrumTile::areaOverTime() const {
    const QRectF b = body();
    return {frame_.area.left(), areaOfLines().bottom() + gapAbove, frame_.area.width(),
            b.height() * shareOverTime - gapAbove};
}

void SpectrumTile::refreshOverTime(Instant t) {
    const Duration time = timeBelow();
    if (time.ns <= 0 || frame_.area.width() <= 0) return;
    const auto rows = static_cast<std::size_t>(std::max(8.0, areaOverTime().height() / rowHeight));
    const std::int64_t row = t.ns / std::max<std::int64_t>(1, time.ns / static_cast<std::int64_t>(rows));
    if (row == overTimeRow_) return;
    const bool all = overTime_.update(session_.source(), {first()->id, resolution(), window()}, {t - time, t}, rows);
    overTimeRow_ = all ? row : -1;
    update();
}

void SpectrumTile::markHarmonics() {
    harmonics_.clear();
    const auto chosen = numberOf(spec_, "base-hz");
    if (!chosen || !(*chosen > 0) || spectrum_.power.empty() || !bands_.empty()) return;
    // The line itself may have moved since.
    constexpr double moved = 0.03;
    constexpr std::size_t lookedAt = 40;
    double base = *chosen;
    const auto peaks = peaksOf(spectrum_, window(), lookedAt);
    const auto near = [&](double hz, double by) {
        const SpectrumPeak* best = nullptr;
        for (const SpectrumPeak& p : peaks)
            if (std::fabs(p.hz - hz) <= by && (!best || p.amplitude > best->amplitude)) best = &p;
        return best;
    };
    if (const auto* peak = near(base, std::max(moved * base, 3 * spectrum_.stepHz))) base = peak->hz;
    const double last = spectrum_.hz(spectrum_.power.size() - 1);
    for (std::size_t n = 1; n <= mostHarmonics && static_cast<double>(n) * base <= last; ++n) {
        const double hz = static_cast<double>(n) * base;
        const auto* peak = near(hz, 1.5 * spectrum_.stepHz);
        const auto line = static_cast<std::size_t>(std::lround(hz / spectrum_.stepHz));
        if (line >= spectrum_.power.size()) break;
        // Where no line stands out, what is there is the rest.
        const double level = peak ? levelOf(peak->amplitude) : levelOf(spectrum_, line);
        harmonics_.push_back(
            {hz, level,
             n == 1 ? QStringLiteral("%1 Hz  %2 %3").arg(shown(threeDigits(hz)), shown(threeDigits(level)), unit())
                    : QStringLiteral("%1 ×  %2").arg(n).arg(peak ? shown(threeDigits(level)) : QStringLiteral("–"))});
    }
}

QStringList SpectrumTile::harmonics() const {
    QStringList out;
    for (const Label& l : harmonics_) out << l.words;
    return out;
}

void SpectrumTile::mousePressEvent(QMouseEvent* event) {
    if (event->button() == Qt::LeftButton && frame_.area.contains(event->position()) && bands_.empty() &&
        !spectrum_.power.empty()) {
        constexpr double reach = 8;
        constexpr std::size_t lookedAt = 40;
        const SpectrumPeak* nearest = nullptr;
        const auto peaks = peaksOf(spectrum_, window(), lookedAt);
        const auto off = [&](const SpectrumPeak& p) { return std::fabs(frame_.xOf(p.hz) - event->position().x()); };
        for (const SpectrumPeak& p : peaks)
            if (off(p) <= reach && (!nearest || off(p) < off(*nearest))) nearest = &p;
        if (nearest) {
            const bool again = !harmonics_.empty() && std::fabs(harmonics_.front().hz - nearest->hz) < spectrum_.stepHz;
            Q_EMIT settingChosen("base-hz", again ? QString() : QString::number(nearest->hz, 'g', 6),
                                 again ? tr("Take the harmonics away") : tr("Mark the harmonics"));
        }
    }
    Tile::mousePressEvent(event);
}

void SpectrumTile::measure(Span span) {
    spectrum_ = {};
    bands_.clear();
    why_.clear();
    std::vector<Point> points;
    if (!session_.source().points(first()->id, span, mostSamples, points)) {
        why_ = tr("Too many samples, or no longer in memory: choose wider lines or a shorter stretch");
        return;
    }
    // the stretch without a gap that ends last
    std::size_t begin = points.size();
    while (begin > 0 && std::isfinite(points[begin - 1].value) && points[begin - 1].t >= span.from) --begin;
    const std::size_t n = points.size() - begin;
    constexpr std::size_t fewest = 16;
    if (n < fewest) {
        why_ = tr("Not enough samples yet");
        return;
    }
    const double lasts = (points.back().t - points[begin].t).seconds();
    rate_ = static_cast<double>(n - 1) / lasts;
    // Samples that come when they will have no spectrum of lines.
    constexpr double uneven = 0.25;
    for (std::size_t i = begin + 1; i < points.size(); ++i)
        if (std::fabs((points[i].t - points[i - 1].t).seconds() * rate_ - 1) > uneven) {
            why_ = tr("Its samples do not come evenly");
            return;
        }
    std::vector<double> x(n);
    for (std::size_t i = 0; i < n; ++i) x[i] = points[begin + i].value;
    // Of less than one stretch's length, what there is.
    const auto length = static_cast<std::size_t>(std::lround(std::max(rate_ / resolution(), double{fewest})));
    const std::size_t taken = fastLength(std::min(length, n));
    spectrum_ =
        spectrumOf(x, rate_, taken, window(), session_.stretch() ? 1'000'000 : static_cast<std::size_t>(averages()));
    if (spectrum_.power.empty()) {
        why_ = tr("Not enough samples yet");
        return;
    }
    const std::string& shows = settingOf(spec_, "shows");
    if (shows == "octaves" || shows == "third-octaves") bands_ = bandsOf(spectrum_, shows == "octaves" ? 1 : 3);
    if (settingOf(spec_, "hold") == "yes") {
        if (highest_.size() != spectrum_.power.size()) highest_.assign(spectrum_.power.size(), 0);
        for (std::size_t i = 0; i < highest_.size(); ++i) highest_[i] = std::max(highest_[i], spectrum_.power[i]);
    } else {
        highest_.clear();
    }
}

void SpectrumTile::label(Instant t) {
    labels_.clear();
    if (spectrum_.power.empty() || !bands_.empty()) return;
    double shaft = 0;  // in hertz
    if (const SignalSpec* speed = session_.bench().signal(settingOf(spec_, "speed"))) {
        const auto in = convertUnit(speed->unit(), "Hz");
        const double v = session_.source().at(speed->id, t).value;
        constexpr double secondsAMinute = 60;
        shaft = speed->unit() == "{rpm}" ? v / secondsAMinute : in ? v * in->factor : v;
    }
    for (const SpectrumPeak& peak : peaksOf(spectrum_, window(), labelled)) {
        QString words = QStringLiteral("%1 Hz").arg(shown(threeDigits(peak.hz)));
        if (shaft > 0 && std::isfinite(shaft)) {
            const double order = peak.hz / shaft, whole = std::round(order);
            constexpr double near = 0.03;
            // within a line, it is the order
            if (whole >= 1 && std::fabs(order - whole) < std::max(near * whole, spectrum_.stepHz / shaft))
                words += tr(" = order %1").arg(whole);
            else
                words += tr(" = order %1").arg(order, 0, 'f', 2);
        }
        const double level = levelOf(peak.amplitude);
        words += QStringLiteral("  %1 %2").arg(shown(threeDigits(level)), unit());
        labels_.push_back({peak.hz, level, words});
    }
    // What is twice, three times ... the tallest is said to be.
    if (labels_.empty() || shaft > 0) return;
    const double base = labels_.front().hz;
    for (std::size_t i = 1; i < labels_.size(); ++i) {
        const double times = labels_[i].hz / base, whole = std::round(times);
        if (whole >= 2 && std::fabs(labels_[i].hz - whole * base) < spectrum_.stepHz)
            labels_[i].words += tr("  %1 × the tallest").arg(whole);
    }
}

QString SpectrumTile::numbers() const {
    QStringList out{tr("Hz\tlevel / %1").arg(unit())};
    const auto row = [&](double hz, double level) {
        out << QString::number(hz, 'g', 12) + '\t' + QString::number(level, 'g', 12);
    };
    for (const Band& b : bands_) row(b.middle, std::sqrt(b.power));
    if (bands_.empty())
        for (std::size_t i = 0; i < spectrum_.power.size(); ++i) row(spectrum_.hz(i), levelOf(spectrum_, i));
    return out.join('\n');
}

QStringList SpectrumTile::labels() const {
    QStringList out;
    for (const Label& l : labels_) out << l.words;
    return out;
}

void SpectrumTile::paintLines(QPainter& p, const PlotFrame& frame) const {
    const QColor colour = colourOf(*first());
    // In each column of pixels the highest of its lines; of lines that are wider than that, each.
    const auto last = static_cast<double>(spectrum_.power.size() - 1);
    const double width = frame.area.width();
    std::vector<double> edges;  // as lines, fractions included
    const PlotAxis& x = frame.x;
    for (double column = 0; column <= width + 1; ++column) {
        const double part = column / width;
        edges.push_back((x.logarithmic ? x.scale.low * std::pow(x.scale.high / x.scale.low, part)
                                       : x.scale.low + part * (x.scale.high - x.scale.low)) /
                        spectrum_.stepHz);
    }
    const auto line = [&](const std::vector<double>& power, const QPen& pen) {
        QPolygonF path;
        const auto add = [&](double at, double highest) {
            const double y =
                std::clamp(frame.yOf(levelOf(std::sqrt(2 * highest))), frame.area.top(), frame.area.bottom());
            path << QPointF(at, y);
        };
        for (std::size_t column = 0; column + 1 < edges.size(); ++column) {
            const double from = std::max(1.0, std::ceil(edges[column])),
                         to = std::min(last + 1, std::ceil(edges[column + 1]));
            if (from >= to) continue;
            const auto begin = static_cast<std::size_t>(from), end = static_cast<std::size_t>(to);
            if (end - begin == 1)
                add(frame.xOf(spectrum_.hz(begin)), power[begin]);
            else
                add(frame.area.left() + static_cast<double>(column) + 0.5,
                    *std::max_element(power.begin() + static_cast<std::ptrdiff_t>(begin),
                                      power.begin() + static_cast<std::ptrdiff_t>(end)));
        }
        p.setPen(pen);
        p.drawPolyline(path);
    };
    if (!highest_.empty()) {
        QColor soft = colour;
        soft.setAlpha(90);
        line(highest_, QPen(soft, 1));
    }
    line(spectrum_.power, QPen(colour, 1.3));
}

void SpectrumTile::paintBands(QPainter& p, const PlotFrame& frame) const {
    const QColor colour = colourOf(*first());
    for (const Band& b : bands_) {
        const double left = frame.xOf(b.low) + 1, right = frame.xOf(b.high) - 1;
        if (right < frame.area.left() || left > frame.area.right()) continue;
        const double y = std::clamp(frame.yOf(std::sqrt(b.power)), frame.area.top(), frame.area.bottom());
        p.fillRect(QRectF(QPointF(left, y), QPointF(std::max(right, left + 1), frame.area.bottom())), colour);
    }
}

PlotFrame SpectrumTile::frame() const {
    if (spectrum_.power.empty()) return {};
    const bool bands = !bands_.empty();
    PlotAxis x, y;
    x.unit = QStringLiteral("Hz");
    y.unit = unit();
    x.logarithmic = bands || settingOf(spec_, "frequencies") == "logarithmic";
    y.logarithmic = settingOf(spec_, "levels") == "logarithmic";
    const double last = spectrum_.hz(spectrum_.power.size() - 1);
    x.scale = bands ? Scale{bands_.front().low, bands_.back().high} : Scale{x.logarithmic ? spectrum_.stepHz : 0, last};
    double highest = 0, lowest = INFINITY;  // mean squares first: their order is that of levels
    const auto count = [&](double power) {
        highest = std::max(highest, power);
        if (power > 0) lowest = std::min(lowest, power);
    };
    if (bands)
        for (const Band& b : bands_) count(b.power);
    else
        for (std::size_t i = 1; i < spectrum_.power.size(); ++i) count(spectrum_.power[i]);
    for (std::size_t i = 1; i < highest_.size(); ++i) highest = std::max(highest, highest_[i]);
    const auto level = [&](double power) { return bands ? std::sqrt(power) : levelOf(std::sqrt(2 * power)); };
    highest = level(highest);
    lowest = level(lowest);
    if (!(highest > 0)) highest = 1, lowest = 1e-3;
    if (y.logarithmic) {
        // whole decades, six at most
        const double top = std::ceil(std::log10(highest) + 0.1);
        y.scale = {std::pow(10, std::max(top - 6, std::floor(std::log10(lowest)))), std::pow(10, top)};
        if (y.scale.low >= y.scale.high) y.scale.low = y.scale.high / 10;
    } else {
        y.scale = niceScale(0, highest * 1.15);
    }
    return PlotFrame::in(areaOfLines(), x, y);
}

void SpectrumTile::paintLabels(QPainter& p, const std::vector<Label>& labels) const {
    // Labels stand right of their lines, none over another.
    const QFont font = uiFont(11, QFont::Medium);
    std::vector<QRectF> taken;
    for (const Label& l : labels) {
        const double wide = figuresWidth(font, l.words) + 6;
        const double at = frame_.xOf(l.hz);
        QRectF box(at + 4, std::max(frame_.area.top(), frame_.yOf(l.level) - 8), wide, 15);
        if (box.right() > frame_.area.right()) box.moveRight(at - 4);
        while (std::ranges::any_of(taken, [&](const QRectF& r) { return r.intersects(box); })) box.translate(0, 16);
        if (box.bottom() > frame_.area.bottom() || box.left() < frame_.area.left()) continue;
        taken.push_back(box);
        p.fillRect(box, theme().ground);
        p.setPen(theme().ink);
        drawFigures(p, QPointF(box.left() + 3, box.bottom() - 3.5), font, l.words);
    }
}

void SpectrumTile::paintOverTime(QPainter& p) {
    const QRectF area = areaOverTime();
    const Duration time = timeBelow();
    const double highest = overTime_.highest();
    if (highest > 0) {
        constexpr double range = 1e-4;  // of power: two decades of amplitude
        const PlotAxis& x = frame_.x;
        const auto hzAt = [&](double pixel) {
            const double part = pixel / area.width();
            return x.logarithmic ? x.scale.low * std::pow(x.scale.high / x.scale.low, part)
                                 : x.scale.low + part * (x.scale.high - x.scale.low);
        };
        p.setRenderHint(QPainter::SmoothPixmapTransform, false);
        const int width = static_cast<int>(area.width());
        const PictureOf of{overTime_.revision(), width, x.scale, x.logarithmic, theme().night};
        if (overTimePicture_.isNull() || pictureOf_ != of) {
            pictureOf_ = of;
            overTimePicture_ = overTime_.picture(width, hzAt, highest * range, highest);
        }
        p.drawImage(area, overTimePicture_);
    }
    p.setPen(QPen(theme().hairline, 1));
    p.drawRect(area.adjusted(0, 0, -1, -1));
    p.setFont(uiFont(11));
    p.setPen(theme().muted);
    constexpr int wide = 48, high = 14;
    const bool live = session_.engine() && session_.cursor().atEnd();
    p.drawText(QRectF(area.left() - wide - 6, area.top(), wide, high), Qt::AlignRight, live ? tr("now") : tr("then"));
    p.drawText(QRectF(area.left() - wide - 6, area.bottom() - high, wide, high), Qt::AlignRight,
               QChar(0x2212) + lengthText(time));
}

void SpectrumTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Theme& t = theme();
    if (!why_.isEmpty() || spectrum_.power.empty()) {
        p.setPen(t.muted);
        p.setFont(uiFont(13));
        p.drawText(areaOfLines(), Qt::AlignCenter | Qt::TextWordWrap, why_);
        return;
    }
    frame_ = frame();
    const PlotFrame& now = frame_;
    now.paint(p);
    p.save();
    p.setClipRect(now.area);
    p.setRenderHint(QPainter::Antialiasing);
    if (!bands_.empty())
        paintBands(p, now);
    else
        paintLines(p, now);
    for (const Label& l : harmonics_) {
        p.setPen(QPen(t.muted, 1, Qt::DotLine));
        p.drawLine(QPointF(now.xOf(l.hz), now.area.top()), QPointF(now.xOf(l.hz), now.yOf(l.level)));
    }
    p.restore();
    paintLabels(p, harmonics_.empty() ? labels_ : harmonics_);
    p.setPen(t.muted);
    p.setFont(uiFont(11));
    const QString how = tr("%1 Hz lines, mean of %2").arg(shown(threeDigits(spectrum_.stepHz))).arg(spectrum_.averages);
    p.drawText(QRectF(now.area.left(), now.area.top() - 18, now.area.width(), 14), Qt::AlignRight, how);
    if (timeBelow().ns > 0) paintOverTime(p);
}

const TileForm& tile_forms::spectrum() {
    static const TileForm form{
        .title = CRUSCOTTO_TEXT("a spectrum"), .make = makeTile<SpectrumTile>, .leastWidth = 4, .leastHeight = 3};
    return form;
}

}  // namespace cruscotto

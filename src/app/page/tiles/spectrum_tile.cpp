#include "app/page/tiles/spectrum_tile.h"
#include "app/page/tiles/tile_form.h"

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
}  // namespace

void SpectrumTile::rebuild() {
    measured_.reset();
    highest_.clear();
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
    update();
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
    const std::size_t taken = std::min(length, n);
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
    const auto line = [&](auto&& power, const QPen& pen) {
        // columns of pixels: the highest of the lines in each
        QPolygonF path;
        double column = -1, top = 0;
        for (std::size_t i = 1; i < spectrum_.power.size(); ++i) {
            const double x = frame.xOf(spectrum_.hz(i));
            if (x < frame.area.left() - 1 || x > frame.area.right() + 1) continue;
            const double y =
                std::clamp(frame.yOf(levelOf(std::sqrt(2 * power(i)))), frame.area.top(), frame.area.bottom());
            if (std::floor(x) == column) {
                top = std::min(top, y);
                path.back().setY(top);
                continue;
            }
            column = std::floor(x);
            top = y;
            path << QPointF(x, y);
        }
        p.setPen(pen);
        p.drawPolyline(path);
    };
    if (!highest_.empty()) {
        QColor soft = colour;
        soft.setAlpha(90);
        line([this](std::size_t i) { return highest_[i]; }, QPen(soft, 1));
    }
    line([this](std::size_t i) { return spectrum_.power[i]; }, QPen(colour, 1.3));
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

void SpectrumTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    paintFrame(p);
    if (!first()) return;
    const Theme& t = theme();
    if (!why_.isEmpty() || spectrum_.power.empty()) {
        p.setPen(t.muted);
        p.setFont(uiFont(13));
        p.drawText(body(), Qt::AlignCenter | Qt::TextWordWrap, why_);
        return;
    }
    const bool bands = !bands_.empty();
    PlotAxis x, y;
    x.unit = QStringLiteral("Hz");
    y.unit = unit();
    x.logarithmic = bands || settingOf(spec_, "frequencies") == "logarithmic";
    y.logarithmic = settingOf(spec_, "levels") == "logarithmic";
    const double last = spectrum_.hz(spectrum_.power.size() - 1);
    x.scale = bands ? Scale{bands_.front().low, bands_.back().high} : Scale{x.logarithmic ? spectrum_.stepHz : 0, last};
    double highest = 0, lowest = INFINITY;
    const auto count = [&](double level) {
        highest = std::max(highest, level);
        if (level > 0) lowest = std::min(lowest, level);
    };
    if (bands)
        for (const Band& b : bands_) count(std::sqrt(b.power));
    else
        for (std::size_t i = 1; i < spectrum_.power.size(); ++i) {
            count(levelOf(spectrum_, i));
            if (!highest_.empty()) highest = std::max(highest, levelOf(std::sqrt(2 * highest_[i])));
        }
    if (!(highest > 0)) highest = 1, lowest = 1e-3;
    if (y.logarithmic) {
        // whole decades, six at most
        const double top = std::ceil(std::log10(highest) + 0.1);
        y.scale = {std::pow(10, std::max(top - 6, std::floor(std::log10(lowest)))), std::pow(10, top)};
        if (y.scale.low >= y.scale.high) y.scale.low = y.scale.high / 10;
    } else {
        y.scale = niceScale(0, highest * 1.15);
    }
    const PlotFrame frame = PlotFrame::in(body(), x, y);
    frame.paint(p);
    p.save();
    p.setClipRect(frame.area);
    p.setRenderHint(QPainter::Antialiasing);
    if (bands)
        paintBands(p, frame);
    else
        paintLines(p, frame);
    p.restore();
    // Labels stand right of their lines, none over another.
    const QFont font = uiFont(11, QFont::Medium);
    std::vector<QRectF> taken;
    for (const Label& l : labels_) {
        const double wide = figuresWidth(font, l.words) + 6;
        const double at = frame.xOf(l.hz);
        QRectF box(at + 4, std::max(frame.area.top(), frame.yOf(l.level) - 8), wide, 15);
        if (box.right() > frame.area.right()) box.moveRight(at - 4);
        while (std::ranges::any_of(taken, [&](const QRectF& r) { return r.intersects(box); })) box.translate(0, 16);
        if (box.bottom() > frame.area.bottom() || box.left() < frame.area.left()) continue;
        taken.push_back(box);
        p.fillRect(box, t.ground);
        p.setPen(t.ink);
        drawFigures(p, QPointF(box.left() + 3, box.bottom() - 3.5), font, l.words);
    }
    p.setPen(t.muted);
    p.setFont(uiFont(11));
    const QString how = tr("%1 Hz lines, mean of %2").arg(shown(threeDigits(spectrum_.stepHz))).arg(spectrum_.averages);
    p.drawText(QRectF(frame.area.left(), frame.area.top() - 18, frame.area.width(), 14), Qt::AlignRight, how);
}

const TileForm& tile_forms::spectrum() {
    static const TileForm form{
        .title = CRUSCOTTO_TEXT("a spectrum"), .make = makeTile<SpectrumTile>, .leastWidth = 4, .leastHeight = 3};
    return form;
}

}  // namespace cruscotto

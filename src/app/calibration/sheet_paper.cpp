#include "app/calibration/sheet_paper.h"

#include <QBuffer>
#include <QImage>
#include <QPdfWriter>
#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/chain.h"

namespace cruscotto {

namespace {

// Tenths of a millimetre on A4.
constexpr double pageWide = 2100, pageHigh = 2970, pageLeft = 180, pageRight = 1920, rowHeight = 56;
const QColor ink(0x1b, 0x1f, 0x24), muted(0x5c, 0x65, 0x70), hairline(0xc9, 0xcf, 0xd6), band(0xe8, 0xec, 0xf1);

QString sheetText(const char* s) {
    return QCoreApplication::translate("CalibrationSheet", s);
}

/// As many decimals as two digits of this uncertainty have; 0 to 9.
int decimalsOf(double uncertainty) {
    if (!(uncertainty > 0)) return 4;
    return std::clamp(1 - static_cast<int>(std::floor(std::log10(uncertainty))), 0, 9);
}

class Paper {
public:
    Paper(QPainter& painter, const SheetPaper& paper) : p_(painter), paper_(paper) {
        if (auto made = fitCalibration(paper.sheet.points, paper.sheet.fit)) fit_ = std::move(made.value());
        if (!paper.before.empty() && !paper.before.back().points.empty())
            if (auto made = fitCalibration(paper.before.back().points, paper.before.back().fit))
                found_ = std::move(made.value());
        double scatter = fit_ ? fit_->polynomial.residualStandardDeviation : 0;
        if (scatter == 0)
            for (const CalibrationPoint& pt : paper.sheet.points) scatter = std::max(scatter, pt.u);
        decimals_ = decimalsOf(scatter);
    }
    void paint() {
        head();
        facts();
        points();
        residuals();
        result();
        signatures();
    }

private:
    void write(double x, double y, const QFont& font, const QColor& colour, const QString& words) {
        p_.setFont(font);
        p_.setPen(colour);
        p_.drawText(QPointF(x, y), words);
    }
    /// So that it ends at x.
    void writeTo(double x, double y, const QFont& font, const QColor& colour, const QString& words) {
        write(x - QFontMetricsF(font).horizontalAdvance(words), y, font, colour, words);
    }
    /// Broken into lines; returns the y behind the last.
    double paragraph(double x, double y, double width, const QFont& font, const QColor& colour, const QString& words) {
        p_.setFont(font);
        p_.setPen(colour);
        QRectF took;
        p_.drawText(QRectF(x, y, width, 2000), Qt::TextWordWrap, words, &took);
        return took.bottom();
    }
    void line(double y, const QColor& colour = hairline, double thick = 3) {
        p_.setPen(QPen(colour, thick));
        p_.drawLine(QPointF(pageLeft, y), QPointF(pageRight, y));
    }
    [[nodiscard]] QString unit(const std::string& ucum) const { return shown(unitText(ucum)); }
    [[nodiscard]] QString value(double v) const { return shown(readingText(v, decimals_)); }

    void head() {
        write(pageLeft, 230, uiFont(30, QFont::DemiBold), muted, sheetText("CALIBRATION SHEET"));
        writeTo(pageRight, 230, uiFont(30), muted, shown(paper_.bench));
        QString name = shown(paper_.signal);
        if (!paper_.tag.empty()) name += "   " + shown(paper_.tag);
        write(pageLeft, 320, uiFont(70, QFont::DemiBold), ink, name);
        write(pageLeft, 380, uiFont(34), muted, shown(paper_.wired));
        line(415, ink, 5);
        y_ = 470;
    }

    void facts() {
        const CalibrationSheet& s = paper_.sheet;
        struct Fact {
            QString title;
            const std::string& words;
        };
        const std::array<Fact, 8> all{{{sheetText("Calibrated on"), s.date},
                                       {sheetText("Reference"), s.reference},
                                       {sheetText("Holds until"), s.due},
                                       {sheetText("Certificate"), s.certificate},
                                       {sheetText("By"), s.person},
                                       {sheetText("Temperature"), s.temperature},
                                       {sheetText("Sheets before"), before_},
                                       {sheetText("Printed on"), paper_.today}}};
        before_ = paper_.before.empty()
                      ? std::string("none")
                      : fmt::format("{}, the last of {}", paper_.before.size(),
                                    paper_.before.back().date.empty() ? "no date" : paper_.before.back().date);
        for (std::size_t i = 0; i < all.size(); ++i) {
            const double x = i % 2 == 0 ? pageLeft : pageLeft + 800, y = y_ + static_cast<double>(i / 2) * 62;
            write(x, y + 34, uiFont(28), muted, all[i].title);
            write(x + 230, y + 34, uiFont(34), ink, all[i].words.empty() ? QStringLiteral("–") : shown(all[i].words));
        }
        y_ += 4 * 62 + 20;
        QStringList chain;
        for (const std::string& sentence : paper_.chain) chain << shown(sentence);
        if (!chain.isEmpty()) {
            write(pageLeft, y_ + 30, uiFont(28), muted, sheetText("Chain before it"));
            y_ = paragraph(pageLeft + 230, y_ + 4, pageRight - pageLeft - 230, uiFont(28), ink, chain.join("  "));
        }
        y_ += 30;
    }

    void points() {
        const auto& all = paper_.sheet.points;
        const std::array<double, 5> ends{pageLeft + 460, pageLeft + 800, pageLeft + 1040, pageLeft + 1400, pageRight};
        const std::array<QString, 5> titles{sheetText("indicated, %1").arg(unit(paper_.unitBefore)),
                                            sheetText("reference, %1").arg(unit(paper_.unit)), sheetText("its u"),
                                            sheetText("as found, %1").arg(unit(paper_.unit)),
                                            sheetText("as left, %1").arg(unit(paper_.unit))};
        write(pageLeft, y_ + 34, uiFont(28), muted, sheetText("point"));
        for (std::size_t c = 0; c < ends.size(); ++c) writeTo(ends[c], y_ + 34, uiFont(28), muted, titles[c]);
        y_ += 50;
        line(y_, ink);
        // A long list is told by its first rows; all of it is in the bench.
        constexpr std::size_t most = 14;
        const std::size_t rows = std::min(all.size(), most);
        const QFont font = uiFont(34);
        for (std::size_t i = 0; i < rows; ++i) {
            const CalibrationPoint& p = all[i];
            const double base = y_ + 42;
            write(pageLeft, base, font, muted, QString::number(i + 1));
            writeTo(ends[0], base, font, ink, shown(readingText(p.indicated, decimals_ + 1)));
            writeTo(ends[1], base, font, ink, value(p.reference));
            writeTo(ends[2], base, font, ink, p.u > 0 ? shown(shortNumber(p.u)) : QStringLiteral("–"));
            const bool comparable = paper_.unit == paper_.unitBefore || found_;
            const double as = found_ ? found_->at(p.indicated) : p.indicated;
            writeTo(ends[3], base, font, ink, comparable ? signedText(as - p.reference) : QStringLiteral("–"));
            writeTo(ends[4], base, font, ink, fit_ ? signedText(fit_->at(p.indicated) - p.reference) : QString());
            y_ += rowHeight;
            line(y_, hairline, 2);
        }
        if (all.size() > most) {
            write(pageLeft, y_ + 42, uiFont(28), muted,
                  sheetText("and %1 points more, which are in the bench").arg(all.size() - most));
            y_ += rowHeight;
        }
        write(pageLeft, y_ + 38, uiFont(26), muted,
              sheetText("As found: what the reading was before, less the reference. As left: with this sheet."));
        y_ += 80;
    }
    [[nodiscard]] QString signedText(double v) const {
        const QString words = shown(readingText(v, decimals_));
        return v > 0 ? "+" + words : words;
    }

    /// What is left over, over what was indicated, with the band of twice the fit's uncertainty.
    void residuals() {
        if (!fit_ || paper_.sheet.points.empty()) return;
        const auto& all = paper_.sheet.points;
        const QRectF box(pageLeft + 150, y_ + 50, pageRight - pageLeft - 150, 380);
        write(pageLeft, y_ + 30, uiFont(28), muted,
              sheetText("What is left over, in %1; the band is twice the standard uncertainty of the curve")
                  .arg(unit(paper_.unit)));
        double low = all[0].indicated, top = low, most = 0;
        for (const CalibrationPoint& p : all) {
            low = std::min(low, p.indicated);
            top = std::max(top, p.indicated);
            most = std::max({most, std::fabs(fit_->at(p.indicated) - p.reference) + 2 * p.u,
                             2 * fit_->standardUncertainty(p.indicated)});
        }
        if (top == low) top = low + 1;
        const double margin = 0.04 * (top - low);
        low -= margin, top += margin;
        if (!(most > 0)) most = std::max(1e-12, std::fabs(all[0].reference) * 1e-9);
        most *= 1.15;
        const auto at = [&](double x, double r) {
            return QPointF(box.left() + (x - low) / (top - low) * box.width(),
                           box.center().y() - r / most * box.height() / 2);
        };
        p_.save();
        p_.setClipRect(box);
        QPolygonF around;
        constexpr int steps = 80;
        for (int i = 0; i <= steps; ++i) {
            const double x = low + (top - low) * i / steps;
            around << at(x, 2 * fit_->standardUncertainty(x));
        }
        for (int i = steps; i >= 0; --i) {
            const double x = low + (top - low) * i / steps;
            around << at(x, -2 * fit_->standardUncertainty(x));
        }
        p_.setPen(Qt::NoPen);
        p_.setBrush(band);
        p_.drawPolygon(around);
        p_.setBrush(Qt::NoBrush);
        p_.restore();
        p_.setPen(QPen(hairline, 2));
        p_.drawRect(box);
        p_.setPen(QPen(muted, 3));
        p_.drawLine(at(low, 0), at(top, 0));
        for (const CalibrationPoint& p : all) {
            const double r = p.reference - fit_->at(p.indicated);
            if (p.u > 0) {
                p_.setPen(QPen(ink, 3));
                p_.drawLine(at(p.indicated, r - 2 * p.u), at(p.indicated, r + 2 * p.u));
            }
            p_.setPen(Qt::NoPen);
            p_.setBrush(ink);
            p_.drawEllipse(at(p.indicated, r), 9, 9);
            p_.setBrush(Qt::NoBrush);
        }
        const QFont small = uiFont(26);
        const double end = most / 1.15;
        const auto two = [](double v) { return shown(readingText(v, decimalsOf(v))); };
        writeTo(box.left() - 12, at(low, end).y() + 9, small, muted, "+" + two(end));
        writeTo(box.left() - 12, at(low, 0).y() + 9, small, muted, "0");
        writeTo(box.left() - 12, at(low, -end).y() + 9, small, muted, QChar(0x2212) + two(end));
        const double first = low + margin, last = top - margin;
        write(at(first, 0).x(), box.bottom() + 36, small, muted, shown(shortNumber(first)));
        writeTo(at(last, 0).x(), box.bottom() + 36, small, muted,
                shown(shortNumber(last)) + " " + unit(paper_.unitBefore));
        y_ = box.bottom() + 70;
    }

    void result() {
        QString words;
        if (!fit_) {
            const auto made = fitCalibration(paper_.sheet.points, paper_.sheet.fit);
            words = made ? QString() : shown(made.error().message);
        } else if (fit_->isTable()) {
            words = sheetText("The reading goes straight from point to point.");
        } else {
            QString formula = sheetText("reading = ");
            const auto& c = fit_->polynomial.coefficients;
            bool any = false;
            for (std::size_t k = 0; k < c.size(); ++k) {
                if (c[k] == 0) continue;
                QString term = shown(fmt::format("{:.9g}", std::fabs(c[k])));
                formula += any ? (c[k] < 0 ? QStringLiteral(" − ") : QStringLiteral(" + "))
                               : (c[k] < 0 ? QStringLiteral("−") : QString());
                formula += term;
                if (k > 0) formula += " x";
                static const std::array<const char*, 6> powers{"", "", "²", "³", "⁴", "⁵"};
                if (k > 1 && k < powers.size()) formula += powers[k];
                any = true;
            }
            write(pageLeft, y_ + 40, uiFont(38, QFont::DemiBold), ink, formula);
            y_ += 62;
            const PolynomialFit& p = fit_->polynomial;
            words = p.degreesOfFreedom > 0
                        ? sheetText("Residual standard deviation %1 %2, with %3 degrees of freedom.")
                              .arg(shown(shortNumber(p.residualStandardDeviation)), unit(paper_.unit))
                              .arg(p.degreesOfFreedom)
                        : sheetText("As many points as the curve has terms: nothing is left over to check it.");
        }
        y_ = paragraph(pageLeft, y_, pageRight - pageLeft, uiFont(30), ink, words) + 14;
        if (!paper_.sheet.notes.empty())
            y_ = paragraph(pageLeft, y_ + 10, pageRight - pageLeft, uiFont(30), muted, shown(paper_.sheet.notes));
    }

    void signatures() {
        const double y = pageHigh - 230;
        for (const auto& [x, title] : {std::pair{pageLeft, sheetText("Calibrated by, date")},
                                       std::pair{pageLeft + 910, sheetText("Checked by, date")}}) {
            p_.setPen(QPen(ink, 3));
            p_.drawLine(QPointF(x, y), QPointF(x + 830, y));
            write(x, y + 44, uiFont(28), muted, title);
        }
    }

    QPainter& p_;
    const SheetPaper& paper_;
    std::optional<CalibrationFit> fit_, found_;
    std::string before_;
    int decimals_ = 4;
    double y_ = 0;
};

}  // namespace

SheetPaper sheetPaper(const Bench& bench, const SignalSpec& signal, const std::string& today) {
    SheetPaper out;
    out.bench = bench.name;
    out.signal = signal.name;
    out.tag = signal.tag;
    const DeviceSpec* device = bench.device(signal.device);
    out.wired = signal.computed
                    ? std::string("computed from others")
                    : fmt::format("{}, terminal {}", device ? device->name : signal.device, signal.terminal);
    for (std::size_t i = 0; i < signal.chain.size(); ++i) {
        const Stage& stage = signal.chain[i];
        if (&stage != calibrationIn(signal.chain)) {
            out.chain.push_back(describeStage(stage).english());
            continue;
        }
        out.unitBefore = unitBefore(signal.chain, i, signal.kind);
        out.unit = unitAfter(stage, out.unitBefore);
        out.sheet = sheetOf(stage);
        out.before = historyOf(stage);
        break;
    }
    out.today = today;
    return out;
}

void paintSheet(QPainter& painter, const QRectF& page, const SheetPaper& paper) {
    painter.save();
    painter.setRenderHint(QPainter::Antialiasing);
    painter.fillRect(page, Qt::white);
    painter.translate(page.topLeft());
    painter.scale(page.width() / pageWide, page.height() / pageHigh);
    Paper(painter, paper).paint();
    painter.restore();
}

Result<void> writeSheet(const SheetPaper& paper, const std::string& path, NewFile::Existing existing) {
    auto file = NewFile::create(path, existing);
    if (!file) return file.error();
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    if (QString::fromStdString(path).endsWith(".png", Qt::CaseInsensitive)) {
        QImage image(1240, 1754, QImage::Format_RGB32);
        QPainter painter(&image);
        paintSheet(painter, QRectF(image.rect()), paper);
        painter.end();
        image.setDotsPerMeterX(5906);
        image.setDotsPerMeterY(5906);
        image.save(&buffer, "PNG");
    } else {
        QPdfWriter pdf(&buffer);
        pdf.setPageSize(QPageSize(QPageSize::A4));
        pdf.setPageMargins(QMarginsF());
        pdf.setTitle(sheetText("Calibration sheet of %1").arg(shown(paper.signal)));
        QPainter painter(&pdf);
        paintSheet(painter, QRectF(0, 0, pdf.width(), pdf.height()), paper);
    }
    (void)file.value().write(bytes.toStdString());  // what went wrong is said by the next
    return file.value().put();
}

}  // namespace cruscotto

#include "app/run/explanation_paper.h"

#include <QBuffer>
#include <QCoreApplication>
#include <QImage>
#include <QPageSize>
#include <QPainter>
#include <QPdfWriter>
#include <QTextDocument>
#include <cmath>

#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {

QString paperText(const char* words) {
    return QCoreApplication::translate("paper", words);
}

QString safe(const std::string& words) {
    return shown(words).toHtmlEscaped();
}

std::string valueText(double v, double expanded) {
    if (expanded > 0) return withUncertainty(v, expanded);
    return std::isnan(v) ? std::string("–") : shortNumber(v);
}

QString rowOf(const QString& a, const QString& b, const QString& c) {
    return QStringLiteral("<tr><td>%1</td><td align=\"right\">%2</td><td>%3</td></tr>").arg(a, b, c);
}

QString pageOf(const Explanation& e, const std::string& today, int depth) {
    QString out = depth == 0 ? QStringLiteral("<h1>%1</h1>").arg(safe(e.name))
                             : QStringLiteral("<h2>%1</h2>").arg(paperText("From %1").arg(safe(e.name)));
    const double k = e.uncertainty ? e.uncertainty->k : 2;
    out += QStringLiteral("<p><big>%1 %2</big>%3<br>%4</p>")
               .arg(safe(valueText(e.reading.value, e.uncertainty ? e.uncertainty->expanded() : 0)),
                    safe(unitText(e.unit)),
                    e.reading.quality == Quality::good ? QString() : " &nbsp; " + safe(qualityWord(e.reading.quality)),
                    paperText("at %1 s, %2").arg(safe(shortNumber(e.at.seconds())), safe(e.wired)));
    out += QStringLiteral("<table width=\"100%\" cellpadding=\"3\">");
    for (const Explanation::Step& step : e.steps)
        out += rowOf(QStringLiteral("<b>%1</b>").arg(safe(step.title.english())),
                     safe(valueText(step.value, k * std::max(0.0, step.standard)) + " " + unitText(step.unit)),
                     safe(step.sentence.english()));
    out += QStringLiteral("</table>");
    if (e.uncertainty && e.uncertainty->standard > 0) {
        const Uncertainty& u = *e.uncertainty;
        out += QStringLiteral("<p>%1</p><table width=\"100%\" cellpadding=\"3\">")
                   .arg(paperText("Uncertainty ± %1 %2 (k = %3), of which")
                            .arg(safe(threeDigits(u.expanded())), safe(unitText(u.unit)), safe(shortNumber(u.k))));
        for (const UncertaintyPart& p : u.parts)
            out += rowOf(safe(p.signal) + ": " + safe(p.source.english()),
                         safe(threeDigits(std::fabs(p.amount)) + " " + unitText(u.unit)),
                         QString("%1 %").arg(std::lround(100 * p.share)));
        out += QStringLiteral("</table>");
        for (const Text& m : u.missing) out += QStringLiteral("<p>%1</p>").arg(safe(m.english()));
    } else {
        out += QStringLiteral("<p>%1</p>").arg(paperText("Uncertainty: %1").arg(safe(e.whyNone.english())));
    }
    out += QStringLiteral("<p>%1</p>")
               .arg(e.calibration ? safe(calibrationState(*e.calibration, today).english())
                                  : paperText("There is no calibration sheet in the chain."));
    for (const Evidence& said : e.evidence)
        out += QStringLiteral("<p><b>%1</b>, %2: %3</p>")
                   .arg(safe(doubtKind(said.doubt).word.english()), safe(surenessWord(said.sure).english()),
                        safe(said.grounds.english()));
    if (e.evidence.empty()) out += QStringLiteral("<p>%1</p>").arg(paperText("Nothing speaks against it."));
    for (const Explanation& other : e.from) out += pageOf(other, today, depth + 1);
    return out;
}

}  // namespace

Result<void> writeExplanation(const Explanation& explanation, const std::string& today, const std::string& path,
                              NewFile::Existing existing) {
    auto file = NewFile::create(path, existing);
    if (!file) return file.error();
    QTextDocument page;
    page.setDefaultFont(QFont("Inter", 9));
    page.setHtml(pageOf(explanation, today, 0));
    QByteArray bytes;
    QBuffer buffer(&bytes);
    buffer.open(QIODevice::WriteOnly);
    if (QString::fromStdString(path).endsWith(".png", Qt::CaseInsensitive)) {
        constexpr int wide = 1240, edge = 90;
        constexpr double dotsAnInch = 150, usual = 96;
        page.setTextWidth((wide - 2 * edge) * usual / dotsAnInch);
        QImage image(wide, static_cast<int>(page.size().height() * dotsAnInch / usual) + 2 * edge,
                     QImage::Format_RGB32);
        image.fill(Qt::white);
        QPainter painter(&image);
        painter.translate(edge, edge);
        painter.scale(dotsAnInch / usual, dotsAnInch / usual);
        page.drawContents(&painter);
        painter.end();
        image.save(&buffer, "PNG");
    } else {
        QPdfWriter pdf(&buffer);
        pdf.setPageSize(QPageSize(QPageSize::A4));
        pdf.setTitle(paperText("Where %1 comes from").arg(shown(explanation.name)));
        page.print(&pdf);
    }
    (void)file.value().write(bytes.toStdString());  // what went wrong is said by the next
    return file.value().put();
}

}  // namespace cruscotto

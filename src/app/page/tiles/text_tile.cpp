#include "app/page/tiles/text_tile.h"
#include "app/page/tiles/tile_form.h"

#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/tile_settings.h"

namespace cruscotto {

QString TextTile::readingOf(const std::string& named, Instant t) const {
    const SignalSpec* s = session_.bench().signal(named);
    if (!s)
        for (const auto& other : session_.bench().signals)
            if (other->tag == named && !named.empty()) s = other.get();
    if (!s) return QStringLiteral("{%1}").arg(shown(named));  // as it was typed: there is no such signal
    const auto stretch = session_.stretch();
    const double v =
        stretch ? session_.source().summaryOver(s->id, *stretch).mean : session_.source().at(s->id, t).value;
    if (s->isState()) return stretch ? shareText(*s, v) : stateWord(*s, v);
    const QString unit = unitOf(*s);
    return session_.numberText(*s, v) + (unit.isEmpty() ? QString() : QStringLiteral(" ") + unit);
}

void TextTile::refresh(Instant t, bool digits) {
    if (!digits) return;
    read(t, digits);
    std::string words = settingOf(spec_, "words");
    if (words.empty())
        for (const std::string& id : spec_.signals) {
            const SignalSpec* s = session_.bench().signal(id);
            words += (words.empty() ? "" : "\n") + (s ? s->name : id) + " {" + id + "}";
        }
    const QString now =
        shown(filledWords(words, [&](const std::string& named) { return readingOf(named, t).toStdString(); }));
    if (now == words_) return;
    words_ = now;
    setAccessibleDescription(words_);
    update();
}

void TextTile::paintEvent(QPaintEvent*) {
    QPainter p(this);
    const Theme& t = theme();
    p.fillRect(rect(), t.ground);
    p.setPen(hasFocus() ? t.accent : t.hairline);
    p.drawLine(QPointF(8, 0.5), QPointF(width() - 8, 0.5));
    p.setRenderHint(QPainter::Antialiasing);
    const QRectF room = QRectF(rect()).adjusted(8, 6, -8, -4);
    // As large as all of it fits; whole pixels, so that it does not swell and shrink with each digit by much.
    constexpr int smallest = 12, largest = 160;
    int low = smallest, high = largest;
    const int flags = Qt::AlignLeft | Qt::AlignVCenter | Qt::TextWordWrap;
    while (low < high) {
        const int mid = (low + high + 1) / 2;
        const QRectF needed = QFontMetricsF(uiFont(mid, QFont::Medium)).boundingRect(room, flags, words_);
        (needed.width() <= room.width() && needed.height() <= room.height() ? low : high) =
            needed.width() <= room.width() && needed.height() <= room.height() ? mid : mid - 1;
    }
    p.setPen(t.ink);
    p.setFont(uiFont(low / 2 * 2, QFont::Medium));
    p.drawText(room, flags, words_);
}

const TileForm& tile_forms::text() {
    static const TileForm form{.title = CRUSCOTTO_TEXT("a sentence"),
                               .make = makeTile<TextTile>,
                               .leastWidth = 2,
                               .leastHeight = 1,
                               .manySignals = true};
    return form;
}

}  // namespace cruscotto

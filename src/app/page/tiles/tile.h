#pragma once

#include <QWidget>
#include <memory>
#include <optional>
#include <vector>

#include "app/document/session.h"
#include "app/widgets/theme.h"
#include "core/signal/scale.h"

namespace cruscotto {

class ScaleEnd;

/// The time that a tile looks at: the stretch that is shown, else as it was chosen under "of": "window", or seconds.
Span chosenSpan(const Session& session, const TileSpec& tile, Instant t);
/// What looks at all samples of a long time need not do so for each new one: after a hundredth of it, and `least`.
inline Duration lookAgainAfter(Span span, Duration least) {
    constexpr std::int64_t part = 100;
    return std::max(least, Duration{(span.to - span.from).ns / part});
}

/// The largest digits of a tile: `usual` on a page; across a room, in the whole window, as large as they fit.
inline double largestDigits(double height, double usual) {
    constexpr double across = 300, share = 0.62;
    return height > across ? height * share : usual;
}

/// One tile of a page: shows one or more signals at the session's moment. refresh() is called once a frame and paints
/// only when the tile would look different. A kind of tile is a subclass; page and grid are the page view's business.
class Tile : public QWidget {
    Q_OBJECT
public:
    Tile(Session& session, QWidget* parent);

    /// Takes over a new version of the tile's and the signals' description.
    void setSpec(const TileSpec& spec);
    [[nodiscard]] const TileSpec& spec() const { return spec_; }
    /// `digits` is true about five times a second: numbers change then and only then.
    virtual void refresh(Instant t, bool digits) = 0;
    void setSelected(bool selected);

    /// Paints it as it stands onto something else: a picture, a page.
    virtual void printOn(QPaintDevice& device);
    /// What it shows as a table, tabs between: for a spreadsheet.
    [[nodiscard]] virtual QString numbers() const;

    /// Sets the scale to what the shown stretch of time needs.
    void fitScale();
    /// The scale so that it begins at zero, or has it in the middle, and still shows as much.
    void scaleFromZero(bool inTheMiddle);
    /// Between these two the extremes are gathered and then become the scale.
    void beginLearning();
    void endLearning();
    [[nodiscard]] bool learning() const { return learningSince_.has_value(); }
    [[nodiscard]] virtual bool hasScale() const { return true; }
    /// Over a stretch its number is the mean.
    [[nodiscard]] virtual bool showsMean() const { return true; }
    /// It shows what holds for a stretch where one stands; else the moment goes on.
    [[nodiscard]] virtual bool showsStretch() const { return true; }

Q_SIGNALS:
    void chosen();
    void chainAsked(const QString& signal);
    void moveBegan(QPoint globalAt);
    void moved(QPoint globalAt);
    void moveEnded();
    void resizeBegan(QPoint globalAt);
    /// The scales of these units are to be so; one step to undo, and where they follow each other with the same
    /// `mergeKey`, all of them one.
    void scalesChosen(const std::map<std::string, Scale>& byUnit, const QString& effect, const QString& mergeKey = {});
    void menuAsked(QPoint globalAt);
    /// One of tileSettings() is to be so; those that follow each other with the same `mergeKey` are one step to undo.
    void settingChosen(const QString& key, const QString& value, const QString& effect, const QString& mergeKey = {});

protected:
    struct Shown {
        std::shared_ptr<const SignalSpec> spec;
        QString text;  ///< the digits as they stand
        Reading reading;
        std::vector<Evidence> evidence;
        OffScale offScale = OffScale::no;  ///< as the digits say
        Scale scale;                       ///< that it is shown on
        /// While a stretch is shown: what holds for all of it. The reading is its mean then, the text says so.
        std::optional<StretchSummary> over;
        QString spread;  ///< how far it spread, or how often it changed
    };
    /// After setSpec(), setTheme and resize: what is cached is worked out again.
    virtual void rebuild() {}
    [[nodiscard]] const SignalSpec* first() const { return shown_.empty() ? nullptr : shown_.front().spec.get(); }
    /// Takes the newest readings; digits only when it is time. True if the text or the quality changed.
    bool read(Instant t, bool digits);
    void readStretch(Shown& s, Span stretch) const;
    /// What stands beside its digits: also that it lies off this tile's scale.
    [[nodiscard]] Remark remarkOn(const Shown& s) const;
    /// Takes the lowest and highest readings of the shown window up to t. True if they changed.
    bool readExtremes(Instant t);
    void paintFrame(QPainter& p) const;
    /// The caption with the tags in their colours; leaves `body()` free.
    [[nodiscard]] QRectF body() const;
    [[nodiscard]] QColor colourOf(const SignalSpec& s) const;
    /// The font, smaller where needed: in it every reading within the scale (or every word) has room, so that digits
    /// keep their size when one more is needed.
    [[nodiscard]] QFont fitted(QFont font, double room) const;
    void placeEnds(ScaleEnd* low, ScaleEnd* high, const Scale& scale) const;
    void connectEnds(ScaleEnd* low, ScaleEnd* high);
    [[nodiscard]] Scale scale() const { return shown_.empty() ? Scale{} : shown_.front().scale; }
    /// The scale that this tile shows a signal on: its own for the unit, else what the signal's readings are like.
    [[nodiscard]] Scale scaleOf(const SignalSpec& s) const;

    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;
    void changeEvent(QEvent* event) override;

    Session& session_;
    TileSpec spec_;
    std::vector<Shown> shown_;
    std::optional<Scale> extremes_;
    std::optional<Span> stretch_;  ///< that was read last
    std::uint64_t stretchRevision_ = 0;

private:
    void setScaleFrom(Span span, const QString& effect);
    [[nodiscard]] bool overCorner(QPointF at) const;
    enum class Drag { none, move, resize };
    Drag drag_ = Drag::none;
    bool dragging_ = false;
    QPoint pressedAt_;
    bool selected_ = false;
    std::optional<Instant> learningSince_;
};

}  // namespace cruscotto

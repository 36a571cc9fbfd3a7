#pragma once

#include "app/page/tiles/stretch_shade.h"
#include "app/page/tiles/tile.h"
#include "app/page/tiles/trace_hover.h"
#include "core/bench/held_picture.h"
#include "core/history/column_cache.h"

class QCustomPlot;
class QCPAxisRect;
class QCPGraph;
class QCPGraphData;
class QCPItemStraightLine;
class QCPItemText;

namespace cruscotto {

/// What has it been doing: signals over the window, one lane for each unit, so that no two quantities share an axis.
/// The tag of each signal stands at its trace's end; what lies off its scale altogether is said there. Wheel: more or
/// less time; drag: back in time; drag with Shift: a stretch, whose ends are dragged by themselves; double click: fit;
/// with Ctrl the wheel stretches the scale under the pointer. The pointer, as it moves over it, tells what all of its
/// signals read there.
class TraceTile : public Tile {
    Q_OBJECT
public:
    TraceTile(Session& session, QWidget* parent);
    ~TraceTile() override;
    void refresh(Instant t, bool digits) override;
    void printOn(QPaintDevice& device) override;
    /// The time, and each signal's readings as they are drawn.
    [[nodiscard]] QString numbers() const override;
    [[nodiscard]] const std::optional<HeldAt>& held() const { return held_; }
    [[nodiscard]] QString holdWords() const { return holdWords_; }
    [[nodiscard]] std::size_t lanes() const { return lanes_.size(); }
    /// The moments at its ends.
    [[nodiscard]] Span timeDrawn() const { return {drawnTo_ - timeShown(), drawnTo_}; }
    /// How many traces of other runs, or edges of their bands, are drawn.
    [[nodiscard]] std::size_t laidOver() const { return beside_.size(); }
    /// How many pictures are shown behind the newest.
    [[nodiscard]] std::size_t behind() const { return behindAt_.size(); }

protected:
    void rebuild() override;
    void paintEvent(QPaintEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

private:
    struct Line {
        std::size_t shownIndex = 0;
        QCPGraph* graph = nullptr;
        ColumnCache cache;
        double endY = 0;                 ///< in pixels of the tile; NaN: no reading
        OffScale end = OffScale::no;     ///< the reading itself
        OffScale unseen = OffScale::no;  ///< all that is drawn of it lies there
    };
    struct LaneKey {
        std::string unit;
        bool states = false;      ///< rows of states, one below the other
        bool difference = false;  ///< of what is open and the run that it is held against
        std::string alone;        ///< the signal that has it for itself; empty: all of the unit
        bool operator==(const LaneKey&) const = default;
    };
    struct Lane {
        LaneKey key;
        std::optional<Scale> own{};  ///< a difference's, by what there is of it
        QCPAxisRect* rect = nullptr;
        ScaleEnd* low = nullptr;
        ScaleEnd* high = nullptr;
        QCPItemText* below = nullptr;  ///< which signals are not to be seen, at the end behind which they are
        QCPItemText* above = nullptr;
        std::vector<Line> lines;
    };
    [[nodiscard]] Scale laneScale(const Lane& lane) const;
    [[nodiscard]] bool logarithmic(const Scale& scale) const;
    /// Where a value lies on its lane, from 0 to 1.
    [[nodiscard]] double laneFraction(const Lane& lane, double v) const;
    /// Each signal's limits, as lines through its lane.
    Lane* laneAt(QPointF at);
    void layOut();
    void setTimeTicks();
    void tellUnseen();
    /// The caption, the tags and the units: all but the plot.
    void paintAround(QPainter& p) const;
    /// What all signals read at the pointer's time.
    void tellHovered();
    void showStretch();
    /// Where the picture stands still: what it goes through, and when. Nothing: time runs on, or there was none.
    void hold(Instant t);
    [[nodiscard]] bool holdsStill() const;
    /// How much time it shows: its own where it has one, else the page's.
    [[nodiscard]] std::optional<Duration> ownTime() const;
    [[nodiscard]] Duration timeShown() const;
    /// The stretch, where it shows that alone.
    [[nodiscard]] std::optional<Span> lens() const;
    [[nodiscard]] std::string holdSignal() const;
    [[nodiscard]] Duration behindHold() const;
    void feedBehind();
    /// The runs that are laid over.
    void feedBeside(Instant from, Instant to, Duration width);
    void feedDifference(Lane& lane, Instant from, Instant to, Duration width);
    QCPGraph* besideGraph(std::size_t& used, const Lane& lane, std::optional<std::size_t> run);
    /// The run whose paler trace lies nearest; nothing where they are drawn as a band, or none is near.
    [[nodiscard]] std::optional<std::size_t> besideAt(QPointF at) const;
    /// Moves the run that is held in time, as far as the pointer went.
    void dragBeside(double x);
    [[nodiscard]] QVector<QCPGraphData> besidePlaces(const LaidOver& run, const SignalSpec& signal, Instant from,
                                                     Instant to, Duration width) const;
    /// Its axis, ticks and ends, by its scale.
    void scaleLane(Lane& lane);
    /// The lanes there should be: a unit each, those of differences, and states at the bottom.
    [[nodiscard]] std::vector<LaneKey> lanesWanted() const;
    [[nodiscard]] LaneKey laneOf(const SignalSpec& s) const;
    /// What the tile's scale of the lane is kept by.
    [[nodiscard]] static std::string scaleKey(const LaneKey& key) {
        return key.alone.empty() ? key.unit : key.unit + "@" + key.alone;
    }
    /// A value in its lane: of a state within its row.
    [[nodiscard]] static double placed(const Lane& lane, const Line& line, double v);
    void showLevel();
    void dragLevel(double y);
    struct Threshold;
    void showThresholds();
    void addThresholds(const Lane& lane, const SignalSpec& signal);
    [[nodiscard]] std::optional<std::size_t> thresholdAt(QPointF at) const;
    /// Moves it, and asks how often it would have been passed.
    void dragThreshold(double y);
    /// The bench has it where it was dragged to.
    void dropThreshold();
    [[nodiscard]] RuleSpec ruleOf(const Threshold& threshold) const;
    void sayThreshold(const QString& more);
    /// The level that it stands still on, in pixels of the plot; NaN: none is shown.
    [[nodiscard]] double levelY() const;
    [[nodiscard]] Instant timeAt(double x) const;
    [[nodiscard]] double xOf(Instant t) const;
    /// The end of the stretch that lies under the pointer: what its other end is.
    [[nodiscard]] std::optional<Instant> gripAt(double x) const;
    /// Where an end dragged to x comes to lie.
    [[nodiscard]] Instant endAt(double x, bool settles) const;
    void feed(Lane& lane, Line& line, Instant from, Instant to, Duration width);

    QCustomPlot* plot_;
    StretchShade* shade_;
    TraceHover* hover_;
    std::optional<double> hoverX_;  ///< in pixels of the plot
    Instant drawnTo_;               ///< the moment at the right end
    std::vector<std::unique_ptr<Lane>> lanes_;
    Duration ticksFor_;
    bool ticksAtEnd_ = true;
    std::int64_t lastEdge_ = -1;
    std::uint64_t lastRevision_ = 0;
    QString cornerTime_;
    // panning
    bool panning_ = false;
    QPointF panFrom_;
    Instant panAt_;
    std::optional<Instant> otherEnd_;  ///< of the stretch, while an end is dragged
    std::optional<HeldAt> held_;
    Instant lookedAt_;   ///< when one was looked for last
    QString holdWords_;  ///< what it stands still on, or that there was nothing
    bool levelDragged_ = false;
    std::vector<Instant> behindAt_;  ///< the pictures behind the newest
    std::vector<QCPGraph*> behind_;
    /// A paler trace, or an edge of the band of all.
    struct BesideGraph {
        QCPGraph* graph = nullptr;
        std::optional<std::size_t> run;  ///< its number beside; nothing: of all
    };
    std::vector<BesideGraph> beside_;
    struct HeldRun {
        std::size_t run = 0;
        double x = 0;  ///< where it was taken
        Duration moved{};
    };
    std::optional<HeldRun> heldRun_;  ///< a run beside, while it is dragged
    /// A level at which something happens: a limit of a signal, or of a rule's condition.
    struct Threshold {
        QCPItemStraightLine* line = nullptr;
        const Lane* lane = nullptr;
        std::string signal;
        double value = 0;
        std::optional<double> Limits::*limit = nullptr;
        std::string rule;
        std::vector<std::size_t>
            part;  ///< of the rule's condition: its number among its siblings, from the outermost on
    };
    std::vector<Threshold> thresholds_;
    std::optional<std::size_t> dragged_;
    QCPItemText* thresholdWords_ = nullptr;
    int tagMargin_ = 34;
    QCPItemStraightLine* levelLine_ = nullptr;
    std::optional<Duration> ticksBehind_;
};

}  // namespace cruscotto

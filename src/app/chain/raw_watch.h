#pragma once

#include <QPushButton>
#include <QWidget>
#include <optional>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"

namespace cruscotto {

/// What a terminal does, tried at once: its volts, counts or state over the last seconds, and in words what they have
/// spanned since this was opened. Offers the smallest range that holds that.
class RawWatch : public QWidget {
    Q_OBJECT
public:
    RawWatch(const SignalSpec& spec, QWidget* parent);
    /// `stages` are Source::stagesAt(): of these the value behind the stage that turns counts into volts, or the raw
    /// one.
    void look(const Source& source, const SignalSpec& spec, const std::vector<double>& stages, Instant t);
    void setButton(QPushButton* fit) { fit_ = fit; }
    void setRanges(std::vector<Scale> ranges);
    /// Smaller than what is set, and wide enough for what was seen, with a tenth to spare.
    [[nodiscard]] std::optional<Scale> smallestRange(const std::vector<Scale>& ranges, const SignalSpec& spec) const;
    [[nodiscard]] QString words() const;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    struct Moment {
        Instant at;
        double value;
    };
    std::vector<Moment> last_;  // of the last seconds
    std::vector<Scale> ranges_;
    ChannelKind kind_;
    std::optional<double> low_, high_;
    int changes_ = 0;  // from off to on
    std::optional<bool> on_;
    std::string unit_;
    std::optional<Scale> range_;
    ChainSpec chain_;
    Instant from_;  // what was measured before is of another range, or of another chain
    QPushButton* fit_ = nullptr;
};

}  // namespace cruscotto

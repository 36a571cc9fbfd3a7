#pragma once

#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <QWidget>

#include "app/document/session.h"
#include "app/rules/pattern_strip.h"

namespace cruscotto {

/// A strip's look for what a control plays; nothing where it plays nothing that can be drawn.
std::optional<PatternStrip::Look> patternLook(const Bench& bench, const ControlSpec& control);

/// What the bench's other outputs play, each a row below the strip of the one whose page it is, over the same time:
/// edited there as on their own pages, and begun together.
class PlayedBeside : public QWidget {
    Q_OBJECT
public:
    /// Below this strip.
    PlayedBeside(Session& session, const PatternStrip* strip, QWidget* parent);
    /// The others than this control, over so many seconds at least.
    void show(const std::string& control, double seconds);
    using QWidget::show;
    /// How far they reach by themselves, in seconds; 0 without any.
    [[nodiscard]] static double reach(const Bench& bench, const std::string& control);
    /// Called by the frame clock.
    void refresh(const std::vector<ControlReport>& reports, Instant now);
    /// All that play, this control too, from their beginning at one moment.
    void beginTogether();
    [[nodiscard]] int rows() const { return static_cast<int>(row_.size()); }

Q_SIGNALS:
    /// The pattern of this control was edited.
    void changed(const QString& control, const Pattern& pattern);
    void controlAsked(const QString& control);

private:
    struct Row {
        std::string control;
        QLabel* name;
        PatternStrip* strip;
    };
    Session& session_;
    const PatternStrip* strip_;
    std::string control_;
    QVBoxLayout* rows_;
    QPushButton* together_;
    std::vector<Row> row_;
};

}  // namespace cruscotto

#pragma once

#include <QWidget>
#include <vector>

#include "core/bench/stretch_measures.h"

namespace cruscotto {

/// The measures as rows, by what they are measures of: title, value with its uncertainty, what is expected; why there
/// is none. One is chosen by click or by the arrow keys. Where a whole group has none for one reason it is told once.
class MeasureList : public QWidget {
    Q_OBJECT
public:
    explicit MeasureList(QWidget* parent);
    /// `decimals`: of values in the signal's own unit whose uncertainty is not known.
    void show(const StretchMeasures& measures, const Bench& bench, const std::string& signal,
              const std::string& against, int decimals);
    using QWidget::show;
    [[nodiscard]] const std::string& chosen() const { return chosen_; }
    void choose(const std::string& name);
    /// All that stands there, a line each, with tabs: for the clipboard.
    [[nodiscard]] QString words() const;
    [[nodiscard]] QSize sizeHint() const override;

Q_SIGNALS:
    void chosenChanged();
    void expectAsked();

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseDoubleClickEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    bool event(QEvent* event) override;

private:
    struct Row {
        std::string name;  ///< empty: a heading, or a group's reason
        QString title, value, unit, below;
        enum class Verdict { none, fine, off } verdict = Verdict::none;
        bool heading = false;
        bool reason = false;  ///< why there is none, and of what
        double y = 0, height = 0;
    };
    [[nodiscard]] const Row* rowAt(double y) const;
    void step(int by);
    std::vector<Row> rows_;
    std::string chosen_;
};

/// A value for a person with its unit left out: with its uncertainty where that is known, else with four digits, or so
/// many decimals.
QString measureText(const Measure& measure, std::optional<int> decimals = {});

}  // namespace cruscotto

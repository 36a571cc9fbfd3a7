#pragma once

#include <QWidget>
#include <vector>

#include "app/document/session.h"

namespace cruscotto {

/// What was found in comparing runs: a signal each, with a bar for how much that is and words for what it is. A click
/// opens the signal.
class FindingList : public QWidget {
    Q_OBJECT
public:
    FindingList(Session& session, QWidget* parent);
    struct Row {
        QString name, words;
        QString signal;   ///< empty: of no signal that is open
        double size = 0;  ///< 0 to 1; below 0: no bar
    };
    void show(std::vector<Row> rows);
    void show(const std::vector<SignalDifference>& differences, const std::vector<Text>& written);
    using QWidget::show;
    /// As a table, for a spreadsheet.
    [[nodiscard]] QString words() const;
    [[nodiscard]] bool hasHeightForWidth() const override { return true; }
    [[nodiscard]] int heightForWidth(int width) const override;
    [[nodiscard]] QSize sizeHint() const override;

Q_SIGNALS:
    void signalAsked(const QString& signal);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    [[nodiscard]] int heightOf(const Row& row, int width) const;
    [[nodiscard]] int rowAt(int y) const;

    Session& session_;
    std::vector<Row> rows_;
    int chosen_ = -1;
};

}  // namespace cruscotto

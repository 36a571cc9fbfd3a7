#pragma once

#include <QLabel>
#include <QToolButton>
#include <QVBoxLayout>
#include <optional>

namespace cruscotto {

/// One stage of the chain on its card: what it is called, its own live value, its fields, and one sentence.
class StageCard : public QWidget {
    Q_OBJECT
public:
    StageCard(const QString& title, QWidget* parent);
    void setValue(const QString& number, const QString& unit);
    void setSentence(const QString& sentence);
    void setWrong(const QString& why);
    /// How much it wanders, below the sentence; empty: nothing is said.
    void setNoise(const QString& words);
    /// Where the fields go.
    [[nodiscard]] QVBoxLayout* fields() { return fields_; }
    [[nodiscard]] QString valueText() const { return number_; }

Q_SIGNALS:
    void menuAsked(QPoint globalAt);
    /// Its head is dragged to there, and let go there.
    void dragged(QPoint globalAt);
    void dropped(QPoint globalAt);

protected:
    void paintEvent(QPaintEvent* event) override;
    void mousePressEvent(QMouseEvent* event) override;
    void mouseMoveEvent(QMouseEvent* event) override;
    void mouseReleaseEvent(QMouseEvent* event) override;

private:
    QString title_, number_, unit_;
    QVBoxLayout* fields_;
    QLabel* sentence_;
    QLabel* wrong_;
    QLabel* noise_ = nullptr;
    std::optional<QPoint> pressed_;
    bool dragging_ = false;
    friend class ChainDrawer;
    QToolButton* menu_ = nullptr;
};

}  // namespace cruscotto

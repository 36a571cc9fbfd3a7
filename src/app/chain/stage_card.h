#pragma once

#include <QLabel>
#include <QToolButton>
#include <QVBoxLayout>

namespace cruscotto {

/// One stage of the chain on its card: what it is called, its own live value, its fields, and one sentence.
class StageCard : public QWidget {
    Q_OBJECT
public:
    StageCard(const QString& title, QWidget* parent);
    void setValue(const QString& number, const QString& unit);
    void setSentence(const QString& sentence);
    void setWrong(const QString& why);
    /// Where the fields go.
    [[nodiscard]] QVBoxLayout* fields() { return fields_; }
    [[nodiscard]] QString valueText() const { return number_; }

Q_SIGNALS:
    void menuAsked(QPoint globalAt);

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    QString title_, number_, unit_;
    QVBoxLayout* fields_;
    QLabel* sentence_;
    QLabel* wrong_;
    friend class ChainDrawer;
    QToolButton* menu_ = nullptr;
};

}  // namespace cruscotto

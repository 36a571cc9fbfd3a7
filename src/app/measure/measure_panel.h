#pragma once

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>

#include "app/document/measure_job.h"
#include "app/document/session.h"
#include "app/measure/measure_list.h"
#include "app/widgets/fields.h"

namespace cruscotto {

/// What the stretch that is shown comes to for one signal, and against another: its ends to be typed, the measures, and
/// what is expected of each.
class MeasurePanel : public QScrollArea {
    Q_OBJECT
public:
    explicit MeasurePanel(Session& session, QWidget* parent = nullptr);
    void open(const QString& signal);
    [[nodiscard]] QString signal() const { return QString::fromStdString(signal_); }
    /// Empty: against none.
    void holdAgainst(const QString& signal);
    void refresh(bool digits);
    [[nodiscard]] MeasureList& list() { return *list_; }

Q_SIGNALS:
    void closeAsked();
    /// The stretch is to be kept as a run.
    void keepAsked();
    void chainAsked(const QString& signal);
    /// This output is to play what the signal did in the stretch; empty: some output, later.
    void playAsked(const QString& signal, const QString& output);

private:
    void rebuildChoices();
    void fillPlayMenu(QMenu& menu);
    void showEnds(Span stretch);
    void takeEnd(Field* field, bool first, const QString& text);
    void takeExpected();
    void showExpected();
    void showAnswer();

    Session& session_;
    std::string signal_, against_;
    QLabel* title_;
    Field *from_, *to_, *length_;
    QCheckBox* hangs_;
    QComboBox* other_;
    QLabel* state_;
    QPushButton *cancel_, *keep_, *play_;
    MeasureList* list_;
    QPushButton* asSignal_;
    QWidget* expectedBox_;
    QLabel* expectedOf_;
    Field *expected_, *within_;
    std::optional<MeasureJob::Answer> answer_;
    std::optional<MeasureJob::Question> asked_;
    std::uint64_t revision_ = 0;
    Instant askedAt_;
};

}  // namespace cruscotto

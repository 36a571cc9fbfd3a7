#pragma once

#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QTableWidget>
#include <QToolButton>
#include <QVBoxLayout>
#include <functional>

#include "app/document/session.h"
#include "app/widgets/form.h"
#include "app/widgets/switch.h"
#include "core/procedure/procedure_run.h"

namespace cruscotto {

/// The page of procedures, in the page's place: a table of steps with live values and verdicts beside them, what is
/// asked, what was measured, and the fields of the step that is chosen. Every change is one step to undo.
class ProcedureView : public QWidget {
    Q_OBJECT
public:
    ProcedureView(Session& session, QWidget* parent);
    /// The one of this id, or the one that goes on, or the first.
    void open(const std::string& id = {});
    /// Called by the frame clock while it is seen.
    void refresh();

    void addProcedure();
    void removeProcedure();
    void addStep(StepKind kind);
    void removeStep();
    void moveStep(int by);
    /// Behind the chosen step, from the clipboard.
    void pasteStep();
    void copyStep();
    void chooseStep(const StepPath& path);
    /// Begins it, with a recording where that is wanted. `only`: the chosen step alone.
    void start(bool only = false);
    void answer(const QString& words);
    [[nodiscard]] const ProcedureSpec* procedure() const;
    /// The table's cell, as it is shown.
    [[nodiscard]] QString cell(int row, int column) const;

Q_SIGNALS:
    void closeAsked();
    void said(const QString& sentence);

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    enum Column { stepColumn, whatColumn, nowColumn, verdictColumn };
    void makeHead(QVBoxLayout* column);
    void makeQuestion(QVBoxLayout* column);
    void makeTables(QVBoxLayout* column);
    void rebuild();
    void addRows(const std::vector<ProcedureStep>& steps, StepPath path);
    void showReport();
    void showMeasured(const ProcedureReport& report);
    void showNow();
    void showFields();
    void change(const QString& effect, const std::function<void(ProcedureSpec&)>& edit);
    void changeStep(const std::function<void(ProcedureStep&)>& edit);
    [[nodiscard]] const ProcedureStep* chosen() const;
    void insert(ProcedureStep step);
    [[nodiscard]] QString nowText(const std::string& signal) const;
    // fields of the chosen step
    void addText(const QString& label, const std::string& text,
                 const std::function<void(ProcedureStep&, std::string)>& take);
    void addNumber(const QString& label, double value, const std::function<void(ProcedureStep&, double)>& take);
    void addAmount(const QString& label, const std::optional<Amount>& amount,
                   const std::function<void(ProcedureStep&, std::optional<Amount>)>& take);
    void addChoice(const QString& label, const Form::Choices& choices, const std::string& is,
                   const std::function<void(ProcedureStep&, std::string)>& take);
    void addMeasureFields(const ProcedureStep& step);
    void addConditionField(const ProcedureStep& step);

    Session& session_;
    std::string id_;
    StepPath chosen_;
    StepPath followed_;            ///< the step at work that the table was scrolled to
    std::vector<StepPath> paths_;  ///< by row
    std::shared_ptr<const ProcedureSpec> built_;
    std::shared_ptr<const ProcedureReport> shown_;
    bool ending_ = false;  ///< the recording ends with it
    bool showing_ = false;

    QComboBox* which_ = nullptr;
    QLabel *whole_ = nullptr, *notes_ = nullptr, *none_ = nullptr;
    QPushButton *start_ = nullptr, *pause_ = nullptr, *end_ = nullptr;
    Switch* record_ = nullptr;
    QWidget* question_ = nullptr;
    QLabel* asked_ = nullptr;
    QLineEdit* typed_ = nullptr;
    QPushButton *yes_ = nullptr, *no_ = nullptr;
    QTableWidget *steps_ = nullptr, *measured_ = nullptr;
    QScrollArea* fieldScroll_ = nullptr;
    Form* form_ = nullptr;
};

}  // namespace cruscotto

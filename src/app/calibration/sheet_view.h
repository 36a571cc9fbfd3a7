#pragma once

#include <QComboBox>
#include <QLabel>
#include <QProgressBar>
#include <QPushButton>
#include <QScrollArea>
#include <QTableWidget>
#include <QVBoxLayout>
#include <optional>

#include "app/document/session.h"
#include "core/analysis/steadiness.h"
#include "core/chain/calibration_sheet.h"

namespace cruscotto {

class Field;
class LinesField;

/// The page of the window on which a signal's calibration sheet is made: points typed, pasted or captured, the fit, who
/// and when; beside it the sheet as it is printed. Every change is one step to undo.
class SheetView : public QWidget {
    Q_OBJECT
public:
    explicit SheetView(Session& session, QWidget* parent = nullptr);
    void open(const QString& signal);
    [[nodiscard]] const QString& signal() const { return signal_; }
    void refresh(Instant t);
    /// The mean over so many seconds from now on becomes a point, with this reference.
    void capture(double reference, double seconds);
    [[nodiscard]] bool capturing() const { return capture_.has_value(); }
    /// What the last capture was like.
    [[nodiscard]] QString captureWords() const;
    bool print(const QString& path);

Q_SIGNALS:
    void closeAsked();
    void printAsked();
    /// The readings of a run are to be worked out again with the signal's chain.
    void applyAsked(const QString& signal);
    void said(const QString& sentence);

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    struct Capture {
        double reference = 0;
        Instant from;
        Duration length;
    };
    [[nodiscard]] const SignalSpec* spec() const;
    [[nodiscard]] CalibrationSheet sheet() const;
    /// The chain's stage before the sheet: how many there are before it.
    [[nodiscard]] std::size_t stagesBefore() const;
    void take(const QString& effect, const CalibrationSheet& next);
    void takeNext();
    void makePoints(QVBoxLayout* column);
    void makeCapture(QVBoxLayout* column);
    void makeFit(QVBoxLayout* column);
    void makeWords(QVBoxLayout* column);
    void show();
    void showPoints(const CalibrationSheet& s);
    void cellChanged(int row, int column);
    void paste();
    void removePoints();
    void endCapture();
    void shunt();

    Session& session_;
    QString signal_;
    bool showing_ = false;
    std::optional<Capture> capture_;
    std::optional<Steadiness> captured_;
    QString captureSaid_;

    QLabel *title_, *state_;
    QTableWidget* points_ = nullptr;
    Field *reference_ = nullptr, *seconds_ = nullptr, *referenceU_ = nullptr;
    QPushButton* captureButton_ = nullptr;
    QProgressBar* progress_ = nullptr;
    QLabel *captureLabel_ = nullptr, *proposal_ = nullptr, *now_ = nullptr, *wrong_ = nullptr;
    QComboBox* fit_ = nullptr;
    QPushButton *takeProposal_ = nullptr, *apply_ = nullptr, *next_ = nullptr;
    std::vector<std::pair<Field*, std::string CalibrationSheet::*>> words_;
    LinesField* notes_ = nullptr;
    class PaperView* paper_;
};

}  // namespace cruscotto

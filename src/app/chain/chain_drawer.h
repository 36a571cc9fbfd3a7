#pragma once

#include <QScrollArea>
#include <QVBoxLayout>
#include <vector>

#include "app/chain/stage_card.h"
#include "app/document/session.h"

namespace cruscotto {

class Field;
class RawWatch;
class StageTrace;
struct StageCapture;
struct SensorRecipe;
struct TerminalSetting;

/// How the reading of the selected signal is made, stage by stage, each with its own live value and edited in place.
class ChainDrawer : public QScrollArea {
    Q_OBJECT
public:
    explicit ChainDrawer(Session& session, QWidget* parent = nullptr);
    void open(const QString& signal);
    /// Shows what builds the whole chain from the kind of sensor.
    void askForSensor(bool on);
    [[nodiscard]] QString signal() const { return signal_; }
    void refresh(Instant t, bool digits);
    /// The card of the raw sample is 0, of the first stage 1 ...
    [[nodiscard]] StageCard* card(int i) const {
        return i < static_cast<int>(stageCards_.size()) ? stageCards_[static_cast<std::size_t>(i)] : nullptr;
    }

protected:
    void hideEvent(QHideEvent* event) override;

Q_SIGNALS:
    void closeAsked();
    /// Of a run: its readings are to be worked out again with the chains as they are now.
    void workOutAgainAsked();
    /// The calibration sheet of the signal, on its own page.
    void sheetAsked(const QString& signal);

private:
    void rebuild();
    /// The chain can be edited: of a bench always, of a run where its raw samples are there.
    [[nodiscard]] bool editable() const;
    void addCorrection(QVBoxLayout* column);
    [[nodiscard]] const SignalSpec* spec() const;
    void edit(const QString& effect, SignalSpec next);
    void editStage(std::size_t i, const Stage& next, const QString& effect);
    void addIdentity(QVBoxLayout* column);
    void addTerminal(QVBoxLayout* column);
    void addSetup(StageCard& card, const TerminalSetting& setting);
    void changeSetup(const std::string& key, std::variant<double, std::string> value, const QString& effect);
    /// What the terminal's raw value does: its last seconds, and what it has spanned since the chain was opened.
    void addTrial(StageCard& card);
    void addStage(QVBoxLayout* column, std::size_t i);
    void addLimits(QVBoxLayout* column);
    void addLimitAlarm(StageCard& card);
    void addSuppression(StageCard& card);
    void addBudget(QVBoxLayout* column);
    void showUncertainty(Instant t);
    /// What speaks for and against the reading, each with its grounds, and what can be asked of it.
    void addEvidence(QVBoxLayout* column);
    void showEvidence(Instant t);
    /// Another signal that should read the same.
    void addAgreement(StageCard& card);
    /// What stands behind a value: its unit, and the expanded uncertainty.
    static QString aroundText(double expanded, const std::string& unit);
    void addOutput(QVBoxLayout* column);
    void addKeep(QVBoxLayout* column);
    void addStageFields(StageCard& card, std::size_t i);
    Field* addField(StageCard& card, const QString& label, std::function<QString(const SignalSpec&)> show,
                    std::function<void(const QString&)> take);
    Field* numberField(StageCard& card, const QString& label, std::function<double(const SignalSpec&)> get,
                       std::function<void(double)> set);
    void addStageField(StageCard& card, std::size_t stage, std::size_t field);
    void addSource(StageCard& card, std::size_t stage, std::size_t field);
    void addSources(StageCard& card, std::size_t stage, std::size_t field);
    void addSourceRow(StageCard& card, std::size_t stage, std::size_t field, std::size_t row);
    void addReset(StageCard& card, std::size_t stage, std::size_t field);
    /// "What is this sensor?": the kind, and what has to be known of it; the whole chain is built from that.
    void addSensor(QVBoxLayout* column);
    void takeSensor(const SensorRecipe& recipe);
    /// Of a computed signal: what is worked out, and when.
    void addComputation(QVBoxLayout* column);
    /// A choice among words, each with the text that the stage keeps for it.
    void addChoice(StageCard& card, std::size_t stage, std::size_t field, const QStringList& shown,
                   const std::vector<std::string>& kept);
    /// What comes into the stage, on average over the last second, becomes the captured field; false, and said, if
    /// there is nothing.
    bool capture(std::size_t stage, const StageCapture& capture);
    /// An output that was tried from here goes safe, unless it is on a page.
    void endTrial();
    /// Where what is wrong with a stage is said.
    [[nodiscard]] StageCard* cardOf(std::size_t stage) const {
        return asksForSensor_ ? stageCards_.back() : stageCards_[stage + 1];
    }
    /// The place in the chain, 0 to its length, that a stage dropped there would have.
    [[nodiscard]] std::size_t placeAt(QPoint globalAt) const;
    void moveStage(std::size_t from, std::size_t to);
    void rearrange(const QString& effect, const ChainSpec& chain, std::size_t from);
    void stageMenu(std::size_t i, QPoint at);

    Session& session_;
    QString signal_;
    std::string shape_;  ///< what the cards were built for
    std::vector<StageCard*> stageCards_;
    std::vector<std::pair<std::size_t, StageTrace*>> traces_;  ///< by stage
    StageCard* limitsCard_ = nullptr;
    class BudgetView* budget_ = nullptr;
    QLabel* evidence_ = nullptr;
    std::vector<double> behind_;  ///< standard uncertainties, when they were worked out last
    std::optional<Instant> uncertainAt_;
    Duration uncertainPause_;
    std::vector<std::function<void(const SignalSpec&)>> showers_;
    RawWatch* watch_ = nullptr;
    QWidget* dropLine_ = nullptr;
    bool asksForSensor_ = false;
    std::string recipe_;  ///< that the chain was built from while it is asked for
    std::string tried_;   ///< an output that was set from here
};

}  // namespace cruscotto

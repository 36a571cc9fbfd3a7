#pragma once

#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QToolButton>
#include <QVBoxLayout>
#include <functional>
#include <optional>

#include "app/document/session.h"
#include "app/rules/control_plot.h"
#include "app/rules/pattern_strip.h"
#include "app/rules/played_beside.h"
#include "app/widgets/form.h"
#include "app/widgets/switch.h"
#include "core/control/step_response.h"

namespace cruscotto {

/// The page of one control: its settings, what it does now, and for a PID control what a step of its output proposes.
class ControlView : public QWidget {
    Q_OBJECT
public:
    ControlView(Session& session, QWidget* parent);
    void open(const std::string& id);
    /// Called by the frame clock while it is seen.
    void refresh();
    /// The output goes by so much by hand; after so many seconds, or finishStep(), its answer is looked at.
    void beginStep(double by, double lasts);
    void finishStep();
    /// The settings that were proposed last.
    void useProposal();
    [[nodiscard]] QString stateWords() const { return state_->text(); }
    [[nodiscard]] QString proposalWords() const { return proposal_->text(); }

Q_SIGNALS:
    void closeAsked();
    /// The page of another control.
    void controlAsked(const QString& id);
    void said(const QString& sentence);

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    [[nodiscard]] const ControlSpec* spec() const;
    void rebuild();
    void edit(const std::function<void(ControlSpec&)>& change) { edit(id_, change); }
    void edit(const std::string& control, const std::function<void(ControlSpec&)>& change);
    void number(const QString& label, double ControlSpec::*member, const QString& hint = {});
    void playedNumber(const QString& label, double PlayedSpec::*member);
    /// Empty where it is `none`.
    void bound(const QString& label, double ControlSpec::*member, double none);
    void choice(const QString& label, const Form::Choices& all, std::string ControlSpec::*member);
    void flag(const QString& label, bool ControlSpec::*member);
    void points(const QString& label, Pattern& (*of)(ControlSpec&));
    void fillForm(const ControlSpec& c);
    void chooseShape(PlayedSpec::Shape shape);
    void showPattern(const ControlSpec& c);

    Session& session_;
    std::string id_;
    std::shared_ptr<const ControlSpec> built_;
    QLabel *title_, *sentence_, *state_, *proposal_;
    Switch* enabled_;
    QPushButton *reset_, *release_;
    QScrollArea* scroll_;
    Form* form_ = nullptr;
    ControlPlot* plot_;
    PatternStrip* pattern_;
    PlayedBeside* beside_;
    QLabel* patternHint_;
    ControlPlot::Setpoints setpoints_;  ///< since the page was opened
    QWidget* step_;
    Field *stepBy_, *stepLasts_;
    QPushButton *stepButton_, *use_;
    struct Step {
        Instant at;
        double by = 0;
        Duration lasts;
    };
    std::optional<Step> stepping_;
    std::optional<ProposedControl> proposed_;
};

}  // namespace cruscotto

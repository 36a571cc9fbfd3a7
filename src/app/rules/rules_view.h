#pragma once

#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QToolButton>
#include <QVBoxLayout>
#include <QWidget>

#include "app/document/session.h"
#include "app/rules/alarm_list.h"
#include "app/rules/rule_row.h"
#include "app/widgets/live_words.h"
#include "app/widgets/switch.h"

namespace cruscotto {

/// The page of rules, in the page's place: each a sentence whose underlined words are changed in place, what it is
/// doing, and what it would have done; and the alarms that stand.
class RulesView : public QWidget {
    Q_OBJECT
public:
    RulesView(Session& session, QWidget* parent);
    /// `signal`: what a new rule is about.
    void open(const QString& signal);
    /// Called by the frame clock while it is seen.
    void refresh();
    /// The sentence of a rule as it is shown, and what it is doing.
    [[nodiscard]] QString sentence(const std::string& rule) const;
    [[nodiscard]] QString stateWords(const std::string& rule) const;
    /// What the words at a place can be changed to.
    void fillMenu(QMenu& menu, const std::string& rule, const std::string& place);
    /// What else can be done with a rule.
    void fillMore(QMenu& menu, const std::string& rule);
    /// A control that has the output play this; its page is asked for.
    void playBack(const std::string& output, const PlayedSpec& played);
    void addRule();
    [[nodiscard]] AlarmList& alarmList() { return *alarms_; }
    [[nodiscard]] QString controlWords(const std::string& control) const;
    void removeRule(const std::string& rule);
    /// Of two rules that want different things of one output the upper one prevails.
    void moveRule(const std::string& rule, int by);
    void copyRule(const std::string& rule);

Q_SIGNALS:
    void closeAsked();
    void said(const QString& sentence);
    /// The page of this control.
    void controlAsked(const QString& id);

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    struct Row {
        std::string id;
        QWidget* box;
        QLabel* name;
        SentenceLabel* sentence;
        LiveWords* state;
        QLabel* past;
        RuleStrip* strip;
        QPushButton* reset;
        Switch* enabled;
    };
    void rebuild();
    Row makeRow(const RuleSpec& rule);
    /// Rows for the next so many rules that have none yet.
    void addRows(std::size_t most);
    void dropRowsFrom(std::size_t row);
    /// The keyboard goes on at the row if it was told to.
    void goOn(const Row& row);
    void showPast(std::size_t row);
    [[nodiscard]] const RuleSpec* rule(const std::string& id) const;
    void change(const QString& effect, const RuleSpec& next);
    void renameRule(const std::string& id);
    void addPart(const std::string& id, const char* list);
    void ask();
    void addControls();
    void addControl(ControlKind kind);
    void showControls();

    Session& session_;
    QString signal_;
    QPushButton *newRule_, *newControl_;
    QScrollArea* scroll_;
    QVBoxLayout* rows_;
    std::optional<std::pair<std::string, std::string>> goOn_;  ///< the rule and the place that the keyboard goes on at
    AlarmList* alarms_;
    QVBoxLayout* controlRows_;
    struct ControlRow {
        std::string id;
        LiveWords* state;
        QPushButton* reset;
    };
    std::vector<ControlRow> controlRow_;
    std::vector<std::shared_ptr<const ControlSpec>> builtControls_;
    Instant told_;  ///< when rows were last told
    QLabel* fights_;
    QLabel* none_;
    std::vector<Row> row_;
    std::vector<std::shared_ptr<const RuleSpec>> built_;
    Instant askedAt_;
    std::optional<Rehearsal> past_;
};

}  // namespace cruscotto

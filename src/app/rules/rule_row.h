#pragma once

#include <QColor>
#include <QLabel>
#include <QWidget>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "core/base/time.h"
#include "core/bench/rule_words.h"
#include "core/rules/rule_evaluator.h"

/// What a rule's row on the page of rules is made of.
namespace cruscotto {

/// A rule's sentence, whose words that can be changed are links. It knows how high it is at a width: to lay out its
/// text anew is what takes the time where hundreds of them stand below each other, and one thing above them changes.
class SentenceLabel : public QLabel {
    Q_OBJECT
public:
    using QLabel::QLabel;
    void show(const std::vector<SentencePart>& parts);
    using QLabel::show;
    /// The keyboard is at the words of this place, at once or when the window has it; where they are gone, at the first
    /// ones.
    void focusPlace(const std::string& place);
    /// Where a menu of its words opens: under the pointer, or for the keyboard below it.
    [[nodiscard]] QPoint menuAt() const;
    [[nodiscard]] int heightForWidth(int width) const override;

protected:
    void focusInEvent(QFocusEvent* event) override;
    void changeEvent(QEvent* event) override;

private:
    void goOn();

    std::vector<SentencePart> parts_;
    std::vector<std::string> places_;     ///< of its links, in their order
    std::optional<std::string> goOn_;     ///< the place that is to have the keyboard
    QColor ink_;                          ///< that its links are drawn with
    mutable std::map<int, int> heights_;  ///< by width, of the text `of_`
    mutable QString of_;
};

/// When a rule would have held, over a stretch: a bar from when it began to until it no longer did.
class RuleStrip : public QWidget {
    Q_OBJECT
public:
    explicit RuleStrip(QWidget* parent);
    void show(Span span, const std::vector<RuleFiring>& firings);
    using QWidget::show;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    Span span_;
    std::vector<RuleFiring> firings_;
};

}  // namespace cruscotto

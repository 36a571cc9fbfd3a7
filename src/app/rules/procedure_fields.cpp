// The fields of the step that is chosen on the page of procedures.
#include <QCursor>
#include <QFrame>
#include <QHBoxLayout>
#include <QMenu>
#include <QRegularExpression>

#include "app/rules/procedure_view.h"
#include "app/rules/rule_menu.h"
#include "app/widgets/fields.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/analysis/measures.h"
#include "core/base/number_text.h"
#include "core/bench/rule_words.h"

namespace cruscotto {

namespace {
QString amountText(const std::optional<Amount>& a) {
    return !a ? QString() : a->name.empty() ? shown(shortNumber(a->value)) : shown(a->name);
}
std::optional<Amount> amountOf(const QString& typed) {
    const std::string words = typed.trimmed().toStdString();
    if (words.empty()) return std::nullopt;
    Amount out;
    if (!parseNumber(words, out.value)) out = {0, words};
    return out;
}
}  // namespace

void ProcedureView::addText(const QString& label, const std::string& text,
                            const std::function<void(ProcedureStep&, std::string)>& take) {
    form_->text(label, text,
                [this, take](const std::string& typed) { changeStep([&](ProcedureStep& s) { take(s, typed); }); });
}

void ProcedureView::addNumber(const QString& label, double value,
                              const std::function<void(ProcedureStep&, double)>& take) {
    form_->number(label, value, [this, take](double v) { changeStep([&](ProcedureStep& s) { take(s, v); }); });
}

void ProcedureView::addAmount(const QString& label, const std::optional<Amount>& amount,
                              const std::function<void(ProcedureStep&, std::optional<Amount>)>& take) {
    auto* field = new Field(label);
    field->show(amountText(amount));
    field->setToolTip(
        tr("A number, or the name of one: of a repetition's column, an answer, something measured before"));
    connect(field, &Field::taken, this,
            [this, take](const QString& typed) { changeStep([&](ProcedureStep& s) { take(s, amountOf(typed)); }); });
    form_->add(label, field);
}

void ProcedureView::addChoice(const QString& label, const Form::Choices& choices, const std::string& is,
                              const std::function<void(ProcedureStep&, std::string)>& take) {
    form_->choice(label, choices, is,
                  [this, take](const std::string& key) { changeStep([&](ProcedureStep& s) { take(s, key); }); });
}

void ProcedureView::addConditionField(const ProcedureStep& step) {
    RuleSpec rule;
    rule.when = step.until;
    auto* sentence = new QLabel;
    sentence->setWordWrap(true);
    sentence->setTextFormat(Qt::RichText);
    sentence->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    QString html;
    for (const SentencePart& part : ruleParts(session_.bench(), rule)) {
        const bool ours = part.place.starts_with("/when");
        const QString words = shown(part.words).toHtmlEscaped();
        if (ours)
            html += QStringLiteral("<a href=\"%1\" style=\"color: %2;\">%3</a>")
                        .arg(shown(part.place), theme().ink.name(), words);
        else if (html.isEmpty() || !part.words.starts_with(", "))
            html += html.isEmpty() ? QString() : words;
        else
            break;
    }
    sentence->setText(html);
    connect(sentence, &QLabel::linkActivated, this, [this](const QString& place) {
        const ProcedureStep* now_ = chosen();
        if (!now_) return;
        RuleSpec as;
        as.when = now_->until;
        QMenu menu;
        fillRuleMenu(menu, session_.bench(), as, place.toStdString(),
                     [this](const RuleSpec& next) { changeStep([&](ProcedureStep& s) { s.until = next.when; }); });
        if (!menu.isEmpty()) menu.exec(QCursor::pos());
    });
    form_->add(tr("Wait until"), sentence);
}

void ProcedureView::addMeasureFields(const ProcedureStep& step) {
    Form::Choices signals;
    for (const auto& s : session_.bench().signals) signals.emplace_back(s->id, shown(s->name));
    for (std::size_t i = 0; i < step.take.size(); ++i) {
        const ProcedureMeasure& m = step.take[i];
        auto* line = new QFrame;
        line->setObjectName("rule");
        form_->column()->addWidget(line);
        const SignalSpec* spec = session_.bench().signal(m.signal);
        Form::Choices kinds;
        for (const MeasureKind& k : m.against.empty() ? measureKinds() : measureKindsOfTwo())
            if (!spec || !m.against.empty() || measureFits(k, spec->isState()))
                kinds.emplace_back(k.name, shown(k.title));
        addChoice(tr("Measure"), kinds, m.measure,
                  [i](ProcedureStep& s, std::string v) { s.take[i].measure = std::move(v); });
        addChoice(tr("of"), signals, m.signal, [i, this](ProcedureStep& s, std::string v) {
            const SignalSpec* next = session_.bench().signal(v);
            const MeasureKind* kind = measureKind(s.take[i].measure);
            if (next && kind && s.take[i].against.empty() && !measureFits(*kind, next->isState()))
                s.take[i].measure = next->isState() ? "on-share" : "mean";
            s.take[i].unit.clear();
            s.take[i].signal = std::move(v);
        });
        auto none = signals;
        none.insert(none.begin(), {std::string(), tr("nothing else")});
        addChoice(tr("against"), none, m.against, [i](ProcedureStep& s, std::string v) {
            if (s.take[i].against.empty() != v.empty()) s.take[i].measure = v.empty() ? "mean" : "gain";
            s.take[i].against = std::move(v);
        });
        addAmount(tr("not below"), m.low,
                  [i](ProcedureStep& s, std::optional<Amount> v) { s.take[i].low = std::move(v); });
        addAmount(tr("not above"), m.high,
                  [i](ProcedureStep& s, std::optional<Amount> v) { s.take[i].high = std::move(v); });
        addText(tr("in the unit"), m.unit, [i](ProcedureStep& s, std::string v) { s.take[i].unit = std::move(v); });
        addText(tr("known later as"), m.name, [i](ProcedureStep& s, std::string v) { s.take[i].name = std::move(v); });
        if (step.take.size() > 1) {
            auto* out = new QPushButton(tr("Take this measure out"));
            connect(out, &QPushButton::clicked, this, [this, i] {
                changeStep([&](ProcedureStep& s) { s.take.erase(s.take.begin() + static_cast<std::ptrdiff_t>(i)); });
            });
            form_->column()->addWidget(out);
        }
    }
    auto* more = new QPushButton(tr("Measure something else too"));
    connect(more, &QPushButton::clicked, this, [this] {
        changeStep([](ProcedureStep& s) {
            ProcedureMeasure next = s.take.back();
            next.name.clear();
            next.low.reset();
            next.high.reset();
            s.take.push_back(std::move(next));
        });
    });
    form_->column()->addWidget(more);
}

void ProcedureView::showFields() {
    form_ = new Form;
    const ProcedureStep* s = chosen();
    if (s) {
        auto* title = new QLabel(tr("Step %1").arg(shown(stepNumber(chosen_))));
        title->setStyleSheet("font-weight: 600;");
        form_->column()->addWidget(title);
        Form::Choices outputs, devices;
        for (const auto& x : session_.bench().signals)
            if (x->output) outputs.emplace_back(x->id, shown(x->name));
        for (const auto& d : session_.bench().devices) devices.emplace_back(d->id, shown(d->name));
        const auto words = [&](const QString& label) {
            addText(label, s->words, [](ProcedureStep& x, std::string v) { x.words = std::move(v); });
        };
        const auto lasts = [&](const QString& label) {
            addNumber(label, s->seconds, [](ProcedureStep& x, double v) { x.seconds = v; });
        };
        const auto on = [&](const QString& label, const auto& choices) {
            addChoice(label, choices, s->on, [](ProcedureStep& x, std::string v) { x.on = std::move(v); });
        };
        switch (s->kind) {
            case StepKind::set:
                on(tr("Set"), outputs);
                addAmount(tr("to"), s->amount,
                          [](ProcedureStep& x, std::optional<Amount> v) { x.amount = v.value_or(Amount{}); });
                lasts(tr("within, in seconds"));
                break;
            case StepKind::wait:
                addConditionField(*s);
                lasts(tr("at most, in seconds"));
                break;
            case StepKind::hold:
                lasts(tr("Hold, in seconds"));
                break;
            case StepKind::measure:
                lasts(tr("Over, in seconds; 0: over the last hold"));
                addMeasureFields(*s);
                break;
            case StepKind::mark:
                words(tr("Mark with"));
                break;
            case StepKind::ask:
                words(tr("Ask"));
                addChoice(tr("The answer is"),
                          {{"0", tr("seen, go on")}, {"1", tr("yes or no")}, {"2", tr("a number")}},
                          std::to_string(static_cast<int>(s->answer)), [](ProcedureStep& x, const std::string& v) {
                              x.answer = static_cast<ProcedureStep::Answer>(v[0] - '0');
                          });
                if (s->answer == ProcedureStep::Answer::number) {
                    addText(tr("known later as"), s->name,
                            [](ProcedureStep& x, std::string v) { x.name = std::move(v); });
                    addAmount(tr("not below"), s->low,
                              [](ProcedureStep& x, std::optional<Amount> v) { x.low = std::move(v); });
                    addAmount(tr("not above"), s->high,
                              [](ProcedureStep& x, std::optional<Amount> v) { x.high = std::move(v); });
                }
                break;
            case StepKind::command:
                on(tr("Tell"), devices);
                addText(tr("its setting"), s->key, [](ProcedureStep& x, std::string v) { x.key = std::move(v); });
                words(tr("to be"));
                break;
            case StepKind::repeat:
                for (std::size_t i = 0; i < s->columns.size(); ++i) {
                    QStringList values;
                    for (const double v : s->columns[i].values) values << shown(shortNumber(v));
                    addText(tr("Name"), s->columns[i].name,
                            [i](ProcedureStep& x, std::string v) { x.columns[i].name = std::move(v); });
                    auto* list = new Field(tr("Its values"));
                    list->show(values.join(QStringLiteral(", ")));
                    connect(list, &Field::taken, this, [this, i, list](const QString& typed) {
                        std::vector<double> numbers;
                        for (const QString& one : typed.split(QRegularExpression("[,;\\s]+"), Qt::SkipEmptyParts))
                            if (double v = 0; parseNumber(one.toStdString(), v))
                                numbers.push_back(v);
                            else
                                return list->markWrong(true, tr("%1 is no number.").arg(one));
                        if (numbers.empty()) return list->markWrong(true, tr("At least one number is needed."));
                        changeStep([&](ProcedureStep& x) {
                            // Columns are of one length: the others are cut, or go on with their last value.
                            x.columns[i].values = numbers;
                            for (RepeatColumn& c : x.columns) c.values.resize(numbers.size(), c.values.back());
                        });
                    });
                    form_->add(tr("Its values, one for each time"), list);
                }
                auto* more = new QPushButton(tr("Another column"));
                connect(more, &QPushButton::clicked, this, [this] {
                    changeStep([](ProcedureStep& x) {
                        RepeatColumn next = x.columns.back();
                        next.name += "-2";
                        x.columns.push_back(std::move(next));
                    });
                });
                form_->column()->addWidget(more);
                break;
        }
        addText(tr("Called (empty: a sentence is made)"), s->title,
                [](ProcedureStep& x, std::string v) { x.title = std::move(v); });
        if (s->kind != StepKind::repeat) {
            form_->flag(tr("End if this fails"), s->endsIfFailed,
                        [this](bool is) { changeStep([&](ProcedureStep& x) { x.endsIfFailed = is; }); });
        }
        auto* alone = new QPushButton(tr("Try this step alone"));
        connect(alone, &QPushButton::clicked, this, [this] { start(true); });
        form_->column()->addSpacing(8);
        form_->column()->addWidget(alone);
    }
    auto* add = new QPushButton(tr("Add step"));
    add->setObjectName("addStep");
    auto* kinds = new QMenu(add);
    const std::pair<StepKind, QString> all[] = {{StepKind::set, tr("Set an output")},
                                                {StepKind::wait, tr("Wait until something holds")},
                                                {StepKind::hold, tr("Hold for a time")},
                                                {StepKind::measure, tr("Measure and compare")},
                                                {StepKind::ask, tr("Ask the operator")},
                                                {StepKind::mark, tr("Set a mark")},
                                                {StepKind::command, tr("Tell a device a setting")},
                                                {StepKind::repeat, tr("Repeat for each value of a list")}};
    for (const auto& [kind, label] : all) kinds->addAction(label, this, [this, kind = kind] { addStep(kind); });
    opensMenu(*add, kinds);
    form_->column()->addSpacing(8);
    form_->column()->addWidget(add);
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    row->addStretch(1);
    for (const auto& [label, name, act] :
         {std::tuple{QStringLiteral("↑"), tr("Up (Alt+↑)"), std::function<void()>([this] { moveStep(-1); })},
          std::tuple{QStringLiteral("↓"), tr("Down (Alt+↓)"), std::function<void()>([this] { moveStep(1); })},
          std::tuple{QStringLiteral("2×"), tr("The same step once more, behind it"), std::function<void()>([this] {
                         if (const ProcedureStep* one = chosen()) insert(*one);
                     })},
          std::tuple{QStringLiteral("✕"), tr("Remove (Delete)"), std::function<void()>([this] { removeStep(); })}}) {
        auto* button = quietButton(label, name);
        button->setEnabled(s != nullptr);
        connect(button, &QToolButton::clicked, this, act);
        row->addWidget(button);
    }
    form_->column()->addLayout(row);
    form_->column()->addStretch(1);
    showForm(*fieldScroll_, form_);
}

}  // namespace cruscotto

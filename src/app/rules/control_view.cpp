#include "app/rules/control_view.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QRegularExpression>
#include <QTimer>
#include <algorithm>
#include <cmath>

#include "app/widgets/fields.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/control_file.h"

namespace cruscotto {

namespace {
/// How much of the past is shown: what is played shows its turns, what is regulated its slow ways.
double shownSeconds(const ControlSpec& c) {
    constexpr double regulated = 120, played = 30;
    return c.kind == ControlKind::play ? played : regulated;
}
}  // namespace

ControlView::ControlView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      title_(pageTitle()),
      sentence_(new QLabel),
      state_(new QLabel),
      proposal_(new QLabel),
      enabled_(new Switch(this)),
      reset_(new QPushButton(tr("Reset"))),
      release_(new QPushButton(tr("Back to automatic"))),
      scroll_(new QScrollArea),
      plot_(new ControlPlot(session, this)),
      pattern_(new PatternStrip(this)),
      beside_(new PlayedBeside(session, pattern_, this)),
      patternHint_(new QLabel),
      step_(new QWidget),
      stepBy_(new Field(tr("Step of the output"))),
      stepLasts_(new Field(tr("Seconds to wait"))),
      stepButton_(new QPushButton(tr("Make a step"))),
      use_(new QPushButton(tr("Use these"))) {
    setAccessibleName(tr("Control"));
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(24, 20, 24, 16);
    column->setSpacing(8);
    auto* head = new QHBoxLayout;
    head->setSpacing(10);
    enabled_->setCheckable(true);
    connect(enabled_, &Switch::clicked, this, [this](bool on) { edit([&](ControlSpec& c) { c.enabled = on; }); });
    head->addWidget(enabled_);
    head->addWidget(title_);
    state_->setTextFormat(Qt::PlainText);
    state_->setStyleSheet("padding-left: 12px;");
    head->addWidget(state_, 1);
    connect(release_, &QPushButton::clicked, this, [this] {
        if (const ControlSpec* c = spec(); c && session_.engine()) session_.engine()->releaseOutput(c->output);
    });
    connect(reset_, &QPushButton::clicked, this, [this] {
        if (session_.engine()) session_.engine()->resetRule(id_);
    });
    head->addWidget(release_);
    head->addWidget(reset_);
    auto* close = closeButton(tr("Back to the rules"));
    connect(close, &QToolButton::clicked, this, &ControlView::closeAsked);
    head->addWidget(close);
    column->addLayout(head);
    sentence_->setWordWrap(true);
    sentence_->setTextFormat(Qt::PlainText);
    sentence_->setFont(uiFont(15));
    column->addWidget(sentence_);
    auto* beside = new QHBoxLayout;
    beside->setSpacing(16);
    auto* right = new QVBoxLayout;
    right->addWidget(plot_, 1);
    connect(pattern_, &PatternStrip::changed, this,
            [this](const Pattern& next) { edit([&](ControlSpec& c) { c.played.points = next; }); });
    right->addWidget(pattern_);
    patternHint_->setObjectName("muted");
    patternHint_->setContentsMargins(64, 0, 0, 0);
    right->addWidget(patternHint_);
    connect(beside_, &PlayedBeside::changed, this, [this](const QString& id, const Pattern& next) {
        edit(id.toStdString(), [&](ControlSpec& c) { c.played.points = next; });
    });
    connect(beside_, &PlayedBeside::controlAsked, this, &ControlView::controlAsked);
    right->addWidget(beside_, 2);
    auto* row = new QHBoxLayout(step_);
    row->setContentsMargins(0, 0, 0, 0);
    row->addWidget(new QLabel(tr("Tune: change the output by")));
    stepBy_->show(QStringLiteral("1"));
    stepBy_->setMaximumWidth(70);
    row->addWidget(stepBy_);
    row->addWidget(new QLabel(tr("and wait, in seconds")));
    stepLasts_->show(QStringLiteral("30"));
    stepLasts_->setMaximumWidth(70);
    row->addWidget(stepLasts_);
    connect(stepButton_, &QPushButton::clicked, this, [this] {
        if (stepping_) return finishStep();
        double by = 0, lasts = 0;
        if (!parseNumber(stepBy_->text().toStdString(), by) || by == 0 ||
            !parseNumber(stepLasts_->text().toStdString(), lasts) || !(lasts > 0))
            return Q_EMIT said(tr("A step, and seconds above 0, are needed."));
        beginStep(by, lasts);
    });
    row->addWidget(stepButton_);
    row->addStretch(1);
    right->addWidget(step_);
    auto* answer = new QHBoxLayout;
    proposal_->setWordWrap(true);
    proposal_->setTextFormat(Qt::PlainText);
    answer->addWidget(proposal_, 1);
    connect(use_, &QPushButton::clicked, this, &ControlView::useProposal);
    use_->hide();
    answer->addWidget(use_);
    right->addLayout(answer);
    beside->addLayout(right, 1);
    constexpr int formWidth = 300;
    makeFormArea(*scroll_, formWidth);
    beside->addWidget(scroll_);
    column->addLayout(beside, 1);
    connect(&session_, &Session::benchChanged, this, [this] {
        QTimer::singleShot(0, this, [this] {
            if (isVisible()) rebuild();
        });
    });
}

const ControlSpec* ControlView::spec() const {
    return session_.bench().control(id_);
}

void ControlView::open(const std::string& id) {
    id_ = id;
    built_.reset();
    stepping_.reset();
    proposed_.reset();
    setpoints_.clear();
    proposal_->clear();
    use_->hide();
    rebuild();
    refresh();
}

void ControlView::edit(const std::string& control, const std::function<void(ControlSpec&)>& change) {
    const ControlSpec* c = session_.bench().control(control);
    if (!c) return;
    if (session_.isRun()) return Q_EMIT said(tr("The controls of a run are those that it was recorded with."));
    ControlSpec next = *c;
    change(next);
    if (next == *c) return;
    // As a file with it would be read: what may be is decided in one place.
    if (const auto fine = controlFromText(session_.bench(), controlToText(next)); !fine) {
        Q_EMIT said(shown(fine.error().message));
        built_.reset();
        return rebuild();
    }
    session_.edit(tr("Change control"), withControl(session_.bench(), next));
}

void ControlView::number(const QString& label, double ControlSpec::*member, const QString& hint) {
    form_->number(label, spec()->*member, [this, member](double v) { edit([&](ControlSpec& c) { c.*member = v; }); })
        ->setToolTip(hint);
}

void ControlView::bound(const QString& label, double ControlSpec::*member, double none) {
    form_->optionalNumber(label, spec()->*member, tr("the output's own"), [this, member, none](double v) {
        edit([&](ControlSpec& c) { c.*member = std::isfinite(v) ? v : none; });
    });
}

void ControlView::playedNumber(const QString& label, double PlayedSpec::*member) {
    form_->number(label, spec()->played.*member,
                  [this, member](double v) { edit([&](ControlSpec& c) { c.played.*member = v; }); });
}

void ControlView::choice(const QString& label, const Form::Choices& all, std::string ControlSpec::*member) {
    form_->choice(label, all, spec()->*member,
                  [this, member](std::string key) { edit([&](ControlSpec& c) { c.*member = std::move(key); }); });
}

void ControlView::flag(const QString& label, bool ControlSpec::*member) {
    form_->flag(label, spec()->*member, [this, member](bool on) { edit([&](ControlSpec& c) { c.*member = on; }); });
}

void ControlView::points(const QString& label, Pattern& (*of)(ControlSpec&)) {
    ControlSpec copy = *spec();
    QStringList lines;
    for (const auto& [t, v] : of(copy)) lines << shown(shortNumber(t)) + QStringLiteral("  ") + shown(shortNumber(v));
    auto* field = new LinesField(label, lines.join('\n'));
    field->setFixedHeight(84);
    connect(field, &LinesField::taken, this, [this, of](const QString& typed) {
        Pattern next;
        for (const QString& line : typed.split('\n', Qt::SkipEmptyParts)) {
            const QStringList two = line.split(QRegularExpression("[;,\\t ]+"), Qt::SkipEmptyParts);
            double t = 0, v = 0;
            if (two.isEmpty()) continue;
            if (two.size() != 2 || !parseNumber(two[0].toStdString(), t) || !parseNumber(two[1].toStdString(), v))
                return Q_EMIT said(tr("\"%1\": seconds and a value are expected on each line.").arg(line));
            next.emplace_back(t, v);
        }
        edit([&](ControlSpec& c) { of(c) = next; });
    });
    form_->add(label, field);
}

void ControlView::fillForm(const ControlSpec& c) {
    const Bench& bench = session_.bench();
    Form::Choices signals, states, outputs, targets{{std::string(), tr("the number above")}};
    const SignalSpec* out = bench.signal(c.output);
    for (const auto& s : bench.signals) {
        if (s->output) outputs.emplace_back(s->id, shown(s->name));
        if (s->isState()) states.emplace_back(s->id, shown(s->name));
        const bool suits = c.kind == ControlKind::follow ? out && s->isState() == isDigital(out->kind) : !s->isState();
        if (suits && s->id != c.output) signals.emplace_back(s->id, shown(s->name));
        const SignalSpec* read = bench.signal(c.signal);
        if (read && !s->isState() && s->id != c.signal && s->unit() == read->unit())
            targets.emplace_back(s->id, shown(s->name));
    }
    choice(tr("Output"), outputs, &ControlSpec::output);
    if (c.kind != ControlKind::play)
        choice(c.kind == ControlKind::follow ? tr("follows") : tr("Signal"), signals, &ControlSpec::signal);
    const SignalSpec* read = bench.signal(c.signal);
    const QString unit = !c.unit.empty() ? shown(unitText(c.unit)) : read ? shown(unitText(read->unit())) : QString();
    if (c.kind == ControlKind::twoPoint || c.kind == ControlKind::pid) {
        number(unit.isEmpty() ? tr("Setpoint") : tr("Setpoint, in %1").arg(unit), &ControlSpec::setpoint);
        if (targets.size() > 1) choice(tr("Setpoint said by"), targets, &ControlSpec::setpointFrom);
        flag(tr("More of the output brings it down"), &ControlSpec::reverse);
        points(tr("Profile: seconds and setpoint, a line each"), [](ControlSpec& s) -> Pattern& { return s.profile; });
    }
    if (c.kind == ControlKind::twoPoint) {
        number(tr("Between on and off"), &ControlSpec::hysteresis);
        number(tr("On for at least, in seconds"), &ControlSpec::leastOn);
        number(tr("Off for at least, in seconds"), &ControlSpec::leastOff);
        auto none = states;
        none.insert(none.begin(), {std::string(), tr("nothing")});
        choice(tr("Read back by"), none, &ControlSpec::readBack);
        if (!c.readBack.empty()) number(tr("which follows within, in seconds"), &ControlSpec::readBackWithin);
        if (out && !isDigital(out->kind)) {
            number(tr("On is"), &ControlSpec::onValue);
            number(tr("Off is"), &ControlSpec::offValue);
        }
    } else if (c.kind == ControlKind::pid) {
        number(tr("Gain"), &ControlSpec::gain, tr("Of the output's unit per the signal's"));
        number(tr("Integral over, in seconds; 0: none"), &ControlSpec::integralSeconds);
        number(tr("Derivative over, in seconds; 0: none"), &ControlSpec::derivativeSeconds);
        bound(tr("Not below"), &ControlSpec::low, -std::numeric_limits<double>::infinity());
        bound(tr("Not above"), &ControlSpec::high, std::numeric_limits<double>::infinity());
        number(tr("A second at most; 0: any"), &ControlSpec::slew);
        number(tr("Worked out every, in seconds"), &ControlSpec::everySeconds);
    } else if (c.kind == ControlKind::follow) {
        if (out && isDigital(out->kind)) {
            flag(tr("The opposite"), &ControlSpec::inverted);
        } else {
            number(tr("times"), &ControlSpec::factor);
            number(tr("plus"), &ControlSpec::offset);
        }
        number(tr("later by, in seconds"), &ControlSpec::delaySeconds);
    } else {
        using Shape = PlayedSpec::Shape;
        const Form::Choices shapes{
            {"0", tr("steps")}, {"1", tr("straight lines")}, {"2", tr("a sine")}, {"3", tr("a recorded stretch")}};
        form_->choice(tr("Shape"), shapes, std::to_string(static_cast<int>(c.played.shape)),
                      [this](const std::string& key) { chooseShape(static_cast<Shape>(key[0] - '0')); });
        if (c.played.shape == Shape::steps || c.played.shape == Shape::ramps) {
            points(tr("Seconds and value, a line each"), [](ControlSpec& s) -> Pattern& { return s.played.points; });
            playedNumber(tr("Lasts, in seconds; 0: until its last"), &PlayedSpec::lasts);
        } else if (c.played.shape == Shape::sine) {
            playedNumber(tr("Mean"), &PlayedSpec::mean);
            playedNumber(tr("Amplitude"), &PlayedSpec::amplitude);
            playedNumber(tr("Frequency, in Hz"), &PlayedSpec::hertz);
        } else {
            for (const auto& [label, member] :
                 {std::pair{tr("Run"), &PlayedSpec::run}, std::pair{tr("its signal, by its id"), &PlayedSpec::signal}})
                form_->text(label, c.played.*member, [this, member = member](std::string typed) {
                    edit([&](ControlSpec& s) { s.played.*member = std::move(typed); });
                });
            playedNumber(tr("from, in seconds"), &PlayedSpec::from);
            playedNumber(tr("to, in seconds"), &PlayedSpec::to);
            playedNumber(tr("times as fast"), &PlayedSpec::speed);
        }
        auto* times = new Field(tr("How often"));
        times->show(QString::number(c.played.times));
        connect(times, &Field::taken, this, [this, times](const QString& typed) {
            bool fine = false;
            const int n = typed.toInt(&fine);
            times->markWrong(!fine || n < 0, tr("A whole number; 0: again and again"));
            if (fine && n >= 0) edit([&](ControlSpec& s) { s.played.times = n; });
        });
        form_->add(tr("How often; 0: again and again"), times);
    }
}

void ControlView::chooseShape(PlayedSpec::Shape shape) {
    using Shape = PlayedSpec::Shape;
    edit([&](ControlSpec& s) {
        s.played.shape = shape;
        const SignalSpec* o = session_.bench().signal(s.output);
        if (shape == Shape::sine && o && o->output) {
            s.played.mean = (o->output->low + o->output->high) / 2;
            s.played.amplitude = (o->output->high - o->output->low) / 4;
        }
        if (shape == Shape::run && s.played.run.empty()) {
            s.played.run = session_.lastRun().isEmpty() ? "name.run" : session_.lastRun().toStdString();
            s.played.signal = s.output;
            s.played.to = 10;
        }
    });
}

void ControlView::rebuild() {
    const auto& all = session_.bench().controls;
    const auto it = std::ranges::find(all, id_, [](const auto& c) { return c->id; });
    if (it == all.end()) return Q_EMIT closeAsked();
    showPattern(**it);  // also where nothing has changed in the end: it shows what it is dragged to
    if (built_ == *it) return;
    built_ = *it;
    const ControlSpec& c = **it;
    title_->setText(shown(c.name));
    sentence_->setText(shown(controlSentence(session_.bench(), c)));
    enabled_->setChecked(c.enabled);
    enabled_->setAccessibleName(tr("%1 is in force").arg(shown(c.name)));
    step_->setVisible(c.kind == ControlKind::pid);
    form_ = new Form;
    fillForm(c);
    form_->column()->addStretch(1);
    showForm(*scroll_, form_);
}

/// What is played stands where other controls have their step: as something to be drawn.
void ControlView::showPattern(const ControlSpec& c) {
    const auto look = patternLook(session_.bench(), c);
    pattern_->setVisible(look.has_value());
    patternHint_->setVisible(look.has_value());
    beside_->setVisible(look.has_value());
    proposal_->setVisible(!look);
    const bool several = look && PlayedBeside::reach(session_.bench(), c.id) > 0;
    plot_->setMinimumHeight(several ? 110 : look ? 140 : 260);
    plot_->setMaximumHeight(several ? 130 : look ? 200 : QWIDGETSIZE_MAX);
    if (!look) return;
    PatternStrip::Look own = *look;
    own.extent = PlayedBeside::reach(session_.bench(), c.id);
    patternHint_->setText(own.states ? tr("Double-click adds a pulse; edges are dragged; Delete takes one away.")
                                     : tr("Double-click adds a point; points are dragged; Delete takes one away."));
    pattern_->show(c.played.points, own);
    beside_->show(c.id, std::max(own.extent, pattern_->ownExtent()));
}

void ControlView::refresh() {
    const ControlSpec* c = spec();
    if (!c) return;
    const auto reports = session_.engine() ? session_.engine()->controlReports() : std::vector<ControlReport>();
    const auto it = std::ranges::find(reports, id_, &ControlReport::id);
    const SignalSpec *read = session_.bench().signal(c->signal), *out = session_.bench().signal(c->output);
    QStringList words;
    bool failed = false, hand = false;
    if (!c->enabled) words << tr("rests");
    if (c->enabled && it != reports.end()) {
        const ControlState& s = it->state;
        failed = s.failed;
        if (s.reading && read) words << quantityText(*s.reading, read->unit());
        if (s.setpoint && read) words << tr("setpoint %1").arg(quantityText(*s.setpoint, read->unit()));
        if (s.wants && out)
            words << (isDigital(out->kind) ? (*s.wants > 0.5 ? tr("output on") : tr("output off"))
                                           : tr("output %1").arg(quantityText(*s.wants, out->unit())));
        if (s.over) words << tr("has ended");
        if (it->byDevice) words << tr("played by the device itself");
        if (s.late) words << counted(s.late, tr("1 value late"), tr("%1 values late"));
        if (!s.why.empty()) words << QStringLiteral("▲ ") + shown(s.why);
        const auto state = session_.engine()->outputState(c->output);
        hand = state && state->holder == OutputHolder::hand;
        if (!it->holds && state && !failed && state->holder != OutputHolder::rule)
            words << (hand ? tr("by hand now") : tr("held by %1").arg(shown(state->why)));
    }
    state_->setText(words.join(QStringLiteral("   ")));
    reset_->setVisible(failed);
    release_->setVisible(hand && !stepping_);
    if (it != reports.end()) {
        if (it->state.setpoint && (setpoints_.empty() || setpoints_.back().second != *it->state.setpoint))
            setpoints_.emplace_back(session_.end(), *it->state.setpoint);
        // The one that held at the left end is still needed.
        while (setpoints_.size() > 1 && setpoints_[1].first < session_.end() - seconds(shownSeconds(*c)))
            setpoints_.pop_front();
        pattern_->setNow(it->state.turn && !it->state.over ? std::optional((session_.end() - *it->state.turn).seconds())
                                                           : std::nullopt);
    }
    beside_->refresh(reports, session_.end());
    plot_->show(*c, setpoints_, seconds(shownSeconds(*c)));
    if (stepping_) {
        const Duration since = session_.end() - stepping_->at;
        stepButton_->setText(
            tr("Look at it now (%1 s)").arg(std::max(0.0, (stepping_->lasts - since).seconds()), 0, 'f', 0));
        if (since >= stepping_->lasts) finishStep();
    } else {
        stepButton_->setText(tr("Make a step"));
    }
}

void ControlView::beginStep(double by, double lasts) {
    const ControlSpec* c = spec();
    if (!c || !session_.engine()) return;
    const auto state = session_.engine()->outputState(c->output);
    if (!state || !session_.engine()->setOutput(c->output, state->value + by))
        return Q_EMIT said(tr("The output is not driven."));
    proposed_.reset();
    use_->hide();
    proposal_->setText(tr("The output is held by hand meanwhile. Leave everything else as it is."));
    stepping_ = Step{session_.end(), by, seconds(lasts)};
}

void ControlView::finishStep() {
    const ControlSpec* c = spec();
    if (!c || !stepping_) return;
    const Step step = *stepping_;
    stepping_.reset();
    if (session_.engine()) session_.engine()->releaseOutput(c->output);
    constexpr double before = 10;
    constexpr std::size_t most = 200'000;
    std::vector<Point> points;
    const Span span{step.at - seconds(before), session_.end()};
    if (!session_.source().points(c->signal, span, most, points))
        return proposal_->setText(tr("There are too many readings to look at: make the step shorter."));
    std::vector<double> t, y;
    for (const Point& p : points)
        if (std::isfinite(p.value)) t.push_back((p.t - step.at).seconds()), y.push_back(p.value);
    const auto fit = fitStep(t, y, step.by);
    if (!fit) return proposal_->setText(shown(fit.error().message));
    const StepResponse& r = fit.value();
    proposed_ = proposeControl(r);
    proposal_->setText(
        tr("It answers with %1 per unit of the output, after %2 s, within a time constant of %3 s; the fit "
           "leaves %4 %. Proposed: gain %5, integral over %6 s%7.")
            .arg(shown(threeDigits(r.gain)), shown(threeDigits(r.deadSeconds)), shown(threeDigits(r.tauSeconds)),
                 shown(threeDigits(100 * r.rest)), shown(threeDigits(proposed_->gain)),
                 shown(threeDigits(proposed_->integralSeconds)), proposed_->reverse ? tr(", reverse") : QString()));
    use_->show();
}

void ControlView::useProposal() {
    if (!proposed_) return;
    edit([this](ControlSpec& c) {
        c.gain = proposed_->gain;
        c.integralSeconds = proposed_->integralSeconds;
        c.reverse = proposed_->reverse;
    });
    use_->hide();
}

void ControlView::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape) return Q_EMIT closeAsked();
    QWidget::keyPressEvent(event);
}

}  // namespace cruscotto

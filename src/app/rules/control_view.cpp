#include "app/rules/control_view.h"

#include <QApplication>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QPainter>
#include <QRegularExpression>
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
constexpr double shownSeconds = 120;
QString withUnit(double v, const std::string& ucum) {
    const std::string unit = unitText(ucum);
    return shown(threeDigits(v) + (unit.empty() || unit == "1" ? "" : " " + unit));
}
}  // namespace

ControlPlot::ControlPlot(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
    setMinimumHeight(260);
    setAccessibleName(tr("Signal and output of late"));
}

void ControlPlot::read(Lane& lane, const SignalSpec& s, Instant from, Duration width) {
    lane.name = shown(s.name);
    lane.unit = shown(unitText(s.unit()));
    lane.colour = theme().signal[static_cast<std::size_t>(s.colour)];
    lane.steps = holds(s);
    session_.source().columns(
        s.id, {from, width, static_cast<std::size_t>(shownSeconds * 1e9 / static_cast<double>(width.ns))},
        lane.columns);
    double low = std::numeric_limits<double>::infinity(), high = -low;
    for (const Column& c : lane.columns)
        if (c.summary.count) low = std::min(low, c.summary.min), high = std::max(high, c.summary.max);
    if (s.output) low = isDigital(s.kind) ? 0 : s.output->low, high = isDigital(s.kind) ? 1 : s.output->high;
    if (low > high) low = 0, high = 1;
    lane.low = low;
    lane.high = high;
}

void ControlPlot::show(const ControlSpec& control, std::optional<double> setpoint, Duration window) {
    lanes_.clear();
    setpoint_ = setpoint;
    width_ = Duration{window.ns / 600};
    const Instant end = session_.end();
    from_ = Instant{(end.ns - window.ns) / width_.ns * width_.ns};
    for (const std::string& id : {control.signal, control.output})
        if (const SignalSpec* s = session_.bench().signal(id)) {
            lanes_.emplace_back();
            read(lanes_.back(), *s, from_, width_);
        }
    if (setpoint_ && !lanes_.empty()) {
        lanes_.front().low = std::min(lanes_.front().low, *setpoint_);
        lanes_.front().high = std::max(lanes_.front().high, *setpoint_);
    }
    for (Lane& lane : lanes_) {
        const double room = std::max(0.08 * (lane.high - lane.low), 1e-9 + 1e-3 * std::fabs(lane.high));
        lane.low -= room;
        lane.high += room;
    }
    update();
}

void ControlPlot::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    const Theme& t = theme();
    const double gap = 34, left = 64, top = 22;
    const auto n = static_cast<double>(std::max<std::size_t>(1, lanes_.size()));
    const double each = (height() - top - 22 - gap * (n - 1)) / n;
    double y = top;
    for (std::size_t i = 0; i < lanes_.size(); ++i, y += each + gap) {
        const Lane& lane = lanes_[i];
        const QRectF box(left, y, width() - left - 8, each);
        const auto yOf = [&](double v) {
            return box.bottom() - (v - lane.low) / (lane.high - lane.low) * box.height();
        };
        const double perColumn = box.width() / std::max<double>(1, static_cast<double>(lane.columns.size()));
        p.setPen(t.ink);
        p.setFont(uiFont(12, QFont::Medium));
        p.drawText(QPointF(left, y - 7),
                   lane.name + (lane.unit.isEmpty() ? QString() : QStringLiteral(", ") + lane.unit));
        p.setPen(t.muted);
        p.setFont(uiFont(12));
        // Three to six round numbers.
        const double span = lane.high - lane.low;
        double every = std::pow(10, std::floor(std::log10(span / 3)));
        for (const double by : {5.0, 2.0})
            if (span / (every * by) >= 3) {
                every *= by;
                break;
            }
        for (double v = std::ceil(lane.low / every) * every; v <= lane.high; v += every) {
            p.setPen(t.hairline);
            p.drawLine(QPointF(box.left(), yOf(v)), QPointF(box.right(), yOf(v)));
            p.setPen(t.muted);
            p.drawText(QRectF(0, yOf(v) - 9, left - 8, 18), Qt::AlignRight | Qt::AlignVCenter,
                       shown(shortNumber(std::fabs(v) < every * 1e-6 ? 0 : v)));
        }
        if (i == 0 && setpoint_) {
            p.setPen(QPen(t.ink, 1, Qt::DashLine));
            p.drawLine(QPointF(box.left(), yOf(*setpoint_)), QPointF(box.right(), yOf(*setpoint_)));
            p.drawText(QPointF(box.right() - 76, yOf(*setpoint_) - 4), tr("setpoint"));
        }
        QPolygonF line;
        const auto flush = [&] {
            p.setPen(QPen(lane.colour, 1.6));
            if (line.size() > 1) p.drawPolyline(line);
            line.clear();
        };
        std::optional<double> before;
        for (std::size_t c = 0; c < lane.columns.size(); ++c) {
            const Column& column = lane.columns[c];
            if (column.broken()) flush(), before.reset();
            const double x = box.left() + (static_cast<double>(c) + 0.5) * perColumn;
            if (column.summary.count) {
                if (lane.steps && before) line << QPointF(x, yOf(*before));
                if (!lane.steps && column.summary.max - column.summary.min > 0) {
                    p.setPen(QPen(lane.colour, 1));
                    p.drawLine(QPointF(x, yOf(column.summary.min)), QPointF(x, yOf(column.summary.max)));
                }
                before = lane.steps ? column.summary.max : column.summary.mean;
                line << QPointF(x, yOf(*before));
            } else if (lane.steps && before) {
                line << QPointF(x, yOf(*before));
            }
        }
        flush();
    }
    p.setPen(t.muted);
    p.setFont(uiFont(12));
    p.drawText(QRectF(left, height() - 18, width() - left - 8, 18), Qt::AlignLeft, tr("%1 s ago").arg(shownSeconds));
    p.drawText(QRectF(left, height() - 18, width() - left - 8, 18), Qt::AlignRight, tr("now"));
}

ControlView::ControlView(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      title_(new QLabel),
      sentence_(new QLabel),
      state_(new QLabel),
      proposal_(new QLabel),
      enabled_(new Switch(this)),
      reset_(new QPushButton(tr("Reset"))),
      release_(new QPushButton(tr("Back to automatic"))),
      scroll_(new QScrollArea),
      plot_(new ControlPlot(session, this)),
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
    title_->setStyleSheet("font-size: 20px; font-weight: 600;");
    title_->setTextFormat(Qt::PlainText);
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
    auto* close = new QToolButton;
    close->setObjectName("quiet");
    close->setText(QStringLiteral("✕"));
    close->setAccessibleName(tr("Back to the rules"));
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
    scroll_->setObjectName("pageScroll");
    scroll_->setWidgetResizable(true);
    scroll_->setFrameShape(QFrame::NoFrame);
    scroll_->setFixedWidth(300);
    scroll_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
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
    proposal_->clear();
    use_->hide();
    rebuild();
    refresh();
}

void ControlView::edit(const std::function<void(ControlSpec&)>& change) {
    const ControlSpec* c = spec();
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

void ControlView::addRow(const QString& label, QWidget* field) {
    auto* caption = new QLabel(label);
    caption->setObjectName("muted");
    form_->addWidget(caption);
    form_->addWidget(field);
}

void ControlView::number(const QString& label, double ControlSpec::*member, const QString& hint) {
    auto* field = new Field(label);
    const double is = spec()->*member;
    field->show(!std::isfinite(is) ? QString() : shown(shortNumber(is)));
    field->setToolTip(hint);
    const bool mayBeNone = member == &ControlSpec::low || member == &ControlSpec::high;
    if (mayBeNone) field->setPlaceholderText(tr("the output's own"));
    connect(field, &Field::taken, this, [this, field, member, mayBeNone](const QString& typed) {
        double v = 0;
        const bool none = mayBeNone && typed.trimmed().isEmpty();
        const bool fine = none || parseNumber(typed.toStdString(), v);
        field->markWrong(!fine, tr("This is no number."));
        if (fine)
            edit([&](ControlSpec& c) {
                c.*member =
                    !none ? v : (member == &ControlSpec::low ? -1 : 1) * std::numeric_limits<double>::infinity();
            });
    });
    addRow(label, field);
}

void ControlView::playedNumber(const QString& label, double PlayedSpec::*member) {
    auto* field = new Field(label);
    field->show(shown(shortNumber(spec()->played.*member)));
    connect(field, &Field::taken, this, [this, field, member](const QString& typed) {
        double v = 0;
        const bool fine = parseNumber(typed.toStdString(), v);
        field->markWrong(!fine, tr("This is no number."));
        if (fine) edit([&](ControlSpec& c) { c.played.*member = v; });
    });
    addRow(label, field);
}

void ControlView::choice(const QString& label, const std::vector<std::pair<std::string, QString>>& all,
                         std::string ControlSpec::*member) {
    auto* box = new Choice;
    box->setAccessibleName(label);
    for (const auto& [key, words] : all) box->addItem(words, shown(key));
    box->setCurrentIndex(box->findData(shown(spec()->*member)));
    connect(box, &QComboBox::activated, this, [this, box, member](int i) {
        edit([&](ControlSpec& c) { c.*member = box->itemData(i).toString().toStdString(); });
    });
    addRow(label, box);
}

void ControlView::flag(const QString& label, bool ControlSpec::*member) {
    auto* row = new QWidget;
    auto* line = new QHBoxLayout(row);
    line->setContentsMargins(0, 4, 0, 4);
    auto* is = new Switch(row);
    is->setCheckable(true);
    is->setChecked(spec()->*member);
    is->setAccessibleName(label);
    connect(is, &Switch::clicked, this, [this, member](bool on) { edit([&](ControlSpec& c) { c.*member = on; }); });
    line->addWidget(is);
    auto* words = new QLabel(label);
    words->setWordWrap(true);
    line->addWidget(words, 1);
    form_->addWidget(row);
}

void ControlView::points(const QString& label, std::vector<std::pair<double, double>>& (*of)(ControlSpec&)) {
    ControlSpec copy = *spec();
    QStringList lines;
    for (const auto& [t, v] : of(copy)) lines << shown(shortNumber(t)) + QStringLiteral("  ") + shown(shortNumber(v));
    auto* field = new LinesField(label, lines.join('\n'));
    field->setFixedHeight(84);
    connect(field, &LinesField::taken, this, [this, of](const QString& typed) {
        std::vector<std::pair<double, double>> next;
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
    addRow(label, field);
}

void ControlView::fillForm(const ControlSpec& c) {
    const Bench& bench = session_.bench();
    std::vector<std::pair<std::string, QString>> signals, states, outputs,
        targets{{std::string(), tr("the number above")}};
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
        if (targets.size() > 1) choice(tr("said by"), targets, &ControlSpec::setpointFrom);
        flag(tr("More of the output brings it down"), &ControlSpec::reverse);
        points(tr("Profile: seconds and setpoint, a line each"),
               [](ControlSpec& s) -> std::vector<std::pair<double, double>>& { return s.profile; });
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
        number(tr("Not below"), &ControlSpec::low);
        number(tr("Not above"), &ControlSpec::high);
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
        auto* shape = new Choice;
        shape->setAccessibleName(tr("Shape"));
        shape->addItems({tr("steps"), tr("straight lines"), tr("a sine"), tr("a recorded stretch")});
        shape->setCurrentIndex(static_cast<int>(c.played.shape));
        connect(shape, &QComboBox::activated, this, [this](int i) {
            edit([&](ControlSpec& s) {
                s.played.shape = static_cast<Shape>(i);
                const SignalSpec* o = session_.bench().signal(s.output);
                if (s.played.shape == Shape::sine && o && o->output) {
                    s.played.mean = (o->output->low + o->output->high) / 2;
                    s.played.amplitude = (o->output->high - o->output->low) / 4;
                }
                if (s.played.shape == Shape::run && s.played.run.empty()) {
                    s.played.run = session_.lastRun().isEmpty() ? "name.run" : session_.lastRun().toStdString();
                    s.played.signal = s.output;
                    s.played.to = 10;
                }
            });
        });
        addRow(tr("Shape"), shape);
        if (c.played.shape == Shape::steps || c.played.shape == Shape::ramps) {
            points(tr("Seconds and value, a line each"),
                   [](ControlSpec& s) -> std::vector<std::pair<double, double>>& { return s.played.points; });
            playedNumber(tr("Lasts, in seconds; 0: until its last"), &PlayedSpec::lasts);
        } else if (c.played.shape == Shape::sine) {
            playedNumber(tr("Mean"), &PlayedSpec::mean);
            playedNumber(tr("Amplitude"), &PlayedSpec::amplitude);
            playedNumber(tr("Frequency, in Hz"), &PlayedSpec::hertz);
        } else {
            for (const auto& [label, member] : {std::pair{tr("Run"), &PlayedSpec::run},
                                                std::pair{tr("its signal, by its id"), &PlayedSpec::signal}}) {
                auto* field = new Field(label);
                field->show(shown(c.played.*member));
                connect(field, &Field::taken, this, [this, member = member](const QString& typed) {
                    edit([&](ControlSpec& s) { s.played.*member = typed.trimmed().toStdString(); });
                });
                addRow(label, field);
            }
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
        addRow(tr("How often; 0: again and again"), times);
    }
}

void ControlView::rebuild() {
    const auto& all = session_.bench().controls;
    const auto it = std::ranges::find(all, id_, [](const auto& c) { return c->id; });
    if (it == all.end()) return Q_EMIT closeAsked();
    if (built_ == *it) return;
    built_ = *it;
    const ControlSpec& c = **it;
    title_->setText(shown(c.name));
    sentence_->setText(shown(controlSentence(session_.bench(), c)));
    enabled_->setChecked(c.enabled);
    enabled_->setAccessibleName(tr("%1 is in force").arg(shown(c.name)));
    step_->setVisible(c.kind == ControlKind::pid);
    fields_ = new QWidget;
    fields_->setObjectName("page");
    form_ = new QVBoxLayout(fields_);
    form_->setContentsMargins(0, 0, 8, 8);
    form_->setSpacing(4);
    fillForm(c);
    form_->addStretch(1);
    QWidget* old = scroll_->takeWidget();
    const QString was = old && QApplication::focusWidget() && old->isAncestorOf(QApplication::focusWidget())
                            ? QApplication::focusWidget()->accessibleName()
                            : QString();
    scroll_->setWidget(fields_);
    fields_->show();
    if (!was.isEmpty())
        for (QWidget* w : fields_->findChildren<QWidget*>())
            if (w->accessibleName() == was) w->setFocus();
    if (old) old->deleteLater();
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
        if (s.reading && read) words << withUnit(*s.reading, read->unit());
        if (s.setpoint && read) words << tr("setpoint %1").arg(withUnit(*s.setpoint, read->unit()));
        if (s.wants && out)
            words << (isDigital(out->kind) ? (*s.wants > 0.5 ? tr("output on") : tr("output off"))
                                           : tr("output %1").arg(withUnit(*s.wants, out->unit())));
        if (s.over) words << tr("has ended");
        if (s.late) words << tr("%n late value(s)", nullptr, static_cast<int>(s.late));
        if (!s.why.empty()) words << QStringLiteral("▲ ") + shown(s.why);
        const auto state = session_.engine()->outputState(c->output);
        hand = state && state->holder == OutputHolder::hand;
        if (!it->holds && state && !failed && state->holder != OutputHolder::rule)
            words << (hand ? tr("by hand now") : tr("held by %1").arg(shown(state->why)));
    }
    state_->setText(words.join(QStringLiteral("   ")));
    reset_->setVisible(failed);
    release_->setVisible(hand && !stepping_);
    plot_->show(*c, it == reports.end() ? std::nullopt : it->state.setpoint, seconds(shownSeconds));
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

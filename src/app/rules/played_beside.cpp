#include "app/rules/played_beside.h"

#include <QScrollArea>
#include <QUndoStack>
#include <algorithm>
#include <set>

#include "app/widgets/form.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/bench/control_file.h"

namespace cruscotto {

namespace {

bool isDrawn(const ControlSpec& c) {
    return c.kind == ControlKind::play && c.played.shape <= PlayedSpec::Shape::ramps;
}
std::vector<const ControlSpec*> othersThan(const Bench& bench, const std::string& control) {
    std::vector<const ControlSpec*> out;
    for (const auto& c : bench.controls)
        if (c->id != control && isDrawn(*c) && patternLook(bench, *c)) out.push_back(c.get());
    return out;
}

}  // namespace

std::optional<PatternStrip::Look> patternLook(const Bench& bench, const ControlSpec& c) {
    const SignalSpec* out = bench.signal(c.output);
    if (!isDrawn(c) || !out || !out->output) return std::nullopt;
    PatternStrip::Look look;
    look.states = isDigital(out->kind);
    look.low = look.states ? 0 : out->output->low;
    look.high = look.states ? 1 : out->output->high;
    look.lines = c.played.shape == PlayedSpec::Shape::ramps;
    look.lasts = c.played.lasts;
    look.colour = out->colour;
    look.unit = unitOf(*out);
    look.onWord = stateWord(*out, 1);
    look.offWord = stateWord(*out, 0);
    return look;
}

PlayedBeside::PlayedBeside(Session& session, const PatternStrip* strip, QWidget* parent)
    : QWidget(parent),
      session_(session),
      strip_(strip),
      rows_(new QVBoxLayout),
      together_(new QPushButton(tr("Begin all together"))) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 8, 0, 0);
    column->setSpacing(4);
    auto* head = new QHBoxLayout;
    auto* title = new QLabel(tr("Other outputs that play, over the same time"));
    title->setObjectName("muted");
    constexpr int asTheStrip = 64;
    title->setContentsMargins(asTheStrip, 0, 0, 0);
    head->addWidget(title, 1);
    together_->setToolTip(tr("Puts them and this one in force, all from their beginning at one moment"));
    connect(together_, &QPushButton::clicked, this, &PlayedBeside::beginTogether);
    head->addWidget(together_);
    column->addLayout(head);
    // However many there are, the page does not grow.
    auto* scroll = new QScrollArea;
    scrollUpAndDown(*scroll, "page");
    auto* content = new QWidget;
    content->setObjectName("page");
    auto* inner = new QVBoxLayout(content);
    inner->setContentsMargins(0, 0, 0, 0);
    inner->addLayout(rows_);
    inner->addStretch(1);
    rows_->setSpacing(0);
    scroll->setWidget(content);
    constexpr int oneRow = 84;
    scroll->setMinimumHeight(oneRow);
    column->addWidget(scroll, 1);
}

double PlayedBeside::reach(const Bench& bench, const std::string& control) {
    double out = 0;
    for (const ControlSpec* c : othersThan(bench, control)) {
        constexpr double room = 1.15;
        const double last = c->played.points.empty() ? 0 : c->played.points.back().first;
        out = std::max(out, c->played.lasts > 0 ? c->played.lasts : last * room);
    }
    return out;
}

void PlayedBeside::show(const std::string& control, double seconds) {
    control_ = control;
    const auto others = othersThan(session_.bench(), control);
    setVisible(!others.empty());
    const bool same = std::ranges::equal(others, row_, {}, &ControlSpec::id, &Row::control);
    if (!same) {
        while (QLayoutItem* item = rows_->takeAt(0)) {
            if (QWidget* w = item->widget()) {
                w->hide();
                w->deleteLater();
            }
            delete item;
        }
        row_.clear();
        for (const ControlSpec* c : others) {
            Row row{c->id, new QLabel, new PatternStrip(this)};
            row.strip->alignTo(strip_);
            row.name->setTextFormat(Qt::RichText);
            constexpr int asTheStrip = 64;
            row.name->setContentsMargins(asTheStrip, 4, 0, 0);
            connect(row.name, &QLabel::linkActivated, this, &PlayedBeside::controlAsked);
            connect(row.strip, &PatternStrip::changed, this,
                    [this, id = shown(c->id)](const Pattern& next) { Q_EMIT changed(id, next); });
            rows_->addWidget(row.name);
            rows_->addWidget(row.strip);
            row_.push_back(row);
        }
    }
    for (std::size_t i = 0; i < row_.size(); ++i) {
        const ControlSpec& c = *others[i];
        const SignalSpec* out = session_.bench().signal(c.output);
        row_[i].name->setText(QStringLiteral("<a href=\"%1\" style=\"color: %2;\">%3</a>%4")
                                  .arg(shown(c.id).toHtmlEscaped(), theme().ink.name(),
                                       shown(out->name).toHtmlEscaped(), c.enabled ? QString() : tr(", rests")));
        PatternStrip::Look look = *patternLook(session_.bench(), c);
        look.flat = true;
        look.extent = seconds;
        row_[i].strip->setAccessibleName(tr("What %1 plays").arg(shown(out->name)));
        row_[i].strip->show(c.played.points, look);
    }
}

void PlayedBeside::refresh(const std::vector<ControlReport>& reports, Instant now) {
    for (const Row& row : row_) {
        const auto it = std::ranges::find(reports, row.control, &ControlReport::id);
        row.strip->setNow(it != reports.end() && it->state.turn && !it->state.over
                              ? std::optional((now - *it->state.turn).seconds())
                              : std::nullopt);
    }
}

void PlayedBeside::beginTogether() {
    if (session_.isRun()) return;
    // What is put in force begins; those that are at it already are taken out of force before.
    // An output has one control in force: that of this page, then the first in the list.
    const Bench& bench = session_.bench();
    std::vector<const ControlSpec*> playing = othersThan(bench, control_);
    if (const ControlSpec* own = bench.control(control_)) playing.insert(playing.begin(), own);
    std::set<std::string> taken;
    for (const auto& c : bench.controls)
        if (c->enabled && !patternLook(bench, *c)) taken.insert(c->output);
    Bench resting = bench, begun = bench;
    for (const ControlSpec* c : playing) {
        ControlSpec changed = *c;
        changed.enabled = false;
        resting = withControl(std::move(resting), changed);
        changed.enabled = taken.insert(c->output).second;
        begun = withControl(std::move(begun), std::move(changed));
    }
    session_.undoStack().beginMacro(tr("Begin all together"));
    session_.edit(tr("Rest what plays"), resting);
    session_.edit(tr("Begin all together"), begun);
    session_.undoStack().endMacro();
}

}  // namespace cruscotto

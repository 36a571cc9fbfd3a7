#include "app/device/trial_view.h"

#include <QVBoxLayout>
#include <algorithm>

#include "app/widgets/words.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostRows = 64;

QLabel* plainLabel(const QString& words, const char* style, QWidget* parent) {
    auto* out = new QLabel(words, parent);
    out->setTextFormat(Qt::PlainText);
    out->setObjectName(style);
    return out;
}

}  // namespace

TrialView::TrialView(const DeviceKind& kind, const JsonText& settings, QWidget* parent)
    : QWidget(parent), trial_(kind, settings) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 4, 0, 4);
    column->setSpacing(4);
    sentence_ = plainLabel(tr("Looking…"), "muted", this);
    sentence_->setWordWrap(true);
    count_ = plainLabel({}, "caption", this);
    count_->hide();
    rows_ = new QGridLayout;
    rows_->setHorizontalSpacing(8);
    rows_->setVerticalSpacing(3);
    rows_->setColumnStretch(1, 1);
    column->addWidget(sentence_);
    column->addSpacing(4);
    column->addWidget(count_);
    column->addLayout(rows_);
}

void TrialView::refresh() {
    const DeviceTrial::State state = trial_.state();
    if (state == shown_) return;
    if (!state.sentence.empty()) sentence_->setText(shown(state.sentence));
    const auto sameRows = [](const DeviceTrial::Channel& a, const DeviceTrial::Channel& b) { return a.info == b.info; };
    if (state.parts != shown_.parts || !std::ranges::equal(state.channels, shown_.channels, sameRows)) list(state);
    for (std::size_t i = 0; i < readings_.size(); ++i) readings_[i]->setText(shown(state.channels[i].reading));
    shown_ = state;
}

void TrialView::addPart(int row, const DeviceStatus::Part& part) {
    rows_->addWidget(plainLabel(shown(part.place), "", this), row, 0, Qt::AlignTop);
    auto* words = plainLabel(shown(part.what), "muted", this);
    words->setWordWrap(true);
    rows_->addWidget(words, row, 1, 1, 2, Qt::AlignTop);
}

QLabel* TrialView::addChannel(int row, const std::string& name, const QString& what) {
    rows_->addWidget(plainLabel(shown(name), "", this), row, 0, Qt::AlignTop);
    auto* words = plainLabel(what, "muted", this);
    words->setWordWrap(true);
    rows_->addWidget(words, row, 1, Qt::AlignTop);
    auto* reading = plainLabel({}, "", this);
    reading->setAccessibleName(tr("%1 reads").arg(shown(name)));
    rows_->addWidget(reading, row, 2, Qt::AlignTop | Qt::AlignRight);
    return reading;
}

void TrialView::list(const DeviceTrial::State& state) {
    while (QLayoutItem* item = rows_->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    readings_.clear();
    const std::size_t all = state.parts.size() + state.channels.size();
    count_->setText(state.parts.empty()      ? tr("%n channels", nullptr, static_cast<int>(all))
                    : state.channels.empty() ? tr("%n parts", nullptr, static_cast<int>(all))
                                             : tr("%n parts and channels", nullptr, static_cast<int>(all)));
    count_->setVisible(all > 0);
    int row = 0;
    for (std::size_t i = 0; i < std::min(state.parts.size(), mostRows); ++i) addPart(row++, state.parts[i]);
    for (std::size_t i = 0; i < state.channels.size() && static_cast<std::size_t>(row) < mostRows; ++i) {
        const TerminalInfo& info = state.channels[i].info;
        QString what = shown(info.title);
        if (what.isEmpty() && info.kind != ChannelKind::analogInput)
            what = QString(channelKindName(info.kind)).replace('-', ' ');
        readings_.push_back(addChannel(row++, info.terminal, what));
    }
    if (all > mostRows)
        rows_->addWidget(plainLabel(tr("and %n more", nullptr, static_cast<int>(all - mostRows)), "muted", this), row,
                         0, 1, 3);
}

}  // namespace cruscotto

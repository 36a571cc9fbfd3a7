#include "app/status_line.h"

#include <QDir>
#include <QHBoxLayout>
#include <QPainter>
#include <QStorageInfo>
#include <QStyle>
#include <QThreadPool>

#include "app/ribbon.h"
#include "app/theme.h"
#include "app/words.h"

namespace cruscotto {

StatusLine::StatusLine(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      menu_(new QToolButton(this)),
      state_(new QLabel(this)),
      record_(new QPushButton(tr("Record"), this)),
      limits_(new QLabel(this)),
      kept_(new QLabel(this)),
      actions_(new QToolButton(this)),
      theme_(new QToolButton(this)) {
    setFixedHeight(44);
    setAttribute(Qt::WA_OpaquePaintEvent);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(8, 0, 12, 0);
    row->setSpacing(20);
    menu_->setObjectName("quiet");
    menu_->setStyleSheet("font-size: 15px; font-weight: 600;");
    menu_->setPopupMode(QToolButton::InstantPopup);
    menu_->setAccessibleName(tr("Menu"));
    record_->setObjectName("record");
    record_->setAccessibleName(tr("Record"));
    record_->setToolTip(tr("Start and stop recording (Ctrl+R)"));
    for (QToolButton* b : {actions_, theme_}) b->setObjectName("quiet");
    actions_->setText(tr("Actions  Ctrl+K"));
    row->addWidget(menu_);
    row->addWidget(state_);
    row->addWidget(record_);
    row->addWidget(limits_);
    row->addStretch();
    row->addWidget(kept_);
    row->addWidget(actions_);
    row->addWidget(theme_);
    // The clock must not push what stands behind it to and fro.
    state_->setMinimumWidth(150);
    state_->setTextFormat(Qt::RichText);
}

void StatusLine::setFreeBytes(std::uint64_t bytes) {
    *freeBytes_ = bytes;
    fixedFree_ = true;
}

void StatusLine::measureDisk() {
    if (fixedFree_) return;
    // A disk may be slow to answer, or a network away: it is asked elsewhere.
    QThreadPool::globalInstance()->start([to = freeBytes_, folder = session_.runFolder()] {
        QString at = folder;
        while (!QDir(at).exists() && at.contains('/') && at.size() > 1)
            at = at.left(std::max(1, static_cast<int>(at.lastIndexOf('/'))));
        *to = static_cast<std::uint64_t>(std::max<qint64>(0, QStorageInfo(at).bytesAvailable()));
    });
}

void StatusLine::refresh(bool digits) {
    if (!digits) return;
    if (ticks_++ % 25 == 0) measureDisk();
    const Theme& t = theme();
    menu_->setText(shown(session_.bench().name) + (session_.unsaved() ? QStringLiteral(" •") : QString()) +
                   QStringLiteral("  ▾"));
    theme_->setText(t.night ? tr("Day") : tr("Night"));
    theme_->setAccessibleName(tr("Change theme"));

    const Instant at = session_.shownAt();
    const Instant from = session_.source().extent().from;
    QString state;
    if (session_.isRun()) {
        const RunSource::State run = session_.run()->state();
        if (!run.done)
            state = tr("Opening… %1 %").arg(static_cast<int>(run.fraction * 100));
        else
            state = tr("Recorded %1 of %2").arg(shown(clockText(at - from)), shown(clockText(session_.end() - from)));
    } else if (session_.cursor().atEnd()) {
        state = QString("<span style='color:%1'>%2</span> %3")
                    .arg(t.accent.name(), tr("Live"), shown(clockText(at - Instant{})));
    } else {
        state = QString("<span style='color:%1'>%2</span> %3")
                    .arg(t.accent.name(), tr("Then"), tr("%1 ago").arg(shown(clockText(session_.end() - at))));
    }
    if (state_->text() != state) state_->setText(state);

    RecordingStatus recording;
    std::uint64_t lost = 0;
    if (Engine* engine = session_.engine()) {
        recording = engine->recording();
        lost = recording.active ? recording.lost + engine->lostSamples() : engine->lostSamples();
    }
    const Session::Recording phase = session_.recordingPhase();
    const bool busy = phase == Session::Recording::starting || phase == Session::Recording::ending;
    record_->setEnabled(session_.engine() && !busy);
    const QString word = phase == Session::Recording::starting ? tr("Starting…")
                         : phase == Session::Recording::ending ? tr("Closing the run…")
                         : recording.active && recording.byShots
                             ? (recording.shots ? tr("Stop  %n shot(s), waiting", nullptr, recording.shots)
                                                : tr("Stop  waiting for the trigger"))
                         : recording.active
                             ? tr("Stop  %1  %2 MB")
                                   .arg(shown(clockText(session_.end() - recording.since)),
                                        QString::number(static_cast<double>(recording.bytes) / 1e6, 'f', 1))
                             : tr("Record");
    if (record_->text() != word) record_->setText(word);
    if (record_->property("recording").toBool() != recording.active) {
        record_->setProperty("recording", recording.active);
        record_->style()->polish(record_);
    }

    int outside = 0;
    for (const auto& s : session_.bench().signals) {
        if (!s->limits.low && !s->limits.high) continue;
        const Verdict v = verdictOf(s->limits, session_.source().at(s->id, at).value);
        outside += v == Verdict::low || v == Verdict::high;
    }
    limits_->setText(
        outside
            ? QString("<span style='color:%1'>▲ %2</span>").arg(t.red.name(), tr("%n outside limits", nullptr, outside))
            : QString());

    QString kept;
    if (recording.active || session_.engine()) {
        kept = lost                                             ? tr("▲ %1 samples lost").arg(lost)
               : recording.active && !recording.problem.empty() ? QString()
                                                                : tr("all samples kept");
        if (recording.active && !recording.problem.empty()) kept = shown(recording.problem);
        const double rate = session_.engine() && session_.end().seconds() > 1
                                ? static_cast<double>(session_.engine()->measuredBytes()) / session_.end().seconds()
                                : 0;
        if (recording.memoryLeft) kept += tr(" · memory for %1").arg(shown(roughText(*recording.memoryLeft)));
        if (recording.active && recording.diskLeft)
            kept += tr(" · disk %1").arg(shown(roughText(*recording.diskLeft)));
        else if (const auto free = freeBytes_->load(); free && rate > 0)
            kept += tr(" · disk %1").arg(shown(roughText(seconds(std::min(9e8, static_cast<double>(free) / rate)))));
    } else if (session_.isRun() && session_.run()->state().opened) {
        const std::uint64_t missing = session_.run()->info()->lostSamples();
        kept = missing ? tr("▲ %1 samples missing").arg(missing) : tr("no sample missing");
        if (const int version = session_.run()->info()->version)
            kept = tr("readings: version %1 · ").arg(version) + kept;
    }
    if (kept_->text() != kept) kept_->setText(kept);
}

void StatusLine::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), theme().panel);
    p.setPen(theme().hairline);
    p.drawLine(0, height() - 1, width(), height() - 1);
}

}  // namespace cruscotto

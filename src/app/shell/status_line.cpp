#include "app/shell/status_line.h"

#include <QDir>
#include <QHBoxLayout>
#include <QPainter>
#include <QStorageInfo>
#include <QStyle>
#include <QThreadPool>
#include <utility>

#include "app/run/ribbon.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

StatusLine::StatusLine(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      menu_(new QToolButton(this)),
      state_(new QLabel(this)),
      record_(new QPushButton(tr("Record"), this)),
      limits_(new QLabel(this)),
      alarms_(new QLabel(this)),
      kept_(new QLabel(this)),
      actions_(new QToolButton(this)),
      theme_(new QToolButton(this)) {
    setFixedHeight(44);
    setAttribute(Qt::WA_OpaquePaintEvent);
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(8, 0, 12, 0);
    // A small screen, or a large one at twice the size, has room for the compact form only.
    row->setSizeConstraint(QLayout::SetNoConstraint);
    menu_->setObjectName("quiet");
    menu_->setStyleSheet("font-size: 15px; font-weight: 600;");
    menu_->setPopupMode(QToolButton::InstantPopup);
    menu_->setAccessibleName(tr("Menu"));
    record_->setObjectName("record");
    record_->setAccessibleName(tr("Record"));
    record_->setToolTip(tr("Start and stop recording (Ctrl+R)"));
    for (QToolButton* b : {actions_, theme_}) b->setObjectName("quiet");
    row->addWidget(menu_);
    row->addWidget(state_);
    row->addWidget(record_);
    row->addWidget(limits_);
    row->addWidget(alarms_);
    alarms_->setAccessibleName(tr("Alarms"));
    alarms_->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    connect(alarms_, &QLabel::linkActivated, this, [this](const QString& which) {
        which == QLatin1String("silence") ? Q_EMIT silenceAsked() : Q_EMIT alarmsAsked();
    });
    row->addWidget(kept_, 1);
    row->addWidget(actions_);
    row->addWidget(theme_);
    // Nor must a long name or sentence make the window wider than it is.
    kept_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    kept_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    kept_->setTextFormat(Qt::PlainText);
    state_->setTextFormat(Qt::RichText);
    arrange();
}

QSize StatusLine::minimumSizeHint() const {
    return {560, sizeHint().height()};
}

void StatusLine::arrange() {
    layout()->setSpacing(compact_ ? 8 : 20);
    actions_->setText(compact_ ? QStringLiteral("Ctrl+K") : tr("Actions  Ctrl+K"));
    actions_->setAccessibleName(tr("Actions"));
    theme_->setVisible(!compact_);
    // The clock must not push what stands behind it to and fro.
    state_->setMinimumWidth(compact_ ? 110 : 150);
    kept_->setMinimumWidth(compact_ ? 60 : 120);
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
    const int longestName = compact_ ? 110 : 260;
    menu_->setText(menu_->fontMetrics().elidedText(shown(session_.bench().name), Qt::ElideRight, longestName) +
                   (session_.unsaved() ? QStringLiteral(" •") : QString()) + QStringLiteral("  ▾"));
    const Bench& bench = session_.bench();
    menu_->setToolTip(shown(bench.notes.empty() ? bench.name : bench.name + "\n" + bench.notes));
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
    if (Engine* engine = session_.engine()) recording = engine->recording();
    const Session::Recording phase = session_.recordingPhase();
    const bool busy = phase == Session::Recording::starting || phase == Session::Recording::ending;
    record_->setEnabled(session_.engine() && !busy);
    const QString word = phase == Session::Recording::starting ? tr("Starting…")
                         : phase == Session::Recording::ending ? tr("Closing the run…")
                         : recording.active && recording.byShots
                             ? (recording.shots ? counted(static_cast<std::uint64_t>(recording.shots),
                                                          tr("Stop  1 shot, waiting"), tr("Stop  %1 shots, waiting"))
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
    limits_->setText(outside ? QString("<span style='color:%1'>▲ %2</span>")
                                   .arg(t.red.name(),
                                        compact_ ? QString::number(outside) : tr("%n outside limits", nullptr, outside))
                             : QString());

    limits_->setToolTip(outside ? tr("%n outside limits", nullptr, outside) : QString());

    showAlarms();
    const QString kept = keptOf(recording);
    showKept(kept, kept.startsWith(QStringLiteral("▲")));
    tellTrouble(recording);
}

void StatusLine::setRings(bool rings) {
    if (std::exchange(rings_, rings) != rings) showAlarms();
}

void StatusLine::showAlarms() {
    const Alarm* first = nullptr;
    int waiting = 0;
    const auto all = session_.engine() ? session_.engine()->alarms() : std::vector<Alarm>();
    for (const Alarm& a : all) {
        if (a.state != AlarmState::unacknowledged && a.state != AlarmState::returnedUnacknowledged) continue;
        if (!first) first = &a;
        ++waiting;
    }
    if (!first) {
        alarms_->clear();
        return alarms_->setToolTip({});
    }
    const QString sign = first->priority == 1 ? QStringLiteral("▲▲") : QStringLiteral("▲");
    constexpr int room = 180;
    const QString words = alarms_->fontMetrics().elidedText(shown(first->words), Qt::ElideRight, room);
    const QString more = waiting > 1 ? tr(" and %1 more").arg(waiting - 1) : QString();
    alarms_->setText(QStringLiteral("<a href='alarms' style='color:%1'>%2 %3</a>")
                         .arg((first->returned ? theme().amber : theme().red).name(), sign,
                              compact_ ? QString::number(waiting) : (words + more).toHtmlEscaped()) +
                     (rings_ ? QStringLiteral(" &nbsp;<a href='silence' style='color:%1'>♪ %2</a>")
                                   .arg(theme().ink.name(), tr("silence"))
                             : QString()));
    alarms_->setToolTip(shown(first->words) + more);
}

QString StatusLine::keptOf(const RecordingStatus& recording) {
    if (const Engine* engine = session_.engine()) {
        QStringList out;
        const std::uint64_t lost = recording.active ? recording.lost : engine->lostSamples();
        QString why = shown(recording.active ? recording.lostTo : engine->lostTo());
        if (why.endsWith('.')) why.chop(1);
        if (recording.stuck) out << tr("▲ nothing can be written");
        if (lost)
            out << tr("▲ %1 samples lost").arg(countText(lost)) +
                       (recording.stuck ? QString() : QStringLiteral(": ") + why);
        else if (recording.active && !recording.problem.empty() && !recording.stuck)
            out << QStringLiteral("▲ ") + shown(recording.problem);
        else if (!recording.stuck)
            out << tr("all samples kept");
        const double rate =
            session_.end().seconds() > 1 ? static_cast<double>(engine->measuredBytes()) / session_.end().seconds() : 0;
        if (recording.memoryLeft) out << tr("memory for %1").arg(shown(roughText(*recording.memoryLeft)));
        if (recording.active && recording.diskLeft && !recording.stuck)
            out << tr("disk %1").arg(shown(roughText(*recording.diskLeft)));
        else if (const auto free = freeBytes_->load(); free && rate > 0 && !recording.stuck)
            out << tr("disk %1").arg(shown(roughText(seconds(std::min(9e8, static_cast<double>(free) / rate)))));
        return out.join(QStringLiteral(" · "));
    }
    if (!session_.isRun() || !session_.run()->state().opened) return {};
    const std::uint64_t missing = session_.run()->info()->lostSamples();
    const int version = session_.run()->info()->version;
    return (missing ? tr("▲ %1 samples missing").arg(countText(missing)) : tr("no sample missing")) +
           (version ? tr(" · readings: version %1").arg(version) : QString());
}

void StatusLine::showKept(const QString& words, bool wrong) {
    kept_->setToolTip(words);
    const QString fits = kept_->fontMetrics().elidedText(words, Qt::ElideRight, kept_->width());
    if (kept_->text() != fits) kept_->setText(fits);
    const QString style = wrong ? QStringLiteral("wrong") : QString();
    if (kept_->objectName() == style) return;
    kept_->setObjectName(style);
    kept_->style()->polish(kept_);
}

void StatusLine::tellTrouble(const RecordingStatus& recording) {
    const bool troubled = recording.active && !recording.problem.empty();
    const bool began = troubled && !troubled_;
    const bool freed = std::exchange(stuck_, recording.stuck) && !recording.stuck && recording.active;
    troubled_ = troubled;
    if (began || (freed && troubled))
        Q_EMIT said(shown(recording.problem));
    else if (freed)
        Q_EMIT said(tr("What was kept in memory is written; the recording goes on."));
}

void StatusLine::resizeEvent(QResizeEvent*) {
    constexpr int roomy = 840;
    if (const bool compact = width() < roomy; compact != compact_) {
        compact_ = compact;
        arrange();
        refresh(true);
    }
    showKept(kept_->toolTip(), kept_->objectName() == QStringLiteral("wrong"));
}

void StatusLine::paintEvent(QPaintEvent*) {
    QPainter p(this);
    p.fillRect(rect(), theme().panel);
    p.setPen(theme().hairline);
    p.drawLine(0, height() - 1, width(), height() - 1);
}

}  // namespace cruscotto

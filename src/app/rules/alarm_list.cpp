#include "app/rules/alarm_list.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <algorithm>

#include "app/widgets/ask_file.h"
#include "app/widgets/fields.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/new_file.h"

namespace cruscotto {

namespace {
constexpr int mostRows = 12;              ///< shown before one asks for the rest
constexpr std::size_t mostEntries = 500;  ///< of the journal, the newest
bool waits(const Alarm& a) {
    return a.state == AlarmState::unacknowledged || a.state == AlarmState::returnedUnacknowledged;
}
std::string quoted(std::string words) {
    for (std::size_t at = 0; (at = words.find('"', at)) != std::string::npos; at += 2) words.insert(at, 1, '"');
    // A spreadsheet takes what begins like this for a formula.
    if (!words.empty() && std::string("=+-@").find(words[0]) != std::string::npos) words.insert(0, 1, '\'');
    return '"' + words + '"';
}
}  // namespace

AlarmList::AlarmList(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      head_(new QWidget),
      title_(new LiveWords(240)),
      person_(new QLineEdit),
      comment_(new QLineEdit),
      words_(new QLineEdit),
      silence_(new QPushButton(tr("♪ Silence"))),
      allSeen_(new QPushButton(tr("Acknowledge all"))),
      journalButton_(new QPushButton(tr("Journal"))),
      save_(new QPushButton(tr("Save as CSV…"))),
      rows_(new QVBoxLayout),
      journalBox_(new QWidget),
      journal_(new QTableWidget(0, 5)),
      more_(new QLabel) {
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(0, 0, 0, 12);
    column->setSpacing(4);
    auto* head = new QHBoxLayout(head_);
    head->setContentsMargins(0, 0, 0, 0);
    title_->setBold(true);
    head->addWidget(title_, 1);
    person_->setPlaceholderText(tr("your name"));
    person_->setAccessibleName(tr("Who acknowledges"));
    person_->setMaximumWidth(140);
    comment_->setPlaceholderText(tr("comment"));
    comment_->setAccessibleName(tr("Comment"));
    comment_->setMaximumWidth(220);
    silence_->setToolTip(tr("They are not heard any more until another one comes; they still wait to be acknowledged"));
    silence_->hide();
    connect(silence_, &QPushButton::clicked, this, &AlarmList::silenceAsked);
    head->addWidget(silence_);
    head->addWidget(person_);
    head->addWidget(comment_);
    connect(allSeen_, &QPushButton::clicked, this, &AlarmList::acknowledgeAll);
    head->addWidget(allSeen_);
    journalButton_->setCheckable(true);
    connect(journalButton_, &QPushButton::toggled, this, &AlarmList::showJournal);
    head->addWidget(journalButton_);
    column->addWidget(head_);
    rows_->setSpacing(0);
    column->addLayout(rows_);
    auto* box = new QVBoxLayout(journalBox_);
    box->setContentsMargins(0, 8, 0, 0);
    auto* tools = new QHBoxLayout;
    words_->setPlaceholderText(tr("find in the journal"));
    words_->setAccessibleName(tr("Find in the journal"));
    connect(words_, &QLineEdit::textChanged, this, &AlarmList::fillJournal);
    tools->addWidget(words_, 1);
    connect(save_, &QPushButton::clicked, this, [this] {
        const QString path = askFileToWrite(this, tr("Save the journal"), session_.folderToShow() + "/alarms.csv",
                                            tr("Table (*.csv)"), ".csv");
        if (!path.isEmpty()) saveJournal(path);
    });
    tools->addWidget(save_);
    box->addLayout(tools);
    journal_->setAccessibleName(tr("Journal of alarms"));
    journal_->setHorizontalHeaderLabels({tr("Time"), tr("What"), tr("In words"), tr("Who"), tr("Comment")});
    journal_->setToolTip(tr("A double click, or Return, goes to that moment"));
    connect(journal_, &QTableWidget::itemActivated, this, [this](const QTableWidgetItem* item) {
        Q_EMIT momentAsked(Instant{item->data(Qt::UserRole).toLongLong()});
    });
    journal_->verticalHeader()->hide();
    journal_->setShowGrid(false);
    journal_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    journal_->setSelectionBehavior(QAbstractItemView::SelectRows);
    journal_->horizontalHeader()->setSectionResizeMode(2, QHeaderView::Stretch);
    journal_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    constexpr int timeRoom = 170;
    journal_->setColumnWidth(0, timeRoom);
    journal_->setColumnWidth(1, 110);
    journal_->setMinimumHeight(180);
    box->addWidget(journal_);
    more_->setObjectName("muted");
    more_->setWordWrap(true);
    box->addWidget(more_);
    journalBox_->hide();
    column->addWidget(journalBox_);
    show({});
}

void AlarmList::setRings(bool rings) {
    if (silence_->isHidden() == rings) silence_->setVisible(rings);
}

void AlarmList::acknowledge(const std::string& rule) {
    if (session_.engine())
        session_.engine()->acknowledgeAlarm(rule, person_->text().trimmed().toStdString(),
                                            comment_->text().trimmed().toStdString());
}

void AlarmList::shelve(const std::string& rule, Duration forTime) {
    if (session_.engine())
        session_.engine()->shelveAlarm(rule, forTime, person_->text().trimmed().toStdString(),
                                       comment_->text().trimmed().toStdString());
}

void AlarmList::acknowledgeAll() {
    for (const Alarm& a : shown_)
        if (waits(a)) acknowledge(a.rule);
    comment_->clear();
}

void AlarmList::addRow() {
    constexpr int wordsRoom = 300, stateRoom = 330;
    Row row{new QWidget,     new LiveWords(wordsRoom),           new LiveWords(stateRoom, Qt::AlignRight),
            new QPushButton, new QPushButton(tr("Acknowledge")), new QPushButton(tr("Shelve"))};
    opensMenu(*row.shelve, nullptr);
    row.shelveWords = row.shelve->text();
    auto* line = new QHBoxLayout(row.box);
    line->setContentsMargins(0, 2, 0, 2);
    line->addWidget(row.words, 1);
    line->addWidget(row.state);
    // A button that comes or goes moves nothing: below the alarms may stand hundreds of rules.
    for (QPushButton* button : {row.rest, row.seen, row.shelve}) {
        QSizePolicy size = button->sizePolicy();
        size.setRetainSizeWhenHidden(button != row.rest);
        button->setSizePolicy(size);
        line->addWidget(button);
    }
    const std::size_t i = row_.size();
    row.shelveFor = new QMenu(row.shelve);
    const std::pair<QString, double> times[] = {
        {tr("10 minutes"), 600}, {tr("an hour"), 3600}, {tr("8 hours"), 8 * 3600}, {tr("a day"), 24 * 3600}};
    for (const auto& [words, howLong] : times)
        row.shelveFor->addAction(words, this, [this, i, howLong = howLong] { shelve(row_[i].rule, seconds(howLong)); });
    connect(row.rest, &QPushButton::clicked, this, [this] {
        all_ = !all_;
        show(shown_);
    });
    connect(row.seen, &QPushButton::clicked, this, [this, i] { acknowledge(row_[i].rule); });
    connect(row.shelve, &QPushButton::clicked, this, [this, i] {
        if (row_[i].shelved) shelve(row_[i].rule, Duration{0});
    });
    rows_->addWidget(row.box);
    row_.push_back(row);
}

void AlarmList::fill(Row& row, const Alarm& a, int more) {
    row.rule = a.rule;
    row.shelved = a.state == AlarmState::shelved;
    row.words->setText(alarmText(a));
    row.words->setColour(a.returned ? theme().amber : theme().red);
    row.words->setBold(waits(a));
    row.state->setText(
        wallTimeText(session_.source(), a.raised, false) + QStringLiteral("  ") + tr(alarmStateWord(a.state)) +
        (a.times > 1 ? tr(", %1 times").arg(a.times) : QString()) +
        (a.shelvedUntil ? tr(" until %1").arg(wallTimeText(session_.source(), *a.shelvedUntil, false)) : QString()) +
        (a.first ? tr(", came first") : QString()) +
        (a.person.empty() ? QString() : tr(", by %1").arg(shown(a.person))));
    row.state->setColour(theme().muted);
    row.state->setToolTip(shown(a.comment));
    row.rest->setVisible(more > 0);
    row.rest->setText(all_ ? tr("Only the first") : tr("and %1 more").arg(more));
    row.seen->setVisible(waits(a));
    row.shelve->setText(row.shelved ? tr("Unshelve") : row.shelveWords);
    if (QMenu* menu = row.shelved ? nullptr : row.shelveFor; row.shelve->menu() != menu) row.shelve->setMenu(menu);
    row.shelve->show();
    row.box->show();
}

void AlarmList::clear(Row& row) {
    row.rule.clear();
    row.words->setText({});
    row.state->setText({});
    for (QPushButton* button : {row.rest, row.seen, row.shelve}) button->hide();
}

void AlarmList::show(const std::vector<Alarm>& now) {
    shown_ = now;
    // What came within a second of a first cause stands behind it until one asks.
    constexpr Duration together = milliseconds(1000);
    std::vector<const Alarm*> causes;
    for (const Alarm& a : now)
        if (a.first) causes.push_back(&a);
    const auto causeOf = [&](const Alarm& a) -> const Alarm* {
        if (a.first) return nullptr;
        for (const Alarm* c : causes)
            if (a.raised >= c->raised && a.raised - c->raised <= together) return c;
        return nullptr;
    };
    std::map<const Alarm*, int> behind;
    for (const Alarm& a : now)
        if (const Alarm* cause = causeOf(a)) ++behind[cause];
    rowsShown_ = 0;
    constexpr int fewEnough = 3;
    for (const Alarm& a : now) {
        const Alarm* cause = causeOf(a);
        if (cause && !all_ && behind[cause] > fewEnough) continue;
        if (rowsShown_ == mostRows && !all_) break;
        if (row_.size() == static_cast<std::size_t>(rowsShown_)) addRow();
        const auto own = behind.find(&a);
        fill(row_[static_cast<std::size_t>(rowsShown_++)], a,
             own != behind.end() && own->second > fewEnough ? own->second : 0);
    }
    // While alarms come and go the list stays as high as it was, so that nothing jumps under the pointer.
    constexpr int calmAfterMs = 5000;
    if (rowsShown_ >= rowsKept_ || !since_.isValid()) since_.start();
    if (rowsShown_ > rowsKept_ || since_.elapsed() > calmAfterMs) rowsKept_ = rowsShown_;
    for (std::size_t i = static_cast<std::size_t>(rowsShown_); i < row_.size(); ++i) {
        clear(row_[i]);
        row_[i].box->setVisible(i < static_cast<std::size_t>(rowsKept_));
    }
    const auto waiting = std::ranges::count_if(now, waits);
    title_->setText(session_.isRun() ? tr("What happened stands in the journal.")
                    : now.empty()    ? tr("No alarm stands.")
                    : waiting == 1   ? tr("One alarm waits to be acknowledged")
                    : waiting        ? tr("%1 alarms wait to be acknowledged").arg(waiting)
                                     : tr("Alarms: all acknowledged"));
    for (QWidget* w :
         {static_cast<QWidget*>(person_), static_cast<QWidget*>(comment_), static_cast<QWidget*>(allSeen_)})
        w->setVisible(waiting > 0);
}

void AlarmList::open() {
    seen_ = std::numeric_limits<std::uint64_t>::max();
    if (session_.isRun()) showJournal(true);
    refresh();
}

void AlarmList::refresh() {
    if (session_.alarms() != shown_ || rowsShown_ < rowsKept_) show(session_.alarms());
    // Of a run nothing more is told.
    const std::uint64_t count = session_.engine() ? 1 + session_.engine()->alarmsJournaled() : 0;
    if (std::exchange(seen_, count) != count && journalBox_->isVisible()) fillJournal();
}

void AlarmList::showJournal(bool wanted) {
    journalButton_->setChecked(wanted);
    journalBox_->setVisible(wanted);
    if (wanted) fillJournal();
}

void AlarmList::search(const QString& words) {
    words_->setText(words);
}

std::vector<AlarmList::Entry> AlarmList::found() const {
    std::vector<Entry> out;
    const auto add = [&](Instant at, const AlarmEvent& e) {
        out.push_back({at, tr(alarmEventName(e.what)), shown(e.words), shown(e.person), shown(e.comment), e});
    };
    if (session_.engine())
        for (const AlarmEvent& e : session_.engine()->alarmJournal()) add(e.at, e);
    for (const RunEvent& e : session_.runEvents()) {
        const auto alarm = e.kind == "alarm" ? alarmEventFrom(e.words) : std::nullopt;
        if (alarm)
            add(e.at, *alarm);
        else
            out.push_back({e.at, shown(e.kind), shown(e.words), {}, {}});
    }
    const QString words = words_->text().trimmed();
    std::erase_if(out, [&](const Entry& e) {
        return !(e.what + ' ' + e.words + ' ' + e.person + ' ' + e.comment).contains(words, Qt::CaseInsensitive);
    });
    return out;
}

void AlarmList::fillJournal() {
    const auto all = found();
    const std::size_t n = std::min(all.size(), mostEntries);
    journal_->setRowCount(static_cast<int>(n));
    for (std::size_t i = 0; i < n; ++i) {
        const Entry& e = all[all.size() - 1 - i];  // the newest first
        const QString cells[] = {wallDateText(session_.source(), e.at), e.what, e.words, e.person, e.comment};
        for (int c = 0; c < 5; ++c) {
            auto* item = new QTableWidgetItem(cells[c]);
            item->setToolTip(cells[c]);
            item->setData(Qt::UserRole, QVariant::fromValue<qint64>(e.at.ns));
            journal_->setItem(static_cast<int>(i), c, item);
        }
    }
    const bool more = all.size() > n;
    more_->setVisible(more || all.empty());
    more_->setText(
        more ? tr("The newest %1 of %2; the words above find others, and all are saved.").arg(n).arg(all.size())
        : words_->text().isEmpty() ? tr("Nothing has happened yet.")
                                   : tr("Nothing in the journal has these words."));
}

bool AlarmList::saveJournal(const QString& path) {
    auto file = NewFile::create(path.toStdString(), NewFile::Existing::replace);
    if (!file) {
        Q_EMIT said(shown(file.error().message));
        return false;
    }
    std::string out = "time,what,alarm,priority,rule,person,comment\n";
    for (const Entry& e : found())
        out += quoted(wallDateText(session_.source(), e.at).toStdString()) + "," + quoted(e.what.toStdString()) + "," +
               quoted(e.words.toStdString()) + "," + (e.alarm.words.empty() ? "" : std::to_string(e.alarm.priority)) +
               "," + quoted(e.alarm.rule) + "," + quoted(e.alarm.person) + "," + quoted(e.alarm.comment) + "\n";
    const bool written = file.value().write(out);
    const auto put = file.value().put();
    if (!written || !put) Q_EMIT said(put ? tr("The journal cannot be written.") : shown(put.error().message));
    return written && put.ok();
}

}  // namespace cruscotto

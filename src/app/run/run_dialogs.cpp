#include "app/run/run_dialogs.h"

#include <QDateTime>
#include <QDialogButtonBox>
#include <QHeaderView>
#include <QVBoxLayout>

#include "app/widgets/form.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/run_name.h"

namespace cruscotto {

namespace {

QFormLayout* roomyForm() {
    auto* form = new QFormLayout;
    form->setLabelAlignment(Qt::AlignLeft);
    form->setHorizontalSpacing(24);
    form->setVerticalSpacing(10);
    return form;
}

QLabel* heading(const QString& words) {
    auto* label = new QLabel(words);
    QFont font = label->font();
    font.setWeight(QFont::DemiBold);
    label->setFont(font);
    return label;
}

/// The two buttons below; the first is the default one.
QPushButton* addButtons(QDialog* dialog, QVBoxLayout* column, const QString& go) {
    auto* buttons = new QDialogButtonBox;
    QPushButton* accept = buttons->addButton(go, QDialogButtonBox::AcceptRole);
    buttons->addButton(QDialog::tr("Cancel"), QDialogButtonBox::RejectRole);
    accept->setDefault(true);
    QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, &QDialog::accept);
    QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
    column->addWidget(buttons);
    return accept;
}

QVBoxLayout* roomyColumn(QDialog* dialog) {
    auto* column = new QVBoxLayout(dialog);
    column->setContentsMargins(20, 20, 20, 16);
    column->setSpacing(14);
    return column;
}

}  // namespace

NotesRows::NotesRows(const RunNotes& notes)
    : title_(new Field(tr("Title"))),
      person_(new Field(tr("Who runs it"))),
      specimen_(new Field(tr("Specimen"))),
      verdict_(new Field(tr("Verdict"))),
      words_(new QPlainTextEdit) {
    title_->setText(shown(notes.title));
    person_->setText(shown(notes.person));
    specimen_->setText(shown(notes.specimen));
    verdict_->setText(shown(notes.verdict));
    verdict_->setPlaceholderText(tr("good, bad, or other words"));
    words_->setPlainText(shown(notes.words));
    words_->setAccessibleName(tr("Notes"));
    words_->setTabChangesFocus(true);
    words_->setFixedHeight(72);
}

void NotesRows::addTo(QFormLayout* form, bool over) {
    form->addRow(tr("Title"), title_);
    form->addRow(tr("Who runs it"), person_);
    form->addRow(tr("Specimen"), specimen_);
    if (over)
        form->addRow(tr("Verdict"), verdict_);
    else
        verdict_->setParent(words_), verdict_->hide();
    form->addRow(tr("Notes"), words_);
}

void NotesRows::onEdit(QObject* context, const std::function<void()>& what) {
    for (Field* field : {title_, person_, specimen_, verdict_})
        QObject::connect(field, &QLineEdit::textChanged, context, [what] { what(); });
    QObject::connect(words_, &QPlainTextEdit::textChanged, context, [what] { what(); });
}

RunNotes NotesRows::notes() const {
    return {title_->text().trimmed().toStdString(), person_->text().trimmed().toStdString(),
            specimen_->text().trimmed().toStdString(), words_->toPlainText().trimmed().toStdString(),
            verdict_->text().trimmed().toStdString()};
}

RecordingDialog::RecordingDialog(const Bench& bench, double bytesPerSecond, std::uint64_t freeBytes, QWidget* parent)
    : QDialog(parent),
      benchName_(bench.name),
      bytesPerSecond_(bytesPerSecond),
      freeBytes_(freeBytes),
      spec_(bench.recording),
      name_(new Field(tr("File name"))),
      example_(new QLabel),
      minutes_(new Field(tr("A new file after minutes"))),
      megabytes_(new Field(tr("A new file after megabytes"))),
      keepFree_(new Field(tr("Megabytes to keep free"))),
      preflight_(new QCheckBox(tr("First show what is not well"))),
      notes_(bench.recording.notes),
      sentence_(new QLabel) {
    setWindowTitle(tr("How runs are recorded"));
    name_->setText(shown(spec_.name));
    name_->setToolTip(tr("Words in braces are filled in: %1").arg("{bench} {title} {date} {time} {number}"));
    minutes_->setText(shown(shortNumber(spec_.splitMinutes)));
    megabytes_->setText(shown(shortNumber(spec_.splitMegabytes)));
    keepFree_->setText(shown(shortNumber(spec_.keepFreeMegabytes)));
    sentence_->setWordWrap(true);
    example_->setWordWrap(true);
    auto* form = roomyForm();
    form->addRow(tr("File name"), name_);
    form->addRow(QString(), example_);
    form->addRow(tr("New file after, minutes (0: never)"), minutes_);
    form->addRow(tr("New file after, MB (0: never)"), megabytes_);
    form->addRow(tr("Keep free on the disk, MB"), keepFree_);
    preflight_->setChecked(spec_.preflight);
    form->addRow(QString(), preflight_);
    connect(preflight_, &QCheckBox::toggled, this, [this](bool on) { spec_.preflight = on; });
    form->addRow(heading(tr("Written into every run")));
    notes_.addTo(form);
    auto* column = roomyColumn(this);
    column->addWidget(panelTitle(windowTitle()));
    form->setRowWrapPolicy(QFormLayout::WrapAllRows);  // it stands beside the page, in a narrow column
    column->addLayout(form);
    column->addWidget(sentence_);
    go_ = addButtons(this, column, tr("Use these"));
    column->addStretch(1);
    for (Field* field : {name_, minutes_, megabytes_, keepFree_})
        connect(field, &QLineEdit::textChanged, this, &RecordingDialog::work);
    notes_.onEdit(this, [this] { work(); });
    work();
}

void RecordingDialog::work() {
    bool fine = true;
    const auto number = [&](Field* field, double most) {
        double v = 0;
        const bool reads = parseNumber(field->text().toStdString(), v) && v >= 0 && v <= most;
        field->markWrong(!reads, reads ? QString() : tr("A number from 0 is expected here"));
        fine = fine && reads;
        return v;
    };
    spec_.splitMinutes = number(minutes_, 1e6);
    spec_.splitMegabytes = number(megabytes_, 1e9);
    spec_.keepFreeMegabytes = number(keepFree_, 1e9);
    spec_.notes = notes_.notes();
    spec_.name = name_->text().trimmed().toStdString();
    const auto named = checkRunName(spec_.name);
    name_->markWrong(!named);
    example_->setText(
        named ? tr("for example %1")
                    .arg(shown(runName(spec_.name,
                                       {benchName_, spec_.notes.title, QDateTime::currentMSecsSinceEpoch() * 1'000'000},
                                       [](const std::string&) { return false; })))
              : QString());
    fine = fine && named;
    go_->setEnabled(fine);
    if (!fine)
        return sentence_->setText(named ? tr("One of the numbers does not read.") : shown(named.error().message));
    const double hour = bytesPerSecond_ * 3600;
    QString words = hour > 0 ? tr("At today's rates a run takes up to %1 MB an hour before it is packed.")
                                   .arg(shown(shortNumber(std::ceil(hour / 1e5) / 10)))
                             : tr("Nothing is measured yet, so there is no telling how much a run will take.");
    const double room = static_cast<double>(freeBytes_) - spec_.keepFreeMegabytes * 1e6;
    if (hour > 0 && freeBytes_ > 0)
        words +=
            " " +
            (room > 0
                 ? tr("The disk takes %1 of it.").arg(shown(roughText(seconds(std::min(9e8, room / bytesPerSecond_)))))
                 : tr("The disk has less free than is to be kept free: a recording would end at once."));
    sentence_->setText(words);
}

RunNotesDialog::RunNotesDialog(const RunNotes& notes, const std::vector<RunMark>& marks, Instant start, Instant shownAt,
                               QWidget* parent)
    : QDialog(parent),
      start_(start),
      notes_(notes),
      table_(new QTableWidget(0, 2)),
      sentence_(new QLabel),
      remove_(new QPushButton(tr("Remove the mark"))) {
    setWindowTitle(tr("Notes and marks of this run"));
    setMinimumWidth(520);
    table_->setHorizontalHeaderLabels({tr("At, s"), tr("Mark")});
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    table_->verticalHeader()->hide();
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setShowGrid(false);
    table_->setMinimumHeight(150);
    table_->setAccessibleName(tr("Marks"));
    for (const RunMark& m : marks) addRow(m.at, shown(m.words));
    auto* add = new QPushButton(tr("Add a mark"));
    add->setAutoDefault(false);
    remove_->setAutoDefault(false);
    auto* row = new QHBoxLayout;
    row->addWidget(add);
    row->addWidget(remove_);
    row->addStretch();
    auto* column = roomyColumn(this);
    auto* form = roomyForm();
    notes_.addTo(form, true);
    column->addLayout(form);
    column->addWidget(heading(tr("Marks")));
    column->addWidget(table_);
    column->addLayout(row);
    column->addWidget(sentence_);
    sentence_->setWordWrap(true);
    go_ = addButtons(this, column, tr("Write them into the run"));
    connect(add, &QPushButton::clicked, this, [this, shownAt] {
        addRow(shownAt, tr("Mark %1").arg(table_->rowCount() + 1));
        work();
        table_->setCurrentCell(table_->rowCount() - 1, 1);
        table_->editItem(table_->item(table_->rowCount() - 1, 1));
    });
    connect(remove_, &QPushButton::clicked, this, [this] {
        table_->removeRow(table_->currentRow());
        work();
    });
    connect(table_, &QTableWidget::itemChanged, this, &RunNotesDialog::work);
    connect(table_, &QTableWidget::itemSelectionChanged, this, &RunNotesDialog::work);
    work();
}

/// Shown to the millisecond; as long as nobody types there, the mark stays exactly where it is.
void RunNotesDialog::addRow(Instant at, const QString& words) {
    const QSignalBlocker quiet(table_);
    const int row = table_->rowCount();
    table_->insertRow(row);
    auto* time = new QTableWidgetItem(shown(readingText((at - start_).seconds(), 3)));
    time->setData(Qt::UserRole, QVariantList{time->text(), QVariant::fromValue<qint64>(at.ns)});
    table_->setItem(row, 0, time);
    table_->setItem(row, 1, new QTableWidgetItem(words));
}

void RunNotesDialog::work() {
    bool fine = true;
    marks_.clear();
    for (int row = 0; row < table_->rowCount(); ++row) {
        const auto* time = table_->item(row, 0);
        const auto* words = table_->item(row, 1);
        double at = 0;
        if (!time || !words || !parseNumber(time->text().toStdString(), at) || !(std::abs(at) < 1e9)) {
            fine = false;
            continue;
        }
        const QVariantList was = time->data(Qt::UserRole).toList();
        const Instant exact =
            was.size() == 2 && was[0].toString() == time->text() ? Instant{was[1].toLongLong()} : start_ + seconds(at);
        marks_.push_back({exact, words->text().trimmed().toStdString()});
    }
    remove_->setEnabled(table_->currentRow() >= 0);
    sentence_->setText(fine ? tr("What was measured is not touched.") : tr("A mark's time is a number of seconds."));
    go_->setEnabled(fine);
}

VersionDialog::VersionDialog(const RunInfo& run, QWidget* parent)
    : QDialog(parent), table_(new QTableWidget(static_cast<int>(run.versions.size()) + 1, 3)) {
    setWindowTitle(tr("Versions of this run"));
    setMinimumSize(620, 300);
    table_->setHorizontalHeaderLabels({tr("Version"), tr("Made"), tr("What was corrected")});
    table_->horizontalHeader()->setStretchLastSection(true);
    table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    table_->verticalHeader()->hide();
    table_->setSelectionBehavior(QAbstractItemView::SelectRows);
    table_->setSelectionMode(QAbstractItemView::SingleSelection);
    table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    table_->setShowGrid(false);
    table_->setAccessibleName(tr("Versions"));
    const auto put = [&](int row, int id, const QString& version, const QString& made, const QString& words) {
        auto* first = new QTableWidgetItem(version);
        first->setData(Qt::UserRole, id);
        table_->setItem(row, 0, first);
        table_->setItem(row, 1, new QTableWidgetItem(made));
        table_->setItem(row, 2, new QTableWidgetItem(words));
        if (id == run.version) table_->selectRow(row);
    };
    const auto dateTime = [](std::int64_t unixNs) {
        return QDateTime::fromMSecsSinceEpoch(unixNs / 1'000'000).toString("yyyy-MM-dd HH:mm");
    };
    put(0, 0, tr("as recorded"), run.anchors.empty() ? QString() : dateTime(run.anchors.front().unixNs), QString());
    int row = 1;
    for (const RunVersion& v : run.versions)
        put(row++, v.id, tr("version %1").arg(v.id), dateTime(v.madeUnixNs), shown(v.words));
    table_->resizeColumnsToContents();
    auto* column = roomyColumn(this);
    column->addWidget(table_);
    auto* sentence = new QLabel(tr("All of them stand in the run, and so do the raw samples."));
    sentence->setObjectName("muted");
    column->addWidget(sentence);
    addButtons(this, column, tr("Show this one"));
    connect(table_, &QTableWidget::itemDoubleClicked, this, &QDialog::accept);
}

int VersionDialog::version() const {
    const auto* item = table_->item(std::max(0, table_->currentRow()), 0);
    return item->data(Qt::UserRole).toInt();
}

}  // namespace cruscotto

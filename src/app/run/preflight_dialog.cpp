#include "app/run/preflight_dialog.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>
#include <map>

#include "app/widgets/theme.h"
#include "app/widgets/words.h"

namespace cruscotto {

using Grade = PreflightFinding::Grade;

PreflightDialog::PreflightDialog(QWidget* parent)
    : QDialog(parent), sentence_(new QLabel(this)), rows_(new QTableWidget(0, 4, this)) {
    setWindowTitle(tr("Before it counts"));
    setObjectName("preflight");
    resize(980, 620);
    auto* column = new QVBoxLayout(this);
    column->setContentsMargins(16, 14, 16, 14);
    column->setSpacing(10);
    sentence_->setStyleSheet("font-size: 17px; font-weight: 600;");
    column->addWidget(sentence_);
    rows_->setHorizontalHeaderLabels({QString(), tr("what"), tr("how it is"), tr("what to do")});
    rows_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
    rows_->verticalHeader()->hide();
    rows_->verticalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    rows_->setShowGrid(false);
    rows_->setWordWrap(true);
    rows_->setEditTriggers(QAbstractItemView::NoEditTriggers);
    rows_->setSelectionBehavior(QAbstractItemView::SelectRows);
    rows_->setSelectionMode(QAbstractItemView::SingleSelection);
    rows_->setAccessibleName(tr("What to look after before it counts"));
    rows_->horizontalHeader()->setSectionResizeMode(0, QHeaderView::ResizeToContents);
    rows_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::ResizeToContents);
    rows_->horizontalHeader()->setSectionResizeMode(2, QHeaderView::Stretch);
    rows_->horizontalHeader()->setSectionResizeMode(3, QHeaderView::Interactive);
    rows_->setColumnWidth(3, 300);
    connect(rows_, &QTableWidget::cellActivated, this, [this](int row, int) {
        if (const auto at = static_cast<std::size_t>(row); at < findings_.size() && !findings_[at].about.empty())
            Q_EMIT asked(shown(findings_[at].about));
    });
    column->addWidget(rows_, 1);
    auto* hint = new QLabel(tr("Nothing is locked. Return on a row opens what it is about."), this);
    hint->setObjectName("muted");
    auto* again = new QPushButton(tr("Look again"), this);
    close_ = new QPushButton(tr("Close"), this);
    close_->setDefault(true);
    record_ = new QPushButton(tr("Record all the same"), this);
    record_->setObjectName("recordAnyway");
    record_->hide();
    connect(again, &QPushButton::clicked, this, &PreflightDialog::againAsked);
    connect(close_, &QPushButton::clicked, this, &QDialog::accept);
    connect(record_, &QPushButton::clicked, this, [this] {
        accept();
        Q_EMIT recordAsked();
    });
    auto* row = new QHBoxLayout;
    row->addWidget(hint, 1);
    row->addWidget(again);
    row->addWidget(close_);
    row->addWidget(record_);
    column->addLayout(row);
}

void PreflightDialog::offerToRecord() {
    close_->setText(tr("Do not record"));
    record_->show();
    record_->setDefault(true);
    record_->setFocus();
}

void PreflightDialog::show(const std::vector<PreflightFinding>& findings) {
    // What is good is one row for each: the list is about what is not.
    findings_.clear();
    std::map<std::string, std::size_t> goodAt;
    std::map<std::string, bool> troubled;
    for (const PreflightFinding& f : findings)
        if (f.grade != Grade::good) troubled[f.about] = true;
    std::map<std::string, QStringList> goodWords;
    int red = 0, amber = 0;
    for (const PreflightFinding& f : findings) {
        if (f.grade == Grade::good) {
            if (!goodAt.contains(f.about)) {
                goodAt[f.about] = findings_.size();
                findings_.push_back(f);
            }
            QString words = cruscotto::shown(f.words);
            if (words.endsWith('.')) words.chop(1);
            goodWords[f.about] << words;
            continue;
        }
        ++(f.grade == Grade::red ? red : amber);
        findings_.push_back(f);
    }
    sentence_->setText(red + amber == 0 ? tr("✓ All is well.") : tr("▲ %1 to mend, %2 to look at").arg(red).arg(amber));
    rows_->setRowCount(static_cast<int>(findings_.size()));
    for (int r = 0; r < rows_->rowCount(); ++r) {
        const PreflightFinding& f = findings_[static_cast<std::size_t>(r)];
        const bool good = f.grade == Grade::good;
        const QString mark = good ? tr("good") : f.grade == Grade::red ? tr("▲ red") : tr("▲ amber");
        const QString words = good ? goodWords[f.about].join(QStringLiteral(" · ")) : cruscotto::shown(f.words);
        const std::array<QString, 4> cells{mark, cruscotto::shown(f.name), words, cruscotto::shown(f.remedy)};
        for (int c = 0; c < 4; ++c) {
            auto* item = new QTableWidgetItem(cells[static_cast<std::size_t>(c)]);
            item->setTextAlignment(Qt::AlignLeft | Qt::AlignTop);
            if (c == 0)
                item->setForeground(good ? theme().muted : f.grade == Grade::red ? theme().red : theme().amber);
            else if (good)
                item->setForeground(theme().muted);
            rows_->setItem(r, c, item);
        }
    }
    rows_->setCurrentCell(-1, -1);
}

}  // namespace cruscotto

#include "desktop/record/history_view.hpp"

#include <QDateTime>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSplitter>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

namespace {
enum Column { kWhen, kWho, kWhat };
constexpr int kMostShown = 500;
}  // namespace

HistoryView::HistoryView(Records& records, QWidget* parent)
    : QWidget(parent),
      records_(records),
      heading_(new QLabel(this)),
      empty_(new QLabel(tr("Nothing was changed yet."), this)),
      narrow_(new QLineEdit(this)),
      restore_(new QPushButton(tr("Put back as before"), this)),
      changes_(plainTable({tr("When"), tr("Who"), tr("What")}, tr("History"), this)),
      details_(plainTable({tr("Field"), tr("Before"), tr("After")}, tr("What the change changed"), this)) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  heading_->setObjectName("heading");
  heading_->setTextFormat(Qt::PlainText);
  narrow_->setPlaceholderText(tr("Narrow to a person or a word…"));
  narrow_->setClearButtonEnabled(true);
  narrow_->setFixedWidth(240);
  auto* close = new QPushButton(tr("Close"), this);
  restore_->setObjectName("restoreChange");
  top->addWidget(heading_, 1);
  top->addWidget(narrow_);
  for (QPushButton* b : {restore_, close}) top->addWidget(b);
  column->addLayout(top);
  column->addWidget(empty_);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->addWidget(changes_);
  split->addWidget(details_);
  split->setStretchFactor(0, 3);
  split->setStretchFactor(1, 2);
  split->setChildrenCollapsible(false);
  column->addWidget(split, 1);
  changes_->setColumnWidth(kWhen, 150);
  changes_->setColumnWidth(kWho, 120);
  changes_->setSelectionMode(QAbstractItemView::SingleSelection);
  details_->setColumnWidth(0, 260);
  details_->setColumnWidth(1, 250);
  connect(changes_, &QTableWidget::itemSelectionChanged, this, &HistoryView::showDetails);
  connect(narrow_, &QLineEdit::textChanged, this, &HistoryView::narrow);
  connect(restore_, &QPushButton::clicked, this, &HistoryView::restoreChosen);
  connect(close, &QPushButton::clicked, this, &HistoryView::closed);
  connect(&records_, &Records::changed, this, [this] {
    if (isVisible()) refresh();
  });
}

void HistoryView::showFor(Id machine) {
  machine_ = machine;
  narrow_->clear();
  refresh();
  if (changes_->rowCount() > 0) changes_->selectRow(0);
  changes_->setFocus();
}

void HistoryView::refresh() {
  const Snapshot& s = records_.snapshot();
  const auto found = s.machines.find(machine_);
  heading_->setText(found == s.machines.end()
                        ? tr("History of all records")
                        : tr("History of %1").arg(QString::fromStdString(found->second.name)));
  try {
    list_ = records_.store().history(
        kMostShown, machine_ == 0 ? std::vector<Owner>{} : ownersWithin(s, {OwnerKind::Machine, machine_}));
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    list_.clear();
  }
  const int before = changes_->currentRow();
  changes_->setRowCount(static_cast<int>(list_.size()));
  for (int row = 0; row < changes_->rowCount(); ++row) {
    const Change& c = list_[static_cast<std::size_t>(row)];
    const QDateTime when = QDateTime::fromString(QString::fromStdString(c.when), Qt::ISODate).toLocalTime();
    const QString cells[] = {c.when.empty() ? tr("earlier") : when.toString("yyyy-MM-dd HH:mm"),
                             QString::fromStdString(c.author),
                             QString::fromStdString(c.title) + (c.undone ? tr(" · undone") : QString())};
    for (int at = 0; at < 3; ++at) {
      auto* item = new QTableWidgetItem(cells[at]);
      if (c.undone) item->setForeground(scheme().quiet);
      changes_->setItem(row, at, item);
    }
  }
  empty_->setVisible(list_.empty());
  if (before >= 0 && before < changes_->rowCount()) changes_->selectRow(before);
  narrow();
  showDetails();
}

void HistoryView::narrow() {
  const QString text = narrow_->text();
  for (int row = 0; row < changes_->rowCount(); ++row) {
    bool fits = text.isEmpty();
    for (int at = 0; at < 3 && !fits; ++at)
      fits = changes_->item(row, at)->text().contains(text, Qt::CaseInsensitive);
    changes_->setRowHidden(row, !fits);
  }
}

void HistoryView::showDetails() {
  const int row = changes_->currentRow();
  const bool any = row >= 0 && row < static_cast<int>(list_.size());
  restore_->setEnabled(any);
  restore_->setToolTip(
      any ? tr("Everything that this change changed becomes as it was before it; that is a change "
               "of its own, which Ctrl+Z takes back.")
          : tr("Choose a change first."));
  details_->setRowCount(0);
  if (!any) return;
  const auto& fields = list_[static_cast<std::size_t>(row)].fields;
  details_->setRowCount(static_cast<int>(fields.size()));
  for (int i = 0; i < details_->rowCount(); ++i) {
    const FieldChange& f = fields[static_cast<std::size_t>(i)];
    details_->setItem(i, 0, new QTableWidgetItem(QString::fromStdString(f.what)));
    details_->setItem(i, 1, new QTableWidgetItem(QString::fromStdString(f.before)));
    details_->setItem(i, 2, new QTableWidgetItem(QString::fromStdString(f.after)));
  }
}

void HistoryView::restoreChosen() {
  const int row = changes_->currentRow();
  if (row < 0 || row >= static_cast<int>(list_.size())) return;
  const Change change = list_[static_cast<std::size_t>(row)];
  try {
    records_.store().restoreBefore(change.id);
    records_.reload();
    emit said(tr("As before: %1. Ctrl+Z takes that back.").arg(QString::fromStdString(change.title)));
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
  }
  refresh();
}

}  // namespace kw::desktop

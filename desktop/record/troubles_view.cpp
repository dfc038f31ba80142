#include "desktop/record/troubles_view.hpp"

#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

namespace {
enum Column { kMachine, kWay, kWhat, kCure };
}

TroublesView::TroublesView(Records& records, QWidget* parent)
    : QWidget(parent),
      records_(records),
      empty_(new QLabel(
          tr("Nothing is wrong in the records, as far as can be seen without asking the network."), this)),
      table_(plainTable({tr("Machine"), tr("Way in"), tr("What is wrong"), tr("What helps")}, tr("Troubles"),
                        this)) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Troubles in the records"), this);
  heading->setObjectName("heading");
  auto* edit = new QPushButton(tr("Edit the sheet…"), this);
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(heading, 1);
  for (QPushButton* b : {edit, close}) top->addWidget(b);
  column->addLayout(top);
  column->addWidget(empty_);
  table_->setColumnWidth(kMachine, 140);
  table_->setColumnWidth(kWay, 110);
  table_->setColumnWidth(kWhat, 280);
  table_->setWordWrap(true);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  column->addWidget(table_, 1);
  const auto open = [this](int row) {
    if (row >= 0 && row < static_cast<int>(list_.size()))
      emit sheetWanted(list_[static_cast<std::size_t>(row)].machine);
  };
  connect(edit, &QPushButton::clicked, this, [this, open] { open(table_->currentRow()); });
  connect(table_, &QTableWidget::cellActivated, this, [open](int row) { open(row); });
  connect(close, &QPushButton::clicked, this, &TroublesView::closed);
  connect(&records_, &Records::changed, this, [this] {
    if (isVisible()) refresh();
  });
}

void TroublesView::refresh() {
  const Snapshot& s = records_.snapshot();
  list_ = checksOfAll(s);
  table_->setRowCount(static_cast<int>(list_.size()));
  for (int row = 0; row < table_->rowCount(); ++row) {
    const RecordCheck& c = list_[static_cast<std::size_t>(row)];
    const auto machine = s.machines.find(c.machine);
    const auto way = s.endpoints.find(c.wayIn);
    const QString cells[] = {
        machine == s.machines.end() ? QString() : QString::fromStdString(machine->second.name),
        way == s.endpoints.end() ? QString()
                                 : QString::fromStdString(way->second.label + " · " + way->second.scheme()),
        QString::fromStdString(c.sentence), QString::fromStdString(c.cure)};
    for (int at = 0; at < 4; ++at) {
      auto* item = new QTableWidgetItem(cells[at]);
      item->setToolTip(cells[at]);
      if (at == kWhat) item->setForeground(c.trouble ? scheme().brick : scheme().text);
      table_->setItem(row, at, item);
    }
  }
  table_->resizeRowsToContents();
  empty_->setVisible(list_.empty());
  table_->setVisible(!list_.empty());
  if (table_->currentRow() < 0 && !list_.empty()) table_->selectRow(0);
}

}  // namespace kw::desktop

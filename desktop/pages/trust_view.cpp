#include "desktop/pages/trust_view.hpp"

#include <QDateTime>
#include <QHBoxLayout>
#include <QLabel>
#include <QLocale>
#include <QPushButton>
#include <set>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

TrustView::TrustView(Store& store, QWidget* parent) : QWidget(parent), store_(store) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Trusted certificates and keys"), this);
  heading->setObjectName("heading");
  forget_ = new QPushButton(tr("Forget"), this);
  forget_->setObjectName("forgetPins");
  back_ = new QPushButton(tr("Put back"), this);
  back_->setToolTip(tr("Trust again what was forgotten last"));
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(heading, 1);
  for (QPushButton* b : {back_, forget_, close}) top->addWidget(b);
  column->addLayout(top);
  auto* hint = new QLabel(tr("What is forgotten is asked about again at the next connection."), this);
  hint->setObjectName("quiet");
  column->addWidget(hint);
  empty_ = new QLabel(
      tr("Nothing yet. When a certificate or key is not vouched for by anybody, its pane asks, and "
         "“From now on” puts it here."),
      this);
  empty_->setWordWrap(true);
  column->addWidget(empty_);
  table_ =
      plainTable({tr("Shown by"), tr("SHA-256"), tr("Since")}, tr("Trusted certificates and keys"), this);
  table_->horizontalHeader()->setStretchLastSection(false);
  table_->horizontalHeader()->setSectionResizeMode(1, QHeaderView::Stretch);
  column->addWidget(table_, 1);
  connect(forget_, &QPushButton::clicked, this, &TrustView::forgetChosen);
  connect(back_, &QPushButton::clicked, this, &TrustView::putBack);
  connect(close, &QPushButton::clicked, this, &TrustView::closed);
  connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
    const bool any = !table_->selectedItems().isEmpty();
    forget_->setEnabled(any);
    forget_->setToolTip(any ? tr("Ask again at the next connection") : tr("Choose a row first."));
  });
}

void TrustView::refresh() {
  const std::vector<Pin> pins = store_.pins();
  table_->setRowCount(static_cast<int>(pins.size()));
  for (int i = 0; i < static_cast<int>(pins.size()); ++i) {
    const Pin& p = pins[static_cast<std::size_t>(i)];
    table_->setItem(i, 0, new QTableWidgetItem(QString::fromStdString(p.peer)));
    auto* print = new QTableWidgetItem(QString::fromStdString(p.sha256));
    print->setFont(monoFont(8));
    print->setToolTip(print->text());
    table_->setItem(i, 1, print);
    const QDateTime when = QDateTime::fromString(QString::fromStdString(p.when), Qt::ISODate).toLocalTime();
    table_->setItem(i, 2, new QTableWidgetItem(when.toString("yyyy-MM-dd HH:mm")));
  }
  table_->setColumnWidth(0, 210);
  table_->setColumnWidth(2, 130);
  table_->setVisible(!pins.empty());
  empty_->setVisible(pins.empty());
  table_->clearSelection();
  forget_->setEnabled(false);
  forget_->setToolTip(tr("Choose a row first."));
  back_->setVisible(!forgotten_.empty());
}

void TrustView::forgetChosen() {
  std::set<int> rows;
  for (const QTableWidgetItem* item : table_->selectedItems()) rows.insert(item->row());
  forgotten_.clear();
  for (const int row : rows) {
    const Pin pin{table_->item(row, 0)->text().toStdString(), table_->item(row, 1)->text().toStdString(), {}};
    store_.unpin(pin.peer);
    forgotten_.push_back(pin);
  }
  refresh();
  emit said(
      tr("%n forgotten; asked about again at the next connection", nullptr, static_cast<int>(rows.size())));
}

void TrustView::putBack() {
  for (const Pin& pin : forgotten_) store_.pin(pin.peer, pin.sha256);
  forgotten_.clear();
  refresh();
}

}  // namespace kw::desktop

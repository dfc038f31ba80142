#include "desktop/sharing/pass_panel.hpp"

#include <QApplication>
#include <QCheckBox>
#include <QClipboard>
#include <QComboBox>
#include <QDateTime>
#include <QDoubleSpinBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QLocale>
#include <QPushButton>
#include <QSignalBlocker>
#include <QSpinBox>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"
#include "desktop/sharing/json_fields.hpp"

namespace kw::desktop {

namespace {

constexpr int kPass = Qt::UserRole;

}  // namespace

PassPanel::PassPanel(QWidget* parent) : QWidget(parent) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(8);
  end_ = new QPushButton(tr("End this pass"), this);
  end_->setObjectName("endPass");
  auto* heading = new QLabel(tr("Passes"), this);
  heading->setObjectName("heading");
  auto* top = new QHBoxLayout;
  top->addWidget(heading, 1);
  top->addWidget(end_);
  column->addLayout(top);
  auto* making = new QHBoxLayout;
  way_ = new QComboBox(this);
  way_->setAccessibleName(tr("Opens"));
  hours_ = new QDoubleSpinBox(this);
  hours_->setRange(0.25, 720);
  hours_->setValue(2);
  hours_->setSuffix(tr(" h"));
  hours_->setAccessibleName(tr("Hours"));
  hours_->setButtonSymbols(QAbstractSpinBox::NoButtons);
  uses_ = new QSpinBox(this);
  uses_->setObjectName("passUses");
  uses_->setRange(0, 10000);
  uses_->setSpecialValueText(tr("any uses"));
  uses_->setSuffix(tr(" uses"));
  uses_->setAccessibleName(tr("How often it opens"));
  uses_->setToolTip(tr("How often it opens; 0: any number"));
  uses_->setButtonSymbols(QAbstractSpinBox::NoButtons);
  note_ = new QLineEdit(this);
  note_->setPlaceholderText(tr("For whom"));
  note_->setAccessibleName(tr("For whom"));
  look_ = new QCheckBox(tr("only look"), this);
  look_->setChecked(true);
  auto* make = new QPushButton(tr("Make a pass"), this);
  make->setObjectName("makePass");
  make->setProperty("own", true);
  making->addWidget(way_, 2);
  making->addWidget(hours_);
  making->addWidget(uses_);
  making->addWidget(note_, 1);
  making->addWidget(look_);
  making->addWidget(make);
  column->addLayout(making);
  link_ = new QLineEdit(this);
  link_->setReadOnly(true);
  link_->setObjectName("passLink");
  link_->setFont(monoFont(8.5));
  link_->setAccessibleName(tr("The new pass's link"));
  link_->hide();
  column->addWidget(link_);
  none_ = new QLabel(
      tr("No pass yet. A pass is a link that opens one machine for a time, without an account."), this);
  none_->setObjectName("quiet");
  column->addWidget(none_);
  table_ = plainTable({tr("Opens"), tr("For"), tr("May"), tr("Until"), tr("Used")}, tr("Passes"), this);
  table_->setColumnWidth(0, 190);
  table_->setColumnWidth(1, 150);
  table_->setColumnWidth(3, 170);
  column->addWidget(table_, 1);
  column->addStretch(0);
  connect(make, &QPushButton::clicked, this, &PassPanel::make);
  connect(end_, &QPushButton::clicked, this, &PassPanel::endChosen);
  connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
    end_->setEnabled(!table_->selectedItems().isEmpty());
    end_->setToolTip(end_->isEnabled() ? QString() : tr("Choose a pass first."));
  });
}

void PassPanel::showWays(const nlohmann::json& machines) {
  const qlonglong before = way_->currentData().toLongLong();
  way_->clear();
  for (const auto& m : machines) {
    if (!m.is_object() || !m.contains("ways") || !m["ways"].is_array()) continue;
    for (const auto& w : m["ways"])
      if (text(w, "why").isEmpty())
        way_->addItem(text(m, "name") + " · " + text(w, "label"),
                      QVariant::fromValue<qlonglong>(whole(w, "id")));
  }
  const qlonglong want = wanted_ != 0 ? wanted_ : before;
  if (const int at = way_->findData(want); at >= 0) way_->setCurrentIndex(at);
}

void PassPanel::showPasses(const nlohmann::json& passes) {
  const QSignalBlocker quiet(table_);
  const qint64 chosen =
      table_->selectedItems().isEmpty() ? 0 : table_->item(table_->currentRow(), 0)->data(kPass).toLongLong();
  table_->setRowCount(0);
  for (const auto& p : passes) {
    const int row = table_->rowCount();
    table_->insertRow(row);
    const QString state = text(p, "state");
    const qint64 most = whole(p, "most");
    const QString cells[] = {
        text(p, "machine") + " · " + text(p, "label"), text(p, "note"),
        yes(p, "look") ? tr("look") : tr("drive"),
        state.isEmpty()
            ? QLocale().toString(QDateTime::fromSecsSinceEpoch(whole(p, "until")), QLocale::ShortFormat)
            : state,
        most > 0 ? tr("%1 of %2").arg(whole(p, "uses")).arg(most) : QString::number(whole(p, "uses"))};
    for (int c = 0; c < 5; ++c) {
      auto* item = new QTableWidgetItem(cells[c]);
      if (!state.isEmpty()) item->setForeground(scheme().quiet);
      table_->setItem(row, c, item);
    }
    table_->item(row, 0)->setData(kPass, whole(p, "id"));
    if (whole(p, "id") == chosen) table_->selectRow(row);
  }
  table_->setVisible(table_->rowCount() > 0);
  none_->setVisible(table_->rowCount() == 0);
  end_->setEnabled(!table_->selectedItems().isEmpty());
}

void PassPanel::showLink(const QString& link) {
  link_->setText(link);
  link_->show();
  link_->selectAll();
  QApplication::clipboard()->setText(link);
}

void PassPanel::wants(Id endpoint) {
  wanted_ = endpoint;
  if (const int at = way_->findData(QVariant::fromValue<qlonglong>(endpoint)); at >= 0)
    way_->setCurrentIndex(at);
}

void PassPanel::focusForm() { note_->setFocus(); }

void PassPanel::make() {
  wanted_ = 0;
  if (way_->currentIndex() < 0) return;
  emit asks({{"makePass",
              {{"way", way_->currentData().toLongLong()},
               {"hours", hours_->value()},
               {"uses", uses_->value()},
               {"look", look_->isChecked()},
               {"note", note_->text().toStdString()}}}});
}

void PassPanel::endChosen() {
  if (table_->selectedItems().isEmpty()) return;
  emit asks({{"endPass", table_->item(table_->currentRow(), 0)->data(kPass).toLongLong()}});
}

}  // namespace kw::desktop

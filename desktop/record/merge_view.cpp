#include "desktop/record/merge_view.hpp"

#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

namespace {

enum Column { kWhat, kBefore, kTheirs, kMine };

}  // namespace

MergeView::MergeView(QWidget* parent)
    : QWidget(parent),
      heading_(new QLabel(this)),
      hint_(new QLabel(this)),
      table_(plainTable({tr("Field"), tr("As it was"), tr("Theirs"), tr("Yours")},
                        tr("Both changes side by side"), this)) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 10, 20, 16);
  column->setSpacing(10);
  heading_->setObjectName("heading");
  hint_->setObjectName("quiet");
  for (QLabel* label : {heading_, hint_}) {
    label->setWordWrap(true);
    label->setTextFormat(Qt::PlainText);
    column->addWidget(label);
  }
  table_->setColumnWidth(kWhat, 190);
  table_->setColumnWidth(kBefore, 150);
  table_->setColumnWidth(kTheirs, 220);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  table_->setSelectionBehavior(QAbstractItemView::SelectItems);
  table_->setWordWrap(true);
  column->addWidget(table_, 1);
  auto* buttons = new QHBoxLayout;
  auto* back = new QPushButton(tr("Back to the sheet"), this);
  auto* theirs = new QPushButton(tr("Drop mine"), this);
  auto* keep = new QPushButton(tr("Keep what is chosen"), this);
  keep->setProperty("own", true);
  keep->setObjectName("keepMerged");
  theirs->setObjectName("dropMine");
  buttons->addStretch(1);
  for (QPushButton* b : {back, theirs, keep}) buttons->addWidget(b);
  column->addLayout(buttons);
  connect(back, &QPushButton::clicked, this, &MergeView::backWanted);
  connect(theirs, &QPushButton::clicked, this, &MergeView::theirsWanted);
  connect(keep, &QPushButton::clicked, this, &MergeView::keepWanted);
  const auto pick = [this](int row, int at) {
    if (at == kTheirs || at == kMine) choose(row, at == kMine);
  };
  connect(table_, &QTableWidget::cellClicked, this, pick);
  connect(table_, &QTableWidget::cellActivated, this, pick);
}

void MergeView::show(const QString& name, const QString& who, std::vector<MergeField> fields) {
  fields_ = std::move(fields);
  heading_->setText(who.isEmpty() ? tr("Somebody else changed %1 meanwhile").arg(name)
                                  : tr("%2 changed %1 meanwhile").arg(name, who));
  hint_->setText(
      tr("Nothing is lost: for each field click theirs or yours. What only one of you changed is chosen "
         "already."));
  table_->setRowCount(static_cast<int>(fields_.size()));
  for (int row = 0; row < table_->rowCount(); ++row) showRow(row);
  table_->resizeRowsToContents();
  table_->setCurrentCell(0, kMine);
  table_->setFocus();
}

void MergeView::choose(int row, bool mine) {
  fields_.at(static_cast<std::size_t>(row)).takeMine = mine;
  showRow(row);
}

void MergeView::showRow(int row) {
  const MergeField& f = fields_[static_cast<std::size_t>(row)];
  const auto cell = [&](int at, const QString& text, bool taken) {
    auto* item = new QTableWidgetItem(at == kTheirs || at == kMine ? (taken ? "● " : "○ ") + text : text);
    item->setToolTip(text);
    item->setFlags(Qt::ItemIsSelectable | Qt::ItemIsEnabled);
    QFont font = table_->font();
    font.setWeight(taken ? QFont::DemiBold : QFont::Normal);
    item->setFont(font);
    item->setForeground(taken ? scheme().text : scheme().quiet);
    table_->setItem(row, at, item);
  };
  cell(kWhat, QString::fromStdString(f.what) + (f.bothChanged() ? tr(" · both changed") : QString()), true);
  cell(kBefore, QString::fromStdString(shownValue(f, f.base)), false);
  cell(kTheirs, QString::fromStdString(shownValue(f, f.theirs)), !f.takeMine);
  cell(kMine, QString::fromStdString(shownValue(f, f.mine)), f.takeMine);
}

}  // namespace kw::desktop

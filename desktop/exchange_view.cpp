#include "desktop/exchange_view.hpp"
#include "desktop/counts.hpp"

#include <QComboBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/plain_table.hpp"
#include "desktop/theme.hpp"

namespace kw::desktop {

namespace {
enum Column { kDo, kName, kAddress, kGroup, kFound, kFrom };
}

QString exchangePatterns() {
  QStringList out;
  for (const exchange::Kind& k : exchange::allKinds()) out << QString("*") + k.extension;
  return out.join(' ');
}

ExchangeView::ExchangeView(Records& records, QWidget* parent) : QWidget(parent), records_(records) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* title = new QLabel(tr("Machines from files"), this);
  title->setObjectName("heading");
  auto* other = new QPushButton(tr("Other files…"), this);
  auto* close = new QPushButton(tr("Close"), this);
  import_ = new QPushButton(this);
  import_->setObjectName("importFiles");
  import_->setProperty("own", true);
  top->addWidget(title, 1);
  for (QPushButton* b : {other, close, import_}) top->addWidget(b);
  column->addLayout(top);
  auto* row = new QHBoxLayout;
  auto* label = new QLabel(tr("Those without a group go into"), this);
  group_ = new QLineEdit(tr("Imported"), this);
  group_->setAccessibleName(label->text());
  group_->setMaximumWidth(260);
  row->addWidget(label);
  row->addWidget(group_);
  row->addStretch(1);
  column->addLayout(row);
  hint_ = new QLabel(this);
  hint_->setObjectName("quiet");
  hint_->setWordWrap(true);
  column->addWidget(hint_);
  table_ = plainTable({tr("Do"), tr("Name"), tr("Address"), tr("Group"), tr("Found"), tr("From")},
                      tr("Machines found"), this);
  const int widths[] = {110, 150, 230, 150, 150};
  for (int i = 0; i < 5; ++i) table_->setColumnWidth(i, widths[i]);
  column->addWidget(table_, 1);
  connect(other, &QPushButton::clicked, this, &ExchangeView::chooseFiles);
  connect(close, &QPushButton::clicked, this, &ExchangeView::closed);
  connect(import_, &QPushButton::clicked, this, &ExchangeView::import);
}

void ExchangeView::chooseFiles() {
  const QStringList files =
      QFileDialog::getOpenFileNames(this, tr("Connection files and tables"), {},
                                    tr("Known files (%1);;All files (*)").arg(exchangePatterns()));
  if (!files.isEmpty()) show(files);
}

void ExchangeView::show(const QStringList& files) {
  read_ = {};
  QStringList troubles;
  // One that cannot be read does not keep the others out.
  for (const QString& file : files) {
    try {
      exchange::Read one = exchange::readFiles({file.toStdString()});
      for (exchange::Entry& e : one.entries) read_.entries.push_back(std::move(e));
      for (const std::string& r : one.remarks) troubles << QString::fromStdString(r);
    } catch (const Error& e) {
      troubles << QString::fromUtf8(e.what());
    }
  }
  constexpr int kMostTold = 5;
  const auto more = troubles.size() - kMostTold;
  if (more > 0) troubles = troubles.mid(0, kMostTold) << tr("and %n more", nullptr, static_cast<int>(more));
  hint_->setText(troubles.isEmpty()
                     ? tr("Nothing is kept before you say so; passwords in files are not read in.")
                     : troubles.join("\n"));
  hint_->setStyleSheet(troubles.isEmpty() ? QString() : "color:" + scheme().amber.name() + ";");
  showPlan();
}

void ExchangeView::showPlan() {
  plan_ = exchange::plan(records_.snapshot(), read_.entries, exchange::Choice::Skip);
  table_->setRowCount(static_cast<int>(plan_.size()));
  for (int i = 0; i < static_cast<int>(plan_.size()); ++i) {
    exchange::Planned& p = plan_[static_cast<std::size_t>(i)];
    auto* choice = new QComboBox(table_);
    choice->addItem(tr("add"), static_cast<int>(exchange::Choice::Add));
    if (p.machine != 0) choice->addItem(tr("replace"), static_cast<int>(exchange::Choice::Replace));
    choice->addItem(tr("leave"), static_cast<int>(exchange::Choice::Skip));
    choice->setCurrentIndex(choice->findData(static_cast<int>(p.choice)));
    choice->setAccessibleName(tr("What to do with %1").arg(QString::fromStdString(p.entry.name)));
    connect(choice, &QComboBox::currentIndexChanged, this, [this, i, choice] {
      plan_[static_cast<std::size_t>(i)].choice =
          static_cast<exchange::Choice>(choice->currentData().toInt());
      refreshButton();
    });
    table_->setCellWidget(i, kDo, choice);
    const QString found = p.clash == exchange::Clash::New ? tr("new")
                          : p.clash == exchange::Clash::Same
                              ? tr("the same is there")
                              : tr("differs: %1").arg(QString::fromStdString(p.differs));
    const QString cells[] = {
        QString::fromStdString(p.entry.name),
        p.entry.ways.empty() ? QString() : QString::fromStdString(p.entry.ways[0].address),
        QString::fromStdString(p.entry.group), found, QString::fromStdString(p.entry.from)};
    for (int c = 0; c < 5; ++c) {
      auto* item = new QTableWidgetItem(cells[c]);
      item->setToolTip(cells[c]);
      if (c == kFound - 1 && p.clash == exchange::Clash::Differs) item->setForeground(scheme().amber);
      table_->setItem(i, c + 1, item);
    }
  }
  table_->verticalHeader()->setDefaultSectionSize(38);
  refreshButton();
}

void ExchangeView::refreshButton() {
  const auto count =
      static_cast<int>(std::count_if(plan_.begin(), plan_.end(), [](const exchange::Planned& p) {
        return p.choice != exchange::Choice::Skip;
      }));
  import_->setText(tr("Keep %1").arg(machineCount(count)));
  import_->setEnabled(count > 0);
  import_->setToolTip(count > 0 ? QString() : tr("Nothing of this is new."));
}

void ExchangeView::import() {
  exchange::Written done;
  const auto records = records_.shared();
  const std::string group = group_->text().toStdString();
  if (!records_.commit(tr("import from files"),
                       [&](StoreWriter& w) { done = exchange::writePlan(w, *records, plan_, group); }))
    return;
  emit said(tr("%1 added, %2 replaced. Ctrl+Z takes them back.").arg(done.added).arg(done.replaced));
  showPlan();
}

}  // namespace kw::desktop

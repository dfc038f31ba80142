#include "desktop/pages/exchange_view.hpp"
#include "desktop/app/counts.hpp"

#include <QComboBox>
#include <QFileDialog>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QJsonObject>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/app/json_file.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/pages/plain_table.hpp"

namespace kw::desktop {

namespace {
enum Column { kDo, kName, kAddress, kGroup, kFound, kFrom };

std::filesystem::path columnsFile() { return configFolder() / "columns.json"; }

QString headingsKey(const exchange::Table& table) {
  QStringList all;
  for (const std::string& h : table.headings) all << QString::fromStdString(h);
  return all.join('\t');
}

/// As somebody said for a table with these headings before, else as it was found out.
exchange::TableColumns rememberedColumns(const exchange::Table& table) {
  const QJsonObject known = readJson(columnsFile()).object().value(headingsKey(table)).toObject();
  if (known.isEmpty()) return table.found;
  exchange::TableColumns out;
  for (auto at = known.begin(); at != known.end(); ++at)
    if (const int column = at.value().toInt(-1);
        column >= 0 && column < static_cast<int>(table.headings.size()))
      out[at.key().toStdString()] = static_cast<std::size_t>(column);
  return out;
}

void rememberColumns(const exchange::Table& table, const exchange::TableColumns& columns) {
  QJsonObject all = readJson(columnsFile()).object(), one;
  for (const auto& [field, column] : columns) one[QString::fromStdString(field)] = static_cast<int>(column);
  all[headingsKey(table)] = one;
  try {
    writeJson(columnsFile(), QJsonDocument(all));
  } catch (const Error&) {
    // Not remembered, then; what is shown counts all the same.
  }
}

}  // namespace

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
  passphrase_ = new QLineEdit(this);
  passphrase_->setObjectName("importPassphrase");
  passphrase_->setEchoMode(QLineEdit::Password);
  passphrase_->setPlaceholderText(tr("The passphrase that the file is sealed with, then Enter"));
  passphrase_->setAccessibleName(tr("Passphrase"));
  passphrase_->setMaximumWidth(380);
  passphrase_->setVisible(false);
  column->addWidget(passphrase_);
  connect(passphrase_, &QLineEdit::returnPressed, this, &ExchangeView::readAll);
  columns_ = new QWidget(this);
  auto* grid = new QGridLayout(columns_);
  grid->setContentsMargins(0, 0, 0, 0);
  for (const int c : {1, 3, 5}) grid->setColumnStretch(c, 1);
  column->addWidget(columns_);
  columns_->hide();
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
  files_ = files;
  cells_.clear();
  passphrase_->clear();
  passphrase_->setVisible(false);
  cellsTable_.reset();
  readAll();
}

void ExchangeView::showCells(const QString& text) {
  files_.clear();
  cells_ = text;
  passphrase_->setVisible(false);
  cellsTable_.reset();
  readAll();
}

/// One source after the other; one that cannot be read does not keep the others out.
void ExchangeView::readAll() {
  read_ = {};
  QStringList troubles;
  const auto take = [&](exchange::Read one) {
    for (exchange::Entry& e : one.entries) read_.entries.push_back(std::move(e));
    for (const std::string& r : one.remarks) troubles << QString::fromStdString(r);
  };
  const auto attempt = [&](const std::function<void()>& what) {
    try {
      what();
    } catch (const Error& e) {
      if (e.kind() == ErrorKind::SignInFailed) passphrase_->setVisible(true);
      troubles << QString::fromUtf8(e.what());
    }
  };
  const bool one = files_.size() <= 1;
  const auto sources = files_.isEmpty() ? QStringList(QString()) : files_;
  for (const QString& file : sources)
    attempt([&] {
      const exchange::Source source =
          file.isEmpty() ? exchange::Source{cells_.toStdString(), tr("the clipboard").toStdString()}
                         : exchange::sourceOf(file.toStdString(), passphrase_->text().toStdString());
      const bool isTable = file.isEmpty() || &exchange::kindOf(source) == &exchange::csvKind;
      if (!one || !isTable) return take(exchange::readSource(source));
      if (!cellsTable_) {
        cellsTable_ = exchange::tableOf(source.text);
        meant_ = rememberedColumns(*cellsTable_);
      }
      if (!exchange::isEnough(meant_))
        throw Error(ErrorKind::Local, tr("Say which columns are the name and the address.").toStdString());
      take(exchange::readTable(*cellsTable_, meant_, source.name));
    });
  constexpr int kMostTold = 5;
  const auto more = troubles.size() - kMostTold;
  if (more > 0) troubles = troubles.mid(0, kMostTold) << tr("and %1 more").arg(more);
  hint_->setText(troubles.isEmpty()
                     ? tr("Nothing is kept before you say so; passwords in files are not read in.")
                     : troubles.join("\n"));
  hint_->setStyleSheet(troubles.isEmpty() ? QString() : "color:" + scheme().amber.name() + ";");
  showColumns();
  showPlan();
}

/// A row of choices: which column of the table is the name, the address, …
void ExchangeView::showColumns() {
  qDeleteAll(columns_->findChildren<QWidget*>(Qt::FindDirectChildrenOnly));
  columns_->setVisible(cellsTable_.has_value());
  if (!cellsTable_) return;
  auto* grid = static_cast<QGridLayout*>(columns_->layout());
  int at = 0;
  for (const exchange::TableField& field : exchange::tableFields()) {
    auto* label = new QLabel(QString::fromUtf8(field.label), columns_);
    auto* box = new QComboBox(columns_);
    box->setObjectName("column:" + QString::fromUtf8(field.key));
    box->setAccessibleName(tr("Column for %1").arg(label->text()));
    box->addItem(tr("none"));
    for (const std::string& h : cellsTable_->headings) box->addItem(QString::fromStdString(h));
    const auto found = meant_.find(field.key);
    box->setCurrentIndex(found == meant_.end() ? 0 : static_cast<int>(found->second) + 1);
    connect(box, &QComboBox::activated, this,
            [this, key = std::string(field.key)](int i) { columnChosen(key, i - 1); });
    constexpr int kAcross = 3;
    grid->addWidget(label, at / kAcross, at % kAcross * 2);
    grid->addWidget(box, at / kAcross, at % kAcross * 2 + 1);
    ++at;
  }
}

void ExchangeView::columnChosen(const std::string& field, int column) {
  if (column < 0)
    meant_.erase(field);
  else
    meant_[field] = static_cast<std::size_t>(column);
  rememberColumns(*cellsTable_, meant_);
  QMetaObject::invokeMethod(
      this, [this] { readAll(); }, Qt::QueuedConnection);
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

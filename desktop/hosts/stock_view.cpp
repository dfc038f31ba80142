#include "desktop/hosts/stock_view.hpp"

#include <QApplication>
#include <QButtonGroup>
#include <QClipboard>
#include <QComboBox>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMessageBox>
#include <QMouseEvent>
#include <QPushButton>
#include <QScrollArea>
#include <QScrollBar>
#include <QToolButton>

#include <QRegularExpression>
#include <nlohmann/json.hpp>
#include "base/file.hpp"

#include "desktop/hosts/stock_delegate.hpp"
#include "desktop/look/theme.hpp"
#include "host/console.hpp"

namespace kw::desktop {

namespace {

constexpr int kRowHeight = 46;
constexpr int kDetailsWidth = 262;

QString text(const std::string& s) { return QString::fromStdString(s); }

QString csvField(QString field) {
  if (!field.contains(QRegularExpression("[,\"\r\n]"))) return field;
  return '"' + field.replace('"', "\"\"") + '"';
}

}  // namespace

StockView::StockView(Desk& desk, QWidget* parent) : QWidget(parent), desk_(desk) {
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(0);
  auto* left = new QWidget(this);
  middle_ = new QVBoxLayout(left);
  middle_->setContentsMargins(16, 14, 0, 0);
  middle_->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* title = new QLabel(tr("Stock"), left);
  title->setObjectName("title");
  summary_ = new QLabel(left);
  summary_->setObjectName("quiet");
  summary_->setMinimumWidth(40);
  auto* add = new QPushButton(tr("Add a host…"), left);
  add->setObjectName("addHost");
  adopt_ = new QPushButton(left);
  adopt_->setObjectName("adopt");
  adopt_->setProperty("own", true);
  auto* close = new QPushButton(tr("Close"), left);
  top->addWidget(title);
  top->addSpacing(8);
  top->addWidget(summary_, 1);
  top->addWidget(add);
  top->addWidget(adopt_);
  top->addWidget(close);
  top->addSpacing(12);
  middle_->addLayout(top);
  auto* second = new QHBoxLayout;
  chips_ = new QButtonGroup(this);
  for (int i = 0; i < 4; ++i) {
    auto* chip = new QPushButton(left);
    chip->setCheckable(true);
    chip->setProperty("chip", true);
    chip->setFont(monoFont(8.5));
    chips_->addButton(chip, i);
    second->addWidget(chip);
  }
  chips_->button(0)->setChecked(true);
  second->addStretch(0);
  narrow_ = new QLineEdit(left);
  narrow_->setObjectName("narrowStock");
  narrow_->setPlaceholderText(tr("Narrow: name, ID, address…"));
  narrow_->setAccessibleName(tr("Narrow the stock"));
  narrow_->setMinimumWidth(110);
  narrow_->setMaximumWidth(210);
  narrow_->setClearButtonEnabled(true);
  second->addStretch(1);
  second->addWidget(narrow_, 3);
  second->addSpacing(12);
  middle_->addLayout(second);
  empty_ = new QLabel(left);
  empty_->setWordWrap(true);
  empty_->setObjectName("quiet");
  middle_->addWidget(empty_);
  table_ = new QTableView(left);
  table_->setModel(&model_);
  table_->setItemDelegate(new StockDelegate(table_));
  table_->setFrameShape(QFrame::NoFrame);
  // The delegate marks what is chosen, as the roster does.
  table_->setStyleSheet("QTableView { selection-background-color: transparent; }");
  table_->setShowGrid(false);
  table_->setSelectionBehavior(QAbstractItemView::SelectRows);
  table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
  table_->setAccessibleName(tr("Stock"));
  table_->setTabKeyNavigation(false);
  table_->setMouseTracking(true);
  table_->verticalHeader()->hide();
  table_->verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
  table_->verticalHeader()->setDefaultSectionSize(kRowHeight);
  table_->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  table_->horizontalHeader()->setHighlightSections(false);
  table_->horizontalHeader()->setStretchLastSection(true);
  table_->setSortingEnabled(true);
  table_->horizontalHeader()->setSortIndicator(0, Qt::AscendingOrder);
  const int widths[] = {130, 112, 138, 104, 92};
  for (int i = 0; i < 5; ++i) table_->setColumnWidth(i, widths[i]);
  middle_->addWidget(table_, 1);
  row->addWidget(left, 1);
  detailsHome_ = new QWidget(this);
  detailsHome_->setObjectName("panel");
  detailsHome_->setFixedWidth(kDetailsWidth);
  auto* home = new QVBoxLayout(detailsHome_);
  home->setContentsMargins(0, 0, 0, 0);
  row->addWidget(detailsHome_);

  connect(add, &QPushButton::clicked, this, &StockView::showAddHost);
  connect(adopt_, &QPushButton::clicked, this, &StockView::showAdopt);
  connect(close, &QPushButton::clicked, this, &StockView::closed);
  connect(narrow_, &QLineEdit::textChanged, this, [this](const QString& words) {
    model_.setNarrow(words);
    refresh();
  });
  connect(chips_, &QButtonGroup::idClicked, this, [this](int id) {
    model_.setFilter(static_cast<StockFilter>(id));
    refresh();
  });
  connect(&model_, &QAbstractItemModel::modelAboutToBeReset, this, [this] {
    chosenIds_.clear();
    for (const QModelIndex& at : table_->selectionModel()->selectedRows())
      if (const StockLine* l = model_.line(at.row())) chosenIds_.insert(l->row.machine.id);
  });
  connect(&model_, &QAbstractItemModel::modelReset, this, [this] {
    table_->clearSpans();
    for (int r = 0, hosts = 0; r < model_.rowCount() && hosts < model_.hostCount(); ++r)
      if (model_.line(r) == nullptr) {
        table_->setSpan(r, 0, 1, StockModel::kColumns);
        ++hosts;
      }
  });
  connect(table_->selectionModel(), &QItemSelectionModel::selectionChanged, this, [this] {
    if (const StockLine* l = chosenLine()) {
      chosenId_ = l->row.machine.id;
    }
    showDetails();
    refreshChips();
  });
  connect(table_, &QTableView::activated, this, [this](const QModelIndex& at) {
    const StockLine* l = model_.line(at.row());
    if (l != nullptr && l->row.record != 0) emit startWanted(l->row.record);
  });
  table_->viewport()->installEventFilter(this);
  table_->installEventFilter(this);
  connect(&desk_.hosts(), &Hosts::changed, this, [this] {
    model_.setStock(desk_.hosts().all(), desk_.records().snapshot());
    refresh();
  });
  connect(&desk_.records(), &Records::changed, this, [this] {
    model_.setStock(desk_.hosts().all(), desk_.records().snapshot());
    refresh();
  });
  connect(&desk_.hosts(), &Hosts::said, this, &StockView::said);
  model_.setStock(desk_.hosts().all(), desk_.records().snapshot());
  refresh();
}

const StockLine* StockView::chosenLine() const {
  const auto rows = table_->selectionModel()->selectedRows();
  for (const QModelIndex& at : rows)
    if (const StockLine* l = model_.line(at.row())) return l;
  return nullptr;
}

void StockView::choose(const std::string& id) {
  const int row = model_.rowOf(id);
  if (row < 0) return;
  table_->selectRow(row);
  table_->scrollTo(model_.index(row, 0));
}

/// After the rows have changed: the same machine stays chosen, where it stood.
void StockView::refresh() {
  const int scroll = table_->verticalScrollBar()->value();
  if (!chosenIds_.empty() && table_->selectionModel()->selection().isEmpty()) {
    QItemSelection again;
    QModelIndex current;
    for (int r = 0; r < model_.rowCount(); ++r)
      if (const StockLine* l = model_.line(r); l != nullptr && chosenIds_.contains(l->row.machine.id)) {
        again.select(model_.index(r, 0), model_.index(r, StockModel::kColumns - 1));
        if (l->row.machine.id == chosenId_) current = model_.index(r, 0);
      }
    if (current.isValid()) table_->selectionModel()->setCurrentIndex(current, QItemSelectionModel::NoUpdate);
    table_->selectionModel()->select(again, QItemSelectionModel::ClearAndSelect);
  }
  table_->verticalScrollBar()->setValue(scroll);
  refreshChips();
  showDetails();
  const bool none = model_.hostCount() == 0;
  const bool nothing = model_.rowCount() == 0;
  empty_->setVisible(nothing);
  table_->setVisible(!nothing);
  empty_->setText(
      none ? tr("No host yet. Add one, and everything that runs there is listed here: name, state, "
                "console, addresses. From here it is adopted into the roster, started and opened.")
           : tr("No machine has “%1” in its name, ID, address or console.").arg(narrow_->text().trimmed()));
}

void StockView::refreshChips() {
  const int all = model_.count(StockFilter::All);
  summary_->setText(
      tr("%1 on %2").arg(tr("%n machines", nullptr, all), tr("%n hosts", nullptr, model_.hostCount())));
  const QString words[] = {tr("all"), tr("running"), tr("not in the roster"), tr("differ")};
  for (int i = 0; i < 4; ++i)
    chips_->button(i)->setText(QString("%1 %2").arg(words[i]).arg(model_.count(static_cast<StockFilter>(i))));
  const auto count = static_cast<int>(toAdopt().size());
  adopt_->setText(count == 0 ? tr("Adopt…") : tr("Adopt %1…").arg(count));
  adopt_->setEnabled(count > 0);
  adopt_->setToolTip(count > 0 ? QString() : tr("All machines of these hosts are in the roster."));
}

/// The chosen machines that are in nobody's roster; when none is chosen, all of them.
std::vector<const StockLine*> StockView::toAdopt() const {
  std::vector<const StockLine*> chosen, all;
  const auto rows = table_->selectionModel()->selectedRows();
  for (const QModelIndex& at : rows)
    if (const StockLine* l = model_.line(at.row()); l != nullptr && l->row.record == 0) chosen.push_back(l);
  if (!chosen.empty()) return chosen;
  for (int r = 0; r < model_.rowCount(); ++r)
    if (const StockLine* l = model_.line(r); l != nullptr && l->row.record == 0) all.push_back(l);
  return all;
}

void StockView::mendDrift(Id record, const std::string& idThere, const host::Drift& drift) {
  const auto records = desk_.records().shared();
  const QString name = text(records->machines.at(record).name);
  if (desk_.records().commit(tr("%1: %2").arg(name, text(drift.cure)),
                             [&](StoreWriter& w) { host::cureDrift(w, *records, record, idThere, drift); }))
    emit said(tr("%1: %2. Ctrl+Z takes it back.").arg(name, text(drift.cure)));
}

void StockView::cure(const StockLine& line) {
  if (line.row.record == 0) return showAdopt();
  if (!line.row.drift.empty() && !line.row.drift.front().cure.empty())
    mendDrift(line.row.record, line.row.machine.id, line.row.drift.front());
}

bool StockView::eventFilter(QObject* watched, QEvent* event) {
  if (watched == table_->viewport()) {
    const bool moves = event->type() == QEvent::MouseMove,
               releases = event->type() == QEvent::MouseButtonRelease;
    if (moves || releases) {
      const QPoint at = static_cast<QMouseEvent*>(event)->pos();
      const QModelIndex index = table_->indexAt(at);
      const bool over =
          index.isValid() && StockDelegate::cureRect(index, table_->visualRect(index)).contains(at);
      table_->viewport()->setCursor(over ? Qt::PointingHandCursor : Qt::ArrowCursor);
      if (releases && over)
        if (const StockLine* l = model_.line(index.row())) {
          const StockLine copy = *l;
          cure(copy);
        }
    }
  }
  if (watched == table_ && event->type() == QEvent::KeyPress &&
      static_cast<QKeyEvent*>(event)->matches(QKeySequence::Copy)) {
    copyRows();
    return true;
  }
  return QWidget::eventFilter(watched, event);
}

void StockView::copyRows() {
  QStringList lines;
  auto rows = table_->selectionModel()->selectedRows();
  std::sort(rows.begin(), rows.end());
  for (const QModelIndex& at : rows) {
    if (model_.line(at.row()) == nullptr) continue;
    QStringList cells;
    for (int c = 0; c < StockModel::kColumns; ++c) cells << model_.index(at.row(), c).data().toString();
    lines << cells.join('\t');
  }
  if (lines.isEmpty()) return;
  QApplication::clipboard()->setText(lines.join('\n'));
  emit said(tr("%n rows copied.", nullptr, static_cast<int>(lines.size())));
}

void StockView::exportCsv() {
  const QString file =
      QFileDialog::getSaveFileName(this, tr("Save the stock"), "stock.csv", tr("CSV (*.csv)"));
  if (file.isEmpty()) return;
  QString out = tr("Host") + ",";
  for (int c = 0; c < StockModel::kColumns; ++c)
    out += csvField(model_.headerData(c, Qt::Horizontal, Qt::DisplayRole).toString()) +
           (c + 1 < StockModel::kColumns ? "," : "\r\n");
  for (int r = 0; r < model_.rowCount(); ++r) {
    const StockLine* l = model_.line(r);
    if (l == nullptr) continue;
    out += csvField(text(desk_.hosts().all().at(l->host).record.name)) + ",";
    for (int c = 0; c < StockModel::kColumns; ++c)
      out += csvField(model_.index(r, c).data().toString()) + (c + 1 < StockModel::kColumns ? "," : "\r\n");
  }
  try {
    const std::string bytes = out.toStdString();
    writeFileSafely(file.toStdString(), viewOf(bytes));
    emit said(tr("Saved %1").arg(file));
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
  }
}

void StockView::addFact(const QString& name, const QString& value) {
  if (value.isEmpty()) return;
  auto* row = new QWidget(details_);
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 0, 0, 0);
  auto* what = new QLabel(name, row);
  what->setObjectName("quiet");
  what->setFixedWidth(64);
  auto* shown = new QLabel(row);
  shown->setFont(monoFont(8.5));
  shown->setText(QFontMetrics(shown->font()).elidedText(value, Qt::ElideMiddle, kDetailsWidth - 150));
  shown->setToolTip(value);
  auto* copy = new QToolButton(row);
  copy->setText(tr("copy"));
  copy->setAccessibleName(tr("Copy %1").arg(name));
  copy->setAutoRaise(true);
  connect(copy, &QToolButton::clicked, this, [this, name, value] {
    QApplication::clipboard()->setText(value);
    emit said(tr("%1 copied.").arg(name));
  });
  line->addWidget(what);
  line->addWidget(shown, 1);
  line->addWidget(copy);
  details_->layout()->addWidget(row);
}

/// Everything that the details show of a line: while it is the same, they stay as they are (a menu may be
/// open).
std::string StockView::keyOf(const StockLine* line) const {
  if (line == nullptr) return model_.rowCount() > 0 ? "none" : "empty";
  const auto& watched = desk_.hosts().all().at(line->host);
  std::string key = host::toJson(line->row.machine).dump() + std::to_string(line->row.record) +
                    std::to_string(static_cast<int>(watched.view.stage)) +
                    sinceWords(line->row.machine.since).toStdString();
  for (const host::Drift& d : line->row.drift) key += d.sentence;
  return key;
}

void StockView::showDetails() {
  if (const std::string key = keyOf(chosenLine());
      std::exchange(shownKey_, key) == key && details_ != nullptr)
    return;
  if (details_ != nullptr) {
    details_->hide();
    details_->deleteLater();
  }
  details_ = new QWidget(detailsHome_);
  detailsHome_->layout()->addWidget(details_);
  auto* column = new QVBoxLayout(details_);
  column->setContentsMargins(14, 16, 10, 12);
  column->setSpacing(7);
  const auto label = [&](const QString& words, const char* role) {
    auto* l = new QLabel(words, details_);
    l->setObjectName(role);
    l->setWordWrap(true);
    column->addWidget(l);
    return l;
  };
  const StockLine* line = chosenLine();
  if (line == nullptr) {
    label(tr("Choose a machine to see what its host tells of it, to switch it, or to set up its console."),
          "quiet");
    auto* save = new QPushButton(tr("Save the list as CSV…"), details_);
    save->setEnabled(model_.rowCount() > 0);
    connect(save, &QPushButton::clicked, this, &StockView::exportCsv);
    column->addWidget(save);
    column->addStretch(1);
    details_->show();
    return;
  }
  const host::StockMachine& m = line->row.machine;
  const QString hostName = text(desk_.hosts().all().at(line->host).record.name);
  label(tr("%1 on %2").arg(text(m.name), hostName), "heading");
  const QString since = sinceWords(m.since);
  label(since.isEmpty() || line->row.gone ? stateWords(line->row)
                                          : tr("%1 for %2").arg(stateWords(line->row), since),
        "plain");
  if (!m.reason.empty()) label(text(m.reason), "quiet");
  auto* buttons = new QHBoxLayout;
  buttons->setSpacing(6);
  if (line->row.record != 0 && !line->row.gone) {
    const bool runs = m.state == host::Running::On;
    auto* open = new QPushButton(runs ? tr("Open") : tr("Start and open"), details_);
    open->setObjectName("startAndOpen");
    open->setProperty("own", true);
    connect(open, &QPushButton::clicked, this, [this, id = line->row.record] { emit startWanted(id); });
    column->addWidget(open);
  }
  if (!line->row.gone) {
    const StockLine copy = *line;
    auto* power = new QPushButton(tr("Power") + " ▾", details_);
    power->setObjectName("powerMenu");
    auto* powerMenu = new QMenu(power);
    fillPowerMenu(powerMenu, copy);
    connect(power, &QPushButton::clicked, power,
            [power, powerMenu] { powerMenu->popup(power->mapToGlobal(QPoint(0, power->height()))); });
    auto* console = new QPushButton(tr("Console") + " ▾", details_);
    console->setObjectName("consoleMenu");
    auto* consoleMenu = new QMenu(console);
    fillConsoleMenu(consoleMenu, copy);
    connect(console, &QPushButton::clicked, console, [console, consoleMenu] {
      consoleMenu->popup(console->mapToGlobal(QPoint(0, console->height())));
    });
    buttons->addWidget(power);
    buttons->addWidget(console);
    column->addLayout(buttons);
  }
  if (!line->row.drift.empty()) {
    column->addSpacing(6);
    label(tr("Differs"), "heading");
    for (const host::Drift& d : line->row.drift) {
      label(text(d.sentence), "plain");
      if (d.cure.empty()) continue;
      auto* mend = new QPushButton(text(d.cure), details_);
      connect(mend, &QPushButton::clicked, this,
              [this, record = line->row.record, id = m.id, d] { mendDrift(record, id, d); });
      column->addWidget(mend);
    }
  }
  column->addSpacing(6);
  label(tr("Facts to copy"), "heading");
  addFact(tr("Name"), text(m.name));
  addFact(tr("ID"), text(m.id));
  for (const std::string& a : m.addresses) addFact(tr("Address"), text(a));
  const auto& watched = desk_.hosts().all().at(line->host);
  for (const host::OfferedWay& way : host::offeredWays(m, Hosts::placeOf(watched)))
    addFact(text(way.label), text(way.address));
  if (m.memory > 0) {
    auto* size = label(tr("%L1 MiB memory · %n processors", nullptr, m.processors).arg(m.memory), "quiet");
    Q_UNUSED(size);
  }
  if (line->row.record != 0) {
    auto* sheet = new QPushButton(tr("Its sheet"), details_);
    connect(sheet, &QPushButton::clicked, this, [this, id = line->row.record] { emit sheetWanted(id); });
    column->addWidget(sheet);
  }
  column->addStretch(1);
  details_->show();
}

}  // namespace kw::desktop

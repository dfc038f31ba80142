#include "desktop/pages/journal_view.hpp"

#include <QDateTime>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {

constexpr int kLogFile = Qt::UserRole;  ///< of a row: its newest log's whole path
constexpr int kKey = Qt::UserRole + 1;  ///< of a row: the same when the list is filled anew

QString shortTime(const std::string& iso) {
  const QDateTime when = QDateTime::fromString(QString::fromStdString(iso), Qt::ISODate).toLocalTime();
  return when.toString(when.date() == QDate::currentDate() ? "HH:mm:ss" : "d MMM HH:mm");
}

QString countedTroubles(const Visit& visit) {
  int troubles = 0;
  for (const JournalEntry& e : visit.within) troubles += e.told == Told::Trouble ? 1 : 0;
  if (troubles == 0) return {};
  return troubles == 1 ? JournalView::tr("one trouble") : JournalView::tr("%1 troubles").arg(troubles);
}

void setCell(QTreeWidgetItem* row, int column, const QString& text) {
  row->setText(column, text);
  row->setToolTip(column, text);
}

bool fits(const QTreeWidgetItem* row, const QString& word) {
  for (int column = 0; column <= JournalView::Log; ++column)
    if (row->text(column).contains(word, Qt::CaseInsensitive)) return true;
  for (int i = 0; i < row->childCount(); ++i)
    if (fits(row->child(i), word)) return true;
  return false;
}

QString keyOf(const QTreeWidgetItem* row) {
  return row == nullptr ? QString() : row->data(0, kKey).toString();
}

}  // namespace

JournalView::JournalView(QWidget* parent)
    : QWidget(parent), narrow_(new QLineEdit(this)), list_(new QTreeWidget(this)), empty_(new QLabel(this)) {
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(20, 14, 20, 16);
  column->setSpacing(10);
  auto* top = new QHBoxLayout;
  auto* heading = new QLabel(tr("Journal"), this);
  heading->setObjectName("heading");
  narrow_->setObjectName("narrowJournal");
  narrow_->setPlaceholderText(tr("Narrow to a machine or a word…"));
  narrow_->setClearButtonEnabled(true);
  narrow_->setFixedWidth(260);
  auto* close = new QPushButton(tr("Close"), this);
  top->addWidget(heading, 1);
  top->addWidget(narrow_);
  top->addWidget(close);
  column->addLayout(top);
  empty_->setWordWrap(true);
  column->addWidget(empty_);
  list_->setHeaderLabels(
      {tr("When"), tr("Machine"), tr("Way in"), tr("Who"), tr("How long"), tr("Ended"), tr("Log")});
  list_->header()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  const int widths[] = {112, 116, 160, 70, 72, 150, 110};
  for (int i = 0; i <= Log; ++i) list_->setColumnWidth(i, widths[i]);
  list_->header()->setStretchLastSection(false);
  list_->header()->setSectionResizeMode(What, QHeaderView::Stretch);
  list_->setIndentation(16);
  list_->setFrameShape(QFrame::NoFrame);
  list_->setUniformRowHeights(true);
  list_->setObjectName("journal");
  list_->setTextElideMode(Qt::ElideRight);
  list_->setAccessibleName(tr("Journal"));
  column->addWidget(list_, 1);
  connect(narrow_, &QLineEdit::textChanged, this, &JournalView::narrow);
  connect(close, &QPushButton::clicked, this, &JournalView::closed);
  connect(list_, &QTreeWidget::itemActivated, this, &JournalView::openLog);
  connect(list_, &QTreeWidget::itemClicked, this, [this](QTreeWidgetItem* row, int at) {
    if (at == Log) openLog(row);
  });
}

void JournalView::showVisits(const std::vector<Visit>& visits, const QSet<QString>& open) {
  QSet<QString> unfolded;
  for (int i = 0; i < list_->topLevelItemCount(); ++i)
    if (list_->topLevelItem(i)->isExpanded()) unfolded << keyOf(list_->topLevelItem(i));
  const QString here = keyOf(list_->currentItem());
  list_->clear();
  QList<QTreeWidgetItem*> rows;
  for (const Visit& visit : visits) rows << rowOf(visit, open.contains(QString::fromStdString(visit.id)));
  list_->addTopLevelItems(rows);
  // Who it was is a question only where several work.
  list_->setColumnHidden(Who, std::all_of(visits.begin(), visits.end(), [&](const Visit& v) {
                           return v.who == visits.front().who || v.who.empty();
                         }));
  for (QTreeWidgetItem* row : rows) {
    for (int i = 0; i < row->childCount(); ++i)
      row->child(i)->setFirstColumnSpanned(row->child(i)->text(Log).isEmpty());
    row->setExpanded(unfolded.contains(keyOf(row)));
    if (!here.isEmpty() && keyOf(row) == here) list_->setCurrentItem(row);
  }
  narrow();
}

QTreeWidgetItem* JournalView::rowOf(const Visit& visit, bool isOpen) const {
  auto* row = new QTreeWidgetItem;
  row->setData(0, kKey,
               QString::fromStdString(visit.id.empty() ? visit.began + visit.machine + visit.how : visit.id));
  row->setText(When, shortTime(visit.began));
  row->setToolTip(When, QString::fromStdString(visit.began));
  setCell(row, Machine, QString::fromStdString(visit.machine));
  setCell(row, What, QString::fromStdString(visit.id.empty() ? visit.how : visit.way));
  setCell(row, Who, QString::fromStdString(visit.who));
  if (!visit.id.empty()) showEnd(row, visit, isOpen);
  if (!visit.logs.empty()) showLog(row, visit.logs.back());
  for (const JournalEntry& e : visit.within) {
    auto* line = new QTreeWidgetItem(row);
    setCell(line, When, shortTime(e.when) + "  " + QString::fromStdString(e.text));
    line->setForeground(When, e.told == Told::Trouble ? scheme().brick : scheme().quiet);
  }
  // The newest is in the visit's own row.
  for (std::size_t i = 0; i + 1 < visit.logs.size(); ++i) showLog(new QTreeWidgetItem(row), visit.logs[i]);
  return row;
}

void JournalView::showEnd(QTreeWidgetItem* row, const Visit& visit, bool isOpen) const {
  if (const auto took = visit.took()) row->setText(HowLong, QString::fromStdString(durationText(*took)));
  QString how = QString::fromStdString(visit.how);
  if (visit.ended.empty()) how = isOpen ? tr("open now") : tr("no end was written");
  if (const QString troubles = countedTroubles(visit); !troubles.isEmpty()) how += " · " + troubles;
  setCell(row, Ended, how);
  if (isOpen && visit.ended.empty()) row->setForeground(Ended, scheme().teal);
}

void JournalView::showLog(QTreeWidgetItem* row, const std::string& path) const {
  const QFileInfo file(QString::fromStdString(path));
  row->setText(Log, file.fileName());
  row->setToolTip(Log, file.isFile() ? file.filePath() : tr("%1 is no longer there").arg(file.filePath()));
  row->setForeground(Log, file.isFile() ? scheme().copper : scheme().quiet);
  if (!file.isFile()) return;
  row->setData(0, kLogFile, file.filePath());
  QFont underlined = font();
  underlined.setUnderline(true);
  row->setFont(Log, underlined);
}

void JournalView::openLog(QTreeWidgetItem* row) {
  const QString file = row->data(0, kLogFile).toString();
  if (!file.isEmpty() && QFileInfo(file).isFile()) emit logWanted(file);
}

void JournalView::narrow() {
  const QString word = narrow_->text().trimmed();
  int shown = 0;
  for (int i = 0; i < list_->topLevelItemCount(); ++i) {
    QTreeWidgetItem* row = list_->topLevelItem(i);
    const bool stays = word.isEmpty() || fits(row, word);
    row->setHidden(!stays);
    shown += stays ? 1 : 0;
  }
  list_->setVisible(shown > 0);
  empty_->setVisible(shown == 0);
  empty_->setText(list_->topLevelItemCount() == 0
                      ? tr("Nothing yet. What you open is listed here, one row a visit, newest first.")
                      : tr("Nothing here has “%1” in it.").arg(word));
}

}  // namespace kw::desktop

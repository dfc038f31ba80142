#include "desktop/journal_view.hpp"

#include <QDateTime>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QPushButton>

#include "desktop/plain_table.hpp"
#include "desktop/theme.hpp"

namespace kw::desktop {

namespace {

enum Column { kWhen, kMachine, kWhat };
constexpr int kLogFile = Qt::UserRole;  ///< of a row's last cell: the log's whole path

/// A log's entry says "log " and its path.
QString logOf(const JournalEntry& entry) {
  const QString text = QString::fromStdString(entry.text);
  return text.startsWith("log /") ? text.mid(4) : QString();
}

}  // namespace

JournalView::JournalView(QWidget* parent)
    : QWidget(parent), narrow_(new QLineEdit(this)), empty_(new QLabel(this)) {
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
  table_ = plainTable({tr("When"), tr("Machine"), tr("What")}, tr("Journal"), this);
  table_->setColumnWidth(kWhen, 180);
  table_->setColumnWidth(kMachine, 170);
  table_->setTextElideMode(Qt::ElideMiddle);
  column->addWidget(table_, 1);
  connect(narrow_, &QLineEdit::textChanged, this, &JournalView::narrow);
  connect(close, &QPushButton::clicked, this, &JournalView::closed);
  connect(table_, &QTableWidget::cellActivated, this, &JournalView::openLog);
  connect(table_, &QTableWidget::cellClicked, this, [this](int row, int at) {
    if (at == kWhat) openLog(row);
  });
}

void JournalView::showEntries(const std::vector<JournalEntry>& entries) {
  table_->setRowCount(static_cast<int>(entries.size()));
  for (int row = 0; row < static_cast<int>(entries.size()); ++row)
    showRow(row, entries[static_cast<std::size_t>(row)]);
  narrow();
}

void JournalView::showRow(int row, const JournalEntry& entry) {
  const QDateTime when = QDateTime::fromString(QString::fromStdString(entry.when), Qt::ISODate).toLocalTime();
  table_->setItem(row, kWhen, new QTableWidgetItem(when.toString("yyyy-MM-dd HH:mm:ss")));
  table_->setItem(row, kMachine, new QTableWidgetItem(QString::fromStdString(entry.machine)));
  auto* what = new QTableWidgetItem(QString::fromStdString(entry.text));
  if (const QString log = logOf(entry); !log.isEmpty()) {
    const QFileInfo file(log);
    what->setText(tr("log %1").arg(file.fileName()));
    what->setToolTip(file.isFile() ? log : tr("%1 is no longer there").arg(log));
    if (file.isFile()) {
      what->setData(kLogFile, log);
      QFont underlined = table_->font();
      underlined.setUnderline(true);
      what->setFont(underlined);
      what->setForeground(scheme().copper);
    } else {
      what->setForeground(scheme().quiet);
    }
  }
  table_->setItem(row, kWhat, what);
}

void JournalView::openLog(int row) {
  const QString file = table_->item(row, kWhat)->data(kLogFile).toString();
  if (!file.isEmpty() && QFileInfo(file).isFile()) emit logWanted(file);
}

void JournalView::narrow() {
  const QString word = narrow_->text().trimmed();
  int shown = 0;
  for (int row = 0; row < table_->rowCount(); ++row) {
    bool fits = word.isEmpty();
    for (int at = 0; at < table_->columnCount() && !fits; ++at)
      fits = table_->item(row, at)->text().contains(word, Qt::CaseInsensitive);
    table_->setRowHidden(row, !fits);
    shown += fits ? 1 : 0;
  }
  table_->setVisible(shown > 0);
  empty_->setVisible(shown == 0);
  empty_->setText(table_->rowCount() == 0
                      ? tr("Nothing yet. What you open and change is listed here, newest first.")
                      : tr("Nothing here has “%1” in it.").arg(word));
}

}  // namespace kw::desktop

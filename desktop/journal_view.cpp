#include "desktop/journal_view.hpp"

#include <QDateTime>
#include <QFileInfo>
#include <QHeaderView>
#include <QLocale>

namespace kw::desktop {

JournalView::JournalView(QWidget* parent) : QTableWidget(0, 3, parent) {
  setHorizontalHeaderLabels({tr("When"), tr("Machine"), tr("What")});
  horizontalHeader()->setStretchLastSection(true);
  verticalHeader()->hide();
  setEditTriggers(QAbstractItemView::NoEditTriggers);
  setSelectionBehavior(QAbstractItemView::SelectRows);
  setShowGrid(false);
  setFrameShape(QFrame::NoFrame);
  setColumnWidth(0, 170);
  setColumnWidth(1, 180);
  connect(this, &QTableWidget::cellActivated, this, [this](int at, int) {
    const QString what = item(at, 2)->text();
    if (const QString file = what.section("log ", 1); what.startsWith("log ") && QFileInfo(file).isFile())
      emit logWanted(file);
  });
}

void JournalView::showEntries(const std::vector<JournalEntry>& entries) {
  setRowCount(static_cast<int>(entries.size()));
  int row = 0;
  for (const JournalEntry& e : entries) {
    const QDateTime when = QDateTime::fromString(QString::fromStdString(e.when), Qt::ISODate).toLocalTime();
    setItem(row, 0, new QTableWidgetItem(QLocale().toString(when, QLocale::ShortFormat)));
    setItem(row, 1, new QTableWidgetItem(QString::fromStdString(e.machine)));
    setItem(row++, 2, new QTableWidgetItem(QString::fromStdString(e.text)));
  }
}

}  // namespace kw::desktop

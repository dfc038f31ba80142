// The tables of the window's pages: rows to read and choose, nothing to edit.
#pragma once
#include <QHeaderView>
#include <QTableWidget>

namespace kw::desktop {

inline QTableWidget* plainTable(const QStringList& columns, const QString& name, QWidget* parent) {
  auto* table = new QTableWidget(0, static_cast<int>(columns.size()), parent);
  table->setHorizontalHeaderLabels(columns);
  table->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  table->horizontalHeader()->setHighlightSections(false);
  table->horizontalHeader()->setStretchLastSection(true);
  table->verticalHeader()->hide();
  table->setEditTriggers(QAbstractItemView::NoEditTriggers);
  table->setSelectionBehavior(QAbstractItemView::SelectRows);
  table->setShowGrid(false);
  table->setFrameShape(QFrame::NoFrame);
  table->setAccessibleName(name);
  return table;
}

}  // namespace kw::desktop

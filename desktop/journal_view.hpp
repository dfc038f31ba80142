// The journal: what was opened and done, newest first; the logs of it can be opened.
#pragma once
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

#include "record/store.hpp"

namespace kw::desktop {

class JournalView : public QWidget {
  Q_OBJECT
 public:
  explicit JournalView(QWidget* parent);
  /// Newest first. What it is narrowed to stays.
  void showEntries(const std::vector<JournalEntry>& entries);
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  /// A row about a log was activated, and the file is there.
  void logWanted(const QString& file);
  void closed();

 private:
  void showRow(int row, const JournalEntry& entry);
  void openLog(int row);
  void narrow();

  QLineEdit* narrow_;
  QTableWidget* table_;
  QLabel* empty_;
};

}  // namespace kw::desktop

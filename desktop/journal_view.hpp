// The journal: what was opened and done, newest first.
#pragma once
#include <QTableWidget>

#include "record/store.hpp"

namespace kw::desktop {

class JournalView : public QTableWidget {
  Q_OBJECT
 public:
  explicit JournalView(QWidget* parent);
  void showEntries(const std::vector<JournalEntry>& entries);

 signals:
  /// A row that says where a log is was activated, and the file is there.
  void logWanted(const QString& file);
};

}  // namespace kw::desktop

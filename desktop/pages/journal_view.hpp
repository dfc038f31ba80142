// The journal: one row a visit, newest first, with what happened in it folded under it; its logs can be
// opened.
#pragma once
#include <QLabel>
#include <QLineEdit>
#include <QSet>
#include <QTreeWidget>

#include "record/visits.hpp"

namespace kw::desktop {

class JournalView : public QWidget {
  Q_OBJECT
 public:
  enum Column { When, Machine, What, Who, HowLong, Ended, Log };

  explicit JournalView(QWidget* parent);
  /// Newest first; `open`: the visits that this window has open. What it is narrowed to, what is unfolded and
  /// where one stands stay.
  void showVisits(const std::vector<Visit>& visits, const QSet<QString>& open);
  [[nodiscard]] QTreeWidget* list() const { return list_; }

 signals:
  /// A row with a log was activated, and the file is there.
  void logWanted(const QString& file);
  void closed();

 private:
  QTreeWidgetItem* rowOf(const Visit& visit, bool isOpen) const;
  void showEnd(QTreeWidgetItem* row, const Visit& visit, bool isOpen) const;
  void showLog(QTreeWidgetItem* row, const std::string& path) const;
  void openLog(QTreeWidgetItem* row);
  void narrow();

  QLineEdit* narrow_;
  QTreeWidget* list_;
  QLabel* empty_;
};

}  // namespace kw::desktop

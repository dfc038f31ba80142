// Who changed what and when, of one machine or of all records; each change can be put back.
#pragma once
#include <QWidget>

#include "desktop/model/records.hpp"

class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class HistoryView : public QWidget {
  Q_OBJECT
 public:
  HistoryView(Records& records, QWidget* parent);
  /// 0: of everything.
  void showFor(Id machine);
  [[nodiscard]] QTableWidget* table() const { return changes_; }
  [[nodiscard]] QTableWidget* details() const { return details_; }
  void restoreChosen();

 signals:
  void said(const QString& sentence);
  void closed();

 private:
  void refresh();
  void narrow();
  void showDetails();

  Records& records_;
  Id machine_ = 0;
  std::vector<Change> list_;
  QLabel *heading_, *empty_;
  QLineEdit* narrow_;
  QPushButton* restore_;
  QTableWidget *changes_, *details_;
};

}  // namespace kw::desktop

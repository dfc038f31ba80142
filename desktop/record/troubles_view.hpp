// What is wrong in the records, as far as it can be seen without the network.
#pragma once
#include <QWidget>

#include "desktop/model/records.hpp"
#include "record/checks.hpp"

class QLabel;
class QTableWidget;

namespace kw::desktop {

class TroublesView : public QWidget {
  Q_OBJECT
 public:
  TroublesView(Records& records, QWidget* parent);
  void refresh();
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  void sheetWanted(kw::Id machine);
  void closed();

 private:
  Records& records_;
  std::vector<RecordCheck> list_;
  QLabel* empty_;
  QTableWidget* table_;
};

}  // namespace kw::desktop

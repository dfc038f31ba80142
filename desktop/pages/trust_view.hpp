// What was trusted for good: certificates and SSH keys, to look at and to take back.
#pragma once
#include <QWidget>

#include "record/store.hpp"

class QLabel;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class TrustView : public QWidget {
  Q_OBJECT
 public:
  explicit TrustView(Store& store, QWidget* parent = nullptr);
  void refresh();
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  void said(const QString& sentence);
  void closed();

 private:
  void forgetChosen();
  void putBack();
  Store& store_;
  QTableWidget* table_;
  QLabel* empty_;
  QPushButton *forget_, *back_;
  std::vector<Pin> forgotten_;  ///< by the last click, to be put back
};

}  // namespace kw::desktop

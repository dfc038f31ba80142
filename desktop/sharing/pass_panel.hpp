// Passes of a gateway: the form that makes one, its link, the list, ended from here.
#pragma once
#include <QWidget>
#include <nlohmann/json.hpp>

#include "record/model.hpp"

class QCheckBox;
class QComboBox;
class QDoubleSpinBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QSpinBox;
class QTableWidget;

namespace kw::desktop {

class PassPanel : public QWidget {
  Q_OBJECT
 public:
  explicit PassPanel(QWidget* parent);
  /// As the gateway tells of them; ways in that may be opened are offered in the form.
  void showWays(const nlohmann::json& machines);
  void showPasses(const nlohmann::json& passes);
  /// Shown this once, and put on the clipboard.
  void showLink(const QString& link);
  /// The form begins with this way in.
  void wants(Id endpoint);
  void focusForm();
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  /// What is to be asked of the gateway.
  void asks(const nlohmann::json& message);

 private:
  void make();
  void endChosen();
  QComboBox* way_;
  QDoubleSpinBox* hours_;
  QSpinBox* uses_;
  QLineEdit *note_, *link_;
  QCheckBox* look_;
  QLabel* none_;
  QTableWidget* table_;
  QPushButton* end_;
  Id wanted_ = 0;
};

}  // namespace kw::desktop

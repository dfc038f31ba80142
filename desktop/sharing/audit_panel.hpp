// What happened at a gateway, newest first, narrowed as one types; whether its chain is whole.
#pragma once
#include <QTimer>
#include <QWidget>
#include <nlohmann/json.hpp>

class QLabel;
class QLineEdit;
class QTableWidget;

namespace kw::desktop {

class AuditPanel : public QWidget {
  Q_OBJECT
 public:
  explicit AuditPanel(QWidget* parent);
  /// {"entries": [{"when", "who", "from", "what", "machine", …}], "all", "wrongAt"}; the last two only where
  /// the chain was gone through.
  void show(const nlohmann::json& audit);
  [[nodiscard]] QString narrow() const;
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  /// The entries with narrow() are wanted.
  void wanted();

 private:
  void showChain(const nlohmann::json& audit, int shownCount);
  void fill(const nlohmann::json& entries, int shownCount);
  QLineEdit* narrow_;
  QLabel *chain_, *none_;
  QTableWidget* table_;
  QTimer typed_;
};

}  // namespace kw::desktop

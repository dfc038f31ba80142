// Hosts of an SSH client configuration, to look at and to make into machines.
#pragma once
#include <QWidget>

#include "desktop/model/records.hpp"
#include "route/ssh_import.hpp"

class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class ImportView : public QWidget {
  Q_OBJECT
 public:
  explicit ImportView(Records& records, QWidget* parent = nullptr);
  /// Reads the file that the field names.
  void look();
  void setFile(const QString& file);
  [[nodiscard]] QTableWidget* table() const { return table_; }
  /// Makes the ticked hosts into machines, in one step that can be undone.
  void importTicked();

 signals:
  void said(const QString& sentence);
  void closed();

 private:
  void refreshButton();
  [[nodiscard]] std::vector<SshImport> ticked() const;
  Records& records_;
  std::vector<SshImport> found_;
  QLineEdit* file_;
  QComboBox* group_;
  QTableWidget* table_;
  QLabel* hint_;
  QPushButton* import_;
};

}  // namespace kw::desktop

// Machines out of files: a preview with a choice for each row that clashes, then one undo.
#pragma once
#include <QWidget>

#include "desktop/model/records.hpp"
#include "exchange/table.hpp"

class QComboBox;
class QLabel;
class QLineEdit;
class QPushButton;
class QTableWidget;

namespace kw::desktop {

class ExchangeView : public QWidget {
  Q_OBJECT
 public:
  explicit ExchangeView(Records& records, QWidget* parent = nullptr);
  /// Reads them and shows what would be done.
  void show(const QStringList& files);
  /// Cells copied out of a spreadsheet.
  void showCells(const QString& text);
  [[nodiscard]] QTableWidget* table() const { return table_; }

 signals:
  void closed();
  void said(const QString& sentence);

 private:
  void chooseFiles();
  void readAll();
  void showColumns();
  void columnChosen(const std::string& field, int column);
  void showPlan();
  void refreshButton();
  void import();

  Records& records_;
  QTableWidget* table_;
  QLabel* hint_;
  QPushButton* import_;
  QLineEdit* group_;
  QLineEdit* passphrase_;
  QWidget* columns_;   ///< which column of a table is what
  QStringList files_;  ///< what is shown; empty: pasted cells
  QString cells_;
  std::optional<exchange::Table> cellsTable_;  ///< when one table is shown
  exchange::TableColumns meant_;
  exchange::Read read_;
  std::vector<exchange::Planned> plan_;
};

/// What the file dialogs offer: "*.rdp *.csv …".
QString exchangePatterns();

}  // namespace kw::desktop

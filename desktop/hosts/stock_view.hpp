// The page "Stock": all machines of all hosts, live; adopt, mend what differs, switch, set up consoles.
#pragma once
#include <QTableView>
#include <QWidget>
#include <set>

#include "desktop/hosts/stock_model.hpp"
#include "desktop/model/desk.hpp"

class QButtonGroup;
class QFrame;
class QLabel;
class QLineEdit;
class QMenu;
class QPushButton;
class QVBoxLayout;

namespace kw::desktop {

class StockView : public QWidget {
  Q_OBJECT
 public:
  explicit StockView(Desk& desk, QWidget* parent = nullptr);
  [[nodiscard]] QTableView* table() const { return table_; }
  [[nodiscard]] StockModel& model() { return model_; }
  void choose(const std::string& id);
  /// Made by "Add a host…" and "Adopt…"; each shows what will be done before it is done.
  void showAddHost();
  void showAdopt();

 signals:
  void closed();
  void said(const QString& sentence);
  void openWanted(Id endpoint);
  void startWanted(Id machine);
  void sheetWanted(Id machine);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void refresh();
  void refreshChips();
  void showDetails();
  [[nodiscard]] std::string keyOf(const StockLine* line) const;
  void addHost();
  void adoptChosen();
  void cure(const StockLine& line);
  void mendDrift(Id record, const std::string& idThere, const host::Drift& drift);
  [[nodiscard]] std::vector<const StockLine*> toAdopt() const;
  [[nodiscard]] const StockLine* chosenLine() const;
  void copyRows();
  void exportCsv();
  void fillPowerMenu(QMenu* menu, const StockLine& line);
  void fillConsoleMenu(QMenu* menu, const StockLine& line);
  [[nodiscard]] host::ConsoleChange changeOf(const StockLine& line) const;
  void askPassword(const StockLine& line);
  void askPort(const StockLine& line);
  void askListen(const StockLine& line);
  void askSerial(const StockLine& line);
  /// Port or address of a console, whenever it counts on this host.
  void place(const StockLine& line, const host::ConsoleChange& change, const QString& becomes);
  /// Asks when the machine shall be stopped and started for it.
  void changeForNextStart(const StockLine& line, const host::ConsoleChange& change, const QString& becomes);
  void addFact(const QString& name, const QString& value);
  QFrame* newForm(const QString& heading);
  /// The form's last row; gives the button that does it.
  QPushButton* endForm(QVBoxLayout* column, const QString& leaveWords, const QString& goWords);

  Desk& desk_;
  StockModel model_;
  QTableView* table_;
  QLineEdit* narrow_;
  QLabel *summary_, *empty_;
  QPushButton* adopt_;
  QButtonGroup* chips_;
  QVBoxLayout* middle_;
  QFrame* form_ = nullptr;
  QWidget* details_ = nullptr;
  QWidget* detailsHome_;
  std::string chosenId_;
  std::set<std::string> chosenIds_;  ///< while the rows are made anew
  std::string shownKey_;             ///< of what the details show
};

}  // namespace kw::desktop

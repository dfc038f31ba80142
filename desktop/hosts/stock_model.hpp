// The stock of all hosts as rows: a line for each host, its machines below it; narrowed and sorted.
#pragma once
#include <QAbstractTableModel>
#include <vector>

#include "desktop/hosts/hosts.hpp"
#include "desktop/look/glyphs.hpp"

namespace kw::desktop {

/// What only some of the machines are shown for.
enum class StockFilter { All, Running, NotInRoster, Differ };

struct StockLine {
  Id host = 0;
  bool isHost = false;
  host::StockRow row;    ///< of machines
  std::string haystack;  ///< lower case: name, ID, addresses, consoles, record
};

class StockModel : public QAbstractTableModel {
  Q_OBJECT
 public:
  enum Column { kMachine, kState, kConsole, kAddress, kId, kRecord, kColumns };
  enum Role {
    kSecondLine = Qt::UserRole,  ///< below the text, quiet
    kGlyph,                      ///< State as int; -1: none
    kTone,                       ///< 0 text, 1 quiet, 2 amber, 3 brick
    kCure,                       ///< something to click in the record's column
  };
  explicit StockModel(QObject* parent = nullptr) : QAbstractTableModel(parent) {}

  void setStock(const std::map<Id, Hosts::Watched>& hosts, const Snapshot& records);
  void setNarrow(const QString& text);
  void setFilter(StockFilter filter);
  void sort(int column, Qt::SortOrder order) override;
  [[nodiscard]] int count(StockFilter filter) const;
  [[nodiscard]] int hostCount() const { return static_cast<int>(hosts_.size()); }
  [[nodiscard]] const StockLine* line(int row) const;
  [[nodiscard]] int rowOf(const std::string& id) const;

  [[nodiscard]] int rowCount(const QModelIndex& parent = {}) const override;
  [[nodiscard]] int columnCount(const QModelIndex& parent = {}) const override;
  [[nodiscard]] QVariant data(const QModelIndex& index, int role) const override;
  [[nodiscard]] QVariant headerData(int section, Qt::Orientation orientation, int role) const override;

 private:
  struct HostLine {
    Id id = 0;
    QString name, words;
    State state = State::NeverReached;
  };
  [[nodiscard]] QVariant hostData(const HostLine& host, int column, int role) const;
  [[nodiscard]] QVariant machineData(const StockLine& line, int column, int role) const;
  void arrange();

  std::vector<HostLine> hosts_;
  std::vector<StockLine> lines_;  ///< machines, by host and name
  std::vector<int> shown_;        ///< indexes into lines_; -1 - i: host i
  std::map<Id, QString> recordNames_;
  std::string narrow_;
  StockFilter filter_ = StockFilter::All;
  int sortColumn_ = kMachine;
  Qt::SortOrder sortOrder_ = Qt::AscendingOrder;
};

/// "vnc 5907"
QString consoleWords(const host::ConsoleFacts& console);
State stateOf(const host::StockRow& row);
QString stateWords(const host::StockRow& row);
/// "6 d", "41 min"; empty when unknown.
QString sinceWords(const std::string& since);

}  // namespace kw::desktop

// Records and stock side by side: which machine of a host is which record, what differs, and records made of
// machines that are in nobody's roster.
#pragma once
#include <optional>

#include "host/stock.hpp"
#include "record/store.hpp"

namespace kw::host {

/// Where a host's consoles are from this desk.
struct HostPlace {
  std::string name;       ///< HostRecord::name
  std::string reachedAt;  ///< empty: this desk, or as the console says
};

/// A way in that a host offers.
struct OfferedWay {
  std::string label;    ///< "screen", "line"
  std::string address;  ///< a URI
  std::string via;      ///< a jump without which it cannot be reached; usually empty
};
/// What can be opened now; consoles without a port yet are left out.
std::vector<OfferedWay> offeredWays(const StockMachine& machine, const HostPlace& place);

enum class DriftKind { Port, Renamed, Gone, NoSuchWay, NewWay, Twice, NoId };
struct Drift {
  DriftKind kind;
  std::string sentence;  ///< "its port is 5931 there, 5917 here"
  std::string cure;      ///< "take 5931"; empty: nothing by itself
  Id wayIn = 0;          ///< the one to change, for Port
  OfferedWay way;        ///< for Port and NewWay
  std::string name;      ///< for Renamed
};

struct StockRow {
  StockMachine machine;  ///< of a record that is gone there: name and ID only
  Id record = 0;         ///< 0: in nobody's roster
  bool gone = false;     ///< only in the roster
  std::vector<Drift> drift;
};
/// A host's machines by name, then the records that it no longer has.
std::vector<StockRow> stockRows(const Snapshot& records, const HostPlace& place, const Stock& stock);

/// The stock's machine of a record; nothing when it has no ID, or its host has no such machine.
std::string idOnHost(const Snapshot& records, Id machine);

/// Records for the machines, in `folder`; `records` is what the writer began from. Names that are taken get a
/// number. Returns the new machines.
std::vector<Id> adopt(StoreWriter& writer, const Snapshot& records, const HostPlace& place, Id folder,
                      const std::vector<StockMachine>& machines);
/// Writes what the cure says. `record` is the row's.
void cureDrift(StoreWriter& writer, const Snapshot& records, Id record, const std::string& idThere,
               const Drift& drift);

}  // namespace kw::host

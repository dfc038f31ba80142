// The tables of records as both stores have them: columns, rows as JSON (for undo, history and copies), and
// rows put into a snapshot.
#pragma once
#include <nlohmann/json.hpp>
#include <span>
#include <string>
#include <vector>

#include "base/iso_time.hpp"
#include "record/history.hpp"
#include "record/model.hpp"

namespace kw {

using Json = nlohmann::json;

struct RowColumn {
  const char* name;
  bool number;  ///< else text
};
/// Besides these every table has `id` and `version`.
struct RowTable {
  const char* name;
  std::vector<RowColumn> columns;
};

/// In the order in which they are filled.
std::span<const RowTable> recordTables();
const RowTable& recordTable(const std::string& name);

Json rowOf(const Folder& f);
Json rowOf(const Machine& m);
Json rowOf(const Endpoint& e);
Json rowOf(const HostRecord& h);
Json rowOf(const Credential& c);
Json settingRow(Owner owner, const std::string& key, const std::string& value);

/// Puts a row (with id and version) into the snapshot, or takes it out when `row` is null; not for settings,
/// which are loaded by owner. Snapshot::index() is due afterwards.
void takeRow(Snapshot& into, const std::string& table, Id id, const Json& row);

/// Of a row with id and version.
Credential credentialOf(const Json& row);

/// A row that a commit wrote or removed. For settings: any of this owner's.
struct TouchedRow {
  std::string table;
  Id row = 0;    ///< settings: the owner's
  int kind = 0;  ///< settings: the owner's kind; else 0
  auto operator<=>(const TouchedRow&) const = default;
};

/// What a commit changed, for people, from its images (row_writer.hpp).
std::vector<FieldChange> fieldChangesOf(const Json& images);
/// Whether any of it was about one of these: itself, its settings, a machine's ways in. No owners: always.
bool concerns(const Json& images, const std::vector<Owner>& about);

enum class Told;
/// A number of a journal's line; one that a newer version wrote is a note.
Told toldOf(int number);

/// The name of whoever runs this program here, for who changed what.
std::string personHere();

}  // namespace kw

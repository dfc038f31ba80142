#include "record/history.hpp"

#include "record/rows.hpp"
#include "record/setting.hpp"

namespace kw {

namespace {

std::string shown(const Json& row, const char* column) {
  if (row.is_null() || !row.contains(column)) return {};
  const Json& value = row.at(column);
  return value.is_string() ? value.get<std::string>() : value.dump();
}

/// What a row is called: "mist-bench", "way in screen".
std::string nameOfRow(const std::string& table, const Json& row) {
  if (table == "endpoint") return "way in " + shown(row, "label");
  return shown(row, "name");
}

void addSetting(std::vector<FieldChange>& out, const Json& old, const Json& now) {
  const Json& any = now.is_null() ? old : now;
  const std::string key = shown(any, "key");
  const Setting* declared = findSetting(key);
  const auto value = [&](const Json& row) {
    if (row.is_null()) return std::string();
    return declared == nullptr ? shown(row, "value") : labelOf(*declared, shown(row, "value"));
  };
  out.push_back({declared == nullptr ? key : declared->label, value(old), value(now)});
}

/// Columns that say something to people; the others are numbers of rows.
bool isForPeople(const RowColumn& c) { return !c.number; }

}  // namespace

std::vector<FieldChange> fieldChangesOf(const Json& images) {
  std::vector<FieldChange> out;
  for (const Json& image : images) {
    const std::string table = image.at("table");
    const Json old = image.at("old"), now = image.contains("new") ? image.at("new") : Json(nullptr);
    const bool removed = image.at("version") == 0;
    if (table == "setting") {
      addSetting(out, old, now);
      continue;
    }
    const std::string name = nameOfRow(table, now.is_null() ? old : now);
    if (old.is_null() || removed) {
      out.push_back({name, removed ? "there" : "", removed ? "" : "there"});
      continue;
    }
    if (now.is_null()) continue;  // an old row of history, without what it became
    for (const RowColumn& c : recordTable(table).columns)
      if (isForPeople(c) && shown(old, c.name) != shown(now, c.name))
        out.push_back({name + " · " + c.name, shown(old, c.name), shown(now, c.name)});
    for (const char* moved : {"folder", "parent"})
      if (old.contains(moved) && now.contains(moved) && old[moved] != now[moved])
        out.push_back({name + " · group", "another", "moved"});
  }
  return out;
}

std::vector<Owner> ownersWithin(const Snapshot& records, Owner owner) {
  std::vector<Owner> out{owner};
  if (owner.kind == OwnerKind::Machine)
    for (const Endpoint* e : records.endpointsOf(owner.id)) out.push_back({OwnerKind::WayIn, e->id});
  return out;
}

bool concerns(const Json& images, const std::vector<Owner>& about) {
  static const char* const kTables[] = {"", "folder", "machine", "endpoint", "host", "credential"};
  const auto is = [](const Json& row, const char* column, Id id) {
    return row.contains(column) && row.at(column) == id;
  };
  const auto rowSays = [&](const std::string& table, const Json& row, Owner owner) {
    if (row.is_null()) return false;
    if (owner.kind == OwnerKind::Machine && table == "endpoint") return is(row, "machine", owner.id);
    return table == "setting" && is(row, "owner", owner.id) &&
           is(row, "owner_kind", static_cast<int>(owner.kind));
  };
  if (about.empty()) return true;
  for (const Json& image : images)
    for (const Owner owner : about) {
      const std::string table = image.at("table");
      if (table == kTables[static_cast<int>(owner.kind)] && image.at("id") == owner.id) return true;
      if (rowSays(table, image.at("old"), owner)) return true;
      if (image.contains("new") && rowSays(table, image.at("new"), owner)) return true;
    }
  return false;
}

}  // namespace kw

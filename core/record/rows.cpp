#include "record/rows.hpp"

#include <pwd.h>
#include <unistd.h>

#include <stdexcept>
#include "record/store.hpp"

namespace kw {

std::span<const RowTable> recordTables() {
  static const std::vector<RowTable> tables{
      {"folder", {{"parent", true}, {"name", false}, {"host", false}, {"notes", false}}},
      {"machine", {{"folder", true}, {"name", false}, {"host", false}, {"tags", false}, {"notes", false}}},
      {"endpoint", {{"machine", true}, {"label", false}, {"address", false}, {"position", true}}},
      {"host", {{"folder", true}, {"name", false}, {"address", false}, {"notes", false}}},
      {"credential",
       {{"name", false}, {"user", false}, {"domain", false}, {"notes", false}, {"expires", false}}},
      {"setting", {{"owner_kind", true}, {"owner", true}, {"key", false}, {"value", false}}},
  };
  return tables;
}

const RowTable& recordTable(const std::string& name) {
  for (const RowTable& t : recordTables())
    if (name == t.name) return t;
  throw std::logic_error("no such table of records: " + name);
}

Json rowOf(const Folder& f) {
  return {{"parent", f.parent}, {"name", f.name}, {"host", f.host}, {"notes", f.notes}};
}
Json rowOf(const Machine& m) {
  return {{"folder", m.folder}, {"name", m.name}, {"host", m.host}, {"tags", m.tags}, {"notes", m.notes}};
}
Json rowOf(const Endpoint& e) {
  return {{"machine", e.machine}, {"label", e.label}, {"address", e.address}, {"position", e.position}};
}
Json rowOf(const HostRecord& h) {
  return {{"folder", h.folder}, {"name", h.name}, {"address", h.address}, {"notes", h.notes}};
}
Json rowOf(const Credential& c) {
  return {
      {"name", c.name}, {"user", c.user}, {"domain", c.domain}, {"notes", c.notes}, {"expires", c.expires}};
}
Json settingRow(Owner owner, const std::string& key, const std::string& value) {
  return {{"owner_kind", static_cast<int>(owner.kind)}, {"owner", owner.id}, {"key", key}, {"value", value}};
}

namespace {

template <typename Map, typename Row>
void place(Map& map, Id id, const Json& row, Row made) {
  if (row.is_null())
    map.erase(id);
  else
    map.insert_or_assign(id, std::move(made));
}

std::string text(const Json& row, const char* name) {
  return row.is_null() ? "" : row.at(name).get<std::string>();
}
std::int64_t number(const Json& row, const char* name) {
  return row.is_null() ? 0 : row.at(name).get<std::int64_t>();
}

}  // namespace

void takeRow(Snapshot& s, const std::string& table, Id id, const Json& r) {
  const std::int64_t version = number(r, "version");
  if (table == "folder")
    place(s.folders, id, r,
          Folder{id, number(r, "parent"), text(r, "name"), text(r, "host"), text(r, "notes"), version});
  else if (table == "machine")
    place(s.machines, id, r,
          Machine{id, number(r, "folder"), text(r, "name"), text(r, "host"), text(r, "tags"),
                  text(r, "notes"), version});
  else if (table == "endpoint")
    place(s.endpoints, id, r,
          Endpoint{id, number(r, "machine"), text(r, "label"), text(r, "address"),
                   static_cast<int>(number(r, "position")), version});
  else if (table == "host")
    place(
        s.hosts, id, r,
        HostRecord{id, number(r, "folder"), text(r, "name"), text(r, "address"), text(r, "notes"), version});
  else if (table == "credential")
    place(s.credentials, id, r, r.is_null() ? Credential{} : credentialOf(r));
}

Credential credentialOf(const Json& r) {
  return {number(r, "id"),  text(r, "name"),    text(r, "user"),     text(r, "domain"),
          text(r, "notes"), text(r, "expires"), number(r, "version")};
}

Told toldOf(int number) {
  return number >= 0 && number <= static_cast<int>(Told::Ended) ? static_cast<Told>(number) : Told::Note;
}

std::string personHere() {
  passwd entry{};
  passwd* found = nullptr;
  char space[4096];
  if (getpwuid_r(getuid(), &entry, space, sizeof space, &found) == 0 && found != nullptr)
    return found->pw_name;
  return std::to_string(getuid());
}

}  // namespace kw

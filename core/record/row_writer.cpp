#include "record/row_writer.hpp"

#include "record/setting.hpp"

namespace kw {

namespace {

void needName(const std::string& name, const char* what) {
  if (name.empty()) throw Error(ErrorKind::Local, std::string(what) + " needs a name");
}

std::int64_t versionOf(const Json& row) { return row.is_null() ? 0 : row.at("version").get<std::int64_t>(); }

/// Whom rows of a table stand for; nothing for settings.
std::optional<OwnerKind> ownerKindOf(const std::string& table) {
  static const std::map<std::string, OwnerKind> kinds{{"folder", OwnerKind::Folder},
                                                      {"machine", OwnerKind::Machine},
                                                      {"endpoint", OwnerKind::WayIn},
                                                      {"host", OwnerKind::Host},
                                                      {"credential", OwnerKind::Credential}};
  const auto found = kinds.find(table);
  return found == kinds.end() ? std::nullopt : std::optional(found->second);
}

}  // namespace

void RowWriter::put(Folder& f) { write("folder", f.name, f.id, f.version, rowOf(f)); }
void RowWriter::put(Machine& m) {
  needName(m.name, "a machine");
  write("machine", m.name, m.id, m.version, rowOf(m));
}
void RowWriter::put(Endpoint& e) { write("endpoint", e.address, e.id, e.version, rowOf(e)); }
void RowWriter::put(HostRecord& h) {
  needName(h.name, "a host");
  write("host", h.name, h.id, h.version, rowOf(h));
}

void RowWriter::put(Credential& c) {
  needName(c.name, "a credential");
  for (const Id other : idsWhere("credential", {{"name", c.name}}))
    if (other != c.id) throw Error(ErrorKind::Local, "another credential has this name", c.name);
  const Json old = c.id != 0 ? row("credential", c.id) : Json(nullptr);
  write("credential", c.name, c.id, c.version, rowOf(c));
  if (old.is_null() || old["name"] == c.name) return;
  // Whoever takes it by name follows.
  for (const Id user : idsWhere(
           "setting",
           {{"key", "signin.from"}, {"value", std::string(kNamedSignIn) + old["name"].get<std::string>()}})) {
    Json setting = row("setting", user);
    std::int64_t version = versionOf(setting);
    Id id = user;
    setting["value"] = std::string(kNamedSignIn) + c.name;
    write("setting", "signin.from", id, version, setting);
  }
}

void RowWriter::removeFolder(Id id) {
  for (const Id child : idsWhere("folder", {{"parent", id}})) removeFolder(child);
  for (const Id machine : idsWhere("machine", {{"folder", id}})) removeMachine(machine);
  removeOwned({OwnerKind::Folder, id});
  removeRow("folder", id);
}
void RowWriter::removeMachine(Id id) {
  for (const Id endpoint : idsWhere("endpoint", {{"machine", id}})) removeEndpoint(endpoint);
  removeOwned({OwnerKind::Machine, id});
  removeRow("machine", id);
}
void RowWriter::removeEndpoint(Id id) {
  removeOwned({OwnerKind::WayIn, id});
  removeRow("endpoint", id);
}
void RowWriter::removeHost(Id id) {
  removeOwned({OwnerKind::Host, id});
  removeRow("host", id);
}
void RowWriter::removeCredential(Id id) {
  removeOwned({OwnerKind::Credential, id});
  removeRow("credential", id);
}

void RowWriter::set(Owner owner, const std::string& key, const std::optional<std::string>& value) {
  if (value) refuseBadSetting(key, *value);
  const bool isFirst = made_.contains(owner) && setOfMade_.emplace(owner, key).second;
  const auto found =
      isFirst ? std::vector<Id>()
              : idsWhere("setting",
                         {{"owner_kind", static_cast<int>(owner.kind)}, {"owner", owner.id}, {"key", key}});
  Id id = found.empty() ? 0 : found.front();
  if (!value) {
    if (id != 0) removeRow("setting", id);
    return;
  }
  std::int64_t version = id == 0 ? 0 : versionOf(row("setting", id));
  write("setting", key, id, version, settingRow(owner, key, *value));
}

void RowWriter::takeBack(const Json& images) {
  for (auto at = images.rbegin(); at != images.rend(); ++at) {
    const std::string table = (*at)["table"];
    const Id id = (*at)["id"];
    const Json& old = (*at)["old"];
    const Json current = row(table, id);
    if (versionOf(current) != (*at)["version"].get<std::int64_t>())
      throw StaleError("this was changed again in the meantime; undoing it would lose that change");
    touch(table, id, old.is_null() ? current : old);
    if (old.is_null())
      drop(table, id);
    else if (current.is_null())
      insert(table, id, versionOf(old), old);
    else
      update(table, id, versionOf(old), old);
  }
}

void RowWriter::putBack(const Json& images) {
  for (auto at = images.rbegin(); at != images.rend(); ++at) {
    const std::string table = (*at)["table"];
    const Id id = (*at)["id"];
    const Json& old = (*at)["old"];
    const Json current = row(table, id);
    if (old.is_null()) {
      removeRow(table, id);
      continue;
    }
    if (current.is_null())
      insert(table, id, version_, old);
    else
      update(table, id, version_, old);
    note(table, id, current, old, version_);
  }
  for (const Json& image : images)
    if (const Json now = row(image["table"], image["id"]); !now.is_null()) refuseOrphan(image["table"], now);
}

/// What is put back must have what it belongs to.
void RowWriter::refuseOrphan(const std::string& table, const Json& now) {
  const auto there = [&](const char* parent, const char* column) {
    const Id id = now.at(column);
    return id == 0 || !row(parent, id).is_null();
  };
  static const char* const kOwners[] = {"", "folder", "machine", "endpoint", "host", "credential"};
  bool fine = true;
  if (table == "endpoint") fine = there("machine", "machine");
  if (table == "machine") fine = there("folder", "folder");
  if (table == "folder") fine = there("folder", "parent");
  if (table == "setting") fine = there(kOwners[now.at("owner_kind").get<int>()], "owner");
  if (!fine)
    throw Error(ErrorKind::Local, "this belongs to something that was removed later")
        .withCure("Restore that first: it stands in the history, too.");
}

void RowWriter::fill(const Snapshot& s, const std::string& where) {
  for (const RowTable& table : recordTables())
    if (!idsWhere(table.name, Json::object()).empty())
      throw Error(ErrorKind::Local, "there are records already; only an empty store is copied into", where);
  for (const auto& [id, f] : s.folders) insert("folder", id, version_, rowOf(f));
  for (const auto& [id, m] : s.machines) insert("machine", id, version_, rowOf(m));
  for (const auto& [id, e] : s.endpoints) insert("endpoint", id, version_, rowOf(e));
  for (const auto& [id, h] : s.hosts) insert("host", id, version_, rowOf(h));
  for (const auto& [id, c] : s.credentials) insert("credential", id, version_, rowOf(c));
  for (const auto& [owner, values] : s.settings)
    for (const auto& [key, value] : values) insert("setting", 0, version_, settingRow(owner, key, value));
}

void RowWriter::write(const std::string& table, const std::string& name, Id& id, std::int64_t& version,
                      const Json& now) {
  const Json old = id != 0 ? row(table, id) : Json(nullptr);
  if (id != 0 && old.is_null())
    throw StaleError("\"" + name + "\" was removed by somebody else in the meantime");
  if (versionOf(old) != version && !old.is_null()) {
    std::string changed;
    for (const RowColumn& c : recordTable(table).columns)
      if (old[c.name] != now[c.name]) changed += (changed.empty() ? "" : ", ") + std::string(c.name);
    throw StaleError("\"" + name + "\" was changed by somebody else in the meantime (" + changed + ")");
  }
  if (old.is_null()) {
    id = insert(table, 0, version_, now);
    if (const auto kind = ownerKindOf(table)) made_.insert({*kind, id});
  } else
    update(table, id, version_, now);
  version = version_;
  note(table, id, old, now, version);
}

void RowWriter::removeRow(const std::string& table, Id id) {
  const Json old = row(table, id);
  if (old.is_null()) return;
  drop(table, id);
  note(table, id, old, nullptr, 0);
}

/// Settings go with their owner. Kept passwords go for good: undo brings the record back, not the secret.
void RowWriter::removeOwned(Owner owner) {
  for (const Id id : idsWhere("setting", {{"owner_kind", static_cast<int>(owner.kind)}, {"owner", owner.id}}))
    removeRow("setting", id);
  dropSecrets(owner);
}

void RowWriter::note(const std::string& table, Id id, const Json& old, const Json& now,
                     std::int64_t version) {
  touch(table, id, now.is_null() ? old : now);
  images_.push_back({{"table", table}, {"id", id}, {"old", old}, {"new", now}, {"version", version}});
}

void RowWriter::touch(const std::string& table, Id id, const Json& row) {
  if (table == "setting")
    touched_.insert({table, row.at("owner").get<Id>(), row.at("owner_kind").get<int>()});
  else
    touched_.insert({table, id, 0});
}

}  // namespace kw

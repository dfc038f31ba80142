#include <SQLiteCpp/SQLiteCpp.h>
#include <sqlite3.h>

#include <ctime>
#include <mutex>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "record/store.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;

constexpr int kKeptUndos = 200;

/// What makes a store of one version from the one before; the first begins from nothing.
constexpr const char* kSteps[] = {R"sql(
CREATE TABLE folder(id INTEGER PRIMARY KEY, parent INTEGER NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL,
                    notes TEXT NOT NULL, version INTEGER NOT NULL);
CREATE TABLE machine(id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL,
                     tags TEXT NOT NULL, notes TEXT NOT NULL, version INTEGER NOT NULL);
CREATE TABLE endpoint(id INTEGER PRIMARY KEY, machine INTEGER NOT NULL, label TEXT NOT NULL, address TEXT NOT NULL,
                      position INTEGER NOT NULL, version INTEGER NOT NULL);
CREATE TABLE setting(id INTEGER PRIMARY KEY, owner_kind INTEGER NOT NULL, owner INTEGER NOT NULL, key TEXT NOT NULL,
                     value TEXT NOT NULL, version INTEGER NOT NULL, UNIQUE(owner_kind, owner, key));
CREATE TABLE secret(owner_kind INTEGER NOT NULL, owner INTEGER NOT NULL, sealed BLOB NOT NULL,
                    PRIMARY KEY(owner_kind, owner));
CREATE TABLE pin(peer TEXT PRIMARY KEY, sha256 TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE journal(id INTEGER PRIMARY KEY, at TEXT NOT NULL, machine TEXT NOT NULL, text TEXT NOT NULL);
CREATE TABLE undo(id INTEGER PRIMARY KEY, title TEXT NOT NULL, images TEXT NOT NULL);
CREATE TABLE revision(number INTEGER NOT NULL);
CREATE INDEX machine_folder ON machine(folder);
CREATE INDEX endpoint_machine ON endpoint(machine);
INSERT INTO revision VALUES(1);
)sql",
                                  R"sql(
CREATE TABLE host(id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name TEXT NOT NULL, address TEXT NOT NULL,
                  notes TEXT NOT NULL, version INTEGER NOT NULL);
)sql"};
constexpr int kSchemaVersion = static_cast<int>(std::size(kSteps));

std::string nowText() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

/// The columns of a table besides id and version; the one place that knows rows as JSON.
const std::vector<std::string>& columnsOf(const std::string& table) {
  static const std::map<std::string, std::vector<std::string>> columns{
      {"folder", {"parent", "name", "host", "notes"}},
      {"machine", {"folder", "name", "host", "tags", "notes"}},
      {"endpoint", {"machine", "label", "address", "position"}},
      {"host", {"folder", "name", "address", "notes"}},
      {"setting", {"owner_kind", "owner", "key", "value"}},
  };
  return columns.at(table);
}

void bindJson(SQLite::Statement& statement, int at, const Json& value) {
  if (value.is_number_integer())
    statement.bind(at, value.get<std::int64_t>());
  else
    statement.bind(at, value.get<std::string>());
}

Json rowImage(SQLite::Database& db, const std::string& table, Id id) {
  SQLite::Statement read(db, "SELECT * FROM " + table + " WHERE id=?");
  read.bind(1, id);
  if (!read.executeStep()) return nullptr;
  Json image;
  for (int i = 0; i < read.getColumnCount(); ++i) {
    const SQLite::Column column = read.getColumn(i);
    if (column.isInteger())
      image[column.getName()] = column.getInt64();
    else
      image[column.getName()] = column.getString();
  }
  return image;
}

class SqliteWriter : public StoreWriter {
 public:
  explicit SqliteWriter(SQLite::Database& db)
      : db_(db), version_(db.execAndGet("SELECT number FROM revision").getInt64() + 1) {}

  void put(Folder& f) override {
    Json row{{"parent", f.parent}, {"name", f.name}, {"host", f.host}, {"notes", f.notes}};
    write("folder", f.name, f.id, f.version, row);
  }
  void put(Machine& m) override {
    if (m.name.empty()) throw Error(ErrorKind::Local, "a machine needs a name");
    Json row{{"folder", m.folder}, {"name", m.name}, {"host", m.host}, {"tags", m.tags}, {"notes", m.notes}};
    write("machine", m.name, m.id, m.version, row);
  }
  void put(Endpoint& e) override {
    Json row{{"machine", e.machine}, {"label", e.label}, {"address", e.address}, {"position", e.position}};
    write("endpoint", e.address, e.id, e.version, row);
  }

  void put(HostRecord& h) override {
    if (h.name.empty()) throw Error(ErrorKind::Local, "a host needs a name");
    Json row{{"folder", h.folder}, {"name", h.name}, {"address", h.address}, {"notes", h.notes}};
    write("host", h.name, h.id, h.version, row);
  }

  void removeFolder(Id id) override {
    for (Id child : ids("SELECT id FROM folder WHERE parent=?", id)) removeFolder(child);
    for (Id machine : ids("SELECT id FROM machine WHERE folder=?", id)) removeMachine(machine);
    removeOwned({OwnerKind::Folder, id});
    removeRow("folder", id);
  }
  void removeMachine(Id id) override {
    for (Id endpoint : ids("SELECT id FROM endpoint WHERE machine=?", id)) removeEndpoint(endpoint);
    removeOwned({OwnerKind::Machine, id});
    removeRow("machine", id);
  }
  void removeEndpoint(Id id) override {
    removeOwned({OwnerKind::WayIn, id});
    removeRow("endpoint", id);
  }

  void removeHost(Id id) override {
    removeOwned({OwnerKind::Host, id});
    removeRow("host", id);
  }

  void set(Owner owner, const std::string& key, const std::optional<std::string>& value) override {
    if (value) refuseBadSetting(key, *value);
    SQLite::Statement find(db_, "SELECT id, version FROM setting WHERE owner_kind=? AND owner=? AND key=?");
    find.bind(1, static_cast<int>(owner.kind));
    find.bind(2, owner.id);
    find.bind(3, key);
    Id id = 0;
    std::int64_t version = 0;
    if (find.executeStep()) id = find.getColumn(0).getInt64(), version = find.getColumn(1).getInt64();
    if (!value) {
      if (id != 0) removeRow("setting", id);
      return;
    }
    Json row{
        {"owner_kind", static_cast<int>(owner.kind)}, {"owner", owner.id}, {"key", key}, {"value", *value}};
    write("setting", key, id, version, row);
  }

  [[nodiscard]] Json images() const { return images_; }

  /// Puts a row back as it was (undo), its version included, without a new image.
  void restore(const std::string& table, Id id, const Json& old, std::int64_t expectedVersion) {
    const Json current = rowImage(db_, table, id);
    const std::int64_t version = current.is_null() ? 0 : current["version"].get<std::int64_t>();
    if (version != expectedVersion)
      throw StaleError("this was changed again in the meantime; undoing it would lose that change");
    if (old.is_null()) {
      SQLite::Statement drop(db_, "DELETE FROM " + table + " WHERE id=?");
      drop.bind(1, id);
      drop.exec();
      return;
    }
    insertOrReplace(table, id, old["version"].get<std::int64_t>(), old);
  }

  /// A row of another store, under its own number; 0: any.
  void restoreNew(const std::string& table, Id id, const Json& row) {
    insertOrReplace(table, id, version_, row);
  }

 private:
  std::vector<Id> ids(const char* sql, Id parameter) {
    SQLite::Statement query(db_, sql);
    query.bind(1, parameter);
    std::vector<Id> out;
    while (query.executeStep()) out.push_back(query.getColumn(0).getInt64());
    return out;
  }

  void insertOrReplace(const std::string& table, Id id, std::int64_t version, const Json& row) {
    std::string names = "id, version", marks = "?, ?";
    for (const std::string& column : columnsOf(table)) names += ", " + column, marks += ", ?";
    SQLite::Statement write(db_, "INSERT OR REPLACE INTO " + table + "(" + names + ") VALUES(" + marks + ")");
    if (id != 0) write.bind(1, id);
    write.bind(2, version);
    int at = 3;
    for (const std::string& column : columnsOf(table)) bindJson(write, at++, row.at(column));
    write.exec();
  }

  void write(const std::string& table, const std::string& name, Id& id, std::int64_t& version,
             const Json& row) {
    const Json old = id != 0 ? rowImage(db_, table, id) : Json(nullptr);
    if (id != 0 && old.is_null())
      throw StaleError("\"" + name + "\" was removed by somebody else in the meantime");
    if (!old.is_null() && old["version"].get<std::int64_t>() != version) {
      std::string changed;
      for (const std::string& column : columnsOf(table))
        if (old[column] != row[column]) changed += (changed.empty() ? "" : ", ") + column;
      throw StaleError("\"" + name + "\" was changed by somebody else in the meantime (" + changed + ")");
    }
    insertOrReplace(table, id, version_, row);
    if (id == 0) id = db_.getLastInsertRowid();
    version = version_;
    images_.push_back({{"table", table}, {"id", id}, {"old", old}, {"version", version}});
  }

  void removeRow(const std::string& table, Id id) {
    const Json old = rowImage(db_, table, id);
    if (old.is_null()) return;
    SQLite::Statement drop(db_, "DELETE FROM " + table + " WHERE id=?");
    drop.bind(1, id);
    drop.exec();
    images_.push_back({{"table", table}, {"id", id}, {"old", old}, {"version", 0}});
  }

  /// Settings go with their owner. Kept passwords go for good: undo brings the record back, not the secret.
  void removeOwned(Owner owner) {
    SQLite::Statement query(db_, "SELECT id FROM setting WHERE owner_kind=? AND owner=?");
    query.bind(1, static_cast<int>(owner.kind));
    query.bind(2, owner.id);
    std::vector<Id> found;
    while (query.executeStep()) found.push_back(query.getColumn(0).getInt64());
    for (Id id : found) removeRow("setting", id);
    SQLite::Statement drop(db_, "DELETE FROM secret WHERE owner_kind=? AND owner=?");
    drop.bind(1, static_cast<int>(owner.kind));
    drop.bind(2, owner.id);
    drop.exec();
  }

  SQLite::Database& db_;
  /// Of all rows written in this commit. No number is ever used again, so undoing may give a row its old one
  /// back: whoever read the row as it was then may write it, whoever read something in between may not.
  std::int64_t version_;
  Json images_ = Json::array();
};

class SqliteStore : public Store {
 public:
  explicit SqliteStore(const std::filesystem::path& file) : file_(file), db_(openDatabase(file)) {
    guarded([&] { prepare(); });
  }

  Snapshot load() override {
    return guarded([&] {
      SQLite::Transaction reading(db_);
      Snapshot s;
      s.revision = revision();
      SQLite::Statement folders(db_, "SELECT id, parent, name, host, notes, version FROM folder");
      while (folders.executeStep()) {
        Folder f{folders.getColumn(0).getInt64(),  folders.getColumn(1).getInt64(),
                 folders.getColumn(2).getString(), folders.getColumn(3).getString(),
                 folders.getColumn(4).getString(), folders.getColumn(5).getInt64()};
        s.folders.emplace(f.id, std::move(f));
      }
      SQLite::Statement machines(db_, "SELECT id, folder, name, host, tags, notes, version FROM machine");
      while (machines.executeStep()) {
        Machine m{machines.getColumn(0).getInt64(),  machines.getColumn(1).getInt64(),
                  machines.getColumn(2).getString(), machines.getColumn(3).getString(),
                  machines.getColumn(4).getString(), machines.getColumn(5).getString(),
                  machines.getColumn(6).getInt64()};
        s.machines.emplace(m.id, std::move(m));
      }
      SQLite::Statement endpoints(db_, "SELECT id, machine, label, address, position, version FROM endpoint");
      while (endpoints.executeStep()) {
        Endpoint e{endpoints.getColumn(0).getInt64(),  endpoints.getColumn(1).getInt64(),
                   endpoints.getColumn(2).getString(), endpoints.getColumn(3).getString(),
                   endpoints.getColumn(4).getInt(),    endpoints.getColumn(5).getInt64()};
        s.endpoints.emplace(e.id, std::move(e));
      }
      SQLite::Statement hosts(db_, "SELECT id, folder, name, address, notes, version FROM host");
      while (hosts.executeStep()) {
        HostRecord h{hosts.getColumn(0).getInt64(),  hosts.getColumn(1).getInt64(),
                     hosts.getColumn(2).getString(), hosts.getColumn(3).getString(),
                     hosts.getColumn(4).getString(), hosts.getColumn(5).getInt64()};
        s.hosts.emplace(h.id, std::move(h));
      }
      SQLite::Statement settings(db_, "SELECT owner_kind, owner, key, value FROM setting");
      while (settings.executeStep())
        s.settings[{static_cast<OwnerKind>(settings.getColumn(0).getInt()), settings.getColumn(1).getInt64()}]
                  [settings.getColumn(2).getString()] = settings.getColumn(3).getString();
      s.index();
      return s;
    });
  }

  bool changedSince(const Snapshot& snapshot) override {
    return guarded([&] { return revision() != snapshot.revision; });
  }

  void commit(const std::string& title, const std::function<void(StoreWriter&)>& work) override {
    guarded([&] {
      SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
      SqliteWriter writer(db_);
      work(writer);
      const Json images = writer.images();
      if (images.empty()) return;
      SQLite::Statement note(db_, "INSERT INTO undo(title, images) VALUES(?, ?)");
      note.bind(1, title);
      note.bind(2, images.dump());
      note.exec();
      db_.exec("DELETE FROM undo WHERE id <= (SELECT max(id) FROM undo) - " + std::to_string(kKeptUndos));
      raiseRevision();
      writing.commit();
    });
  }

  std::string undo() override {
    return guarded([&]() -> std::string {
      SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
      SQLite::Statement newest(db_, "SELECT id, title, images FROM undo ORDER BY id DESC LIMIT 1");
      if (!newest.executeStep()) return {};
      const Id id = newest.getColumn(0).getInt64();
      std::string title = newest.getColumn(1).getString();
      const Json images = Json::parse(newest.getColumn(2).getString());
      SqliteWriter writer(db_);
      for (auto at = images.rbegin(); at != images.rend(); ++at)
        writer.restore((*at)["table"], (*at)["id"], (*at)["old"], (*at)["version"]);
      newest.reset();
      SQLite::Statement drop(db_, "DELETE FROM undo WHERE id=?");
      drop.bind(1, id);
      drop.exec();
      raiseRevision();
      writing.commit();
      return title;
    });
  }

  std::string undoTitle() override {
    return guarded([&]() -> std::string {
      SQLite::Statement newest(db_, "SELECT title FROM undo ORDER BY id DESC LIMIT 1");
      return newest.executeStep() ? newest.getColumn(0).getString() : std::string();
    });
  }

  void putSecret(Owner owner, const Bytes& sealedText) override {
    guarded([&] {
      SQLite::Statement write(db_, "INSERT OR REPLACE INTO secret VALUES(?, ?, ?)");
      write.bind(1, static_cast<int>(owner.kind));
      write.bind(2, owner.id);
      write.bind(3, sealedText.data(), static_cast<int>(sealedText.size()));
      write.exec();
    });
  }
  std::optional<Bytes> secret(Owner owner) override {
    return guarded([&]() -> std::optional<Bytes> {
      SQLite::Statement read(db_, "SELECT sealed FROM secret WHERE owner_kind=? AND owner=?");
      read.bind(1, static_cast<int>(owner.kind));
      read.bind(2, owner.id);
      if (!read.executeStep()) return std::nullopt;
      const SQLite::Column blob = read.getColumn(0);
      const auto* first = static_cast<const Byte*>(blob.getBlob());
      return Bytes(first, first + blob.getBytes());
    });
  }
  void removeSecret(Owner owner) override {
    guarded([&] {
      SQLite::Statement drop(db_, "DELETE FROM secret WHERE owner_kind=? AND owner=?");
      drop.bind(1, static_cast<int>(owner.kind));
      drop.bind(2, owner.id);
      drop.exec();
    });
  }

  std::optional<std::string> pinned(const std::string& peer) override {
    return guarded([&]() -> std::optional<std::string> {
      SQLite::Statement read(db_, "SELECT sha256 FROM pin WHERE peer=?");
      read.bind(1, peer);
      if (!read.executeStep()) return std::nullopt;
      return read.getColumn(0).getString();
    });
  }
  std::vector<Pin> pins() override {
    return guarded([&] {
      std::vector<Pin> out;
      SQLite::Statement read(db_, "SELECT peer, sha256, at FROM pin ORDER BY peer");
      while (read.executeStep()) out.push_back({read.getColumn(0), read.getColumn(1), read.getColumn(2)});
      return out;
    });
  }

  void unpin(const std::string& peer) override {
    guarded([&] {
      SQLite::Statement write(db_, "DELETE FROM pin WHERE peer=?");
      write.bind(1, peer);
      write.exec();
    });
  }

  void pin(const std::string& peer, const std::string& sha256) override {
    guarded([&] {
      SQLite::Statement write(db_, "INSERT OR REPLACE INTO pin VALUES(?, ?, ?)");
      write.bind(1, peer);
      write.bind(2, sha256);
      write.bind(3, nowText());
      write.exec();
    });
  }

  void journal(const std::string& machine, const std::string& text) override {
    guarded([&] {
      SQLite::Statement write(db_, "INSERT INTO journal(at, machine, text) VALUES(?, ?, ?)");
      write.bind(1, nowText());
      write.bind(2, machine);
      write.bind(3, text);
      write.exec();
    });
  }
  std::vector<JournalEntry> journal(int most) override {
    return guarded([&] {
      SQLite::Statement read(db_, "SELECT at, machine, text FROM journal ORDER BY id DESC LIMIT ?");
      read.bind(1, most);
      std::vector<JournalEntry> out;
      while (read.executeStep())
        out.push_back(
            {read.getColumn(0).getString(), read.getColumn(1).getString(), read.getColumn(2).getString()});
      return out;
    });
  }

  void fillFrom(Store& other) override {
    const Snapshot s = other.load();
    const std::vector<Pin> pins = other.pins();
    guarded([&] {
      SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
      for (const char* table : {"folder", "machine", "endpoint", "host", "setting"})
        if (db_.execAndGet(std::string("SELECT count(*) FROM ") + table).getInt() != 0)
          throw Error(ErrorKind::Local, "there are records already; only an empty store is copied into",
                      file_.string());
      SqliteWriter writer(db_);
      const auto row = [&](const char* table, Id id, const Json& values) {
        writer.restoreNew(table, id, values);
      };
      for (const auto& [id, f] : s.folders)
        row("folder", id, {{"parent", f.parent}, {"name", f.name}, {"host", f.host}, {"notes", f.notes}});
      for (const auto& [id, m] : s.machines)
        row("machine", id,
            {{"folder", m.folder}, {"name", m.name}, {"host", m.host}, {"tags", m.tags}, {"notes", m.notes}});
      for (const auto& [id, e] : s.endpoints)
        row("endpoint", id,
            {{"machine", e.machine}, {"label", e.label}, {"address", e.address}, {"position", e.position}});
      for (const auto& [id, h] : s.hosts)
        row("host", id, {{"folder", h.folder}, {"name", h.name}, {"address", h.address}, {"notes", h.notes}});
      for (const auto& [owner, values] : s.settings)
        for (const auto& [key, value] : values)
          row("setting", 0,
              {{"owner_kind", static_cast<int>(owner.kind)},
               {"owner", owner.id},
               {"key", key},
               {"value", value}});
      for (const Pin& p : pins) {
        SQLite::Statement write(db_, "INSERT OR IGNORE INTO pin VALUES(?, ?, ?)");
        write.bind(1, p.peer);
        write.bind(2, p.sha256);
        write.bind(3, p.when);
        write.exec();
      }
      raiseRevision();
      writing.commit();
    });
    copySecrets(other, s, *this);
  }

 private:
  static SQLite::Database openDatabase(const std::filesystem::path& file) {
    std::error_code code;
    std::filesystem::create_directories(file.parent_path(), code);
    if (code)
      throw Error(ErrorKind::Local, "the folder cannot be made: " + code.message(),
                  file.parent_path().string());
    try {
      return SQLite::Database(file.string(),
                              SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE | SQLite::OPEN_FULLMUTEX, 5000);
    } catch (const SQLite::Exception& e) {
      throw Error(ErrorKind::Local, std::string("the store cannot be opened: ") + e.what(), file.string());
    }
  }

  void prepare() {
    db_.exec("PRAGMA journal_mode=WAL");
    db_.exec("PRAGMA synchronous=FULL");
    db_.exec("PRAGMA secure_delete=ON");
    SQLite::Transaction making(db_, SQLite::TransactionBehavior::IMMEDIATE);
    const int version = db_.execAndGet("PRAGMA user_version").getInt();
    if (version > kSchemaVersion)
      throw Error(ErrorKind::Local, "this store was made by a newer Kettle Window", file_.string());
    for (int step = version; step < kSchemaVersion; ++step) db_.exec(kSteps[step]);
    db_.exec("PRAGMA user_version=" + std::to_string(kSchemaVersion));
    making.commit();
    std::error_code ignored;
    std::filesystem::permissions(
        file_, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write, ignored);
  }

  std::int64_t revision() { return db_.execAndGet("SELECT number FROM revision").getInt64(); }
  void raiseRevision() { db_.exec("UPDATE revision SET number = number + 1"); }

  template <typename F>
  auto guarded(F work) -> decltype(work()) {
    std::lock_guard lock(mutex_);
    try {
      return work();
    } catch (const SQLite::Exception& e) {
      throw Error(ErrorKind::Local, std::string("the store says: ") + e.what(), file_.string());
    } catch (const Json::exception& e) {
      throw Error(ErrorKind::Local, std::string("the store is damaged: ") + e.what(), file_.string());
    }
  }

  std::filesystem::path file_;
  SQLite::Database db_;
  std::mutex mutex_;
};

}  // namespace

std::unique_ptr<Store> openSqliteStore(const std::filesystem::path& file) {
  return std::make_unique<SqliteStore>(file);
}
std::filesystem::path usualStoreFile() { return dataFolder() / "records.sqlite"; }

}  // namespace kw

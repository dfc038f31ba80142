#include <SQLiteCpp/SQLiteCpp.h>
#include <sqlite3.h>

#include <mutex>

#include "base/file.hpp"
#include "record/row_writer.hpp"

namespace kw {

namespace {

constexpr int kKeptChanges = 5000;    ///< of the history
constexpr int kKeptRevisions = 1000;  ///< whose touched rows are known; who is farther behind loads all

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
)sql",
                                  R"sql(
CREATE TABLE credential(id INTEGER PRIMARY KEY, name TEXT NOT NULL, user TEXT NOT NULL, domain TEXT NOT NULL,
                        notes TEXT NOT NULL, expires TEXT NOT NULL, version INTEGER NOT NULL);
ALTER TABLE undo ADD COLUMN at TEXT NOT NULL DEFAULT '';
ALTER TABLE undo ADD COLUMN author TEXT NOT NULL DEFAULT '';
ALTER TABLE undo ADD COLUMN undone INTEGER NOT NULL DEFAULT 0;
CREATE TABLE touched(revision INTEGER NOT NULL, tab TEXT NOT NULL, row INTEGER NOT NULL, kind INTEGER NOT NULL);
CREATE INDEX touched_revision ON touched(revision);
)sql",
                                  R"sql(
ALTER TABLE journal ADD COLUMN told INTEGER NOT NULL DEFAULT 0;
ALTER TABLE journal ADD COLUMN visit TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN who TEXT NOT NULL DEFAULT '';
UPDATE journal SET told=1, text=substr(text, 8) WHERE text LIKE 'opened %';
UPDATE journal SET told=2, text=substr(text, 10) WHERE text LIKE 'trouble: %';
UPDATE journal SET told=3, text=substr(text, 5) WHERE text LIKE 'log /%';
UPDATE journal SET told=4 WHERE text='ended';
)sql"};
constexpr int kSchemaVersion = static_cast<int>(std::size(kSteps));

void bindJson(SQLite::Statement& statement, int at, const Json& value) {
  if (value.is_number_integer())
    statement.bind(at, value.get<std::int64_t>());
  else
    statement.bind(at, value.get<std::string>());
}

/// The row that a statement stands on, with all its columns.
Json rowHere(SQLite::Statement& read) {
  Json row;
  for (int i = 0; i < read.getColumnCount(); ++i) {
    const SQLite::Column column = read.getColumn(i);
    if (column.isInteger())
      row[column.getName()] = column.getInt64();
    else
      row[column.getName()] = column.getString();
  }
  return row;
}

class SqliteWriter : public RowWriter {
 public:
  explicit SqliteWriter(SQLite::Database& db)
      : RowWriter(db.execAndGet("SELECT number FROM revision").getInt64() + 1), db_(db) {}

 protected:
  Json row(const std::string& table, Id id) override {
    SQLite::Statement read(db_, "SELECT * FROM " + table + " WHERE id=?");
    read.bind(1, id);
    return read.executeStep() ? rowHere(read) : Json(nullptr);
  }
  Id insert(const std::string& table, Id id, std::int64_t version, const Json& row) override {
    SQLite::Statement& write = insertInto(table);
    write.reset();
    if (id != 0)
      write.bind(1, id);
    else
      write.bind(1);  // the next number
    write.bind(2, version);
    bindColumns(write, table, row, 3);
    write.exec();
    return db_.getLastInsertRowid();
  }
  void update(const std::string& table, Id id, std::int64_t version, const Json& row) override {
    std::string sets = "version=?";
    for (const RowColumn& c : recordTable(table).columns) sets += std::string(", ") + c.name + "=?";
    SQLite::Statement write(db_, "UPDATE " + table + " SET " + sets + " WHERE id=?");
    write.bind(1, version);
    write.bind(bindColumns(write, table, row, 2), id);
    write.exec();
  }
  void drop(const std::string& table, Id id) override {
    SQLite::Statement drop(db_, "DELETE FROM " + table + " WHERE id=?");
    drop.bind(1, id);
    drop.exec();
  }
  std::vector<Id> idsWhere(const std::string& table, const Json& values) override {
    std::string where;
    for (const auto& [name, value] : values.items())
      where += (where.empty() ? " WHERE " : " AND ") + name + "=?";
    SQLite::Statement query(db_, "SELECT id FROM " + table + where);
    int at = 1;
    for (const auto& [name, value] : values.items()) bindJson(query, at++, value);
    std::vector<Id> out;
    while (query.executeStep()) out.push_back(query.getColumn(0).getInt64());
    return out;
  }
  void dropSecrets(Owner owner) override {
    SQLite::Statement drop(db_, "DELETE FROM secret WHERE owner_kind=? AND owner=?");
    drop.bind(1, static_cast<int>(owner.kind));
    drop.bind(2, owner.id);
    drop.exec();
  }

 private:
  /// Prepared once: an import writes thousands of rows.
  SQLite::Statement& insertInto(const std::string& table) {
    auto& made = inserts_[table];
    if (made) return *made;
    std::string names = "id, version", marks = "?, ?";
    for (const RowColumn& c : recordTable(table).columns) names += std::string(", ") + c.name, marks += ", ?";
    made = std::make_unique<SQLite::Statement>(
        db_, "INSERT INTO " + table + "(" + names + ") VALUES(" + marks + ")");
    return *made;
  }
  static int bindColumns(SQLite::Statement& write, const std::string& table, const Json& row, int at) {
    for (const RowColumn& c : recordTable(table).columns) bindJson(write, at++, row.at(c.name));
    return at;
  }
  SQLite::Database& db_;
  std::map<std::string, std::unique_ptr<SQLite::Statement>> inserts_;
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
      SQLite::Statement credentials(db_, "SELECT * FROM credential");
      while (credentials.executeStep()) {
        const Json row = rowHere(credentials);
        takeRow(s, "credential", row.at("id"), row);
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

  std::shared_ptr<Snapshot> changesSince(const Snapshot& known) override {
    if (!changedSince(known)) return nullptr;
    auto changed = guarded([&]() -> std::shared_ptr<Snapshot> {
      SQLite::Transaction reading(db_);
      const std::int64_t now = revision();
      // Somebody far behind, or whose records were taken from elsewhere, loads all.
      SQLite::Statement oldest(db_, "SELECT count(DISTINCT revision) FROM touched WHERE revision > ?");
      oldest.bind(1, known.revision);
      oldest.executeStep();
      if (oldest.getColumn(0).getInt64() != now - known.revision) return nullptr;
      auto s = std::make_shared<Snapshot>(known);
      s->revision = now;
      SQLite::Statement touched(db_, "SELECT DISTINCT tab, row, kind FROM touched WHERE revision > ?");
      touched.bind(1, known.revision);
      while (touched.executeStep())
        takeTouched(*s, {touched.getColumn(0).getString(), touched.getColumn(1).getInt64(),
                         touched.getColumn(2).getInt()});
      s->index();
      return s;
    });
    return changed ? changed : std::make_shared<Snapshot>(load());
  }

  void commit(const std::string& title, const std::function<void(StoreWriter&)>& work) override {
    guarded([&] { write(title, [&](SqliteWriter& writer) { work(writer); }); });
  }

  std::string undo() override {
    return guarded([&]() -> std::string {
      SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
      SQLite::Statement newest(db_,
                               "SELECT id, title, images FROM undo WHERE undone=0 ORDER BY id DESC LIMIT 1");
      if (!newest.executeStep()) return {};
      const Id id = newest.getColumn(0).getInt64();
      std::string title = newest.getColumn(1).getString();
      const Json images = Json::parse(newest.getColumn(2).getString());
      SqliteWriter writer(db_);
      writer.takeBack(images);
      newest.reset();
      SQLite::Statement mark(db_, "UPDATE undo SET undone=1 WHERE id=?");
      mark.bind(1, id);
      mark.exec();
      finish(writer);
      writing.commit();
      return title;
    });
  }

  std::string undoTitle() override {
    return guarded([&]() -> std::string {
      SQLite::Statement newest(db_, "SELECT title FROM undo WHERE undone=0 ORDER BY id DESC LIMIT 1");
      return newest.executeStep() ? newest.getColumn(0).getString() : std::string();
    });
  }

  std::vector<Change> history(int most, const std::vector<Owner>& about) override {
    return guarded([&] {
      std::vector<Change> out;
      SQLite::Statement read(db_, "SELECT id, at, author, title, undone, images FROM undo ORDER BY id DESC");
      while (static_cast<int>(out.size()) < most && read.executeStep()) {
        const Json images = Json::parse(read.getColumn(5).getString());
        if (!concerns(images, about)) continue;
        out.push_back({read.getColumn(0).getInt64(), read.getColumn(1).getString(),
                       read.getColumn(2).getString(), read.getColumn(3).getString(),
                       read.getColumn(4).getInt() != 0, fieldChangesOf(images)});
      }
      return out;
    });
  }

  void restoreBefore(Id change) override {
    guarded([&] {
      SQLite::Statement read(db_, "SELECT title, images FROM undo WHERE id=?");
      read.bind(1, change);
      if (!read.executeStep())
        throw Error(ErrorKind::Local, "the history does not reach back to this any more");
      const Json images = Json::parse(read.getColumn(1).getString());
      const std::string title = "restore as before: " + read.getColumn(0).getString();
      read.reset();
      write(title, [&](SqliteWriter& writer) { writer.putBack(images); });
    });
  }

  std::optional<Credential> credentialNamed(const std::string& name) override {
    return guarded([&]() -> std::optional<Credential> {
      SQLite::Statement read(db_, "SELECT * FROM credential WHERE name=?");
      read.bind(1, name);
      if (!read.executeStep()) return std::nullopt;
      return credentialOf(rowHere(read));
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

  void journal(const JournalEntry& entry) override {
    guarded([&] {
      SQLite::Statement write(
          db_, "INSERT INTO journal(at, machine, text, told, visit, who) VALUES(?, ?, ?, ?, ?, ?)");
      write.bind(1, nowText());
      write.bind(2, entry.machine);
      write.bind(3, entry.text);
      write.bind(4, static_cast<int>(entry.told));
      write.bind(5, entry.visit);
      write.bind(6, personHere());
      write.exec();
    });
  }
  std::vector<JournalEntry> journal(int most) override {
    return guarded([&] {
      SQLite::Statement read(
          db_, "SELECT machine, text, told, visit, at, who FROM journal ORDER BY id DESC LIMIT ?");
      read.bind(1, most);
      std::vector<JournalEntry> out;
      while (read.executeStep())
        out.push_back({read.getColumn(0).getString(), read.getColumn(1).getString(),
                       toldOf(read.getColumn(2).getInt()), read.getColumn(3).getString(),
                       read.getColumn(4).getString(), read.getColumn(5).getString()});
      return out;
    });
  }

  void fillFrom(Store& other) override {
    const Snapshot s = other.load();
    const std::vector<Pin> pins = other.pins();
    guarded([&] {
      SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
      SqliteWriter writer(db_);
      writer.fill(s, file_.string());
      for (const Pin& p : pins) {
        SQLite::Statement write(db_, "INSERT OR IGNORE INTO pin VALUES(?, ?, ?)");
        write.bind(1, p.peer);
        write.bind(2, p.sha256);
        write.bind(3, p.when);
        write.exec();
      }
      // Without rows that were touched: whoever looks on loads all.
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

  template <typename F>
  void write(const std::string& title, F work) {
    SQLite::Transaction writing(db_, SQLite::TransactionBehavior::IMMEDIATE);
    SqliteWriter writer(db_);
    work(writer);
    if (writer.images().empty()) return;
    SQLite::Statement note(db_, "INSERT INTO undo(title, images, at, author) VALUES(?, ?, ?, ?)");
    note.bind(1, title);
    note.bind(2, writer.images().dump());
    note.bind(3, nowText());
    note.bind(4, personHere());
    note.exec();
    db_.exec("DELETE FROM undo WHERE id <= (SELECT max(id) FROM undo) - " + std::to_string(kKeptChanges));
    finish(writer);
    writing.commit();
  }

  /// Raises the revision and says which rows it touched.
  void finish(const SqliteWriter& writer) {
    raiseRevision();
    SQLite::Statement note(db_, "INSERT INTO touched VALUES((SELECT number FROM revision), ?, ?, ?)");
    for (const TouchedRow& t : writer.touched()) {
      note.bind(1, t.table);
      note.bind(2, t.row);
      note.bind(3, t.kind);
      note.exec();
      note.reset();
    }
    db_.exec("DELETE FROM touched WHERE revision <= (SELECT number FROM revision) - " +
             std::to_string(kKeptRevisions));
  }

  void takeTouched(Snapshot& s, const TouchedRow& t) {
    if (t.table != "setting") {
      SQLite::Statement read(db_, std::string("SELECT * FROM ") + recordTable(t.table).name + " WHERE id=?");
      read.bind(1, t.row);
      takeRow(s, t.table, t.row, read.executeStep() ? rowHere(read) : Json(nullptr));
      return;
    }
    const Owner owner{static_cast<OwnerKind>(t.kind), t.row};
    s.settings.erase(owner);
    SQLite::Statement read(db_, "SELECT key, value FROM setting WHERE owner_kind=? AND owner=?");
    read.bind(1, t.kind);
    read.bind(2, t.row);
    while (read.executeStep())
      s.settings[owner][read.getColumn(0).getString()] = read.getColumn(1).getString();
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

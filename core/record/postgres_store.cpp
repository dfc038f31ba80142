// The records of a team, in PostgreSQL: the same rows, versions and undo as the file, with an author for each
// commit. One connection, made again when it was lost.
#include <ctime>
#include <mutex>
#include <nlohmann/json.hpp>
#include <pqxx/pqxx>

#include "record/store.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;

/// What makes a schema of one version from the one before; the first begins from nothing.
constexpr const char* kSteps[] = {R"sql(
CREATE SCHEMA IF NOT EXISTS kettle;
CREATE TABLE kettle.folder(id BIGSERIAL PRIMARY KEY, parent BIGINT NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL,
                           notes TEXT NOT NULL, version BIGINT NOT NULL);
CREATE TABLE kettle.machine(id BIGSERIAL PRIMARY KEY, folder BIGINT NOT NULL, name TEXT NOT NULL, host TEXT NOT NULL,
                            tags TEXT NOT NULL, notes TEXT NOT NULL, version BIGINT NOT NULL);
CREATE TABLE kettle.endpoint(id BIGSERIAL PRIMARY KEY, machine BIGINT NOT NULL, label TEXT NOT NULL,
                             address TEXT NOT NULL, position BIGINT NOT NULL, version BIGINT NOT NULL);
CREATE TABLE kettle.host(id BIGSERIAL PRIMARY KEY, folder BIGINT NOT NULL, name TEXT NOT NULL, address TEXT NOT NULL,
                         notes TEXT NOT NULL, version BIGINT NOT NULL);
CREATE TABLE kettle.setting(id BIGSERIAL PRIMARY KEY, owner_kind BIGINT NOT NULL, owner BIGINT NOT NULL,
                            key TEXT NOT NULL, value TEXT NOT NULL, version BIGINT NOT NULL,
                            UNIQUE(owner_kind, owner, key));
CREATE TABLE kettle.secret(owner_kind BIGINT NOT NULL, owner BIGINT NOT NULL, author TEXT NOT NULL,
                           sealed BYTEA NOT NULL, PRIMARY KEY(owner_kind, owner, author));
CREATE TABLE kettle.pin(peer TEXT PRIMARY KEY, sha256 TEXT NOT NULL, at TEXT NOT NULL);
CREATE TABLE kettle.journal(id BIGSERIAL PRIMARY KEY, at TEXT NOT NULL, author TEXT NOT NULL, machine TEXT NOT NULL,
                            text TEXT NOT NULL);
CREATE TABLE kettle.history(id BIGSERIAL PRIMARY KEY, at TEXT NOT NULL, author TEXT NOT NULL, title TEXT NOT NULL,
                            images JSONB NOT NULL, undone BOOLEAN NOT NULL DEFAULT FALSE);
CREATE TABLE kettle.revision(number BIGINT NOT NULL, schema INTEGER NOT NULL);
CREATE INDEX ON kettle.machine(folder);
CREATE INDEX ON kettle.endpoint(machine);
CREATE INDEX ON kettle.history(author, undone);
INSERT INTO kettle.revision VALUES(1, 1);
)sql"};
constexpr int kSchemaVersion = static_cast<int>(std::size(kSteps));
constexpr std::int64_t kMakingLock = 0x6b6574746c65;  ///< two who make the schema at once take turns

std::string nowText() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

/// The columns of a table besides id and version, and whether each is a number.
struct Column {
  const char* name;
  bool number;
};
const std::vector<Column>& columnsOf(const std::string& table) {
  static const std::map<std::string, std::vector<Column>> columns{
      {"folder", {{"parent", true}, {"name", false}, {"host", false}, {"notes", false}}},
      {"machine", {{"folder", true}, {"name", false}, {"host", false}, {"tags", false}, {"notes", false}}},
      {"endpoint", {{"machine", true}, {"label", false}, {"address", false}, {"position", true}}},
      {"host", {{"folder", true}, {"name", false}, {"address", false}, {"notes", false}}},
      {"setting", {{"owner_kind", true}, {"owner", true}, {"key", false}, {"value", false}}}};
  return columns.at(table);
}

std::string valueText(const Json& value) {
  return value.is_string() ? value.get<std::string>() : value.dump();
}

class PostgresWriter : public StoreWriter {
 public:
  explicit PostgresWriter(pqxx::work& work)
      : work_(work),
        // Held until the end: commits follow one another, and no number is used twice.
        version_(work.exec1("SELECT number FROM kettle.revision FOR UPDATE")[0].as<std::int64_t>() + 1) {}

  void put(Folder& f) override {
    write("folder", f.name, f.id, f.version,
          {{"parent", f.parent}, {"name", f.name}, {"host", f.host}, {"notes", f.notes}});
  }
  void put(Machine& m) override {
    if (m.name.empty()) throw Error(ErrorKind::Local, "a machine needs a name");
    write("machine", m.name, m.id, m.version,
          {{"folder", m.folder}, {"name", m.name}, {"host", m.host}, {"tags", m.tags}, {"notes", m.notes}});
  }
  void put(Endpoint& e) override {
    write("endpoint", e.address, e.id, e.version,
          {{"machine", e.machine}, {"label", e.label}, {"address", e.address}, {"position", e.position}});
  }
  void put(HostRecord& h) override {
    if (h.name.empty()) throw Error(ErrorKind::Local, "a host needs a name");
    write("host", h.name, h.id, h.version,
          {{"folder", h.folder}, {"name", h.name}, {"address", h.address}, {"notes", h.notes}});
  }
  void removeFolder(Id id) override {
    for (const Id child : ids("SELECT id FROM kettle.folder WHERE parent=$1", id)) removeFolder(child);
    for (const Id machine : ids("SELECT id FROM kettle.machine WHERE folder=$1", id)) removeMachine(machine);
    removeOwned({OwnerKind::Folder, id});
    removeRow("folder", id);
  }
  void removeMachine(Id id) override {
    for (const Id endpoint : ids("SELECT id FROM kettle.endpoint WHERE machine=$1", id))
      removeEndpoint(endpoint);
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
    const auto found = work_.exec_params(
        "SELECT id, version FROM kettle.setting WHERE owner_kind=$1 AND owner=$2 AND key=$3",
        static_cast<int>(owner.kind), owner.id, key);
    Id id = found.empty() ? 0 : found[0][0].as<Id>();
    std::int64_t version = found.empty() ? 0 : found[0][1].as<std::int64_t>();
    if (!value) {
      if (id != 0) removeRow("setting", id);
      return;
    }
    write(
        "setting", key, id, version,
        {{"owner_kind", static_cast<int>(owner.kind)}, {"owner", owner.id}, {"key", key}, {"value", *value}});
  }

  [[nodiscard]] const Json& images() const { return images_; }
  [[nodiscard]] std::int64_t version() const { return version_; }

  /// Puts a row back as it was, its version included, without a new image.
  void restore(const std::string& table, Id id, const Json& old, std::int64_t expectedVersion) {
    const Json current = image(table, id);
    const std::int64_t version = current.is_null() ? 0 : current["version"].get<std::int64_t>();
    if (version != expectedVersion)
      throw StaleError("this was changed again in the meantime; undoing it would lose that change");
    drop(table, id);
    if (!old.is_null()) insert(table, id, old["version"].get<std::int64_t>(), old);
  }
  void insert(const std::string& table, Id id, std::int64_t version, const Json& row) {
    std::string names = "id, version", values = std::to_string(id) + ", " + std::to_string(version);
    for (const Column& c : columnsOf(table)) {
      names += std::string(", ") + c.name;
      values += ", " + quoted(c, row.at(c.name));
    }
    work_.exec0("INSERT INTO kettle." + table + "(" + names + ") VALUES(" + values + ")");
  }

 private:
  std::string quoted(const Column& c, const Json& value) {
    return c.number ? std::to_string(value.get<std::int64_t>()) : work_.quote(valueText(value));
  }
  std::vector<Id> ids(const char* sql, Id parameter) {
    std::vector<Id> out;
    for (const auto& row : work_.exec_params(sql, parameter)) out.push_back(row[0].as<Id>());
    return out;
  }
  Json image(const std::string& table, Id id) {
    const auto found =
        work_.exec_params("SELECT to_jsonb(t)::text FROM kettle." + table + " t WHERE id=$1", id);
    return found.empty() ? Json(nullptr) : Json::parse(found[0][0].as<std::string>());
  }
  void drop(const std::string& table, Id id) {
    work_.exec_params("DELETE FROM kettle." + table + " WHERE id=$1", id);
  }

  void write(const std::string& table, const std::string& name, Id& id, std::int64_t& version,
             const Json& row) {
    const Json old = id != 0 ? image(table, id) : Json(nullptr);
    if (id != 0 && old.is_null())
      throw StaleError("\"" + name + "\" was removed by somebody else in the meantime");
    if (!old.is_null() && old["version"].get<std::int64_t>() != version) {
      std::string changed;
      for (const Column& c : columnsOf(table))
        if (old[c.name] != row[c.name]) changed += (changed.empty() ? "" : ", ") + std::string(c.name);
      throw StaleError("\"" + name + "\" was changed by somebody else in the meantime (" + changed + ")");
    }
    if (id == 0) {
      std::string names = "version", values = std::to_string(version_);
      for (const Column& c : columnsOf(table)) {
        names += std::string(", ") + c.name;
        values += ", " + quoted(c, row.at(c.name));
      }
      id =
          work_
              .exec1("INSERT INTO kettle." + table + "(" + names + ") VALUES(" + values + ") RETURNING id")[0]
              .as<Id>();
    } else {
      std::string sets = "version=" + std::to_string(version_);
      for (const Column& c : columnsOf(table))
        sets += std::string(", ") + c.name + "=" + quoted(c, row.at(c.name));
      work_.exec0("UPDATE kettle." + table + " SET " + sets + " WHERE id=" + std::to_string(id));
    }
    version = version_;
    images_.push_back({{"table", table}, {"id", id}, {"old", old}, {"version", version}});
  }
  void removeRow(const std::string& table, Id id) {
    const Json old = image(table, id);
    if (old.is_null()) return;
    drop(table, id);
    images_.push_back({{"table", table}, {"id", id}, {"old", old}, {"version", 0}});
  }
  void removeOwned(Owner owner) {
    std::vector<Id> found;
    for (const auto& row : work_.exec_params("SELECT id FROM kettle.setting WHERE owner_kind=$1 AND owner=$2",
                                             static_cast<int>(owner.kind), owner.id))
      found.push_back(row[0].as<Id>());
    for (const Id id : found) removeRow("setting", id);
    work_.exec_params("DELETE FROM kettle.secret WHERE owner_kind=$1 AND owner=$2",
                      static_cast<int>(owner.kind), owner.id);
  }

  pqxx::work& work_;
  std::int64_t version_;
  Json images_ = Json::array();
};

class PostgresStore : public Store {
 public:
  PostgresStore(std::string uri, bool make) : uri_(std::move(uri)) {
    guarded([&](pqxx::connection& c) {
      if (make) return prepare(c);
      pqxx::work work(c);
      if (work.exec("SELECT 1 FROM information_schema.schemata WHERE schema_name='kettle'").empty())
        throw Error(ErrorKind::Local, "this database holds no records of Kettle Window", where())
            .withCure("Make them once: kettle store init " + where());
      if (work.exec1("SELECT schema FROM kettle.revision")[0].as<int>() > kSchemaVersion)
        throw Error(ErrorKind::Local, "these records were made by a newer Kettle Window", where());
    });
  }

  Snapshot load() override {
    return guarded([&](pqxx::connection& c) {
      pqxx::transaction<pqxx::repeatable_read, pqxx::read_only> work(c);
      Snapshot s;
      s.revision = work.exec1("SELECT number FROM kettle.revision")[0].as<std::int64_t>();
      for (const auto& r : work.exec("SELECT id, parent, name, host, notes, version FROM kettle.folder"))
        s.folders.emplace(r[0].as<Id>(), Folder{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                                r[4].c_str(), r[5].as<std::int64_t>()});
      for (const auto& r :
           work.exec("SELECT id, folder, name, host, tags, notes, version FROM kettle.machine"))
        s.machines.emplace(r[0].as<Id>(), Machine{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                                  r[4].c_str(), r[5].c_str(), r[6].as<std::int64_t>()});
      for (const auto& r :
           work.exec("SELECT id, machine, label, address, position, version FROM kettle.endpoint"))
        s.endpoints.emplace(r[0].as<Id>(), Endpoint{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                                    r[4].as<int>(), r[5].as<std::int64_t>()});
      for (const auto& r : work.exec("SELECT id, folder, name, address, notes, version FROM kettle.host"))
        s.hosts.emplace(r[0].as<Id>(), HostRecord{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                                  r[4].c_str(), r[5].as<std::int64_t>()});
      for (const auto& r : work.exec("SELECT owner_kind, owner, key, value FROM kettle.setting"))
        s.settings[{static_cast<OwnerKind>(r[0].as<int>()), r[1].as<Id>()}][r[2].c_str()] = r[3].c_str();
      s.index();
      return s;
    });
  }

  bool changedSince(const Snapshot& snapshot) override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      return work.exec1("SELECT number FROM kettle.revision")[0].as<std::int64_t>() != snapshot.revision;
    });
  }

  void commit(const std::string& title, const std::function<void(StoreWriter&)>& what) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      PostgresWriter writer(work);
      what(writer);
      if (writer.images().empty()) return;
      work.exec_params(
          "INSERT INTO kettle.history(at, author, title, images) VALUES($1, session_user, $2, $3)", nowText(),
          title, writer.images().dump());
      finish(work, writer.version());
    });
  }

  std::string undo() override {
    return guarded([&](pqxx::connection& c) -> std::string {
      pqxx::work work(c);
      PostgresWriter writer(work);
      // One's own newest; what others did since is in the way only where it touched the same rows.
      const auto newest = work.exec(
          "SELECT id, title, images::text FROM kettle.history WHERE author=session_user AND NOT undone ORDER "
          "BY id DESC LIMIT 1");
      if (newest.empty()) return {};
      const Json images = Json::parse(newest[0][2].as<std::string>());
      for (auto at = images.rbegin(); at != images.rend(); ++at)
        writer.restore((*at)["table"], (*at)["id"], (*at)["old"], (*at)["version"]);
      work.exec_params("UPDATE kettle.history SET undone=TRUE WHERE id=$1", newest[0][0].as<Id>());
      std::string title = newest[0][1].as<std::string>();
      finish(work, writer.version());
      return title;
    });
  }

  std::string undoTitle() override {
    return guarded([&](pqxx::connection& c) -> std::string {
      pqxx::nontransaction work(c);
      const auto newest = work.exec(
          "SELECT title FROM kettle.history WHERE author=session_user AND NOT undone ORDER BY id DESC LIMIT "
          "1");
      return newest.empty() ? std::string() : newest[0][0].as<std::string>();
    });
  }

  // Each person's are their own: sealed under a key that only their desk has.
  void putSecret(Owner owner, const Bytes& sealedText) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      const std::string raw(sealedText.begin(), sealedText.end());
      work.exec0("INSERT INTO kettle.secret VALUES(" + std::to_string(static_cast<int>(owner.kind)) + ", " +
                 std::to_string(owner.id) + ", session_user, " +
                 work.quote_raw(reinterpret_cast<const unsigned char*>(raw.data()), raw.size()) +
                 ") ON CONFLICT(owner_kind, owner, author) DO UPDATE SET sealed=EXCLUDED.sealed");
      work.commit();
    });
  }
  std::optional<Bytes> secret(Owner owner) override {
    return guarded([&](pqxx::connection& c) -> std::optional<Bytes> {
      pqxx::nontransaction work(c);
      const auto found = work.exec_params(
          "SELECT sealed FROM kettle.secret WHERE owner_kind=$1 AND owner=$2 AND author=session_user",
          static_cast<int>(owner.kind), owner.id);
      if (found.empty()) return std::nullopt;
      const pqxx::binarystring blob(found[0][0]);
      return Bytes(blob.data(), blob.data() + blob.size());
    });
  }
  void removeSecret(Owner owner) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec_params("DELETE FROM kettle.secret WHERE owner_kind=$1 AND owner=$2 AND author=session_user",
                       static_cast<int>(owner.kind), owner.id);
      work.commit();
    });
  }

  std::optional<std::string> pinned(const std::string& peer) override {
    return guarded([&](pqxx::connection& c) -> std::optional<std::string> {
      pqxx::nontransaction work(c);
      const auto found = work.exec_params("SELECT sha256 FROM kettle.pin WHERE peer=$1", peer);
      return found.empty() ? std::nullopt : std::optional(found[0][0].as<std::string>());
    });
  }
  void pin(const std::string& peer, const std::string& sha256) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec_params(
          "INSERT INTO kettle.pin VALUES($1, $2, $3) ON CONFLICT(peer) DO UPDATE SET sha256=EXCLUDED.sha256, "
          "at=EXCLUDED.at",
          peer, sha256, nowText());
      work.commit();
    });
  }
  std::vector<Pin> pins() override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      std::vector<Pin> out;
      for (const auto& r : work.exec("SELECT peer, sha256, at FROM kettle.pin ORDER BY peer COLLATE \"C\""))
        out.push_back({r[0].c_str(), r[1].c_str(), r[2].c_str()});
      return out;
    });
  }
  void unpin(const std::string& peer) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec_params("DELETE FROM kettle.pin WHERE peer=$1", peer);
      work.commit();
    });
  }

  void journal(const std::string& machine, const std::string& text) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec_params(
          "INSERT INTO kettle.journal(at, author, machine, text) VALUES($1, session_user, $2, $3)", nowText(),
          machine, text);
      work.commit();
    });
  }
  std::vector<JournalEntry> journal(int most) override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      std::vector<JournalEntry> out;
      for (const auto& r :
           work.exec_params("SELECT at, machine, text FROM kettle.journal ORDER BY id DESC LIMIT $1", most))
        out.push_back({r[0].c_str(), r[1].c_str(), r[2].c_str()});
      return out;
    });
  }

  void fillFrom(Store& other) override {
    const Snapshot s = other.load();
    const std::vector<Pin> pins = other.pins();
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      PostgresWriter writer(work);
      for (const char* table : {"folder", "machine", "endpoint", "host", "setting"})
        if (work.exec1(std::string("SELECT count(*) FROM kettle.") + table)[0].as<int>() != 0)
          throw Error(ErrorKind::Local, "there are records already; only an empty store is copied into",
                      where());
      const std::int64_t v = writer.version();
      for (const auto& [id, f] : s.folders)
        writer.insert("folder", id, v,
                      {{"parent", f.parent}, {"name", f.name}, {"host", f.host}, {"notes", f.notes}});
      for (const auto& [id, m] : s.machines)
        writer.insert(
            "machine", id, v,
            {{"folder", m.folder}, {"name", m.name}, {"host", m.host}, {"tags", m.tags}, {"notes", m.notes}});
      for (const auto& [id, e] : s.endpoints)
        writer.insert(
            "endpoint", id, v,
            {{"machine", e.machine}, {"label", e.label}, {"address", e.address}, {"position", e.position}});
      for (const auto& [id, h] : s.hosts)
        writer.insert("host", id, v,
                      {{"folder", h.folder}, {"name", h.name}, {"address", h.address}, {"notes", h.notes}});
      Id number = 1;
      for (const auto& [owner, values] : s.settings)
        for (const auto& [key, value] : values)
          writer.insert("setting", number++, v,
                        {{"owner_kind", static_cast<int>(owner.kind)},
                         {"owner", owner.id},
                         {"key", key},
                         {"value", value}});
      for (const char* table : {"folder", "machine", "endpoint", "host", "setting"})
        work.exec1("SELECT setval(pg_get_serial_sequence('kettle." + std::string(table) +
                   "', 'id'), GREATEST((SELECT max(id) FROM kettle." + table + "), 1))");
      for (const Pin& p : pins)
        work.exec_params("INSERT INTO kettle.pin VALUES($1, $2, $3) ON CONFLICT DO NOTHING", p.peer, p.sha256,
                         p.when);
      finish(work, v);
    });
    copySecrets(other, s, *this);
  }

 private:
  /// The address without a password.
  [[nodiscard]] std::string where() const {
    const auto at = uri_.find('@'), colon = uri_.find(':', uri_.find("://") + 3);
    return at == std::string::npos || colon > at ? uri_ : uri_.substr(0, colon) + uri_.substr(at);
  }

  static void finish(pqxx::work& work, std::int64_t version) {
    work.exec_params("UPDATE kettle.revision SET number=$1", version);
    work.commit();
  }

  void prepare(pqxx::connection& c) {
    pqxx::work work(c);
    work.exec1("SELECT pg_advisory_xact_lock(" + std::to_string(kMakingLock) + ")");
    int version = 0;
    if (!work.exec("SELECT 1 FROM information_schema.schemata WHERE schema_name='kettle'").empty())
      version = work.exec1("SELECT schema FROM kettle.revision")[0].as<int>();
    if (version > kSchemaVersion)
      throw Error(ErrorKind::Local, "these records were made by a newer Kettle Window", where());
    for (int step = version; step < kSchemaVersion; ++step) work.exec(kSteps[step]);
    work.exec_params("UPDATE kettle.revision SET schema=$1", kSchemaVersion);
    work.commit();
  }

  template <typename F>
  auto guarded(F what) -> decltype(what(std::declval<pqxx::connection&>())) {
    const std::lock_guard lock(mutex_);
    try {
      if (!connection_ || !connection_->is_open()) {
        connection_.reset();
        connection_ =
            std::make_unique<pqxx::connection>(uri_ + (uri_.find('?') == std::string::npos ? "?" : "&") +
                                               "connect_timeout=5&application_name=kettle-window");
      }
      return what(*connection_);
    } catch (const pqxx::broken_connection& e) {
      connection_.reset();
      throw Error(ErrorKind::Unreachable, "the records' database is not reached: " + oneLine(e.what()),
                  where())
          .withCure("What is open goes on; it is tried again.");
    } catch (const pqxx::insufficient_privilege& e) {
      throw Error(ErrorKind::SignInFailed, "the database does not allow this: " + oneLine(e.what()), where())
          .withCure("Ask whoever keeps the records for the right.");
    } catch (const pqxx::failure& e) {
      throw Error(ErrorKind::Local, "the records' database says: " + oneLine(e.what()), where());
    } catch (const Json::exception& e) {
      throw Error(ErrorKind::Local, std::string("the records are damaged: ") + e.what(), where());
    }
  }
  static std::string oneLine(std::string text) {
    text = text.substr(0, text.find('\n'));
    return text;
  }

  std::string uri_;
  std::unique_ptr<pqxx::connection> connection_;
  std::mutex mutex_;
};

}  // namespace

std::unique_ptr<Store> openPostgresStore(const std::string& uri, bool make) {
  return std::make_unique<PostgresStore>(uri, make);
}

}  // namespace kw

// The records of a team, in PostgreSQL: the same rows, versions and undo as the file, with an author for each
// commit. One connection, made again when it was lost.
#include <mutex>
#include <pqxx/pqxx>

#include "record/answer_limit.hpp"
#include "record/postgres_schema.hpp"
#include "record/postgres_team_secrets.hpp"
#include "record/postgres_watch.hpp"
#include "record/postgres_writer.hpp"

namespace kw {

namespace {

using Seconds = std::chrono::seconds;

// Whoever writes waits for the answer, a window with it: not for long. What reads much runs aside.
constexpr Seconds kAnswerLimit{8};
constexpr Seconds kReadingLimit{60};
constexpr Seconds kFillingLimit{1800};

constexpr int kKeptRevisions = 1000;  ///< whose touched rows are known; who is farther behind loads all

class PostgresStore : public Store {
 public:
  PostgresStore(std::string uri, bool make) : uri_(std::move(uri)) {
    guarded(
        [&](pqxx::connection& c) {
          if (make) return preparePostgres(c, where());
          pqxx::work work(c);
          if (work.exec("SELECT 1 FROM pg_namespace WHERE nspname='kettle'").empty())
            throw Error(ErrorKind::Local, "this database holds no records of Kettle Window", where())
                .withCure("Make them once: kettle store init " + where());
          const int schema = work.exec1("SELECT schema FROM kettle.revision")[0].as<int>();
          if (schema > kPostgresSchema)
            throw Error(ErrorKind::Local, "these records were made by a newer Kettle Window", where());
          if (schema < kPostgresSchema)
            throw Error(ErrorKind::Local, "these records were made by an older Kettle Window", where())
                .withCure("Bring them up to date once, with the right to change tables: kettle store init " +
                          where());
        },
        kReadingLimit);
  }

  Snapshot load() override {
    return guarded(
        [&](pqxx::connection& c) {
          pqxx::transaction<pqxx::repeatable_read, pqxx::read_only> work(c);
          Snapshot s;
          s.revision = work.exec1("SELECT number FROM kettle.revision")[0].as<std::int64_t>();
          for (const auto& r : work.exec("SELECT id, parent, name, host, notes, version FROM kettle.folder"))
            s.folders.emplace(r[0].as<Id>(), Folder{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                                    r[4].c_str(), r[5].as<std::int64_t>()});
          for (const auto& r :
               work.exec("SELECT id, folder, name, host, tags, notes, version FROM kettle.machine"))
            s.machines.emplace(r[0].as<Id>(),
                               Machine{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(), r[4].c_str(),
                                       r[5].c_str(), r[6].as<std::int64_t>()});
          for (const auto& r :
               work.exec("SELECT id, machine, label, address, position, version FROM kettle.endpoint"))
            s.endpoints.emplace(r[0].as<Id>(),
                                Endpoint{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(), r[3].c_str(),
                                         r[4].as<int>(), r[5].as<std::int64_t>()});
          for (const auto& r : work.exec("SELECT id, folder, name, address, notes, version FROM kettle.host"))
            s.hosts.emplace(r[0].as<Id>(), HostRecord{r[0].as<Id>(), r[1].as<Id>(), r[2].c_str(),
                                                      r[3].c_str(), r[4].c_str(), r[5].as<std::int64_t>()});
          for (const auto& r : work.exec("SELECT id, to_jsonb(t)::text FROM kettle.credential t"))
            takeRow(s, "credential", r[0].as<Id>(), Json::parse(r[1].c_str()));
          for (const auto& r : work.exec("SELECT owner_kind, owner, key, value FROM kettle.setting"))
            s.settings[{static_cast<OwnerKind>(r[0].as<int>()), r[1].as<Id>()}][r[2].c_str()] = r[3].c_str();
          s.index();
          return s;
        },
        kReadingLimit);
  }

  bool changedSince(const Snapshot& snapshot) override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      return work.exec1("SELECT number FROM kettle.revision")[0].as<std::int64_t>() != snapshot.revision;
    });
  }

  std::shared_ptr<Snapshot> changesSince(const Snapshot& known) override {
    if (!changedSince(known)) return nullptr;
    auto changed = guarded(
        [&](pqxx::connection& c) -> std::shared_ptr<Snapshot> {
          pqxx::transaction<pqxx::repeatable_read, pqxx::read_only> work(c);
          const auto now = work.exec1("SELECT number FROM kettle.revision")[0].as<std::int64_t>();
          const auto known_ = work.exec_params(
              "SELECT count(DISTINCT revision) FROM kettle.touched WHERE revision > $1", known.revision);
          if (known_[0][0].as<std::int64_t>() != now - known.revision) return nullptr;
          auto s = std::make_shared<Snapshot>(known);
          s->revision = now;
          takeTouched(work, *s, known.revision);
          s->index();
          return s;
        },
        kReadingLimit);
    return changed ? changed : std::make_shared<Snapshot>(load());
  }

  std::unique_ptr<ChangeWatch> watch(std::function<void()> changed) override {
    return watchPostgres(connectionText(), std::move(changed));
  }

  void commit(const std::string& title, const std::function<void(StoreWriter&)>& what) override {
    guarded([&](pqxx::connection& c) { write(c, title, what); });
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
      writer.takeBack(Json::parse(newest[0][2].as<std::string>()));
      work.exec_params("UPDATE kettle.history SET undone=TRUE WHERE id=$1", newest[0][0].as<Id>());
      std::string title = newest[0][1].as<std::string>();
      finish(work, writer);
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

  std::vector<Change> history(int most, const std::vector<Owner>& about) override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      std::vector<Change> out;
      constexpr int kPart = 200;
      for (Id before = std::numeric_limits<Id>::max(); static_cast<int>(out.size()) < most;) {
        const auto rows = work.exec_params(
            "SELECT id, at, author, title, undone, images::text FROM kettle.history WHERE id < $1 ORDER BY "
            "id "
            "DESC LIMIT $2",
            before, kPart);
        for (const auto& r : rows) {
          before = r[0].as<Id>();
          const Json images = Json::parse(r[5].c_str());
          if (static_cast<int>(out.size()) < most && concerns(images, about))
            out.push_back(
                {before, r[1].c_str(), r[2].c_str(), r[3].c_str(), r[4].as<bool>(), fieldChangesOf(images)});
        }
        if (rows.size() < kPart) break;
      }
      return out;
    });
  }

  void restoreBefore(Id change) override {
    guarded([&](pqxx::connection& c) {
      Json images;
      std::string title;
      {
        pqxx::nontransaction work(c);
        const auto found =
            work.exec_params("SELECT title, images::text FROM kettle.history WHERE id=$1", change);
        if (found.empty()) throw Error(ErrorKind::Local, "the history does not reach back to this any more");
        title = "restore as before: " + found[0][0].as<std::string>();
        images = Json::parse(found[0][1].c_str());
      }
      write(c, title, [&](PostgresWriter& writer) { writer.putBack(images); });
    });
  }

  std::optional<Credential> credentialNamed(const std::string& name) override {
    return guarded([&](pqxx::connection& c) -> std::optional<Credential> {
      pqxx::nontransaction work(c);
      const auto found =
          work.exec_params("SELECT to_jsonb(t)::text FROM kettle.credential t WHERE name=$1", name);
      if (found.empty()) return std::nullopt;
      return credentialOf(Json::parse(found[0][0].c_str()));
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

  TeamSecrets* teamSecrets() override { return teamSecrets_.get(); }

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

  void journal(const JournalEntry& entry) override {
    guarded([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec_params(
          "INSERT INTO kettle.journal(at, author, machine, text, told, visit) "
          "VALUES($1, session_user, $2, $3, $4, $5)",
          nowText(), entry.machine, entry.text, static_cast<int>(entry.told), entry.visit);
      work.commit();
    });
  }
  std::vector<JournalEntry> journal(int most) override {
    return guarded([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      std::vector<JournalEntry> out;
      for (const auto& r :
           work.exec_params("SELECT machine, text, told, visit, at, author FROM kettle.journal "
                            "ORDER BY id DESC LIMIT $1",
                            most))
        out.push_back(
            {r[0].c_str(), r[1].c_str(), toldOf(r[2].as<int>()), r[3].c_str(), r[4].c_str(), r[5].c_str()});
      return out;
    });
  }

  void fillFrom(Store& other) override {
    const Snapshot s = other.load();
    const std::vector<Pin> pins = other.pins();
    guarded(
        [&](pqxx::connection& c) {
          pqxx::work work(c);
          PostgresWriter writer(work);
          writer.fill(s, where());
          writer.flush();
          for (const RowTable& table : recordTables())
            work.exec1("SELECT setval(pg_get_serial_sequence('kettle." + std::string(table.name) +
                       "', 'id'), GREATEST((SELECT max(id) FROM kettle." + table.name + "), 1))");
          for (const Pin& p : pins)
            work.exec_params("INSERT INTO kettle.pin VALUES($1, $2, $3) ON CONFLICT DO NOTHING", p.peer,
                             p.sha256, p.when);
          finish(work, writer);  // without rows that were touched: whoever looks on loads all
        },
        kFillingLimit);
    copySecrets(other, s, *this);
  }

 private:
  /// The address without a password.
  [[nodiscard]] std::string where() const {
    const auto at = uri_.find('@'), colon = uri_.find(':', uri_.find("://") + 3);
    return at == std::string::npos || colon > at ? uri_ : uri_.substr(0, colon) + uri_.substr(at);
  }

  template <typename F>
  void write(pqxx::connection& c, const std::string& title, const F& what) {
    pqxx::work work(c);
    PostgresWriter writer(work);
    what(writer);
    if (writer.images().empty()) return;
    work.exec_params("INSERT INTO kettle.history(at, author, title, images) VALUES($1, session_user, $2, $3)",
                     nowText(), title, writer.images().dump());
    finish(work, writer);
  }

  /// Raises the revision, says which rows it touched, and wakes whoever watches.
  static void finish(pqxx::work& work, PostgresWriter& writer) {
    writer.flush();
    work.exec_params("UPDATE kettle.revision SET number=$1", writer.version());
    std::string rows;
    for (const TouchedRow& t : writer.touched())
      rows +=
          (rows.empty() ? "" : ", ") + ("(" + std::to_string(writer.version()) + ", " + work.quote(t.table) +
                                        ", " + std::to_string(t.row) + ", " + std::to_string(t.kind) + ")");
    if (!rows.empty()) work.exec0("INSERT INTO kettle.touched VALUES " + rows);
    work.exec_params("DELETE FROM kettle.touched WHERE revision <= $1", writer.version() - kKeptRevisions);
    work.exec0(std::string("NOTIFY ") + kPostgresChannel);
    work.commit();
  }

  static void takeTouched(pqxx::transaction_base& work, Snapshot& s, std::int64_t since) {
    const std::string touched =
        " IN (SELECT \"row\" FROM kettle.touched WHERE tab='%' AND revision > " + std::to_string(since) + ")";
    const auto of = [&](const std::string& table) {
      std::string out = touched;
      return out.replace(out.find('%'), 1, table);
    };
    for (const auto& r : work.exec_params(
             "SELECT DISTINCT tab, \"row\", kind FROM kettle.touched WHERE revision > $1", since)) {
      const std::string table = r[0].c_str();
      if (table == "setting")
        s.settings.erase({static_cast<OwnerKind>(r[2].as<int>()), r[1].as<Id>()});
      else
        takeRow(s, table, r[1].as<Id>(), nullptr);
    }
    for (const RowTable& table : recordTables()) {
      const std::string name = table.name;
      if (name == "setting") continue;
      for (const auto& r :
           work.exec("SELECT id, to_jsonb(t)::text FROM kettle." + name + " t WHERE id" + of(name)))
        takeRow(s, name, r[0].as<Id>(), Json::parse(r[1].c_str()));
    }
    for (const auto& r :
         work.exec("SELECT owner_kind, owner, key, value FROM kettle.setting WHERE owner" + of("setting")))
      s.settings[{static_cast<OwnerKind>(r[0].as<int>()), r[1].as<Id>()}][r[2].c_str()] = r[3].c_str();
  }

  [[nodiscard]] std::string connectionText() const {
    return uri_ + (uri_.find('?') == std::string::npos ? "?" : "&") +
           "connect_timeout=5&keepalives_idle=10&keepalives_interval=5&keepalives_count=3&tcp_user_timeout="
           "15000"
           "&application_name=kettle-window";
  }

  template <typename F>
  auto guarded(F what, Seconds limit = kAnswerLimit) -> decltype(what(std::declval<pqxx::connection&>())) {
    const std::unique_lock lock(mutex_, limit);
    if (!lock.owns_lock()) throw silent();
    try {
      if (!connection_ || !connection_->is_open()) {
        connection_.reset();
        connection_ = std::make_unique<pqxx::connection>(connectionText());
      }
      return within(limit, what);
    } catch (const Error&) {
      if (limit_.ranOut()) connection_.reset();
      throw;
    } catch (const pqxx::broken_connection& e) {
      connection_.reset();
      throw Error(ErrorKind::Unreachable, "the records' database is not reached: " + oneLine(e.what()),
                  where())
          .withCure("What is open goes on; it is tried again.");
    } catch (const pqxx::insufficient_privilege& e) {
      throw Error(ErrorKind::SignInFailed, "the database does not allow this: " + oneLine(e.what()), where())
          .withCure(std::string("Ask whoever keeps the records for the right: GRANT ") + kPostgresPeople +
                    " TO …");
    } catch (const pqxx::failure& e) {
      throw Error(ErrorKind::Local, "the records' database says: " + oneLine(e.what()), where());
    } catch (const Json::exception& e) {
      throw Error(ErrorKind::Local, std::string("the records are damaged: ") + e.what(), where());
    }
  }
  /// Whatever comes of a connection that was ended means that it did not answer.
  template <typename F>
  auto within(Seconds limit, const F& what) -> decltype(what(std::declval<pqxx::connection&>())) {
    try {
      const AnswerLimit::Held held(limit_, connection_->sock(), limit);
      return what(*connection_);
    } catch (const std::exception&) {
      if (limit_.ranOut()) throw silent();
      throw;
    }
  }
  [[nodiscard]] Error silent() const {
    return Error(ErrorKind::Unreachable, "the records' database does not answer", where())
        .withCure("What is open goes on; it is tried again. What was written last may be kept or not: look.");
  }
  static std::string oneLine(std::string text) {
    text = text.substr(0, text.find('\n'));
    return text;
  }

  std::string uri_;
  std::unique_ptr<pqxx::connection> connection_;
  std::timed_mutex mutex_;
  AnswerLimit limit_;
  std::unique_ptr<TeamSecrets> teamSecrets_ =
      postgresTeamSecrets([this](const std::function<void(pqxx::connection&)>& what) { guarded(what); });
};

}  // namespace

std::unique_ptr<Store> openPostgresStore(const std::string& uri, bool make) {
  return std::make_unique<PostgresStore>(uri, make);
}

}  // namespace kw

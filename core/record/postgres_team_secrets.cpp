#include "record/postgres_team_secrets.hpp"

#include "base/iso_time.hpp"

namespace kw {

namespace {

Bytes bytesOf(const pqxx::field& field) {
  const pqxx::binarystring blob(field);
  return {blob.data(), blob.data() + blob.size()};
}

std::string quoted(pqxx::transaction_base& work, const Bytes& bytes) {
  return work.quote_raw(bytes.data(), bytes.size());
}

std::string whereOwner(Owner owner) {
  return " WHERE owner_kind=" + std::to_string(static_cast<int>(owner.kind)) +
         " AND owner=" + std::to_string(owner.id);
}

class PostgresTeamSecrets : public TeamSecrets {
 public:
  explicit PostgresTeamSecrets(PostgresTurn turn) : turn_(std::move(turn)) {}

  std::string place() override {
    std::string out;
    turn_([&](pqxx::connection& c) {
      out = std::string(c.hostname() == nullptr ? "" : c.hostname()) + ":" +
            (c.port() == nullptr ? "" : c.port()) + "/" + (c.dbname() == nullptr ? "" : c.dbname());
    });
    return out;
  }

  std::string account() override {
    std::string out;
    turn_([&](pqxx::connection& c) {
      pqxx::nontransaction work(c);
      out = work.exec1("SELECT session_user")[0].c_str();
    });
    return out;
  }

  void publish(const PersonKey& own) override {
    turn_([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec0("INSERT INTO kettle.person VALUES(session_user, " + quoted(work, own.key) + ", " +
                 work.quote(own.desk) + ", " + work.quote(nowText()) +
                 ") ON CONFLICT(account, key) DO UPDATE SET desk=EXCLUDED.desk");
      work.commit();
    });
  }

  std::vector<PersonKey> people() override {
    std::vector<PersonKey> out;
    turn_([&](pqxx::connection& c) {
      out.clear();
      pqxx::nontransaction work(c);
      for (const auto& r : work.exec("SELECT account, key, desk, at FROM kettle.person ORDER BY account, at"))
        out.push_back({r[0].c_str(), bytesOf(r[1]), r[2].c_str(), r[3].c_str()});
    });
    return out;
  }

  std::vector<SealedCopy> copiesOf(Owner owner) override { return read(owner, nullptr); }

  std::optional<SealedCopy> copyFor(Owner owner, const Bytes& key) override {
    auto found = read(owner, &key);
    return found.empty() ? std::nullopt : std::optional(std::move(found.front()));
  }

  void replaceCopies(Owner owner, const std::vector<SealedCopy>& copies) override {
    turn_([&](pqxx::connection& c) {
      pqxx::work work(c);
      work.exec1("SELECT number FROM kettle.revision FOR UPDATE");  // one after the other
      work.exec0("DELETE FROM kettle.copy" + whereOwner(owner));
      for (const SealedCopy& copy : copies)
        work.exec0("INSERT INTO kettle.copy VALUES(" + std::to_string(static_cast<int>(owner.kind)) + ", " +
                   std::to_string(owner.id) + ", " + work.quote(copy.account) + ", " +
                   quoted(work, copy.key) + ", " + quoted(work, copy.sealer) + ", " +
                   quoted(work, copy.sealedText) + ")");
      work.commit();
    });
  }

 private:
  std::vector<SealedCopy> read(Owner owner, const Bytes* key) {
    std::vector<SealedCopy> out;
    turn_([&](pqxx::connection& c) {
      out.clear();
      pqxx::nontransaction work(c);
      for (const auto& r : work.exec(
               "SELECT account, key, sealer, sealed FROM kettle.copy" + whereOwner(owner) +
               (key == nullptr ? std::string() : " AND key=" + quoted(work, *key)) + " ORDER BY account"))
        out.push_back({r[0].c_str(), bytesOf(r[1]), bytesOf(r[2]), bytesOf(r[3])});
    });
    return out;
  }

  PostgresTurn turn_;
};

}  // namespace

std::unique_ptr<TeamSecrets> postgresTeamSecrets(PostgresTurn turn) {
  return std::make_unique<PostgresTeamSecrets>(std::move(turn));
}

}  // namespace kw

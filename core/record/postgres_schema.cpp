#include "record/postgres_schema.hpp"

#include "base/error.hpp"

namespace kw {

namespace {

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
)sql",
                                  R"sql(
CREATE TABLE kettle.credential(id BIGSERIAL PRIMARY KEY, name TEXT NOT NULL UNIQUE, "user" TEXT NOT NULL,
                               domain TEXT NOT NULL, notes TEXT NOT NULL, expires TEXT NOT NULL,
                               version BIGINT NOT NULL);
CREATE TABLE kettle.touched(revision BIGINT NOT NULL, tab TEXT NOT NULL, "row" BIGINT NOT NULL, kind INTEGER NOT NULL);
CREATE INDEX ON kettle.touched(revision);
)sql",
                                  R"sql(
ALTER TABLE kettle.journal ADD COLUMN told INTEGER NOT NULL DEFAULT 0;
ALTER TABLE kettle.journal ADD COLUMN visit TEXT NOT NULL DEFAULT '';
UPDATE kettle.journal SET told=1, text=substr(text, 8) WHERE text LIKE 'opened %';
UPDATE kettle.journal SET told=2, text=substr(text, 10) WHERE text LIKE 'trouble: %';
UPDATE kettle.journal SET told=3, text=substr(text, 5) WHERE text LIKE 'log /%';
UPDATE kettle.journal SET told=4 WHERE text='ended';
)sql",
                                  R"sql(
CREATE TABLE kettle.person(account TEXT NOT NULL, key BYTEA NOT NULL, desk TEXT NOT NULL, at TEXT NOT NULL,
                           PRIMARY KEY(account, key));
CREATE TABLE kettle.copy(owner_kind BIGINT NOT NULL, owner BIGINT NOT NULL, account TEXT NOT NULL, key BYTEA NOT NULL,
                         sealer BYTEA NOT NULL, sealed BYTEA NOT NULL, PRIMARY KEY(owner_kind, owner, key));
ALTER TABLE kettle.person ENABLE ROW LEVEL SECURITY;
ALTER TABLE kettle.person FORCE ROW LEVEL SECURITY;
CREATE POLICY person_read ON kettle.person FOR SELECT USING (true);
CREATE POLICY person_own ON kettle.person FOR ALL USING (account = session_user) WITH CHECK (account = session_user);
)sql"};
static_assert(std::size(kSteps) == kPostgresSchema);
constexpr std::int64_t kMakingLock = 0x6b6574746c65;  ///< two who make the schema at once take turns

/// Everybody of the team has one role's rights. An account that may not make roles leaves that to whoever
/// keeps the database.
void allowPeople(pqxx::work& work) {
  const std::string people = kPostgresPeople;
  try {
    pqxx::subtransaction trying(work);
    if (trying.exec("SELECT 1 FROM pg_roles WHERE rolname=" + work.quote(people)).empty())
      trying.exec0("CREATE ROLE " + people + " NOLOGIN");
    trying.commit();
  } catch (const pqxx::insufficient_privilege&) {
    return;
  }
  work.exec0("GRANT USAGE ON SCHEMA kettle TO " + people);
  work.exec0("GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA kettle TO " + people);
  work.exec0("GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA kettle TO " + people);
}

}  // namespace

void preparePostgres(pqxx::connection& c, const std::string& where) {
  pqxx::work work(c);
  work.exec1("SELECT pg_advisory_xact_lock(" + std::to_string(kMakingLock) + ")");
  int version = 0;
  if (!work.exec("SELECT 1 FROM pg_namespace WHERE nspname='kettle'").empty())
    version = work.exec1("SELECT schema FROM kettle.revision")[0].as<int>();
  if (version > kPostgresSchema)
    throw Error(ErrorKind::Local, "these records were made by a newer Kettle Window", where);
  for (int step = version; step < kPostgresSchema; ++step) work.exec(kSteps[step]);
  work.exec_params("UPDATE kettle.revision SET schema=$1", kPostgresSchema);
  allowPeople(work);
  work.commit();
}

}  // namespace kw

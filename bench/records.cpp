// Records at 50,000 machines: loading, importing a table, a colleague's change, where a setting comes from;
// writing against bare inserts into SQLite, and against COPY into PostgreSQL.
#include <SQLiteCpp/SQLiteCpp.h>
#include <stdlib.h>

#include <filesystem>
#include <pqxx/pqxx>

#include "bench/bench.hpp"
#include "exchange/table.hpp"
#include "record/roster.hpp"
#include "record/store.hpp"
#include "tests/peers/postgres.hpp"

namespace kw::bench {

namespace {

constexpr int kMachines = 50'000;

double secondsOf(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void fill(Store& store, int count) {
  store.commit("fill", [&](StoreWriter& w) {
    Folder place;
    place.name = "Alder Vale";
    w.put(place);
    for (int i = 0; i < count; ++i) {
      Machine m;
      m.folder = place.id, m.name = "bench-" + std::to_string(i), m.host = "fernery";
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "screen",
      e.address = "vnc://127.0.0.11:" + std::to_string(5900 + i % 50'000);
      w.put(e);
    }
  });
}

/// The same rows by one prepared statement a table, without versions, history or checks.
void bareInserts(const std::filesystem::path& file, int count) {
  SQLite::Database db(file.string(), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE);
  db.exec("PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL");
  db.exec(
      "CREATE TABLE machine(id INTEGER PRIMARY KEY, folder INTEGER, name TEXT, host TEXT, tags TEXT, notes "
      "TEXT, "
      "version INTEGER); CREATE TABLE endpoint(id INTEGER PRIMARY KEY, machine INTEGER, label TEXT, address "
      "TEXT, "
      "position INTEGER, version INTEGER)");
  SQLite::Transaction transaction(db);
  SQLite::Statement machine(
      db, "INSERT INTO machine(folder, name, host, tags, notes, version) VALUES(1, ?, 'fernery', '', '', 1)");
  SQLite::Statement way(
      db, "INSERT INTO endpoint(machine, label, address, position, version) VALUES(?, 'screen', ?, 0, 1)");
  for (int i = 0; i < count; ++i) {
    machine.bind(1, "bench-" + std::to_string(i));
    machine.exec();
    machine.reset();
    way.bind(1, db.getLastInsertRowid());
    way.bind(2, "vnc://127.0.0.11:" + std::to_string(5900 + i % 50'000));
    way.exec();
    way.reset();
  }
  transaction.commit();
}

/// The same rows by COPY, without versions, history or checks.
void bareCopy(const std::string& uri, int count) {
  pqxx::connection connection(uri);
  pqxx::work work(connection);
  work.exec0(
      "CREATE SCHEMA bare; CREATE TABLE bare.machine(id BIGSERIAL PRIMARY KEY, folder BIGINT, name TEXT, "
      "host TEXT, "
      "tags TEXT, notes TEXT, version BIGINT); CREATE TABLE bare.endpoint(id BIGSERIAL PRIMARY KEY, machine "
      "BIGINT, "
      "label TEXT, address TEXT, position BIGINT, version BIGINT)");
  {
    pqxx::stream_to machines(work, "bare.machine",
                             std::vector<std::string>{"folder", "name", "host", "tags", "notes", "version"});
    for (int i = 0; i < count; ++i)
      machines << std::make_tuple(1, "bench-" + std::to_string(i), "fernery", "", "", 1);
    machines.complete();
  }
  {
    pqxx::stream_to ways(work, "bare.endpoint",
                         std::vector<std::string>{"machine", "label", "address", "position", "version"});
    for (int i = 0; i < count; ++i)
      ways << std::make_tuple(i + 1, "screen", "vnc://127.0.0.11:" + std::to_string(5900 + i % 50'000), 0, 1);
    ways.complete();
  }
  work.commit();
}

void benchTeam(Table& table) {
  if (!test::Postgres::available()) return;
  const test::Postgres server;
  const auto store = openPostgresStore(server.uri(), true), other = openPostgresStore(server.uri());
  const double floor = secondsOf([&] { bareCopy(server.uri(), kMachines); });
  const double ours = secondsOf([&] { fill(*store, kMachines); });
  table.row("PostgreSQL: keep 50,000 machines in one commit", ours, floor,
            "COPY; ours has history, versions, undo");
  Snapshot s;
  table.figure("PostgreSQL: load 50,000 machines", secondsOf([&] { s = store->load(); }) * 1e3, "ms");
  Machine m = s.machines.begin()->second;
  m.notes = "valve B sticks";
  const double seen = secondsOf([&] {
    other->commit("note", [&](StoreWriter& w) { w.put(m); });
    store->changesSince(s);
  });
  table.figure("PostgreSQL: a colleague's change at 50,000, kept and read", seen * 1e3, "ms", 1000);
}

std::string tableText(int count) {
  std::string out = "name,group,address,host,tags,notes\n";
  for (int i = 0; i < count; ++i)
    out += "bench-" + std::to_string(i) +
           ",Alder Vale/Glasshouses,vnc://127.0.0.11:" + std::to_string(5900 + i) +
           ",fernery,controller,\"zone " + std::to_string(i) + "\"\n";
  return out;
}

}  // namespace

void benchRecords(Table& table) {
  char name[] = "/tmp/kettle-bench-XXXXXX";
  const std::filesystem::path folder = mkdtemp(name);
  {
    const auto store = openSqliteStore(folder / "a.sqlite");
    const double ours = secondsOf([&] { fill(*store, kMachines); });
    const double floor = secondsOf([&] { bareInserts(folder / "bare.sqlite", kMachines); });
    table.row("keep 50,000 machines in one commit", ours, floor,
              "bare inserts; ours has history, versions, undo");
    Snapshot s;
    table.figure("load 50,000 machines", secondsOf([&] { s = store->load(); }) * 1e3, "ms");
    const auto other = openSqliteStore(folder / "a.sqlite");
    Machine m = s.machines.begin()->second;
    m.notes = "valve B sticks";
    other->commit("note", [&](StoreWriter& w) { w.put(m); });
    table.figure("a colleague's change at 50,000, read", secondsOf([&] { store->changesSince(s); }) * 1e3,
                 "ms", 1000);
    const Id way = s.endpoints.begin()->first;
    constexpr int kAsked = 200'000;
    const double each = secondsOf([&] {
                          for (int i = 0; i < kAsked; ++i)
                            if (s.resolve({OwnerKind::WayIn, way}, "screen.fit").value.empty()) std::abort();
                        }) /
                        kAsked;
    table.figure("where a setting comes from", each * 1e6, "us", 2);
    RosterIndex roster(std::make_shared<Snapshot>(s), GroupBy::Place);
    table.figure("narrow 50,000 to a word", secondsOf([&] { roster.narrow("bench 4711"); }) * 1e3, "ms", 16);
  }
  {
    const auto store = openSqliteStore(folder / "b.sqlite");
    const std::string text = tableText(kMachines);
    const double seconds = secondsOf([&] {
      const Snapshot s = store->load();
      const auto plan =
          exchange::plan(s, exchange::csvKind.read(text, "list.csv").entries, exchange::Choice::Skip);
      store->commit("import", [&](StoreWriter& w) { exchange::writePlan(w, s, plan, "Imported"); });
    });
    table.figure("import a table of 50,000", seconds, "s", 3);
  }
  std::filesystem::remove_all(folder);
  benchTeam(table);
}

}  // namespace kw::bench

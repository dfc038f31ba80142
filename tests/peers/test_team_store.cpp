// A team's records in a real PostgreSQL.
#include <fstream>

#include "base/file.hpp"
#include "record/database_people.hpp"
#include "record/store.hpp"
#include "tests/peers/postgres.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/store_suite.hpp"

using namespace kw;
using namespace kw::test;

namespace {

Id addMachine(Store& store, const std::string& name, const std::string& address = "vnc://127.0.0.11:5907") {
  Id id = 0;
  store.commit("add " + name, [&](StoreWriter& w) {
    Machine m;
    m.name = name;
    w.put(m);
    Endpoint e;
    e.machine = m.id, e.label = "screen", e.address = address;
    w.put(e);
    w.set({OwnerKind::Machine, m.id}, "reconnect.longest", "60");
    id = m.id;
  });
  return id;
}

}  // namespace

TEST_CASE("A team's records: kept, seen by the other desk, stale writes refused, one's own undone",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  CHECK(failureOf([&] { openPostgresStore(server.uri()); }).find("holds no records") != std::string::npos);
  server.run("CREATE ROLE volunteer LOGIN SUPERUSER");
  const auto duty = openStore(server.uri(), true);
  const auto volunteer = openStore(server.uri("volunteer"));
  const Snapshot before = volunteer->load();
  const Id mist = addMachine(*duty, "mist-bench");
  CHECK(volunteer->changedSince(before));
  Snapshot s = volunteer->load();
  REQUIRE(s.machines.contains(mist));
  CHECK(s.resolve({OwnerKind::Machine, mist}, "reconnect.longest").value == "60");
  CHECK_FALSE(volunteer->changedSince(s));

  Machine mine = s.machines.at(mist), theirs = s.machines.at(mist);
  mine.notes = "valve B sticks";
  volunteer->commit("note", [&](StoreWriter& w) { w.put(mine); });
  theirs.tags = "controller";
  CHECK(failureOf([&] { duty->commit("tag", [&](StoreWriter& w) { w.put(theirs); }); }).find("stale") == 0);
  CHECK(duty->load().machines.at(mist).notes == "valve B sticks");
  CHECK(duty->load().machines.at(mist).tags.empty());

  // Undo is of one's own: duty's adding would lose the volunteer's note, and is refused; the volunteer's is
  // not.
  CHECK(duty->undoTitle() == "add mist-bench");
  CHECK(volunteer->undoTitle() == "note");
  CHECK(failureOf([&] { duty->undo(); }).find("stale") == 0);
  CHECK(volunteer->undo() == "note");
  CHECK(duty->undo() == "add mist-bench");
  CHECK(duty->load().machines.empty());
  CHECK(duty->load().settings.empty());
  CHECK(duty->undo().empty());
  // Nothing of a commit that fails half way is kept.
  CHECK(failureOf([&] {
          duty->commit("half", [&](StoreWriter& w) {
            Machine m;
            m.name = "half";
            w.put(m);
            w.set({OwnerKind::Machine, m.id}, "screen.colours", "17");
          });
        }) != "");
  CHECK(duty->load().machines.empty());
}

namespace {

/// Duty and a volunteer on one database.
StorePair twoDesks(Postgres& server) {
  server.run("CREATE ROLE volunteer LOGIN SUPERUSER");
  auto one = openStore(server.uri(), true);
  return {std::move(one), openStore(server.uri("volunteer"))};
}

}  // namespace

TEST_CASE("A team's records do what every store must", "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  SECTION("one commit") { checkOneCommit(twoDesks(server)); }
  SECTION("stale writes") { checkStaleWrites(twoDesks(server)); }
  SECTION("changes since") { checkChangesSince(twoDesks(server)); }
  SECTION("history") { checkHistory(twoDesks(server)); }
  SECTION("credentials") { checkCredentials(twoDesks(server)); }
  SECTION("a colleague's change wakes whoever watches") { checkWatch(twoDesks(server)); }
}

TEST_CASE("A team's records: what was acknowledged survives a thousand kill -9 of whoever wrote it",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  const std::string uri = server.uri();
  openStore(uri, true);
  checkKilledWriters([uri] { return openStore(uri); }, 1000);
}

TEST_CASE("A team's records: planted secrets are found nowhere", "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  TemporaryFolder folder;
  const std::string secret = "planted-orchid-4711";
  std::ofstream(folder.path / "secret") << secret;
  const std::string around =
      "XDG_DATA_HOME=" + folder.path.string() + "/data XDG_CONFIG_HOME=" + folder.path.string() +
      "/config XDG_STATE_HOME=" + folder.path.string() + "/state KETTLE_STORE=" + server.uri() + " ";
  const auto runsHere = [&](const std::string& words) {
    return std::system(
        (around + KW_KETTLE " " + words + " >> " + folder.path.string() + "/said 2>&1").c_str());
  };
  REQUIRE(runsHere("store init " + server.uri()) == 0);
  REQUIRE(runsHere("credential add night --user duty --password-file " + (folder.path / "secret").string()) ==
          0);
  // Nothing listens there: it fails, and what it says and logs is searched, too.
  REQUIRE(runsHere("machines add mist-bench --address rdp://127.0.0.1:" + std::to_string(freeTcpPort())) ==
          0);
  REQUIRE(runsHere("machines set mist-bench signin.from named:night") == 0);
  CHECK(runsHere("snap mist-bench --timeout 3 --out " + (folder.path / "picture.png").string()) != 0);
  std::filesystem::remove(folder.path / "secret");
  // A process that holds it: not in its command line, no core dump of it, its memory closed to others.
  const std::string key = (folder.path / "key.pem").string(), blob = (folder.path / "blob").string();
  REQUIRE(std::system(("openssl genrsa -out " + key + " 2048 2>/dev/null && printf " + secret +
                       " | openssl pkeyutl -encrypt -inkey " + key + " | base64 > " + blob)
                          .c_str()) == 0);
  REQUIRE(runsHere("credential decrypt-first mist-bench --blob-file " + blob + " --key-file " + key) == 0);
  REQUIRE(std::system((around +
                       "bash -c 'ulimit -c unlimited; " KW_KETTLE
                       " watch mist-bench --timeout 30 & P=$!; for i in "
                       "$(seq 200); do [ -e /proc/$P/fd/3 ] && break; sleep 0.02; done; cat /proc/$P/cmdline "
                       "/proc/$P/environ > " +
                       folder.path.string() + "/seen 2>/dev/null; kill -ABRT $P; wait $P 2>/dev/null; cd " +
                       folder.path.string() + "; ls core* 2>/dev/null && exit 9; exit 0' >> " +
                       folder.path.string() + "/said 2>&1")
                          .c_str()) == 0);
  const std::string dump = (folder.path / "dump.sql").string();
  REQUIRE(std::system(("pg_dump " + server.uri() + " > " + dump).c_str()) == 0);
  CHECK(textOf(readFile(dump)).find("mist-bench") != std::string::npos);  // it is the dump that is meant
  int searched = 0;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder.path)) {
    if (!entry.is_regular_file()) continue;
    CAPTURE(entry.path().string());
    ++searched;
    CHECK(textOf(readFile(entry.path(), std::size_t{256} << 20)).find(secret) == std::string::npos);
  }
  CHECK(searched >= 4);
}

TEST_CASE("A team's records of the version before are brought up to date, journal and all",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  Id machine = 0;
  {
    const auto store = openStore(server.uri(), true);
    machine = addMachine(*store, "mist-bench");
  }
  server.run(
      "DROP TABLE kettle.person, kettle.copy; ALTER TABLE kettle.journal DROP COLUMN told, DROP COLUMN "
      "visit; UPDATE kettle.revision SET schema=2;"
      "INSERT INTO kettle.journal(at, author, machine, text) VALUES"
      "('2026-11-20T08:00:00Z', 'duty', 'mist-bench', 'opened vnc://127.0.0.11:5907'),"
      "('2026-11-20T08:01:00Z', 'duty', 'mist-bench', 'trouble: lost'),"
      "('2026-11-20T08:02:00Z', 'duty', 'mist-bench', 'log /home/duty/mist-bench.log'),"
      "('2026-11-20T08:03:00Z', 'duty', 'mist-bench', 'start asked of fernery'),"
      "('2026-11-20T08:04:00Z', 'duty', 'mist-bench', 'ended')");
  CHECK_THROWS_AS(openStore(server.uri()),
                  Error);  // one who may not make tables is told, and changes nothing
  const auto store = openStore(server.uri(), true);
  CHECK(store->load().machines.at(machine).name == "mist-bench");
  std::vector<std::pair<Told, std::string>> lines;
  for (const JournalEntry& e : store->journal(10)) {
    lines.emplace_back(e.told, e.text);
    CHECK(e.visit.empty());
    CHECK(e.who == "duty");
  }
  CHECK(lines == std::vector<std::pair<Told, std::string>>{{Told::Ended, "ended"},
                                                           {Told::Note, "start asked of fernery"},
                                                           {Told::Log, "/home/duty/mist-bench.log"},
                                                           {Told::Trouble, "lost"},
                                                           {Told::Opened, "vnc://127.0.0.11:5907"}});
}

TEST_CASE("A team's records: quotes, line breaks and other letters come back as they went in",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  const auto store = openStore(server.uri(), true);
  const std::string odd = "a'b\"c\\d\n\té 苔 'DROP TABLE kettle.machine;--";
  const Id id = addMachine(*store, odd);
  CHECK(store->load().machines.at(id).name == odd);
  store->pin("ssh " + odd, "SHA256:x");
  CHECK(store->pinned("ssh " + odd) == "SHA256:x");
  store->unpin("ssh " + odd);
  CHECK(store->pins().empty());
  store->journal({odd, odd, Told::Trouble, odd});
  CHECK(store->journal(5).at(0).text == odd);
  CHECK(store->journal(5).at(0).visit == odd);
  CHECK(store->journal(5).at(0).told == Told::Trouble);
  const Bytes sealedText{0, 1, 2, 0, 255, '\''};
  store->putSecret({OwnerKind::WayIn, 7}, sealedText);
  CHECK(store->secret({OwnerKind::WayIn, 7}) == sealedText);
  store->removeSecret({OwnerKind::WayIn, 7});
  CHECK_FALSE(store->secret({OwnerKind::WayIn, 7}).has_value());
  store->commit("remove", [&](StoreWriter& w) { w.removeMachine(id); });
  CHECK(store->load().endpoints.empty());
  store->undo();
  CHECK(store->load().machines.at(id).name == odd);
  CHECK(store->load().endpoints.size() == 1);
}

TEST_CASE("A team's records: many write at once, and nothing is lost", "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  openStore(server.uri(), true);
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&, t] {
      const auto store = openStore(server.uri());
      for (int i = 0; i < 25; ++i)
        addMachine(*store, "palm-house-" + std::to_string(t) + "-" + std::to_string(i));
    });
  for (auto& t : threads) t.join();
  const Snapshot s = openStore(server.uri())->load();
  CHECK(s.machines.size() == 100);
  CHECK(s.endpoints.size() == 100);
  CHECK(s.revision == 101);
}

TEST_CASE(
    "A team's database that stops is told of, and used again when it is back; what was acknowledged is there",
    "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  const auto store = openStore(server.uri(), true);
  addMachine(*store, "mist-bench");
  server.stop();  // at once, as if it was killed
  CHECK(failureOf([&] { store->load(); }).find("not reached") != std::string::npos);
  CHECK(failureOf([&] { addMachine(*store, "lost"); }).find("not reached") != std::string::npos);
  server.start();
  CHECK(store->load().machines.size() == 1);
  addMachine(*store, "seed-bank");
  CHECK(store->load().machines.size() == 2);
}

TEST_CASE("Records copied from a file into a team's database and back lose nothing", "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  TemporaryFolder folder;
  const auto file = openStore((folder.path / "a.sqlite").string());
  const Id gone = addMachine(*file, "gone");
  addMachine(*file, "mist-bench");
  file->commit("more", [&](StoreWriter& w) {
    w.removeMachine(gone);
    Folder f;
    f.name = "Alder Vale";
    w.put(f);
    w.set({OwnerKind::Folder, f.id}, "clipboard.way", "off");
    HostRecord h;
    h.name = "fernery", h.address = "qmp:/run/machines", h.folder = f.id;
    w.put(h);
  });
  const Snapshot original = file->load();
  const Id way = original.endpoints.begin()->first;
  file->putSecret({OwnerKind::WayIn, way}, Bytes{1, 2, 3});
  file->pin("fernery:5907", "ab:cd");
  const auto team = openStore(server.uri(), true);
  team->fillFrom(*file);
  CHECK(sameRecords(team->load(), original));
  CHECK(team->secret({OwnerKind::WayIn, way}) == Bytes{1, 2, 3});
  CHECK(failureOf([&] { team->fillFrom(*file); }).find("only an empty store") != std::string::npos);
  const auto back = openStore((folder.path / "b.sqlite").string());
  back->fillFrom(*team);
  CHECK(sameRecords(back->load(), original));
  CHECK(back->pinned("fernery:5907") == "ab:cd");
  // New rows get numbers of their own.
  const Id fresh = addMachine(*team, "seed-bank");
  CHECK_FALSE(original.machines.contains(fresh));
  CHECK(addMachine(*back, "seed-bank") != way);
}

TEST_CASE("kettle on a team's records: init, copy, info, and the same verbs as on a file",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  TemporaryFolder folder;
  const auto kettle = [&](const std::string& words) {
    const std::string command = "XDG_DATA_HOME=" + folder.path.string() +
                                " XDG_CONFIG_HOME=" + folder.path.string() + " " KW_KETTLE " " + words +
                                " 2>&1";
    std::string out;
    FILE* pipe = popen(command.c_str(), "r");
    char part[512];
    while (fgets(part, sizeof part, pipe) != nullptr) out += part;
    return std::pair(WEXITSTATUS(pclose(pipe)), out);
  };
  const std::string store = "--store " + server.uri();
  CHECK(kettle(store + " machines list").first != 0);
  CHECK(kettle("store init " + server.uri()).first == 0);
  CHECK(kettle(store +
               " machines add mist-bench --address vnc://127.0.0.11:5907 --group 'Alder Vale/Glasshouses'")
            .first == 0);
  CHECK(kettle(store + " machines list").second == "mist-bench\tvnc://127.0.0.11:5907\n");
  CHECK(kettle("machines list").second.empty());  // the user's own file
  CHECK(kettle("store copy " + server.uri() + " " + (folder.path / "copy.sqlite").string())
            .second.find("copied 1 machines") == 0);
  CHECK(kettle("--store " + (folder.path / "copy.sqlite").string() + " store info")
            .second.find("1 machines, 1 ways in, 2 places and groups") != std::string::npos);
}

TEST_CASE("People of a team's database: name and password are asked there; one that asks nobody knows nobody",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  server.run("CREATE ROLE volunteer LOGIN PASSWORD 'volunteers-drive'");
  // Everybody is let in without a password: that proves nothing.
  CHECK_FALSE(databaseKnows(server.uri(), "volunteer", "volunteers-drive"));
  server.run(
      "COPY (VALUES ('host all volunteer 127.0.0.1/32 scram-sha-256'), ('host all all 127.0.0.1/32 trust'), "
      "('local all all trust')) TO PROGRAM 'cat > pg_hba.conf'");
  server.run("SELECT pg_reload_conf()");
  bool known = false;
  for (int i = 0; i < 200 && !known; ++i) {
    known = databaseKnows(server.uri(), "volunteer", "volunteers-drive");
    if (!known) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  }
  CHECK(known);
  CHECK_FALSE(databaseKnows(server.uri(), "volunteer", "volunteers-driv"));
  CHECK_FALSE(databaseKnows(server.uri(), "volunteer", ""));
  CHECK_FALSE(databaseKnows(server.uri(), "duty", "anything"));
  CHECK_FALSE(databaseKnows(server.uri(), "nobody", "volunteers-drive"));
  const std::vector<std::string> people{"nobody", "volunteer"};
  CHECK(databaseRefuses(server.uri(), people) == std::vector<std::string>{"nobody"});
  server.run("ALTER ROLE volunteer VALID UNTIL '2020-01-01'");
  CHECK(databaseRefuses(server.uri(), people) == people);
  server.run("ALTER ROLE volunteer VALID UNTIL 'infinity'");
  CHECK(databaseRefuses(server.uri(), people) == std::vector<std::string>{"nobody"});
  server.run("ALTER ROLE volunteer NOLOGIN");
  CHECK_FALSE(databaseKnows(server.uri(), "volunteer", "volunteers-drive"));
  CHECK(databaseRefuses(server.uri(), people) == people);
  server.stop();
  CHECK_FALSE(databaseKnows(server.uri(), "volunteer", "volunteers-drive"));
  CHECK(databaseRefuses(server.uri(), people).empty());  // nobody is sent away because it is not reached
}

TEST_CASE("A database that takes what one says and never answers holds nobody up for long",
          "[store][postgres]") {
  if (!Postgres::available()) return;
  Postgres server;
  const auto duty = openStore(server.uri(), true);
  addMachine(*duty, "mist-bench");
  server.freeze();
  const auto begun = std::chrono::steady_clock::now();
  std::string failure;
  try {
    addMachine(*duty, "audio-guide");
  } catch (const Error& e) {
    failure = e.what();
    CHECK(e.kind() == ErrorKind::Unreachable);
    CHECK_FALSE(e.cure().empty());
  }
  CHECK(failure.find("does not answer") != std::string::npos);
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(12));
  // Nor does a new connection.
  CHECK(failureOf([&] { (void)duty->load(); }).find("not reached") != std::string::npos);
  CHECK(databaseRefuses(server.uri(), {"nobody"}).empty());
  server.thaw();
  addMachine(*duty, "fern-store");
  CHECK(duty->load().machineNamed("fern-store") != nullptr);
}

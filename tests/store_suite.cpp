#include "tests/store_suite.hpp"

#include <poll.h>
#include <sys/wait.h>

#include <random>
#include <set>

#include "tests/support.hpp"

namespace kw::test {

FilledStore fillStore(Store& store) {
  FilledStore out;
  store.commit("fill", [&](StoreWriter& w) {
    Folder place;
    place.name = "Alder Vale";
    w.put(place);
    Folder group;
    group.parent = place.id, group.name = "Glasshouses", group.host = "fernery";
    w.put(group);
    Machine m;
    m.folder = group.id, m.name = "mist-bench", m.host = "fernery", m.tags = "controller";
    w.put(m);
    Endpoint e;
    e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.11:5907";
    w.put(e);
    w.set({OwnerKind::Folder, place.id}, "screen.fit", "fill");
    out = {place.id, group.id, m.id, e.id};
  });
  return out;
}

std::string failureOf(const std::function<void()>& what) {
  try {
    what();
  } catch (const StaleError& e) {
    return std::string("stale: ") + e.what();
  } catch (const Error& e) {
    return e.what();
  }
  return "";
}

bool sameRecords(const Snapshot& a, const Snapshot& b) {
  const auto sameMap = [](const auto& left, const auto& right, const auto& same) {
    if (left.size() != right.size()) return false;
    for (const auto& [id, row] : left)
      if (const auto there = right.find(id); there == right.end() || !same(row, there->second)) return false;
    return true;
  };
  return a.settings == b.settings &&
         sameMap(a.folders, b.folders,
                 [](const Folder& x, const Folder& y) {
                   return std::tie(x.name, x.parent, x.host, x.notes) ==
                          std::tie(y.name, y.parent, y.host, y.notes);
                 }) &&
         sameMap(a.machines, b.machines,
                 [](const Machine& x, const Machine& y) {
                   return std::tie(x.name, x.folder, x.host, x.tags, x.notes) ==
                          std::tie(y.name, y.folder, y.host, y.tags, y.notes);
                 }) &&
         sameMap(a.endpoints, b.endpoints,
                 [](const Endpoint& x, const Endpoint& y) {
                   return std::tie(x.address, x.label, x.position, x.machine) ==
                          std::tie(y.address, y.label, y.position, y.machine);
                 }) &&
         sameMap(a.hosts, b.hosts,
                 [](const HostRecord& x, const HostRecord& y) {
                   return std::tie(x.name, x.address, x.folder, x.notes) ==
                          std::tie(y.name, y.address, y.folder, y.notes);
                 }) &&
         sameMap(a.credentials, b.credentials, [](const Credential& x, const Credential& y) {
           return std::tie(x.name, x.user, x.domain, x.notes, x.expires) ==
                  std::tie(y.name, y.user, y.domain, y.notes, y.expires);
         });
}

void checkOneCommit(StorePair stores) {
  Machine m;
  m.name = "mist-bench";
  Endpoint e;
  const Owner machine{OwnerKind::Machine, 0};
  stores.one->commit("all at once", [&](StoreWriter& w) {
    w.put(m);
    const Owner owner{machine.kind, m.id};
    w.set(owner, "reconnect.longest", "60");
    w.set(owner, "reconnect.longest", "90");  // what was set a moment ago, again
    w.set(owner, "screen.fit", "fill");
    w.set(owner, "screen.fit", std::nullopt);
    w.set(owner, "screen.fit", "actual");
    e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.11:5907";
    w.put(e);
    m.notes = "valve B sticks";
    w.put(m);  // a row that this commit made, changed by it
    Endpoint gone = e;
    gone.id = gone.version = 0;
    w.put(gone);
    w.removeEndpoint(gone.id);
  });
  const Snapshot s = stores.two->load();
  REQUIRE(s.machines.size() == 1);
  CHECK(s.machines.at(m.id).notes == "valve B sticks");
  CHECK(s.resolve({OwnerKind::Machine, m.id}, "reconnect.longest").value == "90");
  CHECK(s.resolve({OwnerKind::Machine, m.id}, "screen.fit").value == "actual");
  CHECK(s.endpoints.size() == 1);
  CHECK(s.endpoints.contains(e.id));
  CHECK(stores.one->undo() == "all at once");
  CHECK(stores.two->load().machines.empty());
  CHECK(stores.two->load().settings.empty());
}

void checkStaleWrites(StorePair s) {
  const FilledStore f = fillStore(*s.one);
  Machine mine = s.two->load().machines.at(f.machine), theirs = mine;
  theirs.tags = "greenhouse";
  s.one->commit("theirs", [&](StoreWriter& w) { w.put(theirs); });
  mine.notes = "mine";
  const std::string refused = failureOf([&] {
    s.two->commit("mine", [&](StoreWriter& w) {
      Machine fresh;
      fresh.name = "half-done";
      w.put(fresh);
      w.put(mine);
    });
  });
  CHECK(refused.find("stale") == 0);
  CHECK(refused.find("tags") != std::string::npos);
  CHECK(s.one->load().machineNamed("half-done") == nullptr);
  CHECK(s.one->load().machines.at(f.machine).tags == "greenhouse");
  s.one->commit("gone", [&](StoreWriter& w) { w.removeMachine(f.machine); });
  CHECK(failureOf([&] { s.two->commit("mine", [&](StoreWriter& w) { w.put(theirs); }); }).find("removed") !=
        std::string::npos);
  CHECK(s.one->undo() == "gone");
  CHECK(s.two->load().endpointsOf(f.machine).size() == 1);
}

void checkChangesSince(StorePair s) {
  const FilledStore f = fillStore(*s.one);
  Snapshot known = s.two->load();
  CHECK(s.two->changesSince(known) == nullptr);
  // One step after another, each seen by the other desk as if it had loaded everything.
  const auto seen = [&](const std::string& step) {
    CAPTURE(step);
    const auto fresh = s.two->changesSince(known);
    REQUIRE(fresh != nullptr);
    CHECK(sameRecords(*fresh, s.two->load()));
    CHECK(fresh->revision == s.two->load().revision);
    CHECK(fresh->endpointsOf(f.machine).size() == s.two->load().endpointsOf(f.machine).size());
    known = *fresh;
  };
  Machine m = known.machines.at(f.machine);
  m.name = "mist-bench-2";
  s.one->commit("rename", [&](StoreWriter& w) { w.put(m); });
  seen("renamed");
  s.one->commit("set", [&](StoreWriter& w) {
    w.set({OwnerKind::WayIn, f.way}, "screen.colours", "16");
    w.set({OwnerKind::Folder, f.place}, "screen.fit", std::nullopt);
  });
  seen("settings");
  Credential c;
  c.name = "duty at night", c.user = "duty";
  s.one->commit("credential", [&](StoreWriter& w) { w.put(c); });
  seen("credential");
  s.one->undo();
  s.one->undo();
  seen("two steps undone at once");
  s.one->commit("remove", [&](StoreWriter& w) { w.removeFolder(f.place); });
  seen("removed");
  s.one->undo();
  seen("brought back");
  // Somebody far behind loads everything, and sees the same.
  const Snapshot old = known;
  for (int i = 0; i < 1100; ++i)
    s.one->commit("again", [&](StoreWriter& w) {
      w.set({OwnerKind::WayIn, f.way}, "screen.colours", i % 2 == 0 ? "8" : "16");
    });
  known = old;
  seen("far behind");
}

void checkHistory(StorePair s) {
  const FilledStore f = fillStore(*s.one);
  Machine m = s.one->load().machines.at(f.machine);
  m.notes = "valve B sticks";
  s.one->commit("note", [&](StoreWriter& w) { w.put(m); });
  s.one->commit("sizes", [&](StoreWriter& w) { w.set({OwnerKind::WayIn, f.way}, "screen.fit", "actual"); });
  Machine other;
  other.name = "seed-bank";
  s.one->commit("add seed-bank", [&](StoreWriter& w) { w.put(other); });
  s.one->commit("remove mist-bench", [&](StoreWriter& w) { w.removeMachine(f.machine); });

  const auto all = s.two->history(100);
  REQUIRE(all.size() == 5);
  CHECK(all[0].title == "remove mist-bench");
  CHECK(all[0].when.size() == 20);
  CHECK_FALSE(all[0].author.empty());
  CHECK(s.two->history(2).size() == 2);
  const auto about = s.two->history(100, {{OwnerKind::Machine, f.machine}, {OwnerKind::WayIn, f.way}});
  REQUIRE(about.size() == 4);  // not the other machine
  REQUIRE(about[2].fields.size() == 1);
  CHECK(about[2].fields[0].what == "mist-bench · notes");
  CHECK(about[2].fields[0].before.empty());
  CHECK(about[2].fields[0].after == "valve B sticks");
  REQUIRE(about[1].fields.size() == 1);
  CHECK(about[1].fields[0].after == "One to one, moving about");

  // What belongs to something that is gone is refused; that itself comes back, and then the rest.
  CHECK(failureOf([&] { s.one->restoreBefore(about[1].id); }).find("removed later") == std::string::npos);
  CHECK(failureOf([&] { s.one->restoreBefore(about[2].id); }).empty());
  CHECK(s.two->load().machines.at(f.machine).notes.empty());
  CHECK(s.one->undo().find("restore") == 0);
  s.one->restoreBefore(about[0].id);
  const Snapshot back = s.two->load();
  CHECK(back.machines.at(f.machine).notes == "valve B sticks");
  CHECK(back.endpointsOf(f.machine).size() == 1);
  CHECK(back.resolve({OwnerKind::WayIn, f.way}, "screen.fit").value == "actual");
  s.one->restoreBefore(about[2].id);
  CHECK(s.two->load().machines.at(f.machine).notes.empty());
  CHECK(s.one->history(1)[0].title == "restore as before: note");
  s.one->undo();
  CHECK(s.two->load().machines.at(f.machine).notes == "valve B sticks");
  CHECK(s.one->history(1)[0].undone);
  // Only what is left of it can be restored.
  s.one->commit("remove way", [&](StoreWriter& w) { w.removeEndpoint(f.way); });
  const Id wayGone = s.one->history(1)[0].id;
  s.one->commit("remove mist-bench", [&](StoreWriter& w) { w.removeMachine(f.machine); });
  CHECK(failureOf([&] { s.one->restoreBefore(wayGone); }).find("removed later") != std::string::npos);
  CHECK(s.two->load().endpoints.empty());
}

void checkCredentials(StorePair s) {
  const FilledStore f = fillStore(*s.one);
  Credential c;
  c.name = "duty at night", c.user = "duty", c.domain = "ALDER", c.expires = "2027-03-01";
  s.one->commit("credential", [&](StoreWriter& w) {
    w.put(c);
    w.set({OwnerKind::Folder, f.group}, "signin.from", "named:duty at night");
  });
  const Owner owner{OwnerKind::Credential, c.id};
  s.one->putSecret(owner, {1, 2, 3});
  Snapshot there = s.two->load();
  REQUIRE(there.credentialNamed("duty at night") != nullptr);
  CHECK(there.credentialNamed("duty at night")->domain == "ALDER");
  CHECK(there.resolve({OwnerKind::WayIn, f.way}, "signin.from").origin == "from group Glasshouses");
  Credential twin;
  twin.name = "duty at night";
  CHECK(failureOf([&] { s.two->commit("twin", [&](StoreWriter& w) { w.put(twin); }); }).find("another") !=
        std::string::npos);
  // Whoever takes it by name follows a new name, in the same commit.
  c.name = "duty";
  s.one->commit("rename", [&](StoreWriter& w) { w.put(c); });
  CHECK(s.two->load().resolve({OwnerKind::WayIn, f.way}, "signin.from").value == "named:duty");
  s.one->undo();
  CHECK(s.two->load().resolve({OwnerKind::WayIn, f.way}, "signin.from").value == "named:duty at night");
  s.one->commit("remove", [&](StoreWriter& w) { w.removeCredential(c.id); });
  CHECK(s.two->load().credentials.empty());
  CHECK_FALSE(s.one->secret(owner).has_value());
}

void checkWatch(StorePair s) {
  std::atomic<int> woken = 0;
  const auto watch = s.two->watch([&] { ++woken; });
  if (!watch) return;  // such a store is looked at again; test_record.cpp says which
  REQUIRE(eventually([&] { return woken > 0; }));  // it listens
  const int before = woken;
  const auto begin = std::chrono::steady_clock::now();
  fillStore(*s.one);
  REQUIRE(eventually([&] { return woken > before; }));
  CHECK(std::chrono::steady_clock::now() - begin < std::chrono::seconds(1));
}

namespace {

/// In the child: commits until it is killed, and says the number of each that came back.
[[noreturn]] void writeUntilKilled(const std::function<std::unique_ptr<Store>()>& open, int round,
                                   int acknowledge) {
  try {
    const auto store = open();
    for (int i = 0;; ++i) {
      store->commit("add", [&](StoreWriter& w) {
        Machine m;
        m.name = "bench-" + std::to_string(round) + "-" + std::to_string(i);
        w.put(m);
      });
      if (write(acknowledge, &i, sizeof i) != sizeof i) _exit(1);
    }
  } catch (const std::exception& e) {
    std::fprintf(stderr, "%s\n", e.what());
  }
  _exit(1);
}

}  // namespace

void checkKilledWriters(const std::function<std::unique_ptr<Store>()>& open, int times) {
  open();  // made beforehand
  std::set<std::string> acknowledged;
  std::minstd_rand random(11);
  int withoutAny = 0;
  for (int round = 0; round < times; ++round) {
    int ends[2];
    REQUIRE(pipe(ends) == 0);
    const pid_t child = fork();
    if (child == 0) writeUntilKilled(open, round, ends[1]);
    close(ends[1]);
    // A few commits, then somewhere within the next one.
    const int wanted = static_cast<int>(random() % 4);
    int number = 0, got = 0;
    // A child of a process with threads may stand still at a lock that a thread held when it was made: such a
    // one is killed as it stands.
    const auto take = [&] {
      pollfd ready{ends[0], POLLIN, 0};
      if (poll(&ready, 1, 2000) <= 0) return false;
      if (read(ends[0], &number, sizeof number) != sizeof number) return false;
      acknowledged.insert("bench-" + std::to_string(round) + "-" + std::to_string(number));
      return true;
    };
    while (got < wanted && take()) ++got;
    std::this_thread::sleep_for(std::chrono::microseconds(random() % 3000));  // the random moment itself
    kill(child, SIGKILL);
    waitpid(child, nullptr, 0);
    while (take()) ++got;
    close(ends[0]);
    if (got == 0) ++withoutAny;
  }
  const Snapshot s = open()->load();
  std::set<std::string> there;
  for (const auto& [id, m] : s.machines) there.insert(m.name);
  CHECK(std::includes(there.begin(), there.end(), acknowledged.begin(), acknowledged.end()));
  // What was not acknowledged may be there, one for each process at most.
  CHECK(there.size() <= acknowledged.size() + static_cast<std::size_t>(times));
  CHECK(withoutAny < times / 2);
  CHECK(static_cast<int>(s.machines.size()) == static_cast<int>(there.size()));
}

}  // namespace kw::test

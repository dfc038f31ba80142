// The tables that engines stand in, and settings whose stored values cannot be.
#include "base/file.hpp"
#include "record/catalogue.hpp"
#include "record/setting.hpp"
#include "route/engine.hpp"
#include "tests/support.hpp"

using namespace kw;

TEST_CASE("Every kind of way in has an engine, and every engine a kind", "[route]") {
  for (const WayKind& kind : allWayKinds()) {
    INFO(kind.name);
    CHECK(engineFor(kind.name) != nullptr);
    CHECK(findWayKind(kind.name) == &kind);
    if (kind.hasPath) CHECK(kind.port == 0);
  }
  for (const Engine* engine : allEngines())
    CHECK(std::any_of(allWayKinds().begin(), allWayKinds().end(),
                      [&](const WayKind& k) { return std::string(k.family) == engine->family; }));
  CHECK(engineFor("gopher") == nullptr);
}

TEST_CASE("Settings name kinds, families or forms that there are; each has a value it allows", "[record]") {
  std::set<std::string> known{"screen", "text"};
  for (const WayKind& kind : allWayKinds()) known.insert({kind.name, kind.family});
  for (const Setting& s : allSettings()) {
    INFO(s.key);
    CHECK(problemWith(s, s.standard).empty());
    for (const std::string& p : s.protocols) CHECK(known.contains(p));
  }
  CHECK(appliesTo(*findSetting("screen.quality"), "vnc+unix"));
  CHECK(appliesTo(*findSetting("clipboard.way"), "rdp"));
  CHECK_FALSE(appliesTo(*findSetting("rdp.security"), "vnc"));
  CHECK(appliesTo(*findSetting("text.scheme"), "ssh"));
}

TEST_CASE("A stored value that cannot be counts as the built-in one and is told; writing one is refused",
          "[record]") {
  Snapshot s;
  Folder place;
  place.id = 1, place.name = "Alder Vale";
  s.folders[1] = place;
  Machine m;
  m.id = 2, m.folder = 1, m.name = "mist-bench";
  s.machines[2] = m;
  s.settings[{OwnerKind::Machine, 2}] = {{"connect.limit", "soon"}, {"screen.fit", "wide"}};
  s.settings[{OwnerKind::Folder, 1}] = {{"connect.limit", "25"}};
  s.index();
  const Owner owner{OwnerKind::Machine, 2};
  const ResolvedSetting limit = s.resolve(owner, "connect.limit");
  CHECK(limit.value == "25");
  CHECK(limit.origin == "from place Alder Vale");
  CHECK_FALSE(limit.trouble.empty());
  CHECK(s.resolve(owner, "screen.fit").value == "shrink");
  CHECK(wholeOf(settingsOf(s, owner), "connect.limit") == 25);
  CHECK(wholeOf([](const std::string&) { return std::string("soon"); }, "connect.limit") == 10);
  test::TemporaryFolder folder;
  auto store = openSqliteStore(folder.path / "records.sqlite");
  CHECK_THROWS_WITH(store->commit("wrong", [&](StoreWriter& w) { w.set(owner, "connect.limit", "soon"); }),
                    Catch::Contains("not a whole number"));
  CHECK_THROWS_WITH(store->commit("wrong", [&](StoreWriter& w) { w.set(owner, "no.such", "1"); }),
                    Catch::Contains("no setting"));
}

TEST_CASE("A route that cannot be read has no jump, and throws nothing", "[route]") {
  Snapshot s;
  Machine m;
  m.id = 1, m.name = "mist-bench";
  s.machines[1] = m;
  Endpoint e;
  e.id = 2, e.machine = 1, e.address = "vnc://127.0.0.1:5907";
  s.endpoints[2] = e;
  s.settings[{OwnerKind::WayIn, 2}] = {{"route.via", "ssh://[broken"}};
  s.index();
  CHECK_FALSE(nearestJump(s, 2));
  s.settings[{OwnerKind::WayIn, 2}] = {{"route.via", "ssh://duty@192.0.2.1"}};
  REQUIRE(nearestJump(s, 2));
  CHECK(nearestJump(s, 2)->host == "192.0.2.1");
}

TEST_CASE("Two sites' machines with one address are two peers", "[route]") {
  OpeningTools tools;
  Runtime runtime(1);
  tools.ssh = std::make_shared<SshPool>([&] { return runtime.strand(); });
  const Address address = parseAddress("vnc://192.0.2.10:5901");
  const auto via = [&](const std::string& jump) {
    return wayTo(address, overlaid(builtInSettings(), {{"route.via", jump}}), tools)->pinName();
  };
  CHECK(via("") == "192.0.2.10:5901");
  CHECK(via("ssh://duty@192.0.2.1") == "192.0.2.1:22 > 192.0.2.10:5901");
  CHECK(via("ssh://duty@192.0.2.1") != via("ssh://duty@192.0.2.2"));
}

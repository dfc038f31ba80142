// Two people changed one record.
#include <random>

#include <fstream>

#include "record/checks.hpp"
#include "record/merge.hpp"
#include "record/store.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

RecordDraft plainDraft() {
  RecordDraft d;
  d.machine.id = 7, d.machine.name = "mist-bench", d.machine.notes = "valve A";
  d.group = "Alder Vale / Glasshouses";
  Endpoint screen, line;
  screen.id = 1, screen.label = "screen", screen.address = "vnc://127.0.0.11:5907";
  line.id = 2, line.label = "line", line.address = "tcp://127.0.0.11:4000";
  d.ways = {screen, line};
  d.settings[{OwnerKind::Machine, 7}]["screen.fit"] = "fill";
  return d;
}

const MergeField& fieldOf(const std::vector<MergeField>& all, const std::string& what) {
  for (const MergeField& f : all)
    if (f.what == what) return f;
  FAIL("no field " << what);
  return all.front();
}

}  // namespace

TEST_CASE("What two people changed in different places comes together by itself", "[merge]") {
  const RecordDraft base = plainDraft();
  RecordDraft mine = base, theirs = base;
  mine.machine.notes = "valve B sticks";
  mine.ways[0].address = "vnc://127.0.0.11:5908";
  mine.settings[{OwnerKind::WayIn, 1}]["screen.colours"] = "16";
  theirs.machine.tags = "controller";
  theirs.machine.version = 9;
  theirs.settings[{OwnerKind::Machine, 7}].erase("screen.fit");
  const auto fields = differencesOf(base, mine, theirs);
  CHECK(fields.size() == 5);
  for (const MergeField& f : fields) CHECK_FALSE(f.bothChanged());
  const RecordDraft out = merged(theirs, mine, fields);
  CHECK(out.machine.notes == "valve B sticks");
  CHECK(out.machine.tags == "controller");
  CHECK(out.machine.version == 9);
  CHECK(out.ways[0].address == "vnc://127.0.0.11:5908");
  CHECK(out.settings.at({OwnerKind::WayIn, 1}).at("screen.colours") == "16");
  CHECK(out.settings.at({OwnerKind::Machine, 7}).empty());
}

TEST_CASE("Where both changed the same, somebody chooses", "[merge]") {
  const RecordDraft base = plainDraft();
  RecordDraft mine = base, theirs = base;
  mine.machine.notes = "mine", theirs.machine.notes = "theirs";
  mine.group = "Alder Vale / Orchard", mine.machine.folder = 4;
  auto fields = differencesOf(base, mine, theirs);
  REQUIRE(fields.size() == 2);
  CHECK(fieldOf(fields, "Notes").bothChanged());
  CHECK(merged(theirs, mine, fields).machine.notes == "mine");
  for (MergeField& f : fields) f.takeMine = false;
  CHECK(merged(theirs, mine, fields).machine.notes == "theirs");
  CHECK(merged(theirs, mine, fields).group == base.group);
}

TEST_CASE("Ways in that one side added or removed", "[merge]") {
  const RecordDraft base = plainDraft();
  RecordDraft mine = base, theirs = base;
  Endpoint added;
  added.label = "shell", added.address = "ssh://127.0.0.11";
  SECTION("mine are added and removed") {
    mine.ways.pop_back();
    mine.ways.push_back(added);
    const RecordDraft out = merged(theirs, mine, differencesOf(base, mine, theirs));
    REQUIRE(out.ways.size() == 2);
    CHECK(out.ways[0].id == 1);
    CHECK(out.ways[1].address == "ssh://127.0.0.11");
  }
  SECTION("theirs are added and removed") {
    added.id = 3;
    theirs.ways = {theirs.ways[0], added};
    const RecordDraft out = merged(theirs, mine, differencesOf(base, mine, theirs));
    REQUIRE(out.ways.size() == 2);
    CHECK(out.ways[1].id == 3);
  }
  SECTION("one that they removed while I changed it comes back when I say so") {
    theirs.ways.pop_back();
    mine.ways[1].address = "tcp://127.0.0.11:4001";
    auto fields = differencesOf(base, mine, theirs);
    CHECK(merged(theirs, mine, fields).ways.size() == 1);
    for (MergeField& f : fields) f.takeMine = true;
    const RecordDraft out = merged(theirs, mine, fields);
    REQUIRE(out.ways.size() == 2);
    CHECK(out.ways[1].id == 0);
    CHECK(out.ways[1].address == "tcp://127.0.0.11:4001");
  }
}

TEST_CASE("Whatever two people do, merging with all of one side gives that side", "[merge]") {
  std::mt19937 random(7);
  const auto pick = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
  const auto changed = [&](RecordDraft d) {
    for (int i = 0; i < pick(5); ++i) switch (pick(5)) {
        case 0: d.machine.notes = std::to_string(pick(3)); break;
        case 1: d.machine.tags = std::to_string(pick(3)); break;
        case 2:
          if (!d.ways.empty()) d.ways[0].address = "vnc://127.0.0.1:" + std::to_string(5900 + pick(3));
          break;
        case 3:
          if (d.ways.size() > 1) d.ways.pop_back();
          break;
        default: d.settings[{OwnerKind::Machine, 7}]["screen.colours"] = pick(2) == 0 ? "8" : "16";
      }
    return d;
  };
  for (int i = 0; i < 300; ++i) {
    const RecordDraft base = plainDraft(), mine = changed(base), theirs = changed(base);
    auto fields = differencesOf(base, mine, theirs);
    for (MergeField& f : fields) f.takeMine = true;
    RecordDraft out = merged(theirs, mine, fields);
    for (Endpoint& e : out.ways)
      if (e.id == 0) e.id = 2;  // came back as a new one
    CHECK(differencesOf(base, out, mine).empty());
    for (MergeField& f : fields) f.takeMine = false;
    CHECK(differencesOf(base, merged(theirs, mine, fields), theirs).empty());
    // Nobody's change is lost by what is chosen beforehand, except where both changed the same.
    for (const MergeField& f :
         differencesOf(base, merged(theirs, mine, differencesOf(base, mine, theirs)), theirs))
      CHECK(f.mine != f.base);
  }
}

TEST_CASE("The records themselves say what is wrong in them", "[record]") {
  test::TemporaryFolder folder;
  const auto store = openSqliteStore(folder.path / "records.sqlite");
  const std::string key = (folder.path / "key").string();
  std::ofstream(key) << "x";
  std::filesystem::permissions(key, std::filesystem::perms(0644));
  Id mist = 0, way = 0, shell = 0;
  store->commit("fill", [&](StoreWriter& w) {
    for (const char* name : {"mist-bench", "audio-guide"}) {
      Machine m;
      m.name = name;
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "screen", e.address = "vnc://127.0.0.11:5907";
      w.put(e);
      if (mist == 0) mist = m.id, way = e.id;
    }
    Endpoint ssh;
    ssh.machine = mist, ssh.label = "shell", ssh.address = "ssh://127.0.0.11";
    w.put(ssh);
    shell = ssh.id;
    Credential c;
    c.name = "old", c.expires = "2020-01-01";
    w.put(c);
    w.set({OwnerKind::WayIn, shell}, "ssh.keys", key + ", /no/such/key");
    w.set({OwnerKind::WayIn, way}, "route.via", "nobody, audio-guide, mist-bench");
    w.set({OwnerKind::WayIn, way}, "signin.from", "named:old");
    w.set({OwnerKind::Machine, mist}, "commands.before", "echo {nothing}");
  });
  const Snapshot s = store->load();
  const auto said = [&](Id id, const std::string& words) {
    const auto all = checksOf(s, s.endpoints.at(id));
    return std::count_if(all.begin(), all.end(), [&](const RecordCheck& c) {
      return c.sentence.find(words) != std::string::npos && !c.cure.empty();
    });
  };
  CHECK(said(way, "also set on audio-guide") == 1);
  CHECK(said(way, "nobody, which is not in the records") == 1);
  CHECK(said(way, "audio-guide has no way in that can carry") == 1);
  CHECK(said(way, "through itself") == 1);
  CHECK(said(way, "was to be changed by 2020") == 1);
  CHECK(said(way, "command of its own") == 1);
  CHECK(said(shell, "others may read the key file") == 1);
  CHECK(said(shell, "/no/such/key is not there") == 1);
  // What is typed counts, kept or not.
  Endpoint draft = s.endpoints.at(shell);
  draft.address = "vnc://127.0.0.11:7";
  CHECK(checksOf(s, draft).front().sentence.find("not display 7") != std::string::npos);
  // Another machine's name in the address: a copy that was not changed, unless that one runs this one.
  const auto warns = [&](const Snapshot& records) {
    Endpoint copy = records.endpoints.at(shell);
    copy.address = "vnc://audio-guide:5999";
    const auto all = checksOf(records, copy);
    return std::any_of(all.begin(), all.end(), [](const RecordCheck& c) {
      return c.sentence == "its address names audio-guide, which is another machine" && !c.trouble;
    });
  };
  CHECK(warns(s));
  Snapshot hosted = s;
  hosted.machines.at(hosted.endpoints.at(shell).machine).host = "audio-guide";
  hosted.index();
  CHECK_FALSE(warns(hosted));
  const SettingChanges typed{{{OwnerKind::WayIn, way}, {{"signin.from", "named:gone"}}}};
  const auto all = checksOf(s, s.endpoints.at(way), &typed);
  CHECK(std::any_of(all.begin(), all.end(), [](const RecordCheck& c) {
    return c.sentence.find("\"gone\", which is not there") != std::string::npos;
  }));
  CHECK(checksOfAll(s).size() >= 9);
  CHECK(checksOfAll(s).front().trouble);
}

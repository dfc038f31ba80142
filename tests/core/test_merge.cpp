// Two people changed one record.
#include <random>

#include "record/merge.hpp"
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

// Long made-up histories against a plain model of what should come out: what a single example does not meet.
#include <map>
#include <random>
#include <set>

#include "picture/region.hpp"
#include "record/roster.hpp"
#include "record/store.hpp"
#include "rfb/constants.hpp"
#include "rfb/encoders.hpp"
#include "rfb/rect_decoder.hpp"
#include "tests/support.hpp"
#include "text/terminal.hpp"
#include "wire/wire_reader.hpp"

using namespace kw;
using namespace kw::rfb;

namespace {

class Dice {
 public:
  explicit Dice(unsigned seed) : engine_(seed) {}
  int upTo(int most) { return std::uniform_int_distribution<int>(0, most)(engine_); }
  int from(int least, int most) { return std::uniform_int_distribution<int>(least, most)(engine_); }
  bool oneIn(int n) { return upTo(n - 1) == 0; }
  template <typename T>
  const T& of(const std::vector<T>& all) {
    return all[static_cast<std::size_t>(upTo(static_cast<int>(all.size()) - 1))];
  }
  std::mt19937& engine() { return engine_; }

 private:
  std::mt19937 engine_;
};

// --- records

/// What the store should hold, without its rules and files.
struct Desired {
  std::map<Id, Folder> folders;
  std::map<Id, Machine> machines;
  std::map<Id, Endpoint> ways;
  std::map<Owner, SettingValues> settings;

  void removeWay(Id id) {
    settings.erase({OwnerKind::WayIn, id});
    ways.erase(id);
  }
  void removeMachine(Id id) {
    for (auto at = ways.begin(); at != ways.end();) {
      const auto [way, e] = *at++;
      if (e.machine == id) removeWay(way);
    }
    settings.erase({OwnerKind::Machine, id});
    machines.erase(id);
  }
  void removeFolder(Id id) {
    for (const auto& [child, f] : std::map(folders))
      if (f.parent == id) removeFolder(child);
    for (const auto& [m, machine] : std::map(machines))
      if (machine.folder == id) removeMachine(m);
    settings.erase({OwnerKind::Folder, id});
    folders.erase(id);
  }
  [[nodiscard]] std::string text() const {
    std::string out;
    for (const auto& [id, f] : folders)
      out += "F" + std::to_string(id) + " " + std::to_string(f.parent) + " " + f.name + " " + f.host + "\n";
    for (const auto& [id, m] : machines)
      out += "M" + std::to_string(id) + " " + std::to_string(m.folder) + " " + m.name + " " + m.tags + "\n";
    for (const auto& [id, e] : ways)
      out += "W" + std::to_string(id) + " " + std::to_string(e.machine) + " " + e.address + "\n";
    for (const auto& [owner, values] : settings)
      for (const auto& [key, value] : values)
        out += "S" + std::to_string(static_cast<int>(owner.kind)) + "/" + std::to_string(owner.id) + " " +
               key + "=" + value + "\n";
    return out;
  }
};

Desired heldBy(Store& store) {
  const Snapshot s = store.load();
  Desired d;
  d.folders.insert(s.folders.begin(), s.folders.end());
  d.machines.insert(s.machines.begin(), s.machines.end());
  d.ways.insert(s.endpoints.begin(), s.endpoints.end());
  for (const auto& [owner, values] : s.settings)
    if (!values.empty()) d.settings[owner] = values;
  return d;
}

template <typename T>
Id anyOf(Dice& dice, const std::map<Id, T>& all) {
  if (all.empty()) return 0;
  return std::next(all.begin(), dice.upTo(static_cast<int>(all.size()) - 1))->first;
}

/// One change, done to the writer and to the model alike.
void change(Dice& dice, StoreWriter& w, Desired& d) {
  static const std::vector<std::string> kNames = {"Alder Vale", "Glasshouses", "palm-house", "mist-bench",
                                                  "Größe",      "a b",         "'; --",      "weather-mast"};
  switch (dice.upTo(9)) {
    case 0:
    case 1: {
      Folder f;
      f.parent = dice.oneIn(2) ? 0 : anyOf(dice, d.folders), f.name = dice.of(kNames),
      f.host = dice.of(kNames);
      w.put(f);
      d.folders[f.id] = f;
      break;
    }
    case 2:
    case 3: {
      Machine m;
      m.folder = anyOf(dice, d.folders), m.name = dice.of(kNames), m.tags = dice.of(kNames);
      w.put(m);
      d.machines[m.id] = m;
      break;
    }
    case 4:
    case 5: {
      Endpoint e;
      e.machine = anyOf(dice, d.machines);
      if (e.machine == 0) break;
      e.address = "vnc://fernery:" + std::to_string(dice.from(5900, 5999)), e.label = "screen";
      w.put(e);
      d.ways[e.id] = e;
      break;
    }
    case 6: {
      const Id id = anyOf(dice, d.machines);
      if (id == 0) break;
      Machine& m = d.machines[id];
      m.name = dice.of(kNames), m.folder = anyOf(dice, d.folders);
      w.put(m);
      break;
    }
    case 7: {
      const Owner owner = dice.oneIn(2) ? Owner{OwnerKind::Machine, anyOf(dice, d.machines)}
                                        : Owner{OwnerKind::Folder, anyOf(dice, d.folders)};
      if (owner.id == 0) break;
      const std::string key = dice.oneIn(2) ? "reconnect.longest" : "connect.limit";
      if (dice.oneIn(3)) {
        w.set(owner, key, std::nullopt);
        d.settings[owner].erase(key);
        if (d.settings[owner].empty()) d.settings.erase(owner);
      } else {
        const std::string value = std::to_string(dice.from(1, 60));
        w.set(owner, key, value);
        d.settings[owner][key] = value;
      }
      break;
    }
    case 8:
      if (const Id id = anyOf(dice, d.machines); id != 0 && dice.oneIn(2)) {
        w.removeMachine(id);
        d.removeMachine(id);
      }
      break;
    default:
      if (const Id id = anyOf(dice, d.folders); id != 0 && dice.oneIn(3)) {
        w.removeFolder(id);
        d.removeFolder(id);
      }
  }
}

}  // namespace

TEST_CASE("the store agrees with a plain model through commits, failures, undos and reopening",
          "[store][model]") {
  const unsigned seed = GENERATE(range(1U, 7U));
  CAPTURE(seed);
  Dice dice(seed);
  test::TemporaryFolder folder;
  auto store = openSqliteStore(folder.path / "records.sqlite");
  Desired now;
  std::vector<Desired> before;  // what each undo should bring back
  for (int step = 0; step < 120; ++step) {
    CAPTURE(step);
    if (dice.oneIn(6) && !before.empty()) {
      CHECK_FALSE(store->undo().empty());
      now = before.back();
      before.pop_back();
      // An undo raises versions; what is written next must say the newer ones.
      const Desired held = heldBy(*store);
      REQUIRE(held.text() == now.text());
      now = held;
      continue;
    }
    Desired next = now;
    const bool fails = dice.oneIn(8);
    const int changes = dice.from(1, 6);
    try {
      const std::string title = "step " + std::to_string(step);
      store->commit(title, [&](StoreWriter& w) {
        for (int i = 0; i < changes; ++i) change(dice, w, next);
        if (fails) throw Error(ErrorKind::Local, "given up");
      });
      CHECK_FALSE(fails);
      const Desired held = heldBy(*store);
      REQUIRE(held.text() == next.text());
      const bool canBeUndone = store->undoTitle() == title;
      CHECK((canBeUndone || held.text() == now.text()));
      if (canBeUndone) before.push_back(now);
      now = held;
    } catch (const Error& e) {
      REQUIRE(fails);
      CHECK(std::string(e.what()).find("given up") != std::string::npos);
      REQUIRE(heldBy(*store).text() == now.text());
    }
    if (dice.oneIn(15)) {
      store.reset();
      store = openSqliteStore(folder.path / "records.sqlite");
      REQUIRE(heldBy(*store).text() == now.text());
    }
  }
}

TEST_CASE("undoing everything leads back to the empty store", "[store][model]") {
  Dice dice(77);
  test::TemporaryFolder folder;
  auto store = openSqliteStore(folder.path / "records.sqlite");
  Desired now;
  for (int step = 0; step < 30; ++step) {
    store->commit("step", [&](StoreWriter& w) {
      Machine always;  // so that every commit changes something
      always.name = "gatehouse-" + std::to_string(step);
      w.put(always);
      now.machines[always.id] = always;
      for (int i = 0; i < 4; ++i) change(dice, w, now);
    });
    now = heldBy(*store);
  }
  CHECK_FALSE(now.text().empty());
  for (int step = 0; step < 30; ++step) CHECK(store->undo() == "step");
  CHECK(heldBy(*store).text().empty());
  CHECK(store->undo().empty());
}

// --- regions

TEST_CASE("a region covers exactly the pixels that were added to it", "[picture][model]") {
  const unsigned seed = GENERATE(range(1U, 20U));
  Dice dice(seed);
  constexpr int kSide = 40;
  Region region = Region::exact();
  std::vector<bool> model(kSide * kSide);
  for (int step = 0; step < 25; ++step) {
    const int x = dice.upTo(kSide - 1), y = dice.upTo(kSide - 1);
    const Rect r{x, y, dice.from(1, kSide - x), dice.from(1, kSide - y)};
    region.add(r);
    for (int j = r.y; j < r.bottom(); ++j)
      for (int i = r.x; i < r.right(); ++i) model[static_cast<std::size_t>(j * kSide + i)] = true;
  }
  std::vector<int> covered(kSide * kSide);
  for (const Rect& r : region.rects())
    for (int j = r.y; j < r.bottom(); ++j)
      for (int i = r.x; i < r.right(); ++i) ++covered[static_cast<std::size_t>(j * kSide + i)];
  for (std::size_t i = 0; i < model.size(); ++i) {
    CAPTURE(seed, i);
    REQUIRE(covered[i] == (model[i] ? 1 : 0));  // once, and nothing else
  }
}

// --- encodings

TEST_CASE("rectangles of every size in every encoding, one after the other on the same streams",
          "[rfb][encoding][model]") {
  const unsigned seed = GENERATE(range(1U, 6U));
  CAPTURE(seed);
  Dice dice(seed);
  const Size size{333, 211};
  const std::vector<std::int32_t> encodings = {encoding::kRaw, encoding::kHextile, encoding::kZrle,
                                               encoding::kTrle, encoding::kTight};
  RectEncoder encoder(PixelFormat::native());
  RectDecoder decoder(PixelFormat::native());
  Framebuffer shown(size), there(size);
  runToEnd([&]() -> Task<void> {
    for (int step = 0; step < 60; ++step) {
      const Framebuffer fresh = test::colourfulPicture(size, static_cast<unsigned>(step) + seed * 100);
      const int x = dice.upTo(size.width - 1), y = dice.upTo(size.height - 1);
      const Rect area{x, y, dice.oneIn(4) ? 1 : dice.from(1, size.width - x),
                      dice.oneIn(4) ? 1 : dice.from(1, size.height - y)};
      for (int j = area.y; j < area.bottom(); ++j)
        std::copy_n(fresh.row(j) + area.x, area.width, there.at(area.x, j));
      if (dice.oneIn(5)) encoder.setCompression(dice.upTo(9));
      if (dice.oneIn(6)) encoder.rest();
      ByteWriter out;
      const std::int32_t wanted = dice.of(encodings);
      const int parts = encoder.encode(wanted, area, there, out);
      auto stream = replayStream({});
      WireReader in(*stream, Bytes(out.view().begin(), out.view().end()));
      for (int part = 0; part < parts; ++part) {
        Rect r;
        r.x = in.u16(), r.y = in.u16(), r.width = in.u16(), r.height = in.u16();
        const std::int32_t used = in.s32();
        co_await decoder.decode(used, r, in, shown);
      }
      INFO("step " << step << ", encoding " << wanted << ", " << area.width << "x" << area.height);
      REQUIRE(in.buffered() == 0);
      REQUIRE(test::samePixels(shown, there));
    }
  });
}

// --- terminal

namespace {

/// Text and sequences as programs send them, some of it broken.
std::string madeUpOutput(Dice& dice, int pieces) {
  static const std::vector<std::string> kPieces = {"palm-house",
                                                   "Größe",
                                                   "\xe2\x82\xac",
                                                   "\xf0\x9f\x8c\xbf",
                                                   "e\xcc\x81",
                                                   "\r\n",
                                                   "\t",
                                                   "\b",
                                                   "\x1b[H",
                                                   "\x1b[2J",
                                                   "\x1b[K",
                                                   "\x1b[1;31m",
                                                   "\x1b[0m",
                                                   "\x1b[?25l",
                                                   "\x1b[5;10H",
                                                   "\x1b[3L",
                                                   "\x1b[2M",
                                                   "\x1b[4P",
                                                   "\x1b[2@",
                                                   "\x1b[5X",
                                                   "\x1b[2;8r",
                                                   "\x1b[r",
                                                   "\x1bM",
                                                   "\x1b"
                                                   "D",
                                                   "\x1b[?1049h",
                                                   "\x1b[?1049l",
                                                   "\x1b]2;fernery\x07",
                                                   "\x1b[38;2;1;2;3m",
                                                   "\x1b[6n",
                                                   "\x1b#8",
                                                   "\x1b[?7l",
                                                   "\x1b[?7h",
                                                   "\x1b(0qqq\x1b(B",
                                                   "\x1b"
                                                   "7",
                                                   "\x1b"
                                                   "8",
                                                   "\x1b[?6h",
                                                   "\x1b[?6l",
                                                   "\xff\xfe",
                                                   "\x1b[999;999H",
                                                   "\x1b[",
                                                   "\x1b]8;;x\x1b\\y",
                                                   "\x1b[?69h\x1b[5;20s",
                                                   "\x1b[?69l",
                                                   "\x1b#3",
                                                   "\x1b#5",
                                                   "\x1b[3S",
                                                   "\x1b[2T",
                                                   "\x1b[20b"};
  std::string out;
  for (int i = 0; i < pieces; ++i) out += dice.of(kPieces);
  return out;
}

std::string stateOf(const text::Terminal& t) {
  const text::TextView v = t.screen();
  std::string out = t.textIn({v.oldestRow, v.screenTop + v.screenRows, 0, v.columns, false});
  out += "|" + std::to_string(v.cursorRow - v.screenTop) + "," + std::to_string(v.cursorColumn) + "," +
         std::to_string(v.screenTop) + (v.cursorVisible ? "v" : "") + (v.alternate ? "a" : "") + t.title();
  return out;
}

}  // namespace

TEST_CASE("a terminal shows the same however its input was cut", "[terminal][model]") {
  const unsigned seed = GENERATE(range(1U, 25U));
  CAPTURE(seed);
  Dice dice(seed);
  const std::string output = madeUpOutput(dice, 300);
  const Bytes bytes(output.begin(), output.end());
  text::Terminal whole(12, 40), cut(12, 40);
  std::string answersWhole, answersCut;
  whole.onAnswer = [&](const std::string& s) { answersWhole += s; };
  cut.onAnswer = [&](const std::string& s) { answersCut += s; };
  whole.feed(bytes);
  for (std::size_t at = 0; at < bytes.size();) {
    const std::size_t n = std::min<std::size_t>(static_cast<std::size_t>(dice.from(1, 9)), bytes.size() - at);
    cut.feed(ByteView(bytes).subspan(at, n));
    at += n;
  }
  CHECK(stateOf(whole) == stateOf(cut));
  CHECK(answersWhole == answersCut);
}

TEST_CASE("a terminal that changes its size again and again keeps its cursor inside and its text",
          "[terminal][model]") {
  const unsigned seed = GENERATE(range(1U, 13U));
  CAPTURE(seed);
  Dice dice(seed);
  text::Terminal t(12, 40);
  // Numbered lines, so that what is lost can be seen.
  int lines = 0;
  for (int step = 0; step < 120; ++step) {
    if (dice.oneIn(3)) {
      t.resize(dice.from(2, 40), dice.from(12, 130));
    } else {
      const std::string line = "line " + std::to_string(lines++) + " of the mist-bench\r\n";
      t.feed(Bytes(line.begin(), line.end()));
    }
    const text::TextView v = t.screen();
    REQUIRE(v.cursorColumn >= 0);
    REQUIRE(v.cursorColumn < v.columns);
    REQUIRE(v.cursorRow >= v.screenTop);
    REQUIRE(v.cursorRow < v.screenTop + v.screenRows);
  }
  t.resize(20, 80);
  const text::TextView v = t.screen();
  const std::string all = t.textIn({v.oldestRow, v.screenTop + v.screenRows, 0, v.columns, false});
  std::size_t at = 0;
  for (int i = 0; i < lines; ++i) {
    const std::string line = "line " + std::to_string(i) + " of the mist-bench";
    INFO(line);
    at = all.find(line, at);
    REQUIRE(at != std::string::npos);
  }
}

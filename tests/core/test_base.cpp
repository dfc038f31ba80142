#include <thread>

#include "base/bounded_reader.hpp"
#include "base/byte_ring.hpp"
#include "base/file.hpp"
#include "session/keys.hpp"
#include "tests/support.hpp"

using namespace kw;

TEST_CASE("UTF-8 is decoded strictly and repaired visibly", "[base]") {
  CHECK(utf8ToUtf32("a\xc3\xa4\xe2\x82\xac\xf0\x9f\x8c\xbf") == U"a\u00e4\u20ac\U0001f33f");
  CHECK(utf8ToUtf32("\xc0\xaf") == U"\ufffd\ufffd");            // overlong
  CHECK(utf8ToUtf32("\xed\xa0\x80") == U"\ufffd\ufffd\ufffd");  // a surrogate
  CHECK(utf8ToUtf32("\xe2\x82") == U"\ufffd\ufffd");            // cut off
  CHECK(cleanUtf8("fern\xff!") == "fern\xef\xbf\xbd!");
  CHECK(latin1ToUtf8("\xe4") == "\xc3\xa4");
  CHECK(utf8ToLatin1("\xc3\xa4\xe2\x82\xac") == "\xe4?");
}

TEST_CASE("A bounded reader never reads past its end", "[base]") {
  const Bytes bytes{1, 2, 3, 4, 5};
  BoundedReader in(bytes, "test message");
  CHECK(in.u8() == 1);
  CHECK(in.u16() == 0x0203);
  CHECK(in.left() == 2);
  try {
    in.u32();
    FAIL("read past the end");
  } catch (const Error& e) {
    CHECK(e.kind() == ErrorKind::ProtocolBroken);
    CHECK(std::string(e.what()) == "test message: ends early: 4 bytes wanted at offset 3, 2 left");
  }
  CHECK(in.u16() == 0x0405);
}

TEST_CASE("A file is written whole or not at all", "[base]") {
  test::TemporaryFolder folder;
  const auto file = folder.path / "note";
  writeFileSafely(file, viewOf("first"), 0600);
  CHECK(textOf(readFile(file)) == "first");
  CHECK((std::filesystem::status(file).permissions() & std::filesystem::perms::all) ==
        (std::filesystem::perms::owner_read | std::filesystem::perms::owner_write));
  // A full disk: the old contents stay and nothing is left lying about.
  if (std::filesystem::exists("/dev/full")) {
    std::filesystem::create_directory_symlink("/dev", folder.path / "dev");
    CHECK_THROWS_AS(writeFileSafely("/proc/kettle-window-test", viewOf("x")), Error);
  }
  CHECK_THROWS_AS(writeFileSafely(folder.path / "no" / "such" / "folder", viewOf("x")), Error);
  CHECK(textOf(readFile(file)) == "first");
  CHECK(std::distance(std::filesystem::directory_iterator(folder.path), {}) <= 2);
  CHECK_THROWS_AS(readFile(file, 3), Error);
}

TEST_CASE("A manual clock wakes sleepers only when their time has come", "[base]") {
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  auto clock = std::make_shared<ManualClock>();
  std::atomic<int> woken{0};
  for (int seconds : {1, 5})
    spawn(
        strand, [clock, seconds]() -> Task<void> { co_await clock->sleep(std::chrono::seconds(seconds)); },
        [&](std::exception_ptr) { ++woken; });
  REQUIRE(test::eventually([&] { return clock->sleepers() == 2; }));
  clock->advance(std::chrono::milliseconds(999));
  CHECK(woken == 0);
  clock->advance(std::chrono::milliseconds(2));
  CHECK(test::eventually([&] { return woken == 1; }));
  clock->advance(std::chrono::seconds(5));
  CHECK(test::eventually([&] { return woken == 2; }));
}

TEST_CASE("firstOf ends with whichever ends first, also when that is a failure", "[base]") {
  const auto fail = []() -> Task<void> {
    throw Error(ErrorKind::Refused, "no");
    co_return;
  };
  const auto forever = []() -> Task<void> { co_await systemClock()->sleep(std::chrono::hours(1)); };
  const auto quick = []() -> Task<void> { co_return; };
  CHECK_THROWS_AS(runToEnd([&] { return firstOf(forever(), fail()); }), Error);
  CHECK_NOTHROW(runToEnd([&] { return firstOf(quick(), forever()); }));
  try {
    runToEnd([&] { return within(std::chrono::milliseconds(5), "the test", forever()); });
    FAIL("no time-out");
  } catch (const Error& e) {
    CHECK(e.kind() == ErrorKind::TimedOut);
    CHECK(e.where() == "the test");
  }
}

TEST_CASE("Keys are known by name, character and code", "[keys]") {
  CHECK(chordFromText("ctrl+alt+delete") ==
        Chord{{keysym::kControlLeft, 0x1d}, {keysym::kAltLeft, 0x38}, {keysym::kDelete, 0xe053}});
  CHECK(chordFromText("F12") == Chord{{keysym::kF1 + 11, 0x58}});
  CHECK(chordFromText("ctrl++") == Chord{{keysym::kControlLeft, 0x1d}, {'+', 0x0d}});
  CHECK_THROWS_AS(chordFromText("ctrl+nosuchkey"), Error);
  CHECK_THROWS_AS(chordFromText(""), Error);
  const auto typed = chordsForText("aB\n\xc3\xa4");
  REQUIRE(typed.size() == 4);
  CHECK(typed[0] == Chord{{'a', 0x1e}});
  CHECK(typed[1] == Chord{{keysym::kShiftLeft, 0x2a}, {'B', 0x30}});
  CHECK(typed[2] == Chord{{keysym::kReturn, 0x1c}});
  CHECK(typed[3] == Chord{{0xe4, 0}});
  CHECK(keysymOf(U'\u20ac') == 0x010020ac);
}

TEST_CASE("a ring of bytes keeps order and amount between two threads", "[base]") {
  ByteRing ring(256);
  constexpr std::size_t kAll = 1'000'000;
  std::thread producer([&] {
    Bytes piece;
    for (std::size_t made = 0; made < kAll;) {
      piece.clear();
      for (std::size_t i = 0; i < std::min<std::size_t>(1 + made % 300, kAll - made); ++i)
        piece.push_back(static_cast<Byte>((made + i) * 31 >> 3));
      made += ring.put(piece);
    }
  });
  std::size_t taken = 0, wrong = 0;
  Bytes into(97);
  while (taken < kAll) {
    const std::size_t n = ring.take(ByteSpan(into).first(1 + taken % into.size()));
    for (std::size_t i = 0; i < n; ++i)
      if (into[i] != static_cast<Byte>((taken + i) * 31 >> 3)) ++wrong;
    taken += n;
  }
  producer.join();
  CHECK(taken == kAll);
  CHECK(wrong == 0);
  CHECK(ring.lies() == 0);
}

TEST_CASE("a ring of bytes takes no more than it has room for", "[base]") {
  ByteRing ring(8);
  const Bytes ten = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9};
  CHECK(ring.put(ten) == 8);
  CHECK(ring.room() == 0);
  CHECK(ring.put(ten) == 0);
  Bytes five(5);
  CHECK(ring.take(five) == 5);
  CHECK(ring.put(ByteView(ten).subspan(8)) == 2);
  Bytes rest(8);
  CHECK(ring.take(rest) == 5);
  CHECK(Bytes(rest.begin(), rest.begin() + 5) == Bytes{5, 6, 7, 8, 9});
  CHECK(ring.take(rest) == 0);
}

// What the gateway looks after by itself: people locked in the team's database, recordings that are too old.
#include <atomic>
#include <fstream>

#include "gate/recording.hpp"
#include "tests/core/gate_bench.hpp"

using namespace kw;
using namespace kw::test;

namespace {

using std::chrono::hours;

/// Finished, and last written to so long ago.
std::string recordedBefore(const std::filesystem::path& folder, hours age) {
  std::string file;
  {
    RecordingWriter out(folder, "mist-bench", "screen", false);
    out.note("seed desk");
    file = out.file();
  }
  std::filesystem::last_write_time(folder / file, std::filesystem::file_time_type::clock::now() - age);
  return file;
}

}  // namespace

TEST_CASE("Whoever the team's database lets in no more is sent away; others stay", "[gate]") {
  std::atomic<bool> locked{false}, othersAsked{false};
  GateOptions options;
  options.upkeepEvery = std::chrono::milliseconds(20);
  options.storeSignIn = [](const std::string&, const std::string& password) {
    return password == "volunteers-drive";
  };
  options.storeRefuses = [&](const std::vector<std::string>& people) {
    if (people != std::vector<std::string>{"night volunteer"}) othersAsked = true;
    return locked ? people : std::vector<std::string>();
  };
  GateBench b("", {}, options);
  b.gate->store().addStoreAccount("night volunteer", Role::Drive);
  const std::string duty = b.signIn("duty", "duty-at-the-gate"),
                    night = b.signIn("night volunteer", "volunteers-drive");
  runToEnd([&]() -> Task<void> {
    const auto live = co_await b.page("/live", night);
    const auto visit = co_await b.page("/visit?way=" + std::to_string(b.way), night);
    co_await GateBench::until(visit, "\"size\"");
    CHECK(b.gate->store().signedInByStore(nowSeconds()).size() == 1);
    locked = true;
    co_await GateBench::until(live, "signedOut");
    bool ended = false;
    try {
      co_await GateBench::until(visit, "words that never come");
    } catch (const Error& e) {
      ended = e.kind() != ErrorKind::TimedOut;
    }
    CHECK(ended);
  });
  CHECK(b.get("/me", night).starts_with("HTTP/1.1 401"));
  CHECK(b.get("/me", duty).starts_with("HTTP/1.1 200"));
  CHECK_FALSE(othersAsked);
  CHECK(b.gate->store().signedInByStore(nowSeconds()).empty());
  CHECK(b.gate->store().newestAudit("the team's database lets it in no more", 5).size() == 1);
}

TEST_CASE("Recordings are removed by age, but never one that is being written", "[gate]") {
  TemporaryFolder folder;
  const std::string old = recordedBefore(folder.path, hours(24 * 40)),
                    young = recordedBefore(folder.path, hours(24 * 20));
  std::ofstream(folder.path / "notes.txt") << "not a recording";
  std::filesystem::last_write_time(folder.path / "notes.txt",
                                   std::filesystem::file_time_type::clock::now() - hours(24 * 400));
  {
    RecordingWriter running(folder.path, "mist-bench", "screen", false);
    std::filesystem::last_write_time(folder.path / running.file(),
                                     std::filesystem::file_time_type::clock::now() - hours(24 * 40));
    CHECK(removeOldRecordings(folder.path, hours(24 * 30)) == std::vector<std::string>{old});
    CHECK(std::filesystem::exists(folder.path / running.file()));
  }
  CHECK(std::filesystem::exists(folder.path / young));
  CHECK(std::filesystem::exists(folder.path / "notes.txt"));
  CHECK(removeOldRecordings(folder.path / "none", hours(1)).empty());
}

TEST_CASE("A gateway that keeps recordings for some days removes older ones, and says so in the audit",
          "[gate]") {
  const bool kept = GENERATE(false, true);
  std::atomic<int> rounds{0};
  GateOptions options;
  options.upkeepEvery = std::chrono::milliseconds(20);
  options.storeSignIn = [](const std::string&, const std::string&) { return true; };
  options.storeRefuses = [&](const std::vector<std::string>&) {
    ++rounds;
    return std::vector<std::string>();
  };
  if (!kept) options.keepRecordings = hours(24 * 30);
  GateBench b("", {}, options);
  const auto folder = b.folder.path / "gate" / "recordings";
  const std::string file = recordedBefore(folder, hours(24 * 40));
  b.gate->store().addStoreAccount("night volunteer", Role::Drive);
  b.signIn("night volunteer", "volunteers-drive");
  const auto whole = [&] { return rounds >= 3; };  // so that two were made to their end
  runToEnd([&]() -> Task<void> {
    for (int i = 0; i < 1000 && !whole(); ++i) co_await systemClock()->sleep(std::chrono::milliseconds(20));
  });
  REQUIRE(whole());
  CHECK(std::filesystem::exists(folder / file) == kept);
  CHECK(b.gate->store().newestAudit("removes an old recording", 5).size() == (kept ? 0 : 1));
}

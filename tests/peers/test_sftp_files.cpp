// Files over OpenSSH's server, and its answers on a busy machine.
#include <fstream>
#include <thread>

#include "ssh/sftp.hpp"
#include "tests/peers/ssh_support.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

/// Files over a server.
class SftpBench : public SshBench {
 public:
  /// One thread is the hardest case: nobody else sees what it read by the way.
  explicit SftpBench(unsigned threads = 2) : runtime_(threads) {}
  /// On a connection of its own; two strands, as the window has them.
  void with(const std::function<Task<void>(Sftp&, SshConnection&)>& work) {
    const Executor strand = runtime_.strand(), other = runtime_.strand();
    runToEnd([&]() -> Task<void> {
      auto connection = co_await connect(strand);
      StreamPtr stream = co_await connection->subsystem("sftp");
      auto sftp = co_await Sftp::open(other, std::move(stream));
      co_await work(*sftp, *connection);
      sftp->close();
    });
  }

 private:
  Runtime runtime_;
};

/// Keeps every processor busy, so that threads are parted from their work at any point.
class BusyMachine {
 public:
  BusyMachine() {
    for (unsigned i = 0; i < 2 * std::thread::hardware_concurrency(); ++i)
      threads_.emplace_back([this] {
        while (!over_) {
        }
      });
  }
  ~BusyMachine() {
    over_ = true;
    for (std::thread& t : threads_) t.join();
  }
  BusyMachine(const BusyMachine&) = delete;
  BusyMachine& operator=(const BusyMachine&) = delete;

 private:
  std::atomic<bool> over_ = false;
  std::vector<std::thread> threads_;
};

}  // namespace

// One thing after the other: any other traffic on the connection would bring a lost answer to light by the
// way.
TEST_CASE("no answer is lost on a busy machine", "[ssh][sftp]") {
  if (!haveSshServer()) return;
  SftpBench bench(1);
  constexpr int kRounds = 25;
  int rounds = 0;
  const BusyMachine busy;
  bench.with([&](Sftp& sftp, SshConnection& connection) -> Task<void> {
    const auto all = [&]() -> Task<void> {
      for (; rounds < kRounds; ++rounds) {
        for (int i = 0; i < 10; ++i) co_await sftp.stat("/");
        co_await sftp.list("/");
        StreamPtr out = co_await connection.exec("echo");
        Bytes in(16);
        co_await out->readSome(in);
      }
    };
    auto task = all();
    co_await within(std::chrono::seconds(60), "answers", std::move(task));
  });
  CHECK(rounds == kRounds);
}

TEST_CASE("SFTP: listing, rights, renaming, removing; errors name the file", "[ssh][sftp]") {
  if (!haveSshServer()) return;
  SftpBench bench;
  const std::string there = bench.folder.path / "there";
  bench.with([&](Sftp& sftp, SshConnection&) -> Task<void> {
    co_await sftp.makeFolder(there);
    std::ofstream(there + "/Größe.txt") << "12345";
    auto files = co_await sftp.list(there);
    REQUIRE(files.size() == 1);
    CHECK(files[0].name == "Größe.txt");
    CHECK(files[0].size == 5);
    co_await sftp.setPermissions(there + "/Größe.txt", 0640);
    files = co_await sftp.list(there);
    CHECK(files[0].rights() == "-rw-r-----");
    co_await sftp.rename(there + "/Größe.txt", there + "/b");
    const auto missing = co_await sftp.stat(there + "/Größe.txt");
    CHECK_FALSE(missing);
    std::string what;
    try {
      co_await sftp.list(there + "/nothing");
    } catch (const Error& e) {
      what = e.what();
    }
    CHECK(what.find("no such file") != std::string::npos);
    CHECK(what.find("nothing") != std::string::npos);
    co_await sftp.remove(there + "/b");
    co_await sftp.removeFolder(there);
    CHECK_FALSE(fs::exists(there));
  });
}

TEST_CASE("1 GiB goes both ways intact; a copy that was broken off is resumed", "[ssh][sftp][slow]") {
  if (!haveSshServer()) return;
  SftpBench bench;
  const fs::path original = bench.folder.path / "original", sent = bench.folder.path / "sent",
                 back = bench.folder.path / "back";
  constexpr std::uint64_t kSize = 1ULL << 30;
  {
    std::ofstream out(original, std::ios::binary);
    Bytes block(1 << 20);
    unsigned seed = 9;
    for (std::uint64_t at = 0; at < kSize; at += block.size()) {
      for (std::size_t i = 0; i < block.size(); i += 64)
        block[i] = static_cast<Byte>((seed = seed * 1103515245 + 12345) >> 16);
      out.write(reinterpret_cast<const char*>(block.data()), static_cast<std::streamsize>(block.size()));
    }
  }
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  const auto with = [&](const std::function<Task<void>(Sftp&)>& work) {
    bench.with([&](Sftp& sftp, SshConnection&) { return work(sftp); });
  };
  const OnCopy stopHalfway = [&](const CopyProgress& p) {
    if (p.done > kSize / 3) *cancel = true;
  };
  const auto broken = [&](const std::function<Task<void>(Sftp&)>& work) {
    *cancel = false;
    CHECK_THROWS_AS(with(work), Error);
  };
  broken([&](Sftp& s) -> Task<void> { co_await s.upload(original, sent, 0, stopHalfway, cancel); });
  const std::uint64_t partly = fs::file_size(sent);
  CHECK(partly > kSize / 4);
  CHECK(partly < kSize);
  with([&](Sftp& s) -> Task<void> { co_await s.upload(original, sent, partly, nullptr, nullptr); });
  CHECK(fs::file_size(sent) == kSize);
  broken([&](Sftp& s) -> Task<void> { co_await s.download(sent, back, 0, stopHalfway, cancel); });
  const std::uint64_t here = fs::file_size(back);
  CHECK(here > kSize / 4);
  CHECK(here < kSize);
  with([&](Sftp& s) -> Task<void> { co_await s.download(sent, back, here, nullptr, nullptr); });
  const std::string wanted = sha256OfFile(original);
  CHECK(sha256OfFile(sent) == wanted);
  CHECK(sha256OfFile(back) == wanted);
}

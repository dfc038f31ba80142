// Copies over SFTP against a server that the test plays: out of order, in small pieces, broken off.
#include <catch2/catch.hpp>
#include <fstream>
#include <random>

#include "base/bounded_reader.hpp"
#include "base/clock.hpp"
#include "ssh/sftp.hpp"
#include "tests/support.hpp"
#include "wire/wire_reader.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

Bytes noise(std::size_t size) {
  std::mt19937 random(7);
  Bytes out(size);
  for (Byte& b : out) b = static_cast<Byte>(random());
  return out;
}

void store(const fs::path& file, const Bytes& bytes) {
  std::ofstream(file, std::ios::binary).write(reinterpret_cast<const char*>(bytes.data()), std::ssize(bytes));
}

Bytes load(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

/// One file, and how it is served.
struct PlayedServer {
  Bytes file;
  std::size_t together = 1;          ///< so many reads are collected and then answered, the last first
  std::size_t mostOfRead = 1 << 20;  ///< longer ones are answered in part
  std::size_t failsAt = SIZE_MAX;    ///< reads and writes from this byte on are refused
  std::function<void()> onWrite;     ///< before each is answered
  std::shared_ptr<std::atomic<bool>> stalls;  ///< on writes it reads nothing more while this is set
  bool stalledTooLong = false;
  int open = 0;  ///< handles
  std::vector<std::uint64_t> writtenAt;

  Task<void> serve(std::shared_ptr<ByteStream> stream) {
    WireReader in(*stream);
    reads_.clear();
    lastSeen_ = false;
    co_await next(in);
    const Bytes hello{2, 0, 0, 0, 3};
    co_await send(*stream, hello);
    for (;;) {
      const Bytes asked = co_await next(in);
      const bool read = asked[0] == 5;
      if (asked[0] == 6 && stalls) co_await stall();
      if (read) reads_.push_back(asked);
      lastSeen_ = lastSeen_ || (read && isLast(asked));
      if (read && reads_.size() < together && !lastSeen_) continue;
      for (; !reads_.empty(); reads_.pop_back()) co_await send(*stream, answer(reads_.back()));
      if (!read) co_await send(*stream, answer(asked));
    }
  }

 private:
  static Task<Bytes> next(WireReader& in) {
    const std::uint32_t size = co_await in.readU32();
    co_return co_await in.readBytes(size);
  }
  Task<void> stall() {
    const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(10);
    while (*stalls && !stalledTooLong) {
      co_await systemClock()->sleep(std::chrono::milliseconds(1));
      stalledTooLong = std::chrono::steady_clock::now() > end;
    }
  }
  static Task<void> send(ByteStream& stream, Bytes body) {
    ByteWriter w;
    w.u32(static_cast<std::uint32_t>(body.size())).bytes(body);
    const Bytes out = w.take();
    co_await stream.write(out);
  }
  struct Place {
    std::uint64_t at = 0;
    std::size_t size = 0;
    ByteView rest;
  };
  /// Of a read or a write.
  static Place placeOf(const Bytes& asked) {
    BoundedReader r(asked, "a request");
    r.skip(5);
    r.skip(r.u32());
    const std::uint64_t high = r.u32();
    Place p;
    p.at = high << 32 | r.u32();
    p.size = r.u32();
    p.rest = r.bytes(r.left());
    return p;
  }
  [[nodiscard]] bool isLast(const Bytes& read) const {
    const Place p = placeOf(read);
    return p.at + p.size >= file.size();
  }
  Bytes answer(const Bytes& asked) {
    const std::uint32_t number = loadBe32(asked.data() + 1);
    const auto status = [number](std::uint32_t code, const std::string& said) {
      ByteWriter w;
      w.u8(101).u32(number).u32(code).u32(static_cast<std::uint32_t>(said.size())).text(said).u32(0);
      return w.take();
    };
    ByteWriter w;
    switch (asked[0]) {
      case 3:
        ++open;
        w.u8(102).u32(number).u32(1).text("h");
        return w.take();
      case 4: --open; return status(0, "");
      case 17:
        w.u8(105).u32(number).u32(1).u32(0).u32(static_cast<std::uint32_t>(file.size()));
        return w.take();
      case 5: {
        const Place p = placeOf(asked);
        if (p.at >= failsAt) return status(4, "the shelf broke");
        if (p.at >= file.size()) return status(1, "");
        const auto piece = ByteView(file).subspan(p.at).first(
            std::min({p.size, mostOfRead, file.size() - static_cast<std::size_t>(p.at)}));
        w.u8(103).u32(number).u32(static_cast<std::uint32_t>(piece.size())).bytes(piece);
        return w.take();
      }
      case 6: {
        const Place p = placeOf(asked);
        if (onWrite) onWrite();
        if (p.at + p.size > failsAt) return status(4, "the shelf is full");
        writtenAt.push_back(p.at);
        file.resize(std::max<std::size_t>(file.size(), p.at + p.size));
        std::copy(p.rest.begin(), p.rest.end(), file.begin() + static_cast<std::ptrdiff_t>(p.at));
        return status(0, "");
      }
      default: return status(8, "not here");
    }
  }
  std::vector<Bytes> reads_;
  bool lastSeen_ = false;  ///< there may be too few left to collect
};

/// Runs the work with a client of this server; returns what it failed with.
std::string with(PlayedServer& server, const std::function<Task<void>(Sftp&)>& work) {
  std::string what = "fine";
  runToEnd([&]() -> Task<void> {
    const auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    const std::shared_ptr<ByteStream> side(std::move(b));
    spawn(executor, [&server, side] { return server.serve(side); });
    auto sftp = co_await Sftp::open(executor, std::move(a));
    try {
      co_await work(*sftp);
    } catch (const Error& e) {
      what = e.what();
    }
    co_await sftp->stat("rain-gauge.log");  // the server answers in order: by then all else is done
  });
  return what;
}

struct CopyBench {
  TemporaryFolder folder;
  fs::path local = folder.path / "rain-gauge.log";
  PlayedServer server;
  std::string download(std::uint64_t from = 0, OnCopy progress = nullptr, CancelFlag cancel = nullptr) {
    return with(server, [&](Sftp& s) { return s.download("rain-gauge.log", local, from, progress, cancel); });
  }
  std::string upload(std::uint64_t from = 0, CancelFlag cancel = nullptr) {
    return with(server, [&](Sftp& s) { return s.upload(local, "rain-gauge.log", from, nullptr, cancel); });
  }
};

}  // namespace

TEST_CASE("SFTP: a download is whole, in whatever order and pieces it comes", "[sftp-core]") {
  CopyBench bench;
  bench.server.file = noise(3'000'001);
  SECTION("one after the other") {}
  SECTION("backwards") { bench.server.together = 40; }
  SECTION("in small pieces") { bench.server.mostOfRead = 5000; }
  SECTION("both") { bench.server.together = 7, bench.server.mostOfRead = 20'000; }
  SECTION("nothing") { bench.server.file.clear(); }
  CHECK(bench.download() == "fine");
  CHECK(load(bench.local) == bench.server.file);
  CHECK(bench.server.open == 0);
}

TEST_CASE("SFTP: an upload is whole and written in order", "[sftp-core]") {
  CopyBench bench;
  const Bytes all = noise(3'000'001);
  store(bench.local, all);
  std::uint64_t from = 0;
  SECTION("all of it") {}
  SECTION("the rest of it") {
    from = 1'000'000;
    bench.server.file.assign(all.begin(), all.begin() + 1'000'000);
  }
  CHECK(bench.upload(from) == "fine");
  CHECK(bench.server.file == all);
  CHECK(bench.server.open == 0);
  REQUIRE(!bench.server.writtenAt.empty());
  CHECK(bench.server.writtenAt.front() == from);
  CHECK(std::is_sorted(bench.server.writtenAt.begin(), bench.server.writtenAt.end()));
}

TEST_CASE("SFTP: a download that is ended leaves what is whole, and goes on from there", "[sftp-core]") {
  CopyBench bench;
  bench.server.file = noise(8'000'000);
  bench.server.together = 5;
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  const auto progress = [&](const CopyProgress& p) { *cancel = p.done > 3'000'000; };
  CHECK(bench.download(0, progress, cancel).find("cancelled") != std::string::npos);
  const Bytes part = load(bench.local);
  CHECK(part.size() > 3'000'000);
  CHECK(part.size() < bench.server.file.size());
  CHECK(std::equal(part.begin(), part.end(), bench.server.file.begin()));
  CHECK(bench.server.open == 0);
  CHECK(bench.download(part.size()) == "fine");
  CHECK(load(bench.local) == bench.server.file);
}

TEST_CASE("SFTP: a download that the server breaks off says why and keeps what is whole", "[sftp-core]") {
  CopyBench bench;
  bench.server.file = noise(4'000'000);
  bench.server.failsAt = 2'000'000;
  bench.server.together = 30;
  CHECK(bench.download().find("the shelf broke") != std::string::npos);
  const Bytes part = load(bench.local);
  CHECK(part.size() <= 2'000'000 + 32 * 1024);
  CHECK(std::equal(part.begin(), part.end(), bench.server.file.begin()));
  CHECK(bench.server.open == 0);
}

TEST_CASE("SFTP: an upload that cannot go on says why and leaves no handle open", "[sftp-core]") {
  CopyBench bench;
  const Bytes all = noise(9'000'000);
  store(bench.local, all);
  std::string said;
  SECTION("the server's disk is full") {
    bench.server.failsAt = 2'000'000;
    said = "the shelf is full";
  }
  SECTION("the file becomes shorter") {
    bench.server.onWrite = [&] { fs::resize_file(bench.local, 1'000'000); };
    said = "became shorter";
  }
  SECTION("it is cancelled") { said = "cancelled"; }
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  if (said == "cancelled") bench.server.onWrite = [&] { *cancel = true; };
  CHECK(bench.upload(0, cancel).find(said) != std::string::npos);
  const Bytes& there = bench.server.file;
  CHECK(there.size() < all.size());
  CHECK(std::equal(there.begin(), there.end(), all.begin()));
  CHECK(bench.server.open == 0);
}

TEST_CASE("SFTP: a copy is ended at once also when the server has fallen silent", "[sftp-core]") {
  CopyBench bench;
  bench.server.file = noise(40'000'000);
  bench.server.together = 100'000;
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  const auto progress = [&](const CopyProgress&) { *cancel = true; };
  CHECK(bench.download(0, progress, cancel).find("cancelled") != std::string::npos);
  CHECK(fs::file_size(bench.local) == 0);
  CHECK(bench.server.open == 0);
}

TEST_CASE("SFTP: an upload is ended at once also when the server takes nothing", "[sftp-core]") {
  CopyBench bench;
  store(bench.local, noise(20'000'000));
  bench.server.stalls = std::make_shared<std::atomic<bool>>(true);
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  const std::string what = with(bench.server, [&](Sftp& s) -> Task<void> {
    const auto progress = [&](const CopyProgress&) { *cancel = true; };
    const std::shared_ptr<void> goesOn(nullptr, [&](void*) { *bench.server.stalls = false; });
    co_await s.upload(bench.local, "rain-gauge.log", 0, progress, cancel);
  });
  CHECK(what.find("cancelled") != std::string::npos);
  CHECK_FALSE(bench.server.stalledTooLong);
  CHECK(bench.server.file.size() < 20'000'000);
  CHECK(bench.server.open == 0);
}

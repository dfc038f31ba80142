// SFTP against a server that the test plays itself, honest and hostile.
#include <catch2/catch.hpp>

#include "ssh/sftp.hpp"
#include "tests/support.hpp"
#include "wire/wire_reader.hpp"

using namespace kw;
using namespace kw::test;

namespace {

Bytes packet(const Bytes& body) {
  ByteWriter w;
  w.u32(static_cast<std::uint32_t>(body.size()));
  w.bytes(body);
  return w.take();
}

/// The next one, without its length.
Task<Bytes> request(WireReader& in) {
  const std::uint32_t size = co_await in.readU32();
  co_return co_await in.readBytes(size);
}

/// The version, then `answers` one after the other, each with the number of the request that it answers.
/// `seen` gets the requests that were answered.
std::string outcome(const std::vector<Bytes>& answers, const std::function<Task<void>(Sftp&)>& work,
                    const Bytes& version = {2, 0, 0, 0, 3}, std::vector<Bytes>* seen = nullptr) {
  std::string what = "fine";
  const auto record = std::make_shared<std::vector<Bytes>>();
  runToEnd([&]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    std::shared_ptr<ByteStream> server(std::move(b));
    spawn(executor, [server, answers, version, record]() -> Task<void> {
      WireReader in(*server);
      co_await request(in);  // INIT
      const Bytes hello = packet(version);
      co_await server->write(hello);
      for (const Bytes& answer : answers) {
        const Bytes asked = co_await request(in);
        record->push_back(asked);
        Bytes body = answer;
        std::copy_n(asked.begin() + 1, 4, body.begin() + 1);  // the number of the request
        const Bytes out = packet(body);
        co_await server->write(out);
      }
      server->close();
    });
    try {
      auto sftp = co_await Sftp::open(executor, std::move(a));
      co_await work(*sftp);
    } catch (const Error& e) {
      what = e.what();
    }
  });
  if (seen != nullptr) *seen = *record;
  return what;
}

Task<void> listRoot(Sftp& s) { co_await s.list("/"); }

Bytes status(std::uint32_t code) {
  return {101, 0, 0, 0, 0, 0, 0, 0, static_cast<Byte>(code), 0, 0, 0, 0, 0, 0, 0, 0};
}
Bytes handle() { return {102, 0, 0, 0, 0, 0, 0, 0, 1, 'h'}; }

}  // namespace

TEST_CASE("SFTP: a missing folder and a forbidden one are told apart", "[sftp-core]") {
  CHECK(outcome({status(2)}, listRoot).find("no such file") != std::string::npos);
  CHECK(outcome({status(3)}, listRoot).find("not allowed") != std::string::npos);
}

TEST_CASE("SFTP: an empty folder lists nothing", "[sftp-core]") {
  CHECK(outcome({handle(), status(1), status(0)}, listRoot) == "fine");
}

TEST_CASE("SFTP: hostile servers end in clear errors", "[sftp-core]") {
  // Names that say they are longer than the packet.
  CHECK(outcome({handle(), {104, 0, 0, 0, 0, 0, 0, 0, 9, 0xFF, 0xFF, 0xFF, 0xFF}}, listRoot)
            .find("SFTP names") != std::string::npos);
  // A handle longer than its packet.
  CHECK(outcome({{102, 0, 0, 0, 0, 0, 0, 1, 0}}, listRoot).find("SFTP handle") != std::string::npos);
  // An answer of the wrong kind.
  CHECK(outcome({{105, 0, 0, 0, 0, 0, 0, 0, 0}}, listRoot).find("handle was expected") != std::string::npos);
  // The server goes away.
  CHECK(outcome({}, listRoot) != "fine");
}

TEST_CASE("SFTP: a server says how large a piece may be", "[sftp-core]") {
  ByteWriter version;
  version.u8(2).u32(3);
  const std::string names[] = {"posix-rename@openssh.com", "1", "limits@openssh.com", "1"};
  for (const std::string& n : names) version.u32(static_cast<std::uint32_t>(n.size())).text(n);
  const auto limits = [](std::uint32_t read, std::uint32_t high) {
    ByteWriter w;
    w.u8(201).u32(0).u32(0).u32(1 << 20).u32(high).u32(read).u32(0).u32(70000).u32(0).u32(10);
    return w.take();
  };
  TemporaryFolder folder;
  const auto attributes = [](std::uint32_t size) {
    ByteWriter w;
    w.u8(105).u32(0).u32(1).u32(0).u32(size);
    return w.take();
  };
  const auto data = [](std::uint32_t size) {
    ByteWriter w;
    w.u8(103).u32(0).u32(size).text(std::string(size, 'f'));
    return w.take();
  };
  const auto fetch = [&](Sftp& s) -> Task<void> {
    co_await s.download("/f", folder.path / "f", 0, nullptr, nullptr);
  };
  // No limit, a tiny one and a vast one: the copy takes pieces that both sides can bear.
  for (const auto& [read, high, pieces] :
       {std::tuple{0U, 0U, 1}, std::tuple{1U, 0U, 2}, std::tuple{~0U, ~0U, 1}}) {
    std::vector<Bytes> answers{limits(read, high), attributes(600), handle()};
    for (int i = 0; i < pieces; ++i) answers.push_back(data(pieces == 1 ? 600U : i == 0 ? 512U : 88U));
    answers.push_back(status(0));
    CHECK(outcome(answers, fetch, version.raw()) == "fine");
    CHECK(std::filesystem::file_size(folder.path / "f") == 600);
  }
  // However much a server allows, what is asked for at once stays within what we would take.
  std::vector<Bytes> asked;
  CHECK(outcome({limits(~0U, ~0U), attributes(3 << 20), handle(), status(4)}, fetch, version.raw(), &asked) !=
        "fine");
  REQUIRE(asked.size() == 4);
  REQUIRE(asked[3][0] == 5);  // READ; the length is its end
  BoundedReader tail(ByteView(asked[3]).last(4), "READ");
  CHECK(tail.u32() <= 256 * 1024);
  // Cut off, and refused.
  CHECK(outcome({{201, 0, 0, 0, 0, 1}}, listRoot, version.raw()).find("SFTP limits") != std::string::npos);
  CHECK(outcome({status(8), handle(), status(1), status(0)}, listRoot, version.raw()) == "fine");
}

TEST_CASE("SFTP: a packet of a gigabyte is refused before it is read", "[sftp-core]") {
  const Bytes huge{0, 0, 0, 5, 2, 0, 0, 0, 3, 0x40, 0, 0, 0, 101, 0, 0, 0, 1};
  std::string what;
  runToEnd([&]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    StreamPtr stream = replayStream(huge);
    try {
      auto sftp = co_await Sftp::open(executor, std::move(stream));
      co_await sftp->list("/");
    } catch (const Error& e) {
      what = e.what();
    }
  });
  CHECK(what.find("1073741824 bytes long") != std::string::npos);
}

TEST_CASE("rights are written as people know them", "[sftp-core]") {
  RemoteFile f;
  f.permissions = 0100640;
  CHECK(f.rights() == "-rw-r-----");
  f.permissions = 0040755;
  CHECK(f.rights() == "drwxr-xr-x");
  f.permissions = 0120777;
  CHECK(f.rights() == "lrwxrwxrwx");
}

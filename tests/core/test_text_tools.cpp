// Transfers, watch words, logs, plain lines.
#include <catch2/catch.hpp>
#include <fstream>

#include "tests/support.hpp"
#include "text/log_writer.hpp"
#include "text/plain_lines.hpp"
#include "text/transfer.hpp"
#include "text/watch_words.hpp"

using namespace kw;
using namespace kw::text;

namespace {

/// Passes bytes on, spoiling one every so often.
class Noisy : public ByteStream {
 public:
  Noisy(StreamPtr below, int every) : below_(std::move(below)), every_(every) {}
  Task<std::size_t> readSome(ByteSpan into) override { return below_->readSome(into); }
  Task<void> write(ByteView bytes) override {
    Bytes copy(bytes.begin(), bytes.end());
    if (copy.size() > 100 && ++count_ % every_ == 0) copy[50] ^= 0x40;
    co_await below_->write(copy);
  }
  void close() noexcept override { below_->close(); }
  [[nodiscard]] std::string peer() const override { return "noise"; }

 private:
  StreamPtr below_;
  int every_, count_ = 0;
};

Bytes someBytes(std::size_t n) {
  Bytes out(n);
  unsigned seed = 5;
  for (Byte& b : out) b = static_cast<Byte>((seed = seed * 1103515245 + 12345) >> 16);
  return out;
}

std::vector<TransferFile> carry(TransferKind sender, TransferKind receiver, const TransferFile& file,
                                int noise, int* repeats = nullptr) {
  std::vector<TransferFile> out;
  runToEnd([&]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    Noisy noisy(std::move(a), noise);
    bool over = false;
    auto send = [&]() -> Task<void> {
      co_await sendFile(noisy, systemClock(), sender, file, [&](const TransferProgress& p) {
        if (repeats != nullptr) *repeats = p.repeats;
      });
      while (!over) co_await systemClock()->sleep(std::chrono::milliseconds(1));
    };
    auto receive = [&](ByteStream& line) -> Task<void> {
      out = co_await receiveFiles(line, systemClock(), receiver, nullptr);
      over = true;
    };
    auto one = send();
    auto two = receive(*b);
    co_await firstOf(std::move(one), std::move(two));
  });
  return out;
}

}  // namespace

TEST_CASE("CRC of XMODEM as in its reference", "[transfer]") {
  CHECK(crc16(viewOf("123456789")) == 0x31C3);
  CHECK(crc16({}) == 0);
}

TEST_CASE("files pass by XMODEM and YMODEM, also over noise", "[transfer]") {
  const auto [sender, receiver] =
      GENERATE(table<TransferKind, TransferKind>({{TransferKind::Xmodem, TransferKind::Xmodem},
                                                  {TransferKind::Xmodem1k, TransferKind::Xmodem1k},
                                                  {TransferKind::Ymodem, TransferKind::Ymodem}}));
  const int noise = GENERATE(1'000'000, 4);
  const TransferFile file{"valve.bin", someBytes(5000)};
  int repeats = 0;
  const auto got = carry(sender, receiver, file, noise, &repeats);
  REQUIRE(got.size() == 1);
  REQUIRE(got[0].content.size() >= 5000);
  CHECK(std::equal(file.content.begin(), file.content.end(), got[0].content.begin()));
  if (noise == 4) CHECK(repeats > 0);
  if (sender == TransferKind::Ymodem) {
    CHECK(got[0].name == "valve.bin");
    CHECK(got[0].content.size() == 5000);
  }
}

TEST_CASE("a sender's name never leads out of the folder", "[transfer]") {
  const auto got =
      carry(TransferKind::Ymodem, TransferKind::Ymodem, {"../../etc/passwd", someBytes(10)}, 1'000'000);
  REQUIRE(got.size() == 1);
  CHECK(got[0].name == "passwd");
}

TEST_CASE("two CANs end a transfer", "[transfer]") {
  Bytes cancel{24, 24};
  auto stream = replayStream(cancel);
  try {
    const TransferFile file{"a", someBytes(10)};
    runToEnd([&]() -> Task<void> {
      co_await sendFile(*stream, systemClock(), TransferKind::Xmodem, file, nullptr);
    });
    FAIL("it went on");
  } catch (const Error& e) {
    CHECK(e.kind() == ErrorKind::Cancelled);
  }
}

TEST_CASE("watch words are read, told, answered and limited", "[watch]") {
  const auto words = parseWatchWords("# who we are\nlogin: *$ =>2 duty\\r\n\nhumidity 7\\d\n");
  REQUIRE(words.size() == 2);
  CHECK(words[0] == WatchWord{"login: *$", "duty\r", 2});
  CHECK(words[1].answer.empty());
  CHECK_THROWS_WITH(parseWatchWords("fine\n(broken"), Catch::Contains("line 2"));
  Watcher watcher(words);
  std::vector<Watcher::Seen> seen;
  const auto note = [&](const Watcher::Seen& s) { seen.push_back(s); };
  watcher.prompt("mist-bench lo", note);
  CHECK(seen.empty());
  watcher.prompt("mist-bench login: ", note);
  watcher.prompt("mist-bench login: ", note);  // told once for a line
  REQUIRE(seen.size() == 1);
  CHECK(seen[0].answer == "duty\r");
  watcher.line("mist-bench login: ", note);
  for (int i = 0; i < 3; ++i) watcher.line("mist-bench login: ", note);
  CHECK(seen.size() == 4);
  CHECK(seen[1].answer == "duty\r");
  CHECK(seen[2].answer.empty());
  CHECK(seen[2].limited);
}

TEST_CASE("a pattern that would take for ever elsewhere does not", "[watch]") {
  const std::string text(50'000, 'a');
  CHECK(searchPattern("(a*)*b", text) == std::string::npos);
}

TEST_CASE("plain lines leave out sequences and take corrections", "[log]") {
  PlainLines plain;
  std::vector<std::string> lines;
  plain.onLine = [&](const std::string& l) { lines.push_back(l); };
  plain.feed(viewOf("\x1b[32mmist\x1b[0m-bench\r\nab\bc\r\nold text\rnew\r\n\x1b]0;title\x07last"));
  CHECK(lines == std::vector<std::string>{"mist-bench", "ac", "new"});
  CHECK(plain.unfinished() == "last");
  for (int i = 0; i < 40; ++i) plain.feed(viewOf(std::string(1000, 'x')));
  CHECK(lines.size() == 5);  // an endless line is handed out in parts
}

TEST_CASE("logs: stamped, marked, turned over, searched, the oldest removed", "[log]") {
  test::TemporaryFolder folder;
  LogOptions options;
  options.folder = folder.path;
  options.name = "weather-mast";
  options.mostBytes = 300;
  options.mostFiles = 3;
  auto now = std::chrono::system_clock::from_time_t(1'700'000'000);
  const auto clock = [&] { return now; };
  std::filesystem::path first;
  {
    LogWriter log(options, clock);
    first = log.file();
    log.write(viewOf("WIND 4.2\r\nAI"));
    log.mark("mast serviced");
    log.write(viewOf("R 11.8\r\n"));
  }
  const std::string text = [&] {
    std::ifstream in(first);
    return std::string(std::istreambuf_iterator<char>(in), {});
  }();
  CHECK_THAT(
      text, Catch::Matches(
                "[0-9-]+ [0-9:.]+  WIND 4.2\n[0-9-]+ [0-9:.]+  AI\n── .*mark: mast serviced ──\n.*R 11.8\n"));
  {
    LogWriter log(options, clock);
    for (int i = 0; i < 60; ++i) {
      now += std::chrono::seconds(1);
      log.write(viewOf("a line of telemetry " + std::to_string(i) + "\r\n"));
    }
  }
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder.path)) files += entry.is_regular_file();
  CHECK(files == 3);
  const auto hits = searchLogs(folder.path, "TELEMETRY 59", 10);
  REQUIRE(hits.size() == 1);
  CHECK(hits[0].text.find("telemetry 59") != std::string::npos);
  CHECK(searchLogs(folder.path, "telemetry", 4).size() == 4);
}

TEST_CASE("a log on a full disk says so", "[log]") {
  LogOptions options;
  options.file = "/dev/full";
  LogWriter log(options);
  CHECK_THROWS_WITH(log.write(viewOf("x\n")), Catch::Contains("disk full"));
}

// What comes over a line of text: telnet with its options, RFC 2217, XMODEM and YMODEM, the terminal's feed.
#include <cstdint>
#include <cstdlib>

#include "base/error.hpp"
#include "base/runtime.hpp"
#include "line/telnet.hpp"
#include "ssh/sftp.hpp"
#include "text/plain_lines.hpp"
#include "text/terminal.hpp"
#include "text/transfer.hpp"
#include "text/watch_words.hpp"

using namespace kw;

namespace {

/// Time that passes whenever somebody waits, so that no input takes real time.
class HastyClock : public Clock {
 public:
  [[nodiscard]] TimePoint now() const override { return {}; }
  Task<void> sleep(Duration) override { co_return; }
};

Task<void> drain(ByteStream& s) {
  Bytes in(4096);
  for (;;) co_await s.readSome(in);
}

void telnet(ByteView data, bool server) {
  runToEnd([&]() -> Task<void> {
    StreamPtr below = replayStream(Bytes(data.begin(), data.end()), 7);
    std::unique_ptr<TelnetStream> stream;
    if (server) {
      TelnetServerOptions options;
      options.comPort = ComPortEvents();
      stream = telnetServer(std::move(below), options);
    } else {
      TelnetOptions options;
      options.comPort = data.size() % 2 == 0;
      stream = co_await telnetClient(std::move(below), options);
    }
    co_await drain(*stream);
  });
}

void transfer(ByteView data, text::TransferKind kind, bool send) {
  runToEnd([&]() -> Task<void> {
    StreamPtr line = replayStream(Bytes(data.begin(), data.end()));
    const auto clock = std::make_shared<HastyClock>();
    text::TransferFile file{"valve", Bytes(300)};
    if (send)
      co_await text::sendFile(*line, clock, kind, file, nullptr);
    else
      co_await text::receiveFiles(*line, clock, kind, nullptr);
  });
}

void terminal(ByteView data) {
  text::TerminalOptions options;
  options.scrollRows = 200;
  text::Terminal t(7, 23, options);
  t.onOutput = t.onAnswer = [](const std::string&) {};
  text::PlainLines plain;
  for (std::size_t at = 0; at < data.size();) {
    const std::size_t n = std::min<std::size_t>(1 + data[at] % 50, data.size() - at);
    t.feed(data.subspan(at, n));
    plain.feed(data.subspan(at, n));
    if (data[at] % 16 == 3) t.resize(1 + data[at] % 11, 2 + data[at] % 37);
    at += n;
  }
  std::vector<text::TextFind> finds;
  t.find("a", 0, 1000, finds);
  const text::TextView v = t.screen();
  const std::string copied = t.ansiIn({0, v.screenTop + v.screenRows, 0, v.columns, false});
  const text::TextRange word = t.wordAt(v.screenTop, 3), line = t.lineAt(v.screenTop);
  if (word.fromRow > line.toRow && copied.empty()) std::abort();
}

void sftp(ByteView data) {
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    auto client = co_await Sftp::open(here, replayStream(Bytes(data.begin(), data.end())));
    co_await client->list(".");
  });
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  const ByteView rest(data + 1, size - 1);
  try {
    switch (data[0] % 10) {
      case 0: telnet(rest, false); break;
      case 1: telnet(rest, true); break;
      case 2: transfer(rest, text::TransferKind::Xmodem, false); break;
      case 3: transfer(rest, text::TransferKind::Ymodem, false); break;
      case 4: transfer(rest, text::TransferKind::Xmodem1k, true); break;
      case 5: sftp(rest); break;
      default: terminal(rest);
    }
  } catch (const Error&) {
    // Broken input ends in an error; that is what is wanted.
  }
  return 0;
}

// Lines: telnet and its options, network serial, the doctor, devices.
#include <fcntl.h>
#include <pty.h>
#include <unistd.h>
#include <catch2/catch.hpp>

#include <fstream>

#include "lab/uart.hpp"
#include "line/doctor.hpp"
#include "line/finder.hpp"
#include "line/serial.hpp"
#include "line/telnet.hpp"
#include "line/telnet_parser.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

struct Seen {
  std::string text;
  std::vector<std::pair<int, int>> verbs;
  std::vector<std::pair<int, Bytes>> subs;
  std::vector<int> commands;
  void data(ByteView b) { text += textOf(b); }
  void negotiate(Byte verb, Byte option) { verbs.emplace_back(verb, option); }
  void subnegotiation(Byte option, ByteView b) { subs.emplace_back(option, Bytes(b.begin(), b.end())); }
  void command(Byte c) { commands.push_back(c); }
};

Task<std::string> readText(ByteStream& stream, std::size_t least) {
  std::string out;
  Bytes in(4096);
  while (out.size() < least) {
    const std::size_t n = co_await stream.readSome(in);
    out += textOf(ByteView(in).first(n));
  }
  co_return out;
}

}  // namespace

TEST_CASE("telnet commands are parted from data, cut anywhere", "[telnet]") {
  const Bytes stream{'a', 255, 255, 'b', 255, 251,  1, 255, 250, 24,  1,
                     255, 255, 255, 240, 'c', '\r', 0, 'd', 255, 246, 'e'};
  for (std::size_t step : {std::size_t{1}, std::size_t{2}, stream.size()}) {
    telnet::Parser parser;
    Seen seen;
    for (std::size_t at = 0; at < stream.size(); at += step)
      parser.feed(ByteView(stream).subspan(at, std::min(step, stream.size() - at)), seen);
    CHECK(seen.text ==
          "a\xFF"
          "bc\rde");
    CHECK(seen.verbs == std::vector<std::pair<int, int>>{{251, 1}});
    REQUIRE(seen.subs.size() == 1);
    CHECK(seen.subs[0].second == Bytes{1, 255});
    CHECK(seen.commands == std::vector<int>{246});
  }
}

TEST_CASE("what goes out is escaped", "[telnet]") {
  const Bytes raw{'a', 255, '\r', '\r', '\n'};
  CHECK(telnet::escaped(raw, false) == Bytes{'a', 255, 255, '\r', 0, '\r', '\n'});
  CHECK(telnet::escaped(raw, true) == Bytes{'a', 255, 255, '\r', '\r', '\n'});
}

TEST_CASE("a telnet client and server agree on options; text passes whole", "[telnet]") {
  runToEnd([]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    std::pair<int, int> size;
    TelnetServerOptions serverOptions;
    serverOptions.resized = [&](int c, int r) { size = {c, r}; };
    auto server = telnetServer(std::move(b), serverOptions);
    TelnetOptions options;
    options.columns = 100;
    options.rows = 30;
    auto client = co_await telnetClient(std::move(a), options);
    std::string heard;
    auto serve = [](TelnetStream& s, std::string& into) -> Task<void> {
      const Bytes hello{'h', 'i', 255};
      co_await s.write(hello);
      into = co_await readText(s, 5);
    };
    auto talk = [](TelnetStream& c, std::string& said) -> Task<void> {
      said = co_await readText(c, 3);
      const Bytes back{'a', '\r', 'b', 255, '\n'};
      co_await c.write(back);
      for (;;) co_await readText(c, 1);
    };
    std::string said;
    auto first = serve(*server, heard);
    auto second = talk(*client, said);
    co_await firstOf(std::move(first), std::move(second));
    CHECK(said == "hi\xFF");
    CHECK(heard == "a\rb\xFF\n");
    CHECK(client->remoteEcho());
    CHECK(size == std::pair(100, 30));
  });
}

TEST_CASE("network serial: settings, lamps and break reach the server and come back", "[telnet]") {
  runToEnd([]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    LineSettings there;
    std::vector<bool> breaks;
    TelnetServerOptions serverOptions;
    ComPortEvents events;
    events.changed = [&](LineSettings s) { return there = s; };
    events.breakChanged = [&](bool on) { breaks.push_back(on); };
    serverOptions.comPort = events;
    auto server = telnetServer(std::move(b), serverOptions);
    const auto serve = [](TelnetStream& s) -> Task<void> {
      for (;;) co_await readText(s, 1);
    };
    std::unique_ptr<TelnetStream> client;
    const auto use = [&](StreamPtr stream) -> Task<void> {
      TelnetOptions options;
      options.comPort = true;
      options.line.speed = 19200;
      setFrame(options.line, "7E2");
      client = co_await telnetClient(std::move(stream), options);
      const auto listen = [&]() -> Task<void> {
        for (;;) co_await readText(*client, 1);
      };
      const auto change = [&]() -> Task<void> {
        LineSettings s = client->settings();
        s.speed = 4800;
        co_await client->change(s);
        co_await client->sendBreak(std::chrono::milliseconds(1));
        LineErrors errors;
        errors.framing = 2, errors.breaks = 1, errors.parity = 3;
        server->noteErrors(errors);
        const Bytes text{'x'};
        co_await server->write(text);
        while (breaks.size() < 2 || !client->errors() || client->errors()->breaks == 0 ||
               client->signature().empty())
          co_await systemClock()->sleep(std::chrono::milliseconds(1));
      };
      auto one = listen();
      auto two = change();
      co_await firstOf(std::move(one), std::move(two));
    };
    auto first = serve(*server);
    auto second = use(std::move(a));
    co_await firstOf(std::move(first), std::move(second));
    CHECK(there.speed == 4800);
    CHECK(there.frame() == "7E2");
    CHECK(breaks == std::vector<bool>{true, false});
    CHECK(client->isComPort());
    REQUIRE(client->lines());
    CHECK(client->lines()->dcd);
    CHECK(client->errors()->framing == 2);
    CHECK(client->errors()->parity == 3);
    CHECK(client->signature() == "kettle-lab");
  });
}

TEST_CASE("a plain telnet server is not taken for a serial port", "[telnet]") {
  std::string what;
  runToEnd([&]() -> Task<void> {
    auto executor = co_await asio::this_coro::executor;
    auto [a, b] = memoryPair(executor);
    auto server = telnetServer(std::move(b), {});
    const auto serve = [&]() -> Task<void> {
      for (;;) co_await readText(*server, 1);
    };
    const auto use = [&](StreamPtr stream) -> Task<void> {
      TelnetOptions options;
      options.comPort = true;
      try {
        co_await telnetClient(std::move(stream), options);
      } catch (const Error& e) {
        what = e.detail();
      }
    };
    auto one = serve();
    auto two = use(std::move(a));
    co_await firstOf(std::move(one), std::move(two));
  });
  CHECK(what == "this is a telnet server, but not a network serial port (RFC 2217)");
}

TEST_CASE("a peer that only negotiates is cut off, not fed memory", "[telnet]") {
  Bytes flood;
  for (int i = 0; i < 100'000; ++i)
    flood.insert(flood.end(), {255, 253, static_cast<Byte>(i % 2 ? 24 : 31), 255, 254,
                               static_cast<Byte>(i % 2 ? 24 : 31)});
  const auto listen = [&]() -> Task<void> {
    StreamPtr stream = replayStream(flood);
    TelnetOptions options;
    auto client = co_await telnetClient(std::move(stream), options);
    co_await readText(*client, 1);
  };
  CHECK_THROWS_AS(runToEnd(listen), Error);
}

TEST_CASE("frames and flow are read and written alike", "[line]") {
  for (const char* frame : {"8N1", "7E2", "5N1.5", "7M1", "6S2"}) {
    LineSettings s;
    setFrame(s, frame);
    CHECK(s.frame() == frame);
  }
  LineSettings s;
  for (const char* wrong : {"", "9N1", "8X1", "8N3", "8N", "N81"}) CHECK_THROWS_AS(setFrame(s, wrong), Error);
  CHECK(flowFromWord("xonxoff") == FlowControl::XonXoff);
  CHECK_THROWS_AS(flowFromWord("maybe"), Error);
}

namespace {

/// A terminal server's line in memory: says text as if over a real wire.
class SimulatedLine : public ByteStream, public LineControl {
 public:
  SimulatedLine(LineSettings real, LineSettings begin) : real_(real), now_(begin) {}
  Task<std::size_t> readSome(ByteSpan into) override {
    co_await systemClock()->sleep(std::chrono::milliseconds(2));
    const std::string line =
        "WIND  4.2 FROM 221 AIR  11.8 HUM 76.3\r\n# all sensors answer, battery 12.7 V\r\n";
    const Bytes heard = lab::overTheWire(viewOf(line), real_, now_, &errors_);
    const std::size_t n = std::min(into.size(), heard.size());
    std::copy_n(heard.begin(), n, into.begin());
    if (n == 0) co_await systemClock()->sleep(std::chrono::hours(1));
    co_return n;
  }
  Task<void> write(ByteView) override { co_return; }
  void close() noexcept override {}
  [[nodiscard]] std::string peer() const override { return "line"; }
  [[nodiscard]] LineSettings settings() const override { return now_; }
  Task<void> change(LineSettings s) override {
    now_ = s;
    co_return;
  }
  Task<void> sendBreak(std::chrono::milliseconds) override { co_return; }
  Task<void> setRts(bool) override { co_return; }
  Task<void> setDtr(bool) override { co_return; }
  [[nodiscard]] std::optional<ModemLines> lines() override { return std::nullopt; }
  [[nodiscard]] std::optional<LineErrors> errors() override { return errors_; }

 private:
  LineSettings real_, now_;
  LineErrors errors_;
};

LineSettings settingsFrom(int speed, const char* frame) {
  LineSettings s;
  s.speed = speed;
  setFrame(s, frame);
  return s;
}

}  // namespace

TEST_CASE("the wire gives text with the right settings and garbage with the wrong ones", "[line]") {
  const std::string text = "mist-bench login: \r\n";
  const LineSettings right = settingsFrom(9600, "8N1");
  CHECK(textOf(lab::overTheWire(viewOf(text), right, right)) == text);
  CHECK(readability(lab::overTheWire(viewOf(text), right, settingsFrom(19200, "8N1"))) < 0.6);
  CHECK(readability(lab::overTheWire(viewOf(text), right, settingsFrom(4800, "8N1"))) < 0.6);
  const LineSettings seven = settingsFrom(9600, "7E1");
  CHECK(textOf(lab::overTheWire(viewOf(text), seven, seven)) == text);
  CHECK(parityInTopBit(lab::overTheWire(viewOf(text), seven, right)) == Parity::Even);
}

TEST_CASE("the doctor finds speed and framing, and puts the line back", "[line]") {
  const auto [speed, frame] = GENERATE(table<int, const char*>({{9600, "8N1"},
                                                                {115200, "8N1"},
                                                                {2400, "7E1"},
                                                                {19200, "7O1"},
                                                                {9600, "8E1"},
                                                                {57600, "8O1"},
                                                                {9600, "8S1"}}));
  SimulatedLine line(settingsFrom(speed, frame), settingsFrom(38400, "8N1"));
  DoctorReport report;
  runToEnd([&]() -> Task<void> {
    DoctorOptions options;
    options.listen = std::chrono::milliseconds(60);
    report = co_await tryUsualSettings(line, line, systemClock(), options, nullptr);
  });
  INFO(speed << " " << frame);
  REQUIRE(report.proposal);
  CHECK(report.proposal->speed == speed);
  CHECK(report.proposal->frame() == frame);
  CHECK(line.settings().speed == 38400);
}

namespace {
/// Both ends of a pseudo-terminal.
struct Pty {
  Pty() {
    char name[128];
    REQUIRE(::openpty(&master, &slave, name, nullptr, nullptr) == 0);
    path = name;
    ::close(slave);
  }
  ~Pty() { ::close(master); }
  int master = -1, slave = -1;
  std::string path;
};
}  // namespace

TEST_CASE("a terminal device is opened raw, carries every byte, and is claimed", "[line]") {
  Pty pty;
  runToEnd([&]() -> Task<void> {
    const LineSettings usual;
    SerialLine line = co_await openSerial(pty.path, usual);
    Bytes all(256);
    for (std::size_t i = 0; i < 256; ++i) all[i] = static_cast<Byte>(i);
    co_await line.stream->write(all);
    Bytes there(256);
    std::size_t n = 0;
    while (n < 256) {
      const ssize_t got = ::read(pty.master, there.data() + n, 256 - n);
      if (got <= 0) break;
      n += static_cast<std::size_t>(got);
    }
    CHECK(there == all);
    CHECK(::write(pty.master, all.data(), 256) == 256);
    const std::string back = co_await readText(*line.stream, 256);
    CHECK(Bytes(back.begin(), back.end()) == all);
    LineSettings odd = line.control->settings();
    odd.speed = 31250;  // in no table
    co_await line.control->change(odd);
    CHECK(line.control->settings().speed == 31250);
    std::string refusal;
    try {
      co_await openSerial(pty.path, usual);
    } catch (const Error& e) {
      refusal = e.what();
    }
    CHECK(refusal.find("holds this line") != std::string::npos);
    CHECK(refusal.find("kettle-test") != std::string::npos);
  });
}

TEST_CASE("paths that are no lines are told apart", "[line]") {
  test::TemporaryFolder folder;
  const std::string file = folder.path / "file";
  std::ofstream(file) << "x";
  const auto opening = [](const std::string& path) {
    std::string what;
    runToEnd([&]() -> Task<void> {
      try {
        const LineSettings usual;
        co_await openSerial(path, usual);
      } catch (const Error& e) {
        what = e.detail();
      }
    });
    return what;
  };
  CHECK(opening("/dev/no-such-line") == "there is no such device; is the adapter plugged in?");
  CHECK(opening(file) == "this is not a character device");
  CHECK(opening("/dev/null") == "this is not a terminal device");
  CHECK(problemWithPath(file, false) == "This is not a serial device.");
  CHECK(problemWithPath(file, true) == "This is not a socket.");
  CHECK(problemWithPath("ttyS0", false) == "A full path is needed, beginning with /.");
}

TEST_CASE("serial devices are found with their names", "[line]") {
  test::TemporaryFolder root;
  namespace fs = std::filesystem;
  const fs::path usb = root.path / "sys/devices/usb1/1-2";
  fs::create_directories(usb / "1-2:1.0/ttyUSB0");
  std::ofstream(usb / "product") << "Bench adapter\n";
  std::ofstream(usb / "manufacturer") << "Alder Vale\n";
  fs::create_directories(root.path / "sys/class/tty/ttyUSB0");
  fs::create_symlink(usb / "1-2:1.0/ttyUSB0", root.path / "sys/class/tty/ttyUSB0/device");
  fs::create_directories(root.path / "sys/class/tty/ttyS3");  // listed, but no hardware
  fs::create_symlink(usb, root.path / "sys/class/tty/ttyS3/device");
  std::ofstream(root.path / "sys/class/tty/ttyS3/type") << "0\n";
  fs::create_directories(root.path / "dev/serial/by-id");
  fs::create_symlink("../../ttyUSB0", root.path / "dev/serial/by-id/usb-bench-port0");
  const auto found = findLines(root.path.string());
  REQUIRE(found.size() == 1);
  CHECK(found[0].device == "/dev/ttyUSB0");
  CHECK(found[0].path == "/dev/serial/by-id/usb-bench-port0");
  CHECK(found[0].description == "USB: Alder Vale Bench adapter");
  CHECK(found[0].address == "serial:/dev/serial/by-id/usb-bench-port0");
}

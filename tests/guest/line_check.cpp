// Runs inside a guest of the test machine, where there are serial ports with a driver of the kernel behind
// them: kNear and kFar are joined by a cable, kUsb and kUsbFar too; kNear can also be turned back on itself.
// What it prints between brackets is for the test that looks on from outside.
#include <fcntl.h>
#include <linux/serial.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <iostream>

#include "base/clock.hpp"
#include "base/error.hpp"
#include "base/runtime.hpp"
#include "line/finder.hpp"
#include "line/serial.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace std::chrono_literals;

namespace {

constexpr const char* kConsole = "/dev/ttyS0";
constexpr const char* kNear = "/dev/ttyS4";
constexpr const char* kFar = "/dev/ttyS5";
constexpr const char* kUsb = "/dev/ttyUSB0";
constexpr const char* kUsbFar = "/dev/ttyS6";
constexpr const char* kLoose = "/dev/ttyS7";  ///< nothing is plugged in there
constexpr int kTurnBack = 0x8000;             ///< TIOCM_LOOP, which glibc's headers do not have

LineSettings settings(int speed, const std::string& frame, FlowControl flow = FlowControl::None) {
  LineSettings s;
  s.speed = speed;
  setFrame(s, frame);
  s.flow = flow;
  return s;
}

/// Reads until `bytes` came, at most `limit`; gives what came.
Task<std::string> take(ByteStream& from, std::size_t bytes, std::chrono::milliseconds limit = 10s) {
  std::string got;
  const auto read = [&]() -> Task<void> {
    Bytes piece(4096);
    while (got.size() < bytes) {
      const std::size_t n = co_await from.readSome(piece);
      got.append(piece.begin(), piece.begin() + static_cast<std::ptrdiff_t>(n));
    }
  };
  auto task = read();
  try {
    co_await within(limit, "bytes", std::move(task));
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::TimedOut) throw;
  }
  co_return got;
}

Bytes bytesOf(const std::string& text) { return Bytes(text.begin(), text.end()); }

Task<void> say(ByteStream& to, std::string text) {
  const Bytes bytes = bytesOf(text);
  co_await to.write(bytes);
}

/// What one end says arrives at the other, both ways.
Task<void> talk(ByteStream& a, ByteStream& b) {
  co_await say(a, "humidity");
  const std::string atB = co_await take(b, 8);
  CHECK(atB == "humidity");
  co_await say(b, "93");
  const std::string atA = co_await take(a, 2);
  CHECK(atA == "93");
}

std::string numbered(int lines) {
  std::string out;
  for (int i = 0; i < lines; ++i) out += "reading " + std::to_string(i) + "\r\n";
  return out;
}

Task<std::string> whyNot(const std::string& path, LineSettings s) {
  try {
    co_await openSerial(path, s);
  } catch (const Error& e) {
    co_return e.what();
  }
  co_return "";
}

/// Turns the port's output back on its input, RTS on CTS and DTR on DSR (inside the chip).
class TurnedBack {
 public:
  explicit TurnedBack(const char* path) : fd_(::open(path, O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC)) {
    REQUIRE(fd_ >= 0);
    set(TIOCMBIS);
  }
  ~TurnedBack() {
    set(TIOCMBIC);
    ::close(fd_);
  }
  TurnedBack(const TurnedBack&) = delete;
  TurnedBack& operator=(const TurnedBack&) = delete;

 private:
  void set(unsigned long how) {
    int bit = kTurnBack;
    CHECK(::ioctl(fd_, how, &bit) == 0);
  }
  int fd_;
};

void tell(const std::string& word) { std::cout << "[" << word << "]" << std::endl; }

/// All bytes that the port's driver has received so far.
int receivedBy(const char* path) {
  const int fd = ::open(path, O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
  serial_icounter_struct counted{};
  CHECK(::ioctl(fd, TIOCGICOUNT, &counted) == 0);
  ::close(fd);
  return counted.rx;
}

/// Goes on when `done` holds; false when that takes too long.
Task<bool> until(std::function<bool()> done) {
  const auto deadline = std::chrono::steady_clock::now() + 60s;
  while (!done() && std::chrono::steady_clock::now() < deadline) co_await systemClock()->sleep(20ms);
  co_return done();
}

}  // namespace

TEST_CASE("the finder lists the ports that are there, and no others") {
  REQUIRE(
      test::eventually([] { return ::access(kUsb, R_OK | W_OK) == 0; }, 60s));  // the bus looks at it first
  std::vector<std::string> devices;
  for (const FoundLine& line : findLines()) {
    devices.push_back(line.device);
    if (line.device == kUsb) CHECK(line.description == "USB: QEMU QEMU USB SERIAL");
    if (line.device == kNear) CHECK(line.description == "on board");
    CHECK(problemWithPath(line.path, false).empty());
  }
  CHECK(devices == std::vector<std::string>{kConsole, kNear, kFar, kUsbFar, kLoose, kUsb});
  CHECK(problemWithPath("/dev/ttyUSB7", false).find("nothing at this path") != std::string::npos);
}

TEST_CASE("bytes go both ways at every framing and many speeds") {
  runToEnd([]() -> Task<void> {
    const std::vector<LineSettings> all = {settings(300, "8N1"),
                                           settings(9600, "5N1"),
                                           settings(9600, "5N1.5"),
                                           settings(2400, "6E1"),
                                           settings(1200, "7O2"),
                                           settings(19200, "8M1"),
                                           settings(38400, "8S1"),
                                           settings(57600, "8N2"),
                                           settings(115200, "8N1"),
                                           settings(14400, "8N1"),
                                           settings(9600, "8N1", FlowControl::RtsCts)};
    for (const LineSettings& s : all) {
      INFO(s.forPeople());
      SerialLine near = co_await openSerial(kNear, s), far = co_await openSerial(kFar, s);
      co_await talk(*near.stream, *far.stream);
      CHECK(near.control->settings() == s);
    }
  });
}

TEST_CASE("much goes through whole") {
  runToEnd([]() -> Task<void> {
    const auto s = settings(115200, "8N1");
    SerialLine near = co_await openSerial(kNear, s), far = co_await openSerial(kFar, s);
    const std::string sent = numbered(2000);
    const Bytes all = bytesOf(sent);
    std::exception_ptr failed;
    bool done = false;
    const auto send = [&]() -> Task<void> { co_await near.stream->write(all); };
    spawn(co_await asio::this_coro::executor, send, [&](std::exception_ptr e) { failed = e, done = true; });
    const std::string got = co_await take(*far.stream, sent.size(), 60s);
    CHECK(got == sent);
    const bool ended = co_await until([&] { return done; });
    CHECK(ended);
    CHECK(failed == nullptr);
  });
}

TEST_CASE("settings change while open; what the device cannot do is refused and changes nothing") {
  runToEnd([]() -> Task<void> {
    SerialLine near = co_await openSerial(kNear, settings(9600, "8N1"));
    co_await near.control->change(settings(4800, "7E1"));
    CHECK(near.control->settings().forPeople() == "4800 7E1");
    std::string why;
    try {
      co_await near.control->change(settings(3'000'000, "8N1"));
    } catch (const Error& e) {
      why = e.what();
    }
    INFO(why);
    CHECK(why.find("cannot do 3000000 bits a second; it stays at 4800") != std::string::npos);
    CHECK(near.control->settings().forPeople() == "4800 7E1");
  });
}

TEST_CASE("one opener at a time, and the second is told who has it") {
  runToEnd([]() -> Task<void> {
    SerialLine near = co_await openSerial(kNear, settings(9600, "8N1"));
    const std::string why = co_await whyNot(kNear, settings(9600, "8N1"));
    INFO(why);
    CHECK(why.find("kettle-guest-li") != std::string::npos);
    CHECK(why.find("holds this line") != std::string::npos);
  });
  runToEnd([]() -> Task<void> {
    const std::string why = co_await whyNot("/dev/ttyS2", settings(9600, "8N1"));  // a name without a chip
    INFO(why);
    CHECK_FALSE(why.empty());
  });
}

TEST_CASE("modem lines are set and seen") {
  const TurnedBack turned(kNear);
  runToEnd([]() -> Task<void> {
    SerialLine near = co_await openSerial(kNear, settings(9600, "8N1"));
    for (const bool rts : {false, true})
      for (const bool dtr : {true, false}) {
        co_await near.control->setRts(rts);
        co_await near.control->setDtr(dtr);
        const auto lamps = near.control->lines();
        REQUIRE(lamps);
        CHECK(lamps->rts == rts);
        CHECK(lamps->cts == rts);
        CHECK(lamps->dtr == dtr);
        CHECK(lamps->dsr == dtr);
      }
  });
}

TEST_CASE("DTR/DSR flow control stops a write in its middle and lets it go on") {
  const TurnedBack turned(kNear);
  runToEnd([]() -> Task<void> {
    SerialLine line = co_await openSerial(kNear, settings(9600, "8N1", FlowControl::DtrDsr));
    co_await line.control->setDtr(false);
    const std::string text = numbered(400);
    const Bytes all = bytesOf(text);
    bool done = false;
    std::exception_ptr failed;
    const auto send = [&]() -> Task<void> { co_await line.stream->write(all); };
    spawn(co_await asio::this_coro::executor, send, [&](std::exception_ptr e) { failed = e, done = true; });
    const std::string early = co_await take(*line.stream, 1, 500ms);  // not before the other side is ready
    CHECK(early.empty());
    co_await line.control->setDtr(true);
    std::string got = co_await take(*line.stream, 200);
    CHECK(got.size() >= 200);
    co_await line.control->setDtr(false);
    const std::string late = co_await take(*line.stream, text.size(), 1s);
    CHECK(late.size() < 100);  // what the driver and the chip still had
    CHECK_FALSE(done);
    got += late;
    co_await line.control->setDtr(true);
    got += co_await take(*line.stream, text.size() - got.size(), 60s);
    CHECK(got == text);
    const bool ended = co_await until([&] { return done; });
    CHECK(ended);
    CHECK(failed == nullptr);
  });
}

TEST_CASE("RTS/CTS holds back what is written while CTS is off") {
  const TurnedBack turned(kNear);
  runToEnd([]() -> Task<void> {
    SerialLine line = co_await openSerial(kNear, settings(9600, "8N1"));
    co_await line.control->setRts(false);
    co_await line.control->change(settings(9600, "8N1", FlowControl::RtsCts));
    co_await say(*line.stream, "held back");
    const std::string early = co_await take(*line.stream, 1, 700ms);
    CHECK(early.empty());
    co_await line.control->change(settings(9600, "8N1"));
    const std::string late = co_await take(*line.stream, 9);
    CHECK(late == "held back");
  });
}

TEST_CASE("XON/XOFF stops and starts the sender") {
  runToEnd([]() -> Task<void> {
    SerialLine near = co_await openSerial(kNear, settings(9600, "8N1", FlowControl::XonXoff));
    SerialLine far = co_await openSerial(kFar, settings(9600, "8N1"));
    const int before = receivedBy(kNear);
    co_await say(*far.stream, "\x13");
    const bool there = co_await until([before] { return receivedBy(kNear) > before; });
    CHECK(there);
    co_await systemClock()->sleep(300ms);  // from the driver to the terminal layer, which acts on it
    co_await say(*near.stream, "held back");
    const std::string early = co_await take(*far.stream, 1, 700ms);
    CHECK(early.empty());
    co_await say(*far.stream, "\x11");
    const std::string here = co_await take(*far.stream, 9);
    CHECK(here == "held back");
  });
}

TEST_CASE("breaks go out and are counted when they come in") {
  runToEnd([]() -> Task<void> {
    SerialLine near = co_await openSerial(kNear, settings(9600, "8N1"));
    co_await near.control->sendBreak(250ms);
    const auto before = near.control->errors();
    REQUIRE(before);
    CHECK(before->breaks == 0);
    tell("break, please");
    const bool seen = co_await until([&] { return near.control->errors()->breaks == 1; });
    CHECK(seen);
  });
}

TEST_CASE("a USB adapter: bytes, speeds, lamps; and it is pulled") {
  runToEnd([]() -> Task<void> {
    for (const LineSettings& s : {settings(115200, "8N1"), settings(9600, "7E1"), settings(250'000, "8O2")}) {
      INFO(s.forPeople());
      SerialLine usb = co_await openSerial(kUsb, s),
                 far = co_await openSerial(kUsbFar, settings(115200, "8N1"));
      co_await talk(*usb.stream, *far.stream);
      CHECK(usb.control->lines());
    }
    SerialLine usb = co_await openSerial(kUsb, settings(9600, "8N1"));
    tell("pull it");
    std::string why;
    try {
      co_await take(*usb.stream, 1, 60s);
    } catch (const Error& e) {
      CHECK(e.kind() == ErrorKind::ClosedByPeer);
      why = e.what();
    }
    INFO(why);
    CHECK(why.find("the line is gone") != std::string::npos);
    usb.stream->close();
    const std::string gone = co_await whyNot(kUsb, settings(9600, "8N1"));
    INFO(gone);
    CHECK(gone.find("plugged in") != std::string::npos);
    tell("put it back");
    const bool back = co_await until([] { return ::access(kUsb, R_OK | W_OK) == 0; });
    CHECK(back);
    // Its name is there a little before its driver is.
    std::string problem = "not tried";
    for (int i = 0; i < 100 && !problem.empty(); ++i) {
      co_await systemClock()->sleep(50ms);
      problem = co_await whyNot(kUsb, settings(9600, "8N1"));
    }
    INFO(problem);
    CHECK(problem.empty());
  });
}

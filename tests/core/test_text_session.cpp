// Sessions of text, from the outside: what a window or the command line sees of them.
#include <catch2/catch.hpp>

#include "lab/text_service.hpp"
#include "route/text_opening.hpp"
#include "session/text_session.hpp"
#include "tests/text_support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// A line in memory whose other end the test holds.
struct FakeLine {
  explicit FakeLine(Runtime& r) : strand(r.strand()) {}
  std::function<Task<TextLine>(Asker&, RouteFacts&, ConnectFindings*)> maker() {
    return [this](Asker&, RouteFacts&, ConnectFindings*) -> Task<TextLine> {
      auto executor = co_await asio::this_coro::executor;
      auto [a, b] = memoryPair(executor);
      there = std::shared_ptr<ByteStream>(std::move(b));
      on = executor;
      ++connections;
      TextLine line;
      line.stream = std::move(a);
      line.kind = "fake";
      if (echoes) line.echoesHere = [] { return true; };
      line.resize = [this](int columns, int rows) -> Task<void> {
        const std::lock_guard held(lock);
        sizes.emplace_back(columns, rows);
        co_return;
      };
      spawn(executor, [this, end = there] { return listen(end); });
      co_return line;
    };
  }
  Task<void> listen(std::shared_ptr<ByteStream> end) {
    Bytes in(4096);
    for (;;) {
      const std::size_t n = co_await end->readSome(in);
      const std::lock_guard held(lock);
      heard += textOf(ByteView(in).first(n));
      times.push_back(std::chrono::steady_clock::now());
    }
  }
  void say(const std::string& text) {
    spawn(on, [end = there, text]() -> Task<void> {
      const Bytes bytes(text.begin(), text.end());
      co_await end->write(bytes);
    });
  }
  void drop() {
    post(on, [end = there] { end->close(); });
  }
  std::string said() {
    const std::lock_guard held(lock);
    return heard;
  }
  /// Columns and rows as the line was told last.
  std::pair<int, int> size() {
    const std::lock_guard held(lock);
    return sizes.empty() ? std::pair{0, 0} : sizes.back();
  }
  Executor strand, on;
  std::shared_ptr<ByteStream> there;
  std::mutex lock;
  std::string heard;
  std::vector<std::pair<int, int>> sizes;
  std::vector<std::chrono::steady_clock::time_point> times;
  std::atomic<int> connections = 0;
  bool echoes = false;
};

}  // namespace

TEST_CASE("a text session shows what comes and sends what is typed", "[text-session]") {
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.label = "mist-bench";
  config.connect = line.maker();
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  line.say("mist-bench login: ");
  CHECK(watch.shows("mist-bench login:"));
  watch.console().terminal().character('d', {});
  watch.session().key('u', 0, true);
  watch.session().key(0xFF0D, 0, true);
  CHECK(eventually([&] { return line.said() == "du\r"; }));
  line.say("\x1b[6n");  // a question of the program there
  CHECK(eventually([&] { return line.said() == "du\r\x1b[1;19R"; }));
  watch.session().setViewOnly(true);
  watch.session().key('x', 0, true);
  watch.session().setViewOnly(false);
  watch.session().key('y', 0, true);
  CHECK(eventually([&] { return line.said().back() == 'y'; }));
  CHECK(line.said().find('x') == std::string::npos);
}

TEST_CASE("the line is told how large the text is, also when a program asks for 132 columns",
          "[text-session]") {
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.label = "mist-bench";
  config.rows = 24, config.columns = 90;
  config.connect = line.maker();
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  CHECK(eventually([&] { return line.size() == std::pair{90, 24}; }));
  line.say("\x1b[?3h");
  CHECK(eventually([&] { return line.size() == std::pair{132, 24}; }));
  watch.console().resizeText(30, 100);  // the pane changes under it
  CHECK(eventually([&] { return line.size() == std::pair{132, 30}; }));
  line.say("\x1b[?3l");
  CHECK(eventually([&] { return line.size() == std::pair{100, 30}; }));
  const std::size_t told = line.sizes.size();
  line.say("nothing about sizes");
  CHECK(watch.shows("nothing about sizes"));
  CHECK(line.sizes.size() == told);
}

TEST_CASE("a lost line comes back by itself, and the text stays", "[text-session]") {
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.connect = line.maker();
  config.reconnect.first = std::chrono::milliseconds(1);
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  line.say("before\r\n");
  REQUIRE(watch.shows("before"));
  line.drop();
  REQUIRE(eventually([&] { return line.connections == 2 && watch.status().stage == SessionStage::Live; }));
  line.say("after");
  CHECK(watch.shows("before\nafter"));
}

TEST_CASE("a paced paste waits between characters and can be cancelled", "[text-session]") {
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.connect = line.maker();
  config.pacing.perCharacter = std::chrono::milliseconds(3);
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  watch.console().paste("valve 1\nvalve 2\n");
  REQUIRE(eventually([&] { return watch.transfer().finished; }));
  CHECK(line.said() == "valve 1\rvalve 2\r");
  CHECK(line.times.back() - line.times.front() > std::chrono::milliseconds(15 * 3 - 10));
  watch.console().paste(std::string(100'000, 'x'));
  REQUIRE(eventually([&] { return watch.transfer().done > 5 && !watch.transfer().finished; }));
  watch.console().cancelTransfer();
  REQUIRE(eventually([&] { return watch.transfer().finished; }));
  CHECK(watch.transfer().failed);
  CHECK(line.said().size() < 5000);
}

TEST_CASE("what is typed is shown here when the other side leaves that to us", "[text-session]") {
  Runtime runtime(2);
  FakeLine line(runtime);
  line.echoes = true;
  TextConfig config;
  config.connect = line.maker();
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  watch.console().sendBytes("abc");
  CHECK(watch.shows("abc"));
}

TEST_CASE("watch words answer and are told of; logs are written", "[text-session]") {
  TemporaryFolder folder;
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.label = "weather-mast";
  config.connect = line.maker();
  config.watchWords = text::parseWatchWords("login: => duty\\r\nFROST");
  text::LogOptions log;
  log.folder = folder.path;
  log.name = "weather-mast";
  config.log = log;
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  line.say("login: ");
  CHECK(eventually([&] { return line.said() == "duty\r"; }));
  line.say("\r\nFROST warning\r\n");
  CHECK(eventually([&] { return watch.words().size() == 2; }));
  CHECK(watch.words()[1] == "FROST: FROST warning");
  watch.console().markLog("seen by duty");
  const auto file = watch.console().logFile();
  REQUIRE_FALSE(file.empty());
  CHECK(eventually([&] { return textOf(readFile(file)).find("mark: seen by duty") != std::string::npos; }));
  CHECK(textOf(readFile(file)).find("FROST warning") != std::string::npos);
}

TEST_CASE("a file goes over the line by YMODEM while typing rests", "[text-session]") {
  TemporaryFolder folder;
  std::ofstream(folder.path / "valve.bin") << std::string(3000, 'v');
  Runtime runtime(2);
  FakeLine line(runtime);
  TextConfig config;
  config.connect = line.maker();
  TextWatch watch(makeTextSession(runtime.strand(), systemClock(), config));
  REQUIRE(watch.live());
  // The other end is a second session that receives.
  auto pairStrand = runtime.strand();
  Runtime other(1);
  auto lines = std::make_shared<std::pair<StreamPtr, StreamPtr>>(memoryPair(pairStrand));
  const auto over = [&](bool first) {
    return [lines, first](Asker&, RouteFacts&, ConnectFindings*) -> Task<TextLine> {
      TextLine l;
      l.stream = std::move(first ? lines->first : lines->second);
      l.kind = "pair";
      co_return l;
    };
  };
  TextConfig a, b;
  a.connect = over(true), b.connect = over(false);
  TextWatch sender(makeTextSession(pairStrand, systemClock(), a)),
      receiver(makeTextSession(pairStrand, systemClock(), b));
  REQUIRE(sender.live());
  REQUIRE(receiver.live());
  std::filesystem::create_directory(folder.path / "in");
  receiver.console().receiveFiles(text::TransferKind::Ymodem, folder.path / "in");
  sender.console().sendFile(text::TransferKind::Ymodem, folder.path / "valve.bin");
  REQUIRE(eventually([&] { return receiver.transfer().finished && sender.transfer().finished; },
                     std::chrono::seconds(20)));
  INFO(sender.transfer().outcome << " / " << receiver.transfer().outcome);
  CHECK_FALSE(sender.transfer().failed);
  CHECK(textOf(readFile(folder.path / "in" / "valve.bin")) == std::string(3000, 'v'));
}

TEST_CASE("through the lab's terminal server: wrong settings give garbage, the doctor finds the right ones",
          "[text-session]") {
  Runtime runtime(2);
  lab::TextServicePlan plan;
  plan.kind = lab::TextServicePlan::Kind::TerminalServer;
  plan.line.speed = 2400;
  plan.make = [] { return lab::weatherMast(3); };
  lab::TextService service(runtime.strand(), systemClock(), plan);
  service.start();
  const Address address =
      parseAddress("telnet+serial://127.0.0.1:" + std::to_string(service.port()) + "?speed=19200");
  OpeningTools tools;
  TextWatch watch(makeSession(runtime.strand(), address, "weather-mast", builtInSettings(), tools, {}));
  REQUIRE(watch.live());
  REQUIRE(eventually([&] { return watch.line().settings == "19200 8N1"; }));
  CHECK(watch.line().dcd);
  CHECK(watch.capabilities().lineSettings.can);
  DoctorReport report;
  std::atomic<bool> done = false;
  DoctorOptions options;
  options.speeds = {9600, 2400};
  options.listen = std::chrono::seconds(3);  // a line a second, also on a busy machine
  watch.console().tryUsualSettings(options, [&](DoctorReport r) {
    report = std::move(r);
    done = true;
  });
  REQUIRE(eventually([&] { return done.load(); }, std::chrono::seconds(30)));
  for (const DoctorFinding& f : report.tried)
    UNSCOPED_INFO(f.settings.forPeople()
                  << ": " << f.readable << " of " << f.bytes << " bytes: " << f.sample);
  REQUIRE(report.proposal);
  CHECK(report.proposal->speed == 2400);
  CHECK(eventually([&] { return watch.line().errors && watch.line().errors->framing > 0; }));
  watch.console().changeLine(*report.proposal);
  CHECK(watch.shows("WIND "));
}

TEST_CASE("text addresses are read and written, with what is wrong named", "[text-session]") {
  for (const char* uri : {"serial:/dev/ttyUSB0?flow=none&frame=8N1&speed=9600", "unix:/run/vm/serial",
                          "tcp://10.8.0.4:4001", "tls://10.8.0.4:4002", "telnet://192.0.2.18:23",
                          "telnet+serial://192.0.2.17:2101?speed=115200", "ssh://duty@10.8.0.31:22"})
    CHECK(parseAddress(uri).uri() == uri);
  CHECK(parseAddress("ssh://duty@gatehouse").port == 22);
  CHECK_THROWS_WITH(parseAddress("tcp://10.8.0.4"), Catch::Contains("port is missing"));
  CHECK_THROWS_WITH(parseAddress("serial:ttyUSB0"), Catch::Contains("full path"));
  const SettingReader usual = builtInSettings();
  CHECK(
      lineSettings(parseAddress("serial:/dev/ttyS0?speed=115200&frame=7E1&flow=rtscts"), usual).forPeople() ==
      "115200 7E1 RTS/CTS");
  CHECK_THROWS_WITH(lineSettings(parseAddress("serial:/dev/ttyS0?speed=fast"), usual),
                    Catch::Contains("not a speed"));
  CHECK_THROWS_WITH(lineSettings(parseAddress("serial:/dev/ttyS0?frame=9N1"), usual), Catch::Contains("8N1"));
}

TEST_CASE("a password given for the target is never offered to the jumps before it", "[text-session]") {
  OpeningTools tools;
  tools.givenPassword = "moss-7";
  tools.via = "ssh://duty@gatehouse, ssh://duty@10.8.0.2:2222";
  const SettingReader usual = builtInSettings();
  const Address target = parseAddress("ssh://duty@10.8.0.31");
  const std::vector<SshHop> hops = hopsTo(target, usual, tools);
  REQUIRE(hops.size() == 2);
  for (const SshHop& hop : hops) CHECK_FALSE(hop.options.password);
  CHECK(sshHop(target, usual, tools, {}).options.password == "moss-7");
}

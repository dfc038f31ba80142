// kettle as its users call it: exit codes, files, records.
#include <sys/wait.h>

#include <fstream>
#include <future>

#include "base/file.hpp"
#include "lab/host.hpp"
#include "picture/png.hpp"
#include "rfb/server.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

struct Run {
  int code;
  std::string out;
};

struct Shell {
  test::TemporaryFolder folder;
  Run operator()(const std::string& arguments) const {
    const std::string f = folder.path.string();
    const std::string command = "XDG_CONFIG_HOME=" + f + "/config XDG_DATA_HOME=" + f +
                                "/data XDG_STATE_HOME=" + f + "/state " + KW_KETTLE + " " + arguments +
                                " 2>&1";
    FILE* pipe = popen(command.c_str(), "r");
    REQUIRE(pipe != nullptr);
    Run run{0, {}};
    char chunk[512];
    while (std::size_t n = fread(chunk, 1, sizeof chunk, pipe)) run.out.append(chunk, n);
    run.code = WEXITSTATUS(pclose(pipe));
    return run;
  }
};

struct LabConsole {
  explicit LabConsole(const std::string& password = "", bool certificate = false)
      : console(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), [&] {
          lab::ConsolePlan p;
          p.guest.name = "palm-house-01";
          p.options.password = password;
          if (certificate) p.options.certificate = makeSelfSigned("orchard");
          return p;
        }()) {
    console.start(true);
    uri = "vnc://127.0.0.1:" + std::to_string(console.port());
  }
  ~LabConsole() {
    console.stop();
    runtime.stop();
  }
  Runtime runtime{1};
  lab::Console console;
  std::string uri;
};

}  // namespace

TEST_CASE("kettle tells usage errors and help", "[cli]") {
  Shell kettle;
  CHECK(kettle("").code == 2);
  CHECK(kettle("nonsense").code == 2);
  CHECK(kettle("snap").code == 2);
  const Run help = kettle("snap --help");
  CHECK(help.code == 0);
  CHECK(help.out.find("--settle") != std::string::npos);
  CHECK(kettle("snap vnc://127.0.0.1:1 --encoding nothing --out /tmp/x.png").code == 2);
  CHECK(kettle("snap ftp://fernery --out /tmp/x.png").code == 2);
}

namespace {

/// Shows its left half only, once, and reads whatever it is told.
struct HalfPainter {
  HalfPainter() : listener(listenTcp(runtime.strand(), "127.0.0.1", 0)) {
    spawn(runtime.strand(), [this]() -> Task<void> {
      for (;;) {
        StreamPtr visitor = co_await listener->accept();
        ByteWriter out = test::serverGreeting({64, 48});
        test::updateHeader(out, 1);
        test::rectHeader(out, {0, 0, 32, 48}, 0);
        for (int i = 0; i < 32 * 48; ++i) out.u8(60).u8(90).u8(20).u8(0);
        const Bytes all = out.take();
        co_await visitor->write(all);
        Bytes heard(256);
        try {
          for (;;) co_await visitor->readSome(heard);
        } catch (const Error&) {
          // It has its picture.
        }
      }
    });
  }
  ~HalfPainter() { runtime.stop(); }
  Runtime runtime{1};
  std::unique_ptr<Listener> listener;
};

}  // namespace

TEST_CASE("snap takes the picture of a machine that paints only a part of its screen", "[cli]") {
  Shell kettle;
  HalfPainter machine;
  const std::string file = (kettle.folder.path / "half.png").string();
  const Run run = kettle("snap vnc://127.0.0.1:" + std::to_string(machine.listener->port()) +
                         " --settle 200 --out " + file);
  CAPTURE(run.out);
  REQUIRE(run.code == 0);
  const Framebuffer shot = loadPng(file);
  REQUIRE(shot.size() == Size{64, 48});
  CHECK((shot.pixel(5, 5) & 0xffffff) == (rgb(20, 90, 60) & 0xffffff));
  CHECK((shot.pixel(40, 5) & 0xffffff) == 0);
}

TEST_CASE("kettle's exit codes name what went wrong", "[cli]") {
  Shell kettle;
  const std::string out = " --out " + (kettle.folder.path / "a.png").string() + " --settle 0";
  CHECK(kettle("snap vnc://127.0.0.1:1" + out).code == 3);
  CHECK(kettle("snap vnc://nowhere.invalid" + out).code == 3);
  {
    LabConsole locked("orchid");
    CHECK(kettle("snap " + locked.uri + out).code == 4);
    std::ofstream(kettle.folder.path / "password") << "fern\n";
    CHECK(
        kettle("snap " + locked.uri + out + " --password-file " + (kettle.folder.path / "password").string())
            .code == 4);
    std::ofstream(kettle.folder.path / "password") << "orchid\n";
    CHECK(
        kettle("snap " + locked.uri + out + " --password-file " + (kettle.folder.path / "password").string())
            .code == 0);
    CHECK(loadPng(kettle.folder.path / "a.png").size() == Size{1024, 640});
  }
  {
    LabConsole sealedOne("", true);
    const Run untrusted = kettle("snap " + sealedOne.uri + out);
    CHECK(untrusted.code == 6);
    CHECK(kettle("snap " + sealedOne.uri + out + " --trust-once").code == 0);
  }
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  std::shared_ptr<Listener> listener = listenTcp(strand, "127.0.0.1", 0);
  spawn(strand, [listener]() -> Task<void> {
    std::vector<StreamPtr> kept;
    for (int i = 0;; ++i) {
      kept.push_back(co_await listener->accept());
      const std::string web = "HTTP/1.0 400 no\r\n\r\n";
      if (i == 0) co_await kept.back()->write(viewOf(web));
    }
  });
  const std::string uri = "vnc://127.0.0.1:" + std::to_string(listener->port());
  CHECK(kettle("snap " + uri + out).code == 5);
  CHECK(kettle("snap " + uri + out + " --timeout 0.5").code == 7);
  runtime.stop();
}

TEST_CASE("kettle types, clicks and watches", "[cli]") {
  Shell kettle;
  LabConsole bench;
  CHECK(kettle("type " + bench.uri + " --text 'Fern 7!' --pace 0").code == 0);
  std::string note;
  bench.console.withGuest([&](lab::Guest& g) {
    g.key(0xffe3, true);
    g.key('c', true);
    note = g.takeCopied();
    g.key(0xffe3, false);
  });
  CHECK(note == "Fern 7!");
  CHECK(kettle("type " + bench.uri + " --keys backspace shift+x").code == 0);
  CHECK(kettle("type " + bench.uri + " --keys nosuchkey").code == 2);
  CHECK(kettle("click " + bench.uri + " 100 100").code == 0);
  const Run watched = kettle("watch " + bench.uri + " --seconds 1 --json");
  CHECK(watched.code == 0);
  CHECK(watched.out.find("\"framesPerSecond\"") != std::string::npos);
}

TEST_CASE("kettle keeps machines and finds them by name", "[cli]") {
  Shell kettle;
  LabConsole bench;
  CHECK(kettle("machines add palm-house-01 --address " + bench.uri +
               " --group 'Alder Vale/Palm house' --host orchard")
            .code == 0);
  CHECK(kettle("machines add palm-house-01 --address " + bench.uri).code == 2);
  CHECK(kettle("machines add broken --address gopher://x").code == 2);
  CHECK(kettle("machines list").out == "palm-house-01\t" + bench.uri + "\n");
  CHECK(kettle("machines list --json").out.find("\"group\": \"Alder Vale / Palm house\"") !=
        std::string::npos);
  CHECK(kettle("snap palm-house-01 --settle 0 --out " + (kettle.folder.path / "b.png").string()).code == 0);
  CHECK(kettle("machines set palm-house-01 screen.fit whole").code == 0);
  CHECK(kettle("machines set palm-house-01 screen.fit sideways").code == 2);
  CHECK(kettle("machines show palm-house-01").out.find("Whole-number zoom (from the machine)") !=
        std::string::npos);
  CHECK(kettle("machines remove palm-house-01").code == 0);
  CHECK(kettle("machines show palm-house-01").code == 2);
  CHECK(kettle("machines undo").out == "undone: remove palm-house-01\n");
  CHECK(kettle("machines show palm-house-01 --json").code == 0);
}

TEST_CASE("kettle fetches a machine's first password from its host, into the record", "[cli][credential]") {
  Shell kettle;
  const std::string at = kettle.folder.path.string();
  REQUIRE(std::system(("cd " + at +
                       " && openssl genrsa -out key.pem 2048 2>/dev/null && printf Kf7-glass | "
                       "openssl pkeyutl -encrypt -inkey key.pem | base64 -w0 > blob")
                          .c_str()) == 0);
  std::ofstream(at + "/host.sh") << R"sh(cd "$(dirname "$0")"
case "$1 $2" in
"watch ") echo '{"machines":[{"id":"m1","name":"fern-store"}]}'; exec sleep 600;;
"first-password m1") echo "{\"done\":true,\"sealed\":\"$(cat blob)\"}";;
esac)sh";
  const std::string decrypt = "credential decrypt-first fern-store --key-file " + at + "/key.pem ";
  REQUIRE(kettle("hosts add orchard --address 'command:/bin/sh " + at + "/host.sh'").code == 0);
  REQUIRE(kettle("machines add fern-store --address ssh://duty@127.0.0.1 --host orchard").code == 0);
  CHECK(kettle(decrypt + "--from-host").out.find("not linked to a host") != std::string::npos);
  REQUIRE(kettle("machines set fern-store host.id m1").code == 0);
  CHECK(kettle(decrypt + "--from-host --print").out == "Kf7-glass\n");
  CHECK(kettle(decrypt + "--from-host").out.find("kept with fern-store") != std::string::npos);
  CHECK(kettle(decrypt).code == 2);  // from nowhere
  CHECK(kettle(decrypt + "--from-host --blob-file " + at + "/blob").code == 2);
}

TEST_CASE("kettle pins in advance; what was sealed is not opened in clear from a shell", "[cli]") {
  Shell kettle;
  const std::string out = (kettle.folder.path / "p.png").string();
  {
    LabConsole sealed("", true);
    const std::string sha = sha256OfPem(sealed.console.plan().options.certificate->certificatePem);
    // Without a fingerprint it shows what it found, and asks nobody who is not there.
    const Run shown = kettle("trust add " + sealed.uri + " < /dev/null");
    CHECK(shown.code == 6);
    CHECK_THAT(shown.out, Catch::Contains(sha));
    CHECK(kettle("trust add " + sealed.uri + " --sha256 12:34").code == 2);
    CHECK(kettle("trust add " + sealed.uri + " --sha256 " + sha).code == 0);
    CHECK_THAT(kettle("trust list").out, Catch::Contains(sha));
    CHECK(kettle("snap " + sealed.uri + " --settle 0 --out " + out + " < /dev/null").code == 0);
  }
  LabConsole plain;
  const std::string wrong(64, 'a');
  CHECK(kettle("trust add " + plain.uri + " --sha256 " + wrong).code == 0);
  const Run refused = kettle("snap " + plain.uri + " --trust-once --settle 0 --out " + out + " < /dev/null");
  CHECK(refused.code == 6);
  CHECK_THAT(refused.out, Catch::Contains("was sealed before"));
  CHECK(kettle("trust forget " + plain.uri).code == 0);
  CHECK(kettle("snap " + plain.uri + " --settle 0 --out " + out + " < /dev/null").code == 0);
}

TEST_CASE("kettle snap: a text cursor that blinks stands still, a counter does not", "[cli]") {
  const bool blinks = GENERATE(true, false);
  Runtime runtime{1};
  const Executor strand = runtime.strand();
  auto picture = std::make_shared<Framebuffer>(Size{120, 80});
  rfb::ServerEvents events;
  rfb::Server server(strand, picture, {}, {}, events);
  auto listener = listenTcp(strand, "127.0.0.1", 0);
  std::promise<void> over;
  const std::shared_ptr<Clock> clock = systemClock();
  const auto serve = [&]() -> Task<void> {
    StreamPtr stream = co_await listener->accept();
    co_await server.run(std::move(stream));
  };
  const auto change = [&]() -> Task<void> {
    for (unsigned i = 0;; ++i) {
      co_await clock->sleep(std::chrono::milliseconds(100));
      {
        const auto lock = picture->lock();
        picture->fill({10, 10, 8, 16},
                      blinks ? (i % 2 == 0 ? rgb(255, 255, 255) : kOpaque) : rgb(i & 255, i >> 8, 90));
      }
      server.damaged(Region({10, 10, 8, 16}));
    }
  };
  spawn(
      strand, [&]() -> Task<void> { co_await firstOf(serve(), change()); },
      [&](std::exception_ptr) { over.set_value(); });
  Shell kettle;
  const auto file = kettle.folder.path / "a.png";
  const Run run = kettle("snap vnc://127.0.0.1:" + std::to_string(listener->port()) +
                         " --settle 700 --timeout 5 --out " + file.string());
  INFO(run.out);
  CHECK(run.code == (blinks ? 0 : 7));
  CHECK(std::filesystem::exists(file) == blinks);
  over.get_future().wait();
}

// The RDP engine against a real service with an X session behind it: pictures equal what the session's own
// screen holds.
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <iostream>

#include "base/file.hpp"
#include "route/opening.hpp"
#include "tests/peers/qemu.hpp"

using namespace kw;
using namespace kw::test;

namespace {

constexpr const char* kUser = "kw-test-guest";
constexpr const char* kPassword = "Fern-House-7";

bool haveService() {
  if (!have("/usr/sbin/xrdp") || !have("/usr/lib/xorg/modules/drivers/xrdpdev_drv.so") ||
      !have("/usr/bin/xterm") || !have("/usr/bin/xwd"))
    return false;
  if (getuid() == 0) return true;
  std::cout << "SKIPPED: " << Catch::getResultCapture().getCurrentTestName()
            << ": needs root to start sessions" << std::endl;
  return false;
}

/// Only the first such line: later sections have keys of the same name.
std::string replacedLine(std::string text, const std::string& key, const std::string& value) {
  std::string out;
  bool done = false;
  for (std::size_t at = 0; at < text.size();) {
    const auto end = std::min(text.find('\n', at), text.size());
    const std::string line = text.substr(at, end - at);
    const bool here = !done && line.starts_with(key + "=");
    done = done || here;
    out += (here ? key + "=" + value : line) + "\n";
    at = end + 1;
  }
  return out;
}

/// The service with its session manager, ended with the object.
class RdpService {
 public:
  enum class Ciphers { Usual, Fips };
  explicit RdpService(Ciphers ciphers = Ciphers::Usual) : port(freeTcpPort()) {
    std::filesystem::permissions(folder_.path, std::filesystem::perms(0755));
    REQUIRE(std::system((std::string("id ") + kUser + " >/dev/null 2>&1 || useradd -m -s /bin/bash " + kUser)
                            .c_str()) == 0);
    REQUIRE(std::system((std::string("echo ") + kUser + ":" + kPassword + " | chpasswd").c_str()) == 0);
    std::ofstream(folder_.path / "display").close();
    std::filesystem::permissions(folder_.path / "display", std::filesystem::perms(0666));
    std::ofstream(folder_.path / "session")
        << "#!/bin/bash\nxsetroot -solid '#2b3a42'\necho \"$DISPLAY\" > "
        << (folder_.path / "display").string()
        << "\nexec xterm -geometry 80x24+100+60 -bg '#15191c' -fg '#e9e4da' -cr '#15191c' -e "
           "'printf \"\\033[?25l\"; seq 1 20; printf \"\\033[41m Alder Vale \\033[44m 7 \\033[0m\\n\"; exec "
           "cat'\n";
    std::filesystem::permissions(folder_.path / "session", std::filesystem::perms(0755));
    std::string service = textOf(readFile("/etc/xrdp/xrdp.ini")),
                sessions = textOf(readFile("/etc/xrdp/sesman.ini"));
    service = replacedLine(service, "port", "tcp://127.0.0.1:" + std::to_string(port));
    service = replacedLine(service, "LogFile", (folder_.path / "service.log").string());
    if (ciphers == Ciphers::Fips) {
      service = replacedLine(service, "crypt_level", "fips");
      service = replacedLine(service, "security_layer", "rdp");
    }
    sessions = replacedLine(sessions, "DefaultWindowManager", (folder_.path / "session").string());
    sessions = replacedLine(sessions, "EnableUserWindowManager", "false");
    sessions = replacedLine(sessions, "KillDisconnected", "false");
    sessions = replacedLine(sessions, "LogFile", (folder_.path / "sessions.log").string());
    std::ofstream(folder_.path / "xrdp.ini") << service;
    std::ofstream(folder_.path / "sesman.ini") << sessions;
    sessions_ = start("/usr/sbin/xrdp-sesman", folder_.path / "sesman.ini");
    service_ = start("/usr/sbin/xrdp", folder_.path / "xrdp.ini");
  }
  ~RdpService() {
    for (pid_t p : {service_, sessions_})
      if (p > 0) kill(p, SIGTERM), waitpid(p, nullptr, 0);
    if (std::system((std::string("pkill -KILL -u ") + kUser + " >/dev/null 2>&1").c_str()) != 0) return;
  }
  [[nodiscard]] std::string address() const {
    return std::string("rdp://") + kUser + "@127.0.0.1:" + std::to_string(port);
  }
  /// What the session's screen holds.
  [[nodiscard]] Framebuffer truth() const {
    const std::string display = textOf(readFile(folder_.path / "display"));
    const std::string file = (folder_.path / "screen.xwd").string();
    const std::string command = std::string("su ") + kUser +
                                " -c 'DISPLAY=" + display.substr(0, display.find('\n')) +
                                " xwd -root -silent' > " + file;
    if (display.empty() || std::system(command.c_str()) != 0) return {};
    const Bytes b = readFile(file);
    const auto field = [&](std::size_t i) { return loadBe32(&b[4 * i]); };
    const int width = static_cast<int>(field(4)), height = static_cast<int>(field(5));
    Framebuffer out(Size{width, height});
    const std::size_t data = field(0) + field(19) * 12, row = field(12);
    for (int y = 0; y < height; ++y)
      for (int x = 0; x < width; ++x) {
        const Byte* p = &b[data + static_cast<std::size_t>(y) * row + static_cast<std::size_t>(x) * 4];
        *out.at(x, y) = rgb(p[2], p[1], p[0]);
      }
    return out;
  }
  int port;

 private:
  static pid_t start(const std::string& program, const std::filesystem::path& config) {
    const pid_t child = fork();
    if (child == 0) {
      if (freopen("/dev/null", "w", stdout) == nullptr || freopen("/dev/null", "w", stderr) == nullptr)
        _exit(1);
      execl(program.c_str(), program.c_str(), "--nodaemon", "--config", config.c_str(), nullptr);
      _exit(127);
    }
    return child;
  }
  TemporaryFolder folder_;
  pid_t sessions_ = -1, service_ = -1;
};

std::function<std::shared_ptr<Session>(const Executor&)> opening(
    const RdpService& service, std::map<std::string, std::string> settings) {
  settings.emplace("connect.limit", "20");
  return [=, address = service.address()](const Executor& strand) {
    OpeningTools tools;
    tools.givenPassword = kPassword;
    return makeSession(strand, parseAddress(address), "seed-bank", overlaid(builtInSettings(), settings),
                       tools, {});
  };
}

/// As a picture of 16 bits shows it: each colour cut to five or six bits and widened again.
Framebuffer cutTo565(const Framebuffer& in) {
  Framebuffer out(in.size());
  const PixelReader reader(PixelFormat::rgb565());
  for (int y = 0; y < in.height(); ++y)
    for (int x = 0; x < in.width(); ++x) {
      const Pixel p = in.pixel(x, y);
      const unsigned v = (p >> 19 & 31) << 11 | (p >> 10 & 63) << 5 | (p >> 3 & 31);
      const Byte wire[2] = {static_cast<Byte>(v), static_cast<Byte>(v >> 8)};
      *out.at(x, y) = reader.one(wire);
    }
  return out;
}

}  // namespace

TEST_CASE("A real RDP service: the session equals its own screen in every pixel, in each depth and security",
          "[rdp]") {
  if (!haveService()) return;
  RdpService service;
  struct Try {
    std::string colours, security;
    bool sealed;
    std::string codec;
    int mostDifference;
  };
  // RemoteFX loses what the service's quantisation loses.
  for (const Try& t : {Try{"32", "auto", true, "auto", 0}, Try{"24", "auto", true, "auto", 0},
                       Try{"16", "auto", true, "auto", 0}, Try{"32", "rdp", false, "auto", 0},
                       Try{"32", "auto", true, "orders", 0}, Try{"32", "auto", true, "remotefx", 40}}) {
    CAPTURE(t.colours, t.security, t.codec);
    Viewer viewer(opening(
        service, {{"screen.colours", t.colours}, {"rdp.security", t.security}, {"rdp.codec", t.codec}}));
    const bool live = viewer.live(std::chrono::seconds(40));
    INFO(viewer.status().sentence);
    REQUIRE(live);
    CHECK(viewer.route().sealed == t.sealed);
    Framebuffer truth;
    const bool same = viewer.until(
        [&] {
          truth = service.truth();
          if (truth.size().width < 100) return false;
          const Framebuffer shown = viewer.picture();
          if (shown.size() != truth.size()) return false;
          return largestDifference(shown,
                                   t.colours == "16" ? cutTo565(truth) : truth.cropped(truth.rect())) <=
                 t.mostDifference;
        },
        std::chrono::seconds(40));
    INFO("largest difference " << (truth.size() == viewer.picture().size()
                                       ? largestDifference(truth, viewer.picture())
                                       : -1));
    CHECK(same);
    if (t.codec == "orders") CHECK(viewer.saw("orders"));
    if (t.codec == "remotefx") CHECK(viewer.saw("RemoteFX"));
  }
}

TEST_CASE("A real RDP service: one that demands the ciphers of FIPS shows its screen, and is told as plain",
          "[rdp]") {
  if (!haveService()) return;
  RdpService service(RdpService::Ciphers::Fips);
  Viewer viewer(opening(service, {{"rdp.security", "rdp"}}));
  const bool live = viewer.live(std::chrono::seconds(40));
  INFO(viewer.status().sentence);
  REQUIRE(live);
  CHECK_FALSE(viewer.route().sealed);
  CHECK(viewer.until(
      [&] {
        const Framebuffer truth = service.truth(), shown = viewer.picture();
        return truth.size().width >= 100 && shown.size() == truth.size() && samePixels(shown, truth);
      },
      std::chrono::seconds(40)));
  viewer.type("fern");
  CHECK(
      viewer.until([&] { return samePixels(viewer.picture(), service.truth()); }, std::chrono::seconds(20)));
}

TEST_CASE("A real RDP service: what is typed is seen", "[rdp]") {
  if (!haveService()) return;
  RdpService service;
  Viewer viewer(opening(service, {}));
  REQUIRE(viewer.live(std::chrono::seconds(40)));
  REQUIRE(viewer.until([&] { return service.truth().size() == viewer.picture().size(); },
                       std::chrono::seconds(40)));
  viewer.click({300, 200});
  Framebuffer before = service.truth();
  REQUIRE(viewer.until(
      [&] {
        viewer.type("fern");
        return !samePixels(before, service.truth());
      },
      std::chrono::seconds(20)));
  CHECK(
      viewer.until([&] { return samePixels(viewer.picture(), service.truth()); }, std::chrono::seconds(20)));
}

#include "tests/heavy/desktop_service.hpp"

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <fstream>
#include <iostream>
#include <sstream>

#include "base/file.hpp"
#include "route/opening.hpp"

namespace kw::test {

namespace {

constexpr const char* kAccount = "kw-test-desk";
const std::string kScript = std::string(KW_SOURCE) + "/tests/heavy/desktop_session.sh";
const std::string kTools = std::string(KW_SOURCE) + "/tests/heavy/desktop_tools.py";

bool waitFor(std::chrono::seconds limit, const std::function<bool()>& holds) {
  const auto end = std::chrono::steady_clock::now() + limit;
  while (!holds()) {
    if (std::chrono::steady_clock::now() > end) return false;
    usleep(50000);
  }
  return true;
}

std::string lineOf(const std::string& file) {
  std::ifstream in(file);
  std::string line;
  std::getline(in, line);
  return line;
}

/// The first process inside of the namespaces; the same number outside.
pid_t childOf(pid_t parent) {
  const std::string p = std::to_string(parent);
  std::istringstream words(lineOf("/proc/" + p + "/task/" + p + "/children"));
  pid_t child = -1;
  words >> child;
  return words ? child : -1;
}

/// Somebody listens on the port in the network of that process.
bool listens(pid_t process, int port) {
  std::ostringstream hex;
  hex << std::hex << std::uppercase << port;
  std::string four = hex.str();
  four.insert(0, 4 - four.size(), '0');
  for (const char* table : {"/net/tcp", "/net/tcp6"}) {
    std::ifstream in("/proc/" + std::to_string(process) + table);
    for (std::string line; std::getline(in, line);)
      if (line.find(":" + four + " ") != std::string::npos && line.find(" 0A ") != std::string::npos)
        return true;
  }
  return false;
}

}  // namespace

bool DesktopService::possible() {
  for (const char* file :
       {"/usr/libexec/gnome-remote-desktop-daemon", "/usr/bin/mutter", "/usr/bin/foot", "/usr/bin/pipewire",
        "/usr/bin/wireplumber", "/usr/bin/gst-launch-1.0", "/usr/bin/socat", "/usr/bin/unshare"})
    if (!have(file)) return false;
  if (getuid() == 0) return true;
  std::cout << "SKIPPED: " << Catch::getResultCapture().getCurrentTestName()
            << ": needs root to make a network of its own" << std::endl;
  return false;
}

DesktopService::DesktopService(Mode mode, Size monitor) : port_(freeTcpPort()) {
  makeAccount();
  begin(mode, monitor);
}

DesktopService::~DesktopService() {
  for (const pid_t helper : helpers_) kill(helper, SIGKILL), ended(helper);
  if (forwarder_ > 0) kill(forwarder_, SIGKILL), ended(forwarder_);
  // With the first process of a namespace everything in it ends.
  if (first_ > 0) kill(first_, SIGKILL);
  if (namespaces_ > 0) kill(namespaces_, SIGKILL), ended(namespaces_);
  if (first_ > 0)
    waitFor(std::chrono::seconds(10),
            [this] { return !std::filesystem::exists("/proc/" + std::to_string(first_)); });
}

void DesktopService::makeAccount() const {
  const std::string f = folder_.path.string();
  std::filesystem::permissions(folder_.path, std::filesystem::perms(0755));
  const std::string conf = f + "/home/.config/pipewire/pipewire.conf.d";
  std::filesystem::create_directories(conf);
  for (const char* part : {"/run", "/log"}) std::filesystem::create_directories(f + part);
  std::ofstream(conf + "/sink.conf")
      << "context.objects = [ { factory = adapter args = { factory.name = support.null-audio-sink node.name "
         "= "
         "kw-sink media.class = Audio/Sink object.linger = true audio.position = [ FL FR ] } } ]\n";
  const std::string account = kAccount;
  REQUIRE(std::system(("(id " + account + " || useradd --system --user-group --no-create-home --shell " +
                       "/usr/sbin/nologin " + account + ") >/dev/null 2>&1")
                          .c_str()) == 0);
  REQUIRE(
      std::system(("openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=seed-bank -keyout " + f +
                   "/home/key.pem -out " + f + "/home/cert.pem >/dev/null 2>&1 && chown -R " + account + ":" +
                   account + " " + f + "/home " + f + "/run " + f + "/log && chmod 700 " + f + "/run")
                      .c_str()) == 0);
}

void DesktopService::begin(Mode mode, Size monitor) {
  const std::string f = folder_.path.string(), port = std::to_string(port_);
  namespaces_ =
      launch({"/usr/bin/unshare", "--net", "--pid", "--mount", "--mount-proc", "--fork", "--kill-child",
              kScript, "begin", f, port, std::to_string(monitor.width) + "x" + std::to_string(monitor.height),
              mode == Mode::Extend ? "extend" : "mirror"},
             folder_.path / "begin");
  const bool up = waitFor(std::chrono::seconds(60), [&] {
    if (first_ < 0) first_ = childOf(namespaces_);
    return first_ > 0 && listens(first_, port_);
  });
  INFO(textOf(readFile(folder_.path / "begin")));
  REQUIRE(up);
  forwarder_ = launch(
      {"/usr/bin/socat", "TCP-LISTEN:" + port + ",bind=127.0.0.1,reuseaddr,fork",
       "EXEC:nsenter --net=/proc/" + std::to_string(first_) + "/ns/net socat - TCP\\:127.0.0.1\\:" + port},
      folder_.path / "forwarder");
  REQUIRE(waitFor(std::chrono::seconds(10), [&] { return listens(getpid(), port_); }));
}

std::function<std::shared_ptr<Session>(const Executor&)> DesktopService::opening(
    std::map<std::string, std::string> settings) const {
  settings.emplace("connect.limit", "20");
  return [settings, address = "rdp://kw-guest@127.0.0.1:" + std::to_string(port_)](const Executor& strand) {
    OpeningTools tools;
    tools.givenPassword = "Fern-House-7";
    return makeSession(strand, parseAddress(address), "seed-bank", overlaid(builtInSettings(), settings),
                       tools, {});
  };
}

std::vector<std::string> DesktopService::inside(const std::vector<std::string>& words) const {
  std::vector<std::string> all{
      kScript, "inside", folder_.path.string(), std::to_string(first_), "/usr/bin/python3", kTools};
  all.insert(all.end(), words.begin(), words.end());
  return all;
}

int DesktopService::run(const std::vector<std::string>& words, std::string* said) const {
  const auto log = folder_.path / "said";
  std::filesystem::remove(log);
  const int code = ended(launch(inside(words), log));
  if (said != nullptr) *said = textOf(readFile(log));
  return code;
}

Framebuffer DesktopService::truth() const {
  const auto file = folder_.path / "run" / "truth";
  std::string said;
  if (run({"truth", file.string()}, &said) != 0) return {};
  std::istringstream words(said);
  Size size;
  words >> size.width >> size.height;
  const Bytes pixels = readFile(file);
  if (size.empty() || pixels.size() != static_cast<std::size_t>(size.area()) * 4) return {};
  Framebuffer out(size);
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x) {
      const Byte* p = &pixels[(static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
                               static_cast<std::size_t>(x)) *
                              4];
      *out.at(x, y) = rgb(p[2], p[1], p[0]);
    }
  return out;
}

std::string DesktopService::clipboard() const {
  std::string said;
  return run({"clip-get"}, &said) == 0 ? said : std::string();
}

void DesktopService::copy(const std::string& text) {
  const auto log = folder_.path / ("copied-" + std::to_string(helpers_.size()));
  helpers_.push_back(launch(inside({"clip-set", text}), log));
  REQUIRE(waitFor(std::chrono::seconds(10), [&] { return lineOf(log) == "owned"; }));
}

void DesktopService::playTone(int seconds) {
  helpers_.push_back(launch(inside({"tone", std::to_string(seconds)}), folder_.path / "tone"));
}

}  // namespace kw::test

// Serial lines of real machines: QEMU's serial port by every way it has, and a real RFC 2217 server.
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <catch2/catch.hpp>

#include <fstream>
#include <optional>

#include "route/text_opening.hpp"
#include "tests/peers/linux_guest.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/text_support.hpp"

extern char** environ;

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

constexpr auto kBoot = std::chrono::seconds(120);

std::unique_ptr<TextWatch> openText(Runtime& runtime, const std::string& uri, const Answer& answer = {}) {
  OpeningTools tools;
  tools.ssh = std::make_shared<SshPool>([&runtime] { return runtime.strand(); });
  return std::make_unique<TextWatch>(
      makeSession(runtime.strand(), parseAddress(uri), "mist-bench", builtInSettings(), tools, {}), answer);
}

/// Signs in and runs commands; the screen must say what the guest says.
void useGuest(TextWatch& watch) {
  REQUIRE(watch.shows("mist-bench login:", kBoot));
  watch.send("duty\r");
  REQUIRE(watch.shows("/root #", std::chrono::seconds(30)));
  watch.send("echo sum $((19 + 23)); uname -s\r");
  REQUIRE(watch.shows("sum 42\nLinux", std::chrono::seconds(30)));
}

class Process {
 public:
  explicit Process(std::vector<std::string> words) {
    std::vector<char*> argv;
    for (std::string& w : words) argv.push_back(w.data());
    argv.push_back(nullptr);
    REQUIRE(posix_spawnp(&pid_, argv[0], nullptr, nullptr, argv.data(), environ) == 0);
  }
  ~Process() {
    kill(pid_, SIGTERM);
    waitpid(pid_, nullptr, 0);
  }
  Process(const Process&) = delete;
  Process& operator=(const Process&) = delete;

 private:
  pid_t pid_ = -1;
};

}  // namespace

TEST_CASE("QEMU's serial port over a unix socket: a Linux guest boots, one signs in, a reset does not end it",
          "[serial]") {
  if (!have("/usr/bin/qemu-system-x86_64")) return;
  TemporaryFolder folder;
  const auto guest = makeLinuxGuest(folder.path);
  if (!guest) return;
  Qemu qemu(guest->arguments({"-serial", "unix:FOLDER/serial,server=on,wait=off"}));
  Runtime runtime(2);
  auto watch = openText(runtime, "unix:" + (qemu.folder() / "serial").string());
  REQUIRE(watch->live());
  useGuest(*watch);
  // Many lines come whole and in order.
  watch->send("seq 1 3000\r");
  REQUIRE(watch->shows("\n3000\n", std::chrono::seconds(60)));
  const std::string all = watch->all();
  std::size_t at = all.find("\n1\n");
  for (int i = 1; i <= 3000 && at != std::string::npos; ++i)
    at = all.find("\n" + std::to_string(i) + "\n", at);
  CHECK(at != std::string::npos);
  qemu.qmp("system_reset");
  watch->console().terminal().reset(true);
  CHECK(watch->shows("mist-bench login:", kBoot));
  CHECK(watch->status().stage == SessionStage::Live);
}

TEST_CASE("QEMU's serial port over TCP, telnet and a pseudo-terminal", "[serial]") {
  if (!have("/usr/bin/qemu-system-x86_64")) return;
  TemporaryFolder folder;
  const auto guest = makeLinuxGuest(folder.path);
  if (!guest) return;
  const std::string kind = GENERATE("tcp", "telnet", "pty");
  const std::string port = std::to_string(freeTcpPort());
  const std::string serial = kind == "pty" ? "pty" : kind + ":127.0.0.1:" + port + ",server=on,wait=off";
  Qemu qemu(guest->arguments({"-serial", serial}));
  std::string uri = kind + "://127.0.0.1:" + port;
  if (kind == "pty") {
    const auto devices = qemu.qmp("query-chardev");
    for (const auto& d : devices)
      if (const std::string file = d.at("filename"); file.starts_with("pty:"))
        uri = "serial:" + file.substr(4) + "?speed=115200";
  }
  INFO(uri);
  Runtime runtime(2);
  auto watch = openText(runtime, uri);
  REQUIRE(watch->live());
  useGuest(*watch);
}

TEST_CASE("a real network serial server (RFC 2217): ser2net over a pair of pseudo-terminals", "[serial]") {
  if (!have("/usr/sbin/ser2net") || !have("/usr/bin/socat")) return;
  TemporaryFolder folder;
  const std::string near = folder.path / "near", far = folder.path / "far";
  Process socat({"socat", "pty,raw,echo=0,link=" + near, "pty,raw,echo=0,link=" + far});
  REQUIRE(eventually([&] { return fs::exists(near) && fs::exists(far); }));
  const std::string port = std::to_string(freeTcpPort());
  std::ofstream(folder.path / "ser2net.yaml")
      << "connection: &line\n  accepter: telnet(rfc2217),tcp,127.0.0.1," << port
      << "\n  enable: on\n  connector: serialdev," << near << ",9600n81,local\n";
  Process server({"/usr/sbin/ser2net", "-n", "-c", folder.path / "ser2net.yaml", "-P", folder.path / "pid"});
  Runtime runtime(2);
  std::unique_ptr<TextWatch> watch;
  REQUIRE(eventually(
      [&] {  // until it listens
        watch = openText(runtime, "telnet+serial://127.0.0.1:" + port + "?speed=9600&frame=8N1");
        return watch->live(std::chrono::seconds(5));
      },
      std::chrono::seconds(20)));
  auto there = openText(runtime, "serial:" + far + "?speed=9600");
  REQUIRE(there->live());
  there->send("WIND 4.2\r\n");
  CHECK(watch->shows("WIND 4.2"));
  watch->send("?\xC3\xBF");
  CHECK(there->shows("?\xC3\xBF"));
  LineSettings changed;
  changed.speed = 19200;
  setFrame(changed, "7E1");
  watch->console().changeLine(changed);
  // What the server says is in force is what is shown.
  CHECK(eventually([&] { return watch->line().settings == "19200 7E1"; }));
  CHECK(watch->line().hasLamps);
  watch->console().sendBreak(std::chrono::milliseconds(100));
  there->send("still there\r\n");
  CHECK(watch->shows("still there"));
}

TEST_CASE("a line over TLS: socat's OpenSSL with a certificate that is asked about", "[serial]") {
  if (!have("/usr/bin/socat")) return;
  TemporaryFolder folder;
  const MadeCertificate made = makeSelfSigned("mist-bench");
  std::ofstream(folder.path / "both.pem") << made.certificatePem << made.keyPem;
  const std::string port = std::to_string(freeTcpPort());
  Process server({"/usr/bin/socat",
                  "openssl-listen:" + port +
                      ",bind=127.0.0.1,reuseaddr,fork,verify=0,cert=" + (folder.path / "both.pem").string(),
                  "exec:cat"});
  Runtime runtime(2);
  Answer once;
  once.accepted = true;
  std::unique_ptr<TextWatch> watch;
  REQUIRE(eventually(
      [&] {  // until it listens
        watch = openText(runtime, "tls://127.0.0.1:" + port, once);
        return watch->live(std::chrono::seconds(5));
      },
      std::chrono::seconds(20)));
  REQUIRE(watch->questions().size() == 1);
  CHECK(watch->questions()[0].kind == Question::Kind::Trust);
  CHECK(watch->route().sealed);
  watch->send("pressure 2.1 bar\r\n");
  CHECK(watch->shows("pressure 2.1 bar"));
  Answer no;
  auto refused = openText(runtime, "tls://127.0.0.1:" + port, no);
  CHECK_FALSE(refused->live());
  REQUIRE(refused->status().problem);
  CHECK(*refused->status().problem == ErrorKind::NotTrusted);
}

namespace {

/// A command whose terminal is a socket; the line stays open when it ends, as a shell would keep it.
std::string overSocket(const fs::path& socket, const std::string& command, std::optional<Process>& runs) {
  runs.emplace(std::vector<std::string>{"/usr/bin/socat", "unix-listen:" + socket.string(),
                                        "exec:'" + command + "',pty,raw,echo=0,nofork=0"});
  REQUIRE(eventually([&] { return fs::exists(socket); }));
  return "unix:" + socket.string();
}

std::string oddContent() {
  std::string s;
  for (int i = 0; i < 40'000; ++i) s += static_cast<char>(i * 7 + i / 256);
  return s + "\x1a\x18\x18 ends oddly";
}

}  // namespace

TEST_CASE("files by XMODEM and YMODEM with somebody else's programs, both ways", "[serial]") {
  if (!have("/usr/bin/socat") || !have("/usr/bin/sx")) return;
  struct Way {
    const char* sends;     ///< a program that sends, or null
    const char* receives;  ///< or one that receives
    text::TransferKind kind;
  };
  const Way way = GENERATE(Way{"/usr/bin/sx -q", nullptr, text::TransferKind::Xmodem1k},
                           Way{"/usr/bin/sx -q -k", nullptr, text::TransferKind::Xmodem1k},
                           Way{"/usr/bin/sb -q", nullptr, text::TransferKind::Ymodem},
                           Way{nullptr, "/usr/bin/rx -q", text::TransferKind::Xmodem},
                           Way{nullptr, "/usr/bin/rx -q -c", text::TransferKind::Xmodem1k},
                           Way{nullptr, "/usr/bin/rb -q", text::TransferKind::Ymodem});
  INFO((way.sends != nullptr ? way.sends : way.receives));
  const bool batch = way.kind == text::TransferKind::Ymodem;
  TemporaryFolder folder;
  const fs::path here = folder.path / "here", there = folder.path / "there";
  fs::create_directories(here);
  fs::create_directories(there);
  const std::string content = oddContent();
  const fs::path from = way.sends != nullptr ? there : here, to = way.sends != nullptr ? here : there;
  std::ofstream(from / "valve.bin", std::ios::binary) << content;
  std::string command = way.sends != nullptr ? std::string(way.sends) + " " + (there / "valve.bin").string()
                        : batch              ? std::string(way.receives)
                                             : std::string(way.receives) + " valve.bin";
  std::optional<Process> program;
  const std::string line = overSocket(
      folder.path / "line", "/bin/sh -c \"cd " + there.string() + " && " + command + "; cat\"", program);
  Runtime runtime(2);
  std::unique_ptr<TextWatch> watch;
  REQUIRE(eventually([&] {  // until it listens
    watch = openText(runtime, line);
    return watch->live();
  }));
  if (way.sends != nullptr)
    watch->console().receiveFiles(way.kind, here);
  else
    watch->console().sendFile(way.kind, here / "valve.bin");
  REQUIRE(eventually([&] { return watch->transfer().finished; }, std::chrono::seconds(60)));
  INFO(watch->transfer().outcome);
  CHECK_FALSE(watch->transfer().failed);
  fs::path arrived;
  REQUIRE(eventually([&] {
    for (const auto& entry : fs::directory_iterator(to)) arrived = entry.path();
    return !arrived.empty() && fs::file_size(arrived) >= content.size();
  }));
  // XMODEM does not say how long a file is: it is filled up to whole blocks.
  std::string got = textOf(readFile(arrived));
  if (batch) CHECK(got.size() == content.size());
  CHECK(got.size() < content.size() + 1024);
  CHECK(got.substr(0, content.size()) == content);
}

TEST_CASE("Debian's text installer is driven two pages forward on the serial line", "[serial][slow]") {
  const std::string images = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";
  if (!have(images + "/linux") || !have(images + "/initrd.gz")) return;
  Qemu qemu({"-m", "1024", "-kernel", images + "/linux", "-initrd", images + "/initrd.gz", "-append",
             "console=ttyS0,115200", "-serial", "unix:FOLDER/serial,server=on,wait=off"});
  Runtime runtime(2);
  auto watch = openText(runtime, "unix:" + (qemu.folder() / "serial").string());
  REQUIRE(watch->live());
  const auto screenShows = [&](const std::string& text, std::chrono::seconds limit) {
    const bool yes = eventually(
        [&] { return watch->console().terminal().screenText().find(text) != std::string::npos; }, limit);
    if (!yes) UNSCOPED_INFO(watch->console().terminal().screenText());
    return yes;
  };
  REQUIRE(screenShows("Select a language", std::chrono::seconds(240)));
  CHECK(screenShows("English", std::chrono::seconds(20)));
  watch->send("\r");
  REQUIRE(screenShows("Select your location", std::chrono::seconds(120)));
  watch->console().terminal().key(text::TextKey::Down, {});
  watch->send("\r");
  CHECK(screenShows("Configure the keyboard", std::chrono::seconds(180)));
}

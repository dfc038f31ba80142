// The SPICE engine against QEMU's own server: pictures equal QEMU's screendump while the guest is stopped.
#include <fstream>

#include "route/opening.hpp"
#include "tests/peers/installer.hpp"
#include "tests/peers/qemu.hpp"

using namespace kw;
using namespace kw::test;

namespace {

bool haveSpice() {
  return have("/usr/bin/qemu-system-x86_64") && have("/usr/lib/x86_64-linux-gnu/qemu/ui-spice-core.so");
}
const char* const kMemtest = "/boot/memtest86+x64.bin";

std::vector<std::string> machine(const std::string& vga, const std::string& spice,
                                 std::vector<std::string> more) {
  std::vector<std::string> out{"-m", "128", "-vga", vga, "-spice", spice};
  out.insert(out.end(), more.begin(), more.end());
  return out;
}

std::function<std::shared_ptr<Session>(const Executor&)> opening(
    const std::string& address, std::map<std::string, std::string> settings = {},
    const std::string& password = "") {
  return [=](const Executor& strand) {
    OpeningTools tools;
    if (!password.empty()) tools.givenPassword = password;
    std::map<std::string, std::string> all = settings;
    all.try_emplace("reconnect.again", "off");
    return makeSession(strand, parseAddress(address), "mist-bench", overlaid(builtInSettings(), all), tools,
                       {});
  };
}

}  // namespace

TEST_CASE("QEMU by SPICE: every lossless compression gives its own screendump, pixel for pixel",
          "[qemu][spice]") {
  if (!haveSpice() || !have(kMemtest)) return;
  const int port = freeTcpPort();
  const std::string vga = GENERATE("qxl", "std");
  Qemu qemu(machine(vga, "port=" + std::to_string(port) + ",addr=127.0.0.1,disable-ticketing=on",
                    {"-kernel", kMemtest}));
  stopWhenPainted(qemu);
  for (const std::string packing : {"off", "lz", "quic", "glz", "auto_glz", "auto_lz", "lz4"}) {
    CAPTURE(vga, packing);
    Viewer viewer(opening("spice://127.0.0.1:" + std::to_string(port), {{"spice.compression", packing}}));
    REQUIRE(viewer.live());
    CHECK(viewer.shows(qemu.screendump()));
  }
}

TEST_CASE("QEMU by SPICE: a console that says another ID than its record has is told", "[qemu][spice]") {
  if (!haveSpice() || !have(kMemtest)) return;
  const int port = freeTcpPort();
  const std::string id = "5f2d7c1e-0c1b-4e55-9a52-1f6f5d0c2a11";
  Qemu qemu(machine("std", "port=" + std::to_string(port) + ",addr=127.0.0.1,disable-ticketing=on",
                    {"-uuid", id, "-kernel", kMemtest}));
  const std::string address = "spice://127.0.0.1:" + std::to_string(port);
  const auto remarksWith = [&](const std::string& recorded) {
    Viewer viewer(opening(address, {{"host.id", recorded}}));
    CHECK(viewer.live());
    return viewer.remarks();
  };
  const std::string another = "This port shows another machine: its ID is " + id + ".";
  // Nothing that the host remarks later takes its place in the header.
  const auto told = remarksWith("0b1d7c1e-0c1b-4e55-9a52-1f6f5d0c2a11");
  REQUIRE_FALSE(told.empty());
  CHECK(told.back() == another);
  const auto isTold = [&](const std::string& recorded) {
    const auto remarks = remarksWith(recorded);
    return std::count(remarks.begin(), remarks.end(), another) > 0;
  };
  CHECK_FALSE(isTold("5F2D7C1E-0C1B-4E55-9A52-1F6F5D0C2A11"));
  CHECK_FALSE(isTold("mist-bench"));  // an ID of another kind says nothing
}

TEST_CASE("QEMU by SPICE: a ticket is asked for, right and wrong; a reset does not end the session",
          "[qemu][spice]") {
  if (!haveSpice() || !have(kMemtest)) return;
  const int port = freeTcpPort();
  Qemu qemu(machine("qxl", "port=" + std::to_string(port) + ",addr=127.0.0.1,password-secret=s0",
                    {"-object", "secret,id=s0,data=orchid", "-kernel", kMemtest}));
  const std::string address = "spice://127.0.0.1:" + std::to_string(port);
  {
    Viewer wrong(opening(address, {}, "moss"));
    wrong.answer.accepted = false;
    REQUIRE(wrong.until([&] { return wrong.status().problem.has_value(); }));
    CHECK(wrong.status().problem == ErrorKind::SignInFailed);
    CHECK(wrong.status().sentence.find("wrong password") != std::string::npos);
  }
  Viewer viewer(opening(address));
  viewer.answer.password = "orchid";
  REQUIRE(viewer.live());
  REQUIRE(viewer.questions().size() == 1);
  CHECK(viewer.questions()[0].kind == Question::Kind::Password);
  CHECK_FALSE(viewer.route().sealed);
  const int before = viewer.damageCount();
  qemu.qmp("system_reset");
  CHECK(viewer.until([&] { return viewer.damageCount() > before; }));
  stopWhenPainted(qemu);
  CHECK(viewer.shows(qemu.screendump()));
  CHECK(viewer.status().stage == SessionStage::Live);
  CHECK_FALSE(viewer.capabilities().clipboard.can);
  CHECK(viewer.capabilities().clipboard.why.find("agent") != std::string::npos);
}

TEST_CASE("QEMU by SPICE with TLS: the certificate is asked about once for all channels", "[qemu][spice]") {
  if (!haveSpice()) return;
  const int port = freeTcpPort();
  TemporaryFolder folder;
  const MadeCertificate made = makeSelfSigned("fernery");
  std::ofstream(folder.path / "server-cert.pem") << made.certificatePem;
  std::ofstream(folder.path / "server-key.pem") << made.keyPem;
  std::ofstream(folder.path / "ca-cert.pem") << made.certificatePem;
  Qemu qemu(machine("qxl",
                    "tls-port=" + std::to_string(port) +
                        ",addr=127.0.0.1,disable-ticketing=on,x509-dir=" + folder.path.string(),
                    {}));
  const std::string address = "spice+tls://127.0.0.1:" + std::to_string(port);
  {
    Viewer refused(opening(address));
    refused.answer.accepted = false;
    REQUIRE(refused.until([&] { return refused.status().problem.has_value(); }));
    CHECK(refused.status().problem == ErrorKind::NotTrusted);
  }
  Viewer viewer(opening(address));
  REQUIRE(viewer.live());
  CHECK(viewer.route().sealed);
  CHECK(viewer.questions().size() == 1);
}

TEST_CASE("QEMU by SPICE: keys typed here change the guest's screen", "[qemu][spice]") {
  if (!haveSpice() || !have("/usr/lib/grub-rescue/grub-rescue-cdrom.iso")) return;
  const int port = freeTcpPort();
  Qemu qemu(machine("std", "port=" + std::to_string(port) + ",addr=127.0.0.1,disable-ticketing=on",
                    {"-cdrom", "/usr/lib/grub-rescue/grub-rescue-cdrom.iso"}));
  Viewer viewer(opening("spice://127.0.0.1:" + std::to_string(port)));
  REQUIRE(viewer.live());
  // GRUB's command line shows what is typed.
  REQUIRE(viewer.until(
      [&] {
        const Framebuffer before = qemu.screendump();
        viewer.type("c");
        return viewer.until([&] { return !samePixels(before, qemu.screendump()); },
                            std::chrono::milliseconds(800));
      },
      std::chrono::seconds(60)));
  viewer.type("echo fern");
  qemu.stop();
  CHECK(viewer.shows(qemu.screendump()));
}

namespace {

/// The guest stands still: each way of packing gives its screendump.
void checkEveryPacking(Qemu& qemu, const std::string& address) {
  const Framebuffer truth = qemu.screendump();
  for (const std::string packing : {"off", "lz", "quic", "glz", "auto_glz", "auto_lz"}) {
    CAPTURE(packing);
    Viewer viewer(opening(address, {{"spice.compression", packing}}));
    REQUIRE(viewer.live());
    CHECK(viewer.shows(truth));
  }
}

}  // namespace

TEST_CASE("QEMU by SPICE: Debian's graphical installer is driven two pages forward, equal in every packing",
          "[qemu][spice][installer]") {
  if (!haveSpice() || !haveInstaller(InstallerKind::Graphical)) return;
  const int port = freeTcpPort();
  const std::string address = "spice://127.0.0.1:" + std::to_string(port);
  std::vector<std::string> arguments = installer(InstallerKind::Graphical);
  const std::string console = "port=" + std::to_string(port) + ",addr=127.0.0.1,disable-ticketing=on";
  arguments.insert(arguments.end(), {"-vga", "qxl", "-spice", console});
  Qemu qemu(arguments);
  {
    Viewer viewer(opening(address));
    REQUIRE(viewer.live());
    driveTwoPages(viewer);
    CHECK(viewer.status().stage == SessionStage::Live);
    qemu.stop();
    CHECK(viewer.shows(qemu.screendump()));
  }
  checkEveryPacking(qemu, address);
}

TEST_CASE("QEMU by SPICE: firmware, boot loader and the text installer equal the screendump in every packing",
          "[qemu][spice][installer]") {
  if (!haveSpice() || !haveInstaller(InstallerKind::Text) ||
      !have("/usr/lib/grub-rescue/grub-rescue-cdrom.iso"))
    return;
  const std::string stage = GENERATE("firmware", "boot loader", "text installer");
  CAPTURE(stage);
  const int port = freeTcpPort();
  const std::string address = "spice://127.0.0.1:" + std::to_string(port);
  std::vector<std::string> arguments{"-m", "128"};
  if (stage == "boot loader")
    arguments.insert(arguments.end(), {"-cdrom", "/usr/lib/grub-rescue/grub-rescue-cdrom.iso"});
  if (stage == "text installer") arguments = installer(InstallerKind::Text);
  const std::string console =
      "port=" + std::to_string(port) + ",addr=127.0.0.1,disable-ticketing=on,zlib-glz-wan-compression=always";
  arguments.insert(arguments.end(), {"-vga", "qxl", "-spice", console});
  Qemu qemu(arguments);
  const auto isTextPage = [](const Framebuffer& f) {  // newt's page: mostly blue, with a grey window
    std::int64_t blue = 0, grey = 0;
    for (int y = 0; y < f.height(); ++y)
      for (int x = 0; x < f.width(); ++x) {
        const Pixel p = f.pixel(x, y) & 0xffffff;
        blue += (p & 0xff) > 0x80 && (p >> 16) < 0x40;
        grey += (p >> 16) > 0x90 && (p >> 16) == (p & 0xff);
      }
    return blue > f.size().area() / 4 && grey > f.size().area() / 10;
  };
  if (stage == "text installer") {
    // Watched over the console: a screendump for every look would slow the guest down.
    Viewer viewer(opening(address));
    REQUIRE(viewer.live());
    bool there = false;
    for (int boot = 0; boot < 3 && !there; ++boot) {
      if (boot > 0) qemu.qmp("system_reset");
      there = viewer.until([&] { return isTextPage(viewer.picture()); }, std::chrono::minutes(5));
      if (there) break;
      // A guest that hangs in its boot is not the console's fault, as long as both show the same.
      qemu.stop();
      const Framebuffer truth = qemu.screendump();
      CHECK(viewer.status().stage == SessionStage::Live);
      CHECK(viewer.shows(truth));
      there = isTextPage(truth);
      WARN("no page after five minutes; the guest shows " << truth.width() << "x" << truth.height());
      qemu.cont();
    }
    REQUIRE(there);
    CHECK(settled(viewer));
    qemu.stop();
  } else {
    const auto written = [&] {  // lines of text on black
      const Framebuffer f = qemu.screendump();
      int lit = 0;
      for (int y = 0; y < f.height(); ++y)
        for (int x = 0; x < f.width(); ++x) lit += (f.pixel(x, y) & 0xffffff) != 0;
      return lit > 1500;
    };
    REQUIRE(eventually(written, std::chrono::minutes(1)));
    qemu.stop();
  }
  checkEveryPacking(qemu, address);
}

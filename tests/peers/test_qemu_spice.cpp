// The SPICE engine against QEMU's own server: pictures equal QEMU's screendump while the guest is stopped.
#include <fstream>

#include "route/opening.hpp"
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

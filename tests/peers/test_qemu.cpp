// Against QEMU's own VNC server, in software emulation: the picture equals QMP's screendump in every pixel
// while the guest is stopped.
#include <fstream>
#include <set>

#include "base/file.hpp"
#include "rfb/constants.hpp"
#include "tests/peers/installer.hpp"
#include "tests/peers/qemu.hpp"

using namespace kw;
using test::Qemu;
using test::Viewer;

namespace {

constexpr const char* kQemu = "/usr/bin/qemu-system-x86_64";
constexpr const char* kMemtest = "/usr/lib/memtest86+/memtest86+x64.iso";
constexpr const char* kGrub = "/usr/lib/grub-rescue/grub-rescue-cdrom.iso";

std::vector<std::string> grub() { return {"-m", "128", "-cdrom", kGrub}; }

/// True when enough of the picture is lit to be more than a cursor.
bool somethingIsShown(const Framebuffer& f) {
  int lit = 0;
  for (int y = 0; y < f.height(); ++y)
    for (int x = 0; x < f.width(); ++x) lit += (f.pixel(x, y) & 0xffffff) != 0;
  return lit > 1500;
}

/// memtest's screen has a coloured ground and text in several colours.
bool isColourful(const Framebuffer& f) {
  std::set<Pixel> colours;
  std::int64_t blue = 0;
  for (int y = 0; y < f.height(); ++y)
    for (int x = 0; x < f.width(); ++x) {
      colours.insert(f.pixel(x, y));
      blue += (f.pixel(x, y) & 0xff) > 0x60 && (f.pixel(x, y) >> 16 & 0xff) < 0x40;
    }
  return colours.size() >= 4 && blue > f.size().area() / 2;
}

void stopWithPicture(Qemu& qemu) {
  REQUIRE(test::eventually([&] { return isColourful(qemu.screendump()); }, std::chrono::seconds(60)));
  qemu.stop();
}

/// GRUB's command line: 'c' in its menu, or any key after its first complaint.
void openCommandLine(Viewer& viewer) {
  REQUIRE(viewer.until([&] { return somethingIsShown(viewer.picture()); }, std::chrono::seconds(40)));
  REQUIRE(viewer.until(
      [&] {
        // What is typed appears only on a command line, in the same row, more with each letter.
        const Framebuffer before = viewer.picture();
        viewer.type("cccc");
        return viewer.until(
            [&] {
              const Framebuffer now = viewer.picture();
              if (now.size() != before.size()) return false;
              int changed = 0, rows = 0;
              for (int y = 0; y < now.height(); ++y) {
                int inRow = 0;
                for (int x = 0; x < now.width(); ++x) inRow += now.pixel(x, y) != before.pixel(x, y);
                changed += inRow;
                rows += inRow > 0;
              }
              return changed > 60 && rows <= 20;
            },
            std::chrono::milliseconds(700));
      },
      std::chrono::seconds(40)));
  viewer.type("\n");
}

}  // namespace

TEST_CASE("QEMU: every encoding it has gives its own screendump, pixel for pixel", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kMemtest)) return;
  Qemu qemu({"-m", "128", "-cdrom", kMemtest}, "non-adaptive=on,lossy=off");
  stopWithPicture(qemu);
  const Framebuffer truth = qemu.screendump();
  for (const char* name : {"Raw", "Hextile", "Zlib", "ZRLE", "Tight", "TightPNG"}) {
    CAPTURE(name);
    std::int32_t encoding = 0;
    REQUIRE(rfb::encodingFromName(name, encoding));
    VncConfig config = qemu.config();
    config.options.encodings = {encoding, rfb::encoding::kRaw};
    Viewer viewer(config);
    REQUIRE(viewer.live());
    CHECK(viewer.shows(truth));
  }
}

TEST_CASE("QEMU: sixteen and eight bits are as near as their formats allow", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kMemtest)) return;
  Qemu qemu({"-m", "128", "-cdrom", kMemtest}, "lossy=off");
  stopWithPicture(qemu);
  const Framebuffer truth = qemu.screendump();
  for (const char* name : {"Raw", "Hextile", "ZRLE", "Tight"}) {
    CAPTURE(name);
    VncConfig config = qemu.config();
    std::int32_t encoding = 0;
    REQUIRE(rfb::encodingFromName(name, encoding));
    config.options.encodings = {encoding};
    Viewer viewer(config);
    REQUIRE(viewer.live());
    CHECK(viewer.shows(truth));
    viewer.session().setColours(16);
    CHECK(viewer.until([&] {
      return !test::samePixels(viewer.picture(), truth) &&
             test::largestDifference(viewer.picture(), truth) <= 8;
    }));
    viewer.session().setColours(8);
    CHECK(viewer.until([&] {
      return test::largestDifference(viewer.picture(), truth) > 8 &&
             test::largestDifference(viewer.picture(), truth) <= 85;
    }));
    viewer.session().setColours(32);
    CHECK(viewer.shows(truth));
  }
}

TEST_CASE("QEMU: JPEG differs by no more than its quality allows", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kMemtest)) return;
  Qemu qemu({"-m", "128", "-cdrom", kMemtest}, "lossy=on");
  stopWithPicture(qemu);
  const Framebuffer truth = qemu.screendump();
  VncConfig config = qemu.config();
  config.options.encodings = {rfb::encoding::kTight};
  config.options.quality = 9;
  Viewer viewer(config);
  REQUIRE(viewer.live());
  double sum = 0;
  const Framebuffer shown = viewer.picture();
  REQUIRE(shown.size() == truth.size());
  for (int y = 0; y < truth.height(); ++y)
    for (int x = 0; x < truth.width(); ++x)
      for (int shift : {0, 8, 16})
        sum += std::abs(static_cast<int>(shown.pixel(x, y) >> shift & 0xff) -
                        static_cast<int>(truth.pixel(x, y) >> shift & 0xff));
  CHECK(sum / (3.0 * static_cast<double>(truth.size().area())) < 4.0);
}

TEST_CASE("QEMU: password right, wrong, and changed while running", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  Qemu qemu(grub(), "password=on");
  qemu.qmp("set_password", {{"protocol", "vnc"}, {"password", "orchid"}});
  {
    Viewer viewer([&] {
      VncConfig config = qemu.config();
      config.kept.find = [](SecretUse) { return SignIn{"", "orchid"}; };
      return config;
    }());
    CHECK(viewer.live());
    CHECK(viewer.route().security == "VNC password");
    CHECK_FALSE(viewer.route().sealed);
  }
  {
    // A kept password that is wrong by now: the person is asked.
    VncConfig config = qemu.config();
    config.kept.find = [](SecretUse) { return SignIn{"", "fern"}; };
    Viewer viewer(config);
    viewer.answer.password = "orchid";
    CHECK(viewer.live());
    REQUIRE(viewer.questions().size() == 1);
    CHECK(viewer.questions()[0].again);
  }
}

TEST_CASE("QEMU: TLS with a certificate, with and without a password, and anonymous TLS", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  test::TemporaryFolder keys;
  const MadeCertificate made = makeSelfSigned("orchard");
  std::ofstream(keys.path / "server-cert.pem") << made.certificatePem;
  std::ofstream(keys.path / "server-key.pem") << made.keyPem;
  std::ofstream(keys.path / "ca-cert.pem") << made.certificatePem;
  SECTION("X.509, no password") {
    auto arguments = grub();
    arguments.insert(
        arguments.end(),
        {"-object", "tls-creds-x509,id=tls0,endpoint=server,verify-peer=off,sanity-check=off,dir=" +
                        keys.path.string()});
    Qemu qemu(arguments, "tls-creds=tls0");
    Viewer viewer(qemu.config());
    REQUIRE(viewer.live());
    CHECK(viewer.route().security == "VeNCrypt X509None");
    CHECK(viewer.route().sealed);
    REQUIRE(viewer.questions().size() == 1);
    CHECK(viewer.questions()[0].certificate.sha256 == sha256OfPem(made.certificatePem));
  }
  SECTION("X.509 and a password") {
    auto arguments = grub();
    arguments.insert(
        arguments.end(),
        {"-object", "tls-creds-x509,id=tls0,endpoint=server,verify-peer=off,sanity-check=off,dir=" +
                        keys.path.string()});
    Qemu qemu(arguments, "tls-creds=tls0,password=on");
    qemu.qmp("set_password", {{"protocol", "vnc"}, {"password", "orchid"}});
    VncConfig config = qemu.config();
    config.kept.find = [](SecretUse) { return SignIn{"", "orchid"}; };
    Viewer viewer(config);
    REQUIRE(viewer.live());
    CHECK(viewer.route().security == "VeNCrypt X509Vnc");
  }
  SECTION("anonymous") {
    auto arguments = grub();
    arguments.insert(arguments.end(), {"-object", "tls-creds-anon,id=tls0,endpoint=server"});
    Qemu qemu(arguments, "tls-creds=tls0");
    Viewer viewer(qemu.config());
    REQUIRE(viewer.live());
    CHECK(viewer.route().security == "VeNCrypt TlsNone");
    CHECK(viewer.route().sealed);
  }
}

TEST_CASE("QEMU: signing in by SASL, sealed by itself or inside TLS; a wrong password is told", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub) || !test::have("/usr/sbin/saslpasswd2")) return;
  const std::string sealing = GENERATE("itself", "X509", "anonymous TLS");
  const bool tls = sealing != "itself", anonymous = sealing == "anonymous TLS";
  const std::string mechanism = tls && !anonymous ? "SCRAM-SHA-256" : "DIGEST-MD5";
  test::TemporaryFolder folder;
  const std::string users = (folder.path / "users.db").string();
  const std::string make =
      "printf orchid | /usr/sbin/saslpasswd2 -p -c -f " + users + " -u fernery -a vnc duty";
  REQUIRE(std::system(make.c_str()) == 0);
  for (const char* name : {"qemu.conf", "qemu-kvm.conf"})
    std::ofstream(folder.path / name) << "mech_list: " << mechanism << "\nsasldb_path: " << users
                                      << "\npwcheck_method: auxprop\nauxprop_plugin: sasldb\n";
  ::setenv("SASL_CONF_PATH", folder.path.c_str(), 1);
  auto arguments = grub();
  std::string options = "sasl=on";
  if (tls) {
    const MadeCertificate made = makeSelfSigned("fernery");
    for (const char* name : {"server-cert.pem", "ca-cert.pem"})
      std::ofstream(folder.path / name) << made.certificatePem;
    std::ofstream(folder.path / "server-key.pem") << made.keyPem;
    const std::string x509 = "tls-creds-x509,id=tls0,endpoint=server,verify-peer=off,sanity-check=off,dir=";
    arguments.insert(arguments.end(), {"-object", anonymous ? "tls-creds-anon,id=tls0,endpoint=server"
                                                            : x509 + folder.path.string()});
    options += ",tls-creds=tls0";
  }
  Qemu qemu(arguments, options, true);
  ::unsetenv("SASL_CONF_PATH");
  const auto signIn = [](const std::string& password) {
    return [password](SecretUse) { return SignIn{"duty@fernery", password}; };
  };
  {
    VncConfig config = qemu.config();
    config.kept.find = signIn("orchid");
    Viewer viewer(config);
    viewer.answer.accepted = true;
    const bool live = viewer.live();
    INFO(viewer.status().sentence);
    REQUIRE(live);
    CHECK(viewer.route().security == (anonymous ? "VeNCrypt TlsSasl "
                                      : tls     ? "VeNCrypt X509Sasl "
                                                : "SASL ") +
                                         mechanism);
    CHECK(viewer.route().sealed);
    qemu.stop();
    CHECK(viewer.shows(qemu.screendump()));
    qemu.cont();
  }
  VncConfig config = qemu.config();
  config.kept.find = signIn("wrong");
  Viewer refused(config);
  REQUIRE(refused.until([&] {
    return refused.status().problem.has_value() || refused.questions().size() > (tls && !anonymous ? 1U : 0U);
  }));
  CHECK_FALSE(refused.status().stage == SessionStage::Live);
}

TEST_CASE("QEMU: keys typed here change the guest's screen there; a reset does not end the session",
          "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  Qemu qemu(grub());
  Viewer viewer(qemu.config());
  REQUIRE(viewer.live());
  openCommandLine(viewer);
  const Framebuffer before = viewer.picture();
  viewer.type("echo Palm-House_7");
  CHECK(viewer.until([&] {
    const Framebuffer now = viewer.picture();
    if (now.size() != before.size()) return false;
    int changed = 0;
    for (int y = 0; y < now.height(); ++y)
      for (int x = 0; x < now.width(); ++x) changed += now.pixel(x, y) != before.pixel(x, y);
    return changed > 400;
  }));
  qemu.stop();
  CHECK(viewer.shows(qemu.screendump()));
  qemu.cont();
  const int attempts = viewer.status().attempt;
  qemu.qmp("system_reset");
  REQUIRE(viewer.until([&] {
    return viewer.picture().size() != Size{} && viewer.damageCount() > 0 &&
           viewer.status().stage == SessionStage::Live;
  }));
  REQUIRE(viewer.until([&] { return somethingIsShown(qemu.screendump()); }, std::chrono::seconds(40)));
  qemu.stop();
  CHECK(viewer.shows(qemu.screendump()));
  CHECK(viewer.status().stage == SessionStage::Live);
  CHECK(viewer.status().attempt == attempts);
}

TEST_CASE("QEMU: a guest without a tablet is moved by differences", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  test::TemporaryFolder folder;
  const std::string log = folder.path / "trace";
  const auto logged = [&](const std::string& line) {
    return test::eventually([&] { return textOf(readFile(log)).find(line) != std::string::npos; },
                            std::chrono::seconds(10));
  };
  auto arguments = grub();
  for (const char* event : {"input_event_rel", "input_event_abs", "input_event_btn"})
    arguments.insert(arguments.end(), {"-trace", event});
  arguments.insert(arguments.end(), {"-D", log});
  Qemu qemu(arguments);
  Viewer viewer(qemu.config());
  REQUIRE(viewer.live());
  REQUIRE(viewer.until([&] { return viewer.relative(); }));
  viewer.session().pointerBy(7, -3, 0);
  CHECK(logged("axis x, value 7"));
  CHECK(logged("axis y, value -3"));
  viewer.session().pointerBy(-12, 0, 1);
  CHECK(logged("axis x, value -12"));
  CHECK(logged("button left, down 1"));
  viewer.session().pointerBy(0, 0, 0);
  CHECK(logged("button left, down 0"));
  CHECK(textOf(readFile(log)).find("input_event_abs") == std::string::npos);
}

TEST_CASE("QEMU: a killed peer is noticed, and reached again when it is back", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  auto qemu = std::make_unique<Qemu>(grub(), "", true);
  VncConfig config = qemu->config();
  config.reconnect.first = std::chrono::milliseconds(50);
  Viewer viewer(config);
  REQUIRE(viewer.live());
  qemu.reset();
  REQUIRE(viewer.until([&] { return viewer.status().stage == SessionStage::Waiting; }));
  CHECK(viewer.status().problem.has_value());
  CHECK_FALSE(viewer.picture().size().empty());
}

TEST_CASE("QEMU: sound reaches us while the guest beeps", "[qemu]") {
  if (!test::have(kQemu) || !test::have(kGrub)) return;
  auto arguments = grub();
  arguments.insert(arguments.end(), {"-audiodev", "none,id=snd0", "-machine", "pcspk-audiodev=snd0"});
  Qemu qemu(arguments, "audiodev=snd0");
  VncConfig config = qemu.config();
  config.options.audio = true;
  Viewer viewer(config);
  REQUIRE(viewer.live());
  CHECK(viewer.until([&] { return viewer.capabilities().sound.can; }));
  openCommandLine(viewer);
  // On a busy machine the guest's keyboard loses keys: a command that was garbled is typed again.
  CHECK(viewer.until(
      [&] {
        viewer.type("\nplay 60 500 200 600 200 700 200\n");
        return viewer.until([&] { return viewer.soundBytes() > 1000; }, std::chrono::seconds(10));
      },
      std::chrono::seconds(60)));
}

TEST_CASE("QEMU: Debian's graphical installer is driven two pages forward", "[qemu][installer]") {
  if (!test::have(kQemu) || !test::haveInstaller(test::InstallerKind::Graphical)) return;
  Qemu qemu(test::installer(test::InstallerKind::Graphical));
  Viewer viewer(qemu.config());
  REQUIRE(viewer.live());
  test::driveTwoPages(viewer);
  qemu.stop();
  CHECK(viewer.shows(qemu.screendump()));
  CHECK(viewer.status().stage == SessionStage::Live);
}

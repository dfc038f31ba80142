// The client against the project's own server side, joined in memory.
#include "rfb/constants.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rfb;
using test::Link;

namespace {

ClientOptions only(std::int32_t encoding, int quality = -1) {
  ClientOptions options;
  options.encodings = {encoding};
  options.quality = quality;
  return options;
}

}  // namespace

TEST_CASE("Every encoding the server has arrives pixel for pixel", "[rfb]") {
  const std::int32_t e =
      GENERATE(encoding::kRaw, encoding::kHextile, encoding::kTrle, encoding::kZrle, encoding::kTight);
  const bool trickle = GENERATE(false, true);
  CAPTURE(nameOfEncoding(e), trickle);
  Link link({}, only(e), trickle);
  link.start();
  REQUIRE(link.whole());
  CHECK(link.same());
  link.show([](Framebuffer& f) { f.fill({30, 40, 50, 60}, rgb(1, 2, 3)); }, {30, 40, 50, 60});
  CHECK(link.until([&] { return test::samePixels(*link.picture, *link.shownPicture); }));
  CHECK(link.client->figures().rectanglesByEncoding.contains(e));
}

TEST_CASE("Other pixel formats arrive as near as they can", "[rfb]") {
  const std::int32_t e = GENERATE(encoding::kRaw, encoding::kHextile, encoding::kZrle, encoding::kTight);
  PixelFormat swapped = PixelFormat::native();
  swapped.redShift = 0, swapped.blueShift = 16;
  PixelFormat big565 = PixelFormat::rgb565();
  big565.bigEndian = true;
  const std::vector<std::pair<PixelFormat, int>> formats{
      {swapped, 0}, {PixelFormat::rgb565(), 4}, {big565, 4}, {PixelFormat::rgb332(), 43}};
  const auto& [format, error] = formats[GENERATE(0U, 1U, 2U, 3U)];
  CAPTURE(nameOfEncoding(e), format.bitsPerPixel, format.bigEndian);
  ClientOptions options = only(e);
  options.format = format;
  Link link({}, options);
  link.start();
  REQUIRE(link.whole());
  int difference = 999;
  link.sync([&] { difference = test::largestDifference(*link.picture, *link.shownPicture); });
  CHECK(difference <= error);
}

TEST_CASE("The pixel format changes while the session runs", "[rfb]") {
  ServerOptions server;
  server.continuousUpdates = GENERATE(false, true);
  Link link(server, only(encoding::kZrle));
  link.start();
  REQUIRE(link.whole());
  for (const PixelFormat& format : {PixelFormat::rgb332(), PixelFormat::rgb565(), PixelFormat::native()}) {
    link.sync([&] {
      link.events.seen.clear();
      link.client->setFormat(format);
    });
    REQUIRE(link.until([&] { return link.events.whole(); }));
    const int allowed = format.bitsPerPixel == 8 ? 43 : format.bitsPerPixel == 16 ? 4 : 0;
    CHECK(link.until([&] { return test::largestDifference(*link.picture, *link.shownPicture) <= allowed; }));
  }
  CHECK(link.same());
}

TEST_CASE("Tight with JPEG stays within the loss of its quality", "[rfb]") {
  Framebuffer soft({160, 120});
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 160; ++x)
      *soft.at(x, y) =
          rgb(static_cast<unsigned>(x), static_cast<unsigned>(y * 2), static_cast<unsigned>((x + y) / 2));
  Link link({}, only(encoding::kTight, 9), false, soft.cropped(soft.rect()));
  link.start();
  REQUIRE(link.whole());
  int difference = 0;
  link.sync([&] { difference = test::largestDifference(*link.picture, soft); });
  CHECK(difference > 0);
  CHECK(difference <= 10);
}

TEST_CASE("Versions 3.3, 3.7 and 3.8 with and without a password", "[rfb][security]") {
  ServerOptions server;
  server.minorVersion = GENERATE(3, 7, 8);
  server.password = GENERATE(as<std::string>(), "", "orchid");
  CAPTURE(server.minorVersion, server.password);
  Link link(server);
  link.events.signInAnswer.password = "orchid";
  link.start();
  REQUIRE(link.whole());
  CHECK(link.same());
  CHECK(link.events.signIns.size() == (server.password.empty() ? 0 : 1));
}

TEST_CASE("A wrong password is told as such, with the server's reason", "[rfb][security]") {
  ServerOptions server;
  server.minorVersion = GENERATE(3, 7, 8);
  server.password = "orchid";
  Link link(server);
  link.events.signInAnswer.password = "fern";
  link.start();
  REQUIRE(test::eventually([&] { return link.clientDone.load(); }));
  CHECK(test::kindOf(link.clientFailure) == ErrorKind::SignInFailed);
  CHECK(messageOf(link.clientFailure).find("wrong password") != std::string::npos);
}

TEST_CASE("VeNCrypt: every sub-type seals and signs in", "[rfb][security]") {
  struct Kind {
    const char* name;
    bool anonymous, certificate, plain;
    std::string password;
  };
  const Kind kind = GENERATE(values<Kind>({{"VeNCrypt TlsNone", true, false, false, ""},
                                           {"VeNCrypt TlsVnc", true, false, false, "orchid"},
                                           {"VeNCrypt TlsPlain", true, false, true, "orchid"},
                                           {"VeNCrypt X509None", false, true, false, ""},
                                           {"VeNCrypt X509Vnc", false, true, false, "orchid"},
                                           {"VeNCrypt X509Plain", false, true, true, "orchid"},
                                           {"VeNCrypt Plain", false, false, true, "orchid"}}));
  CAPTURE(kind.name);
  ServerOptions server;
  server.password = kind.password;
  server.user = kind.plain ? "duty" : "";
  server.anonymousTls = kind.anonymous;
  server.plainSignIn = kind.plain;
  if (kind.certificate) server.certificate = makeSelfSigned("orchard");
  Link link(server);
  link.events.signInAnswer = {"duty", "orchid"};
  link.start();
  REQUIRE(link.whole());
  CHECK(link.same());
  CHECK(link.events.security == kind.name);
  CHECK(link.events.sealed == (kind.anonymous || kind.certificate));
  CHECK(link.events.certificates.size() == (kind.certificate ? 1 : 0));
}

TEST_CASE("An untrusted certificate ends the session before any password is sent", "[rfb][security]") {
  ServerOptions server;
  server.password = "orchid";
  server.certificate = makeSelfSigned("orchard");
  Link link(server);
  link.events.trusts = false;
  link.start();
  REQUIRE(test::eventually([&] { return link.clientDone.load(); }));
  CHECK(test::kindOf(link.clientFailure) == ErrorKind::NotTrusted);
  CHECK(link.events.signIns.empty());
}

TEST_CASE("RSA-AES: both lengths, sealed throughout or for the sign-in only", "[rfb][security]") {
  ServerOptions server;
  server.password = "orchid and more than eight";
  server.user = GENERATE(as<std::string>(), "", "duty");
  server.rsaAesBits = GENERATE(128, 256);
  server.rsaAesSealAll = GENERATE(true, false);
  CAPTURE(server.rsaAesBits, server.rsaAesSealAll, server.user);
  Link link(server, test::lossless(), server.rsaAesBits == 128);
  link.events.signInAnswer = {"duty", server.password};
  link.start();
  REQUIRE(link.whole());
  CHECK(link.same());
  CHECK(link.events.sealed == server.rsaAesSealAll);
  CHECK(link.events.certificates.size() == 1);
  CHECK(link.events.certificates[0].sha256.size() == 95);
}

TEST_CASE("RSA-AES with a wrong password fails as a sign-in", "[rfb][security]") {
  ServerOptions server;
  server.password = "orchid";
  server.rsaAesBits = 256;
  Link link(server);
  link.events.signInAnswer.password = "fern";
  link.start();
  REQUIRE(test::eventually([&] { return link.clientDone.load(); }));
  CHECK(test::kindOf(link.clientFailure) == ErrorKind::SignInFailed);
}

TEST_CASE("A machine that may only be reached sealed refuses a plain console", "[rfb][security]") {
  ServerOptions server;
  server.password = "orchid";
  ClientOptions client;
  client.security.sealedOnly = true;
  Link link(server, client);
  link.start();
  REQUIRE(test::eventually([&] { return link.clientDone.load(); }));
  CHECK(test::kindOf(link.clientFailure) == ErrorKind::Unsupported);
  CHECK(link.events.signIns.empty());
}

TEST_CASE("Keys arrive with their positions once the server takes them", "[rfb][input]") {
  Link link;
  link.start();
  REQUIRE(link.until([&] { return link.events.peer.extendedKeys && link.events.whole(); }));
  link.sync([&] {
    link.client->key('a', 0x1e, true);
    link.client->key('a', 0x1e, false);
    link.client->key(0xffff, 0xe053, true);
    link.client->key('x', 0, true);
  });
  REQUIRE(link.until([&] { return link.serverEvents.keys.size() == 4; }));
  CHECK(link.serverEvents.keys[0] == test::ServerRecorder::Key{'a', 0x1e, true});
  CHECK(link.serverEvents.keys[1] == test::ServerRecorder::Key{'a', 0x1e, false});
  CHECK(link.serverEvents.keys[2] == test::ServerRecorder::Key{0xffff, 0xe053, true});
  CHECK(link.serverEvents.keys[3] == test::ServerRecorder::Key{'x', 0, true});
}

TEST_CASE("Pointer moves that wait are replaced by newer ones, presses never", "[rfb][input]") {
  Link link;
  link.start();
  REQUIRE(link.whole());
  link.sync([&] {
    for (int i = 0; i < 50; ++i) link.client->pointer({i, i}, 0);
    link.client->pointer({60, 60}, 1);
    link.client->pointer({60, 60}, 0);
    link.client->pointer({5000, -3}, 0);
  });
  REQUIRE(link.until([&] {
    return !link.serverEvents.pointers.empty() && link.serverEvents.pointers.back().first == Point{199, 0};
  }));
  const auto& seen = link.serverEvents.pointers;
  CHECK(seen.size() == 4);
  CHECK(seen[0] == std::pair<Point, unsigned>{{49, 49}, 0});
  CHECK(seen[1] == std::pair<Point, unsigned>{{60, 60}, 1});
  CHECK(seen[2] == std::pair<Point, unsigned>{{60, 60}, 0});
}

TEST_CASE("The clipboard goes both ways, in Unicode where the server can", "[rfb][clipboard]") {
  ServerOptions server;
  server.extendedClipboard = GENERATE(true, false);
  CAPTURE(server.extendedClipboard);
  Link link(server);
  link.start();
  REQUIRE(link.until([&] {
    return link.events.whole() && (!server.extendedClipboard || link.events.peer.extendedClipboard);
  }));
  const std::string text = server.extendedClipboard ? "F\xc3\xa4rne\n\xf0\x9f\x8c\xbf" : "F\xc3\xa4rne\nzwei";
  link.sync([&] { link.client->offerClipboard(text); });
  CHECK(link.until([&] { return link.serverEvents.clipboard_ == text; }));
  link.sync([&] { link.server->setClipboard(text + "!"); });
  CHECK(link.until([&] { return link.events.clipboard == text + "!"; }));
}

TEST_CASE("The server changes size and screens; the client asks for another size", "[rfb][resize]") {
  Link link;
  link.serverEvents.onLayout = [&](Size size, const std::vector<Screen>&) {
    auto lock = link.shownPicture->lock();
    link.shownPicture->resize(size);
    lock.unlock();
    link.server->resized({});
    return 0;
  };
  link.start();
  REQUIRE(link.until([&] { return link.events.peer.resize && link.events.whole(); }));
  link.sync([&] {
    {
      auto lock = link.shownPicture->lock();
      link.shownPicture->resize({300, 100});
    }
    link.server->resized({{1, {0, 0, 150, 100}, 0}, {2, {150, 0, 150, 100}, 0}});
  });
  REQUIRE(link.until([&] { return link.events.size == Size{300, 100} && link.events.whole(); }));
  CHECK(link.events.screens.size() == 2);
  CHECK(link.until([&] { return test::samePixels(*link.picture, *link.shownPicture); }));
  link.sync([&] { link.client->requestSize({120, 90}); });
  REQUIRE(link.until([&] { return link.events.size == Size{120, 90} && link.events.whole(); }));
  CHECK(link.until([&] { return test::samePixels(*link.picture, *link.shownPicture); }));
  link.serverEvents.onLayout = {};
  link.sync([&] { link.client->requestSize({640, 480}); });
  CHECK(link.until([&] { return !link.events.refusal.empty(); }));
}

TEST_CASE("Bell, name, lights, cursor and power arrive", "[rfb]") {
  ServerOptions options;
  options.power = true;
  Link link(options);
  link.start();
  REQUIRE(link.until([&] { return link.events.whole() && link.events.peer.power; }));
  link.sync([&] {
    link.server->bell();
    link.server->setName("palm-house-01");
    link.server->setLeds(6);
    Cursor cursor;
    cursor.size = {2, 1};
    cursor.hotspot = {1, 0};
    cursor.pixels = {0xff102030U, 0x80405060U};
    link.server->setCursor(cursor);
    link.client->power(PowerAction::Reboot);
  });
  CHECK(link.until([&] { return link.events.bells == 1; }));
  CHECK(link.until([&] { return link.events.name == "palm-house-01"; }));
  CHECK(link.until([&] { return link.events.leds == 6; }));
  CHECK(link.until([&] {
    return link.events.cursor.pixels == std::vector<Pixel>{0xff102030U, 0x80405060U};
  }));
  CHECK(
      link.until([&] { return link.serverEvents.powers == std::vector<PowerAction>{PowerAction::Reboot}; }));
  link.serverEvents.acceptsPower = false;
  link.sync([&] { link.client->power(PowerAction::Reset); });
  CHECK(link.until([&] { return link.events.powerRefused_; }));
}

TEST_CASE("A paused client asks for nothing until it looks again", "[rfb]") {
  ServerOptions server;
  server.continuousUpdates = GENERATE(false, true);
  Link link(server);
  link.start();
  REQUIRE(link.whole());
  link.sync([&] { link.client->pauseUpdates(true); });
  // One more full picture answers whatever was asked for before; after it nothing is outstanding.
  int before = 0;
  link.sync([&] {
    before = link.events.updates;
    link.client->refresh();
  });
  REQUIRE(link.until([&] { return link.events.updates > before; }));
  link.sync([&] { before = link.events.updates; });
  link.show([](Framebuffer& f) { f.fill({0, 0, 20, 20}, rgb(9, 9, 9)); }, {0, 0, 20, 20});
  CHECK_FALSE(link.until([&] { return link.events.updates > before; }, std::chrono::milliseconds(100)));
  link.sync([&] { link.client->pauseUpdates(false); });
  CHECK(link.until([&] { return test::samePixels(*link.picture, *link.shownPicture); }));
}

TEST_CASE("The time from a key to the changed picture is measured", "[rfb]") {
  Link link;
  link.start();
  REQUIRE(link.whole());
  link.sync([&] { link.client->key('a', 0, true); });
  REQUIRE(link.until([&] { return link.serverEvents.keys.size() == 1; }));
  link.show([](Framebuffer& f) { f.fill({0, 0, 5, 5}, rgb(7, 7, 7)); }, {0, 0, 5, 5});
  CHECK(link.until([&] { return link.client->figures().keyToPicture.count() > 0; }));
}

TEST_CASE("close() ends a running client as ended here", "[rfb]") {
  Link link;
  link.start();
  REQUIRE(link.whole());
  link.sync([&] { link.client->close(); });
  REQUIRE(test::eventually([&] { return link.clientDone.load(); }));
  const ErrorKind kind = test::kindOf(link.clientFailure);
  CHECK((kind == ErrorKind::Cancelled || kind == ErrorKind::ClosedByPeer));
}

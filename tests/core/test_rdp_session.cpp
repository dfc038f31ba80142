// RDP client and server joined in memory: signing in, picture, input, clipboard, size, ends.
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

TEST_CASE("RDP: network sign-in, the whole picture, and the key is bound", "[rdp]") {
  const bool trickle = GENERATE(false, true);
  Bench bench(trickle);
  bench.open();
  REQUIRE(bench.live());
  CHECK(samePixels(*bench.seen_, *bench.shown));
  CHECK(bench.seen.agreed.sealed);
  CHECK(bench.seen.agreed.security.find("CredSSP 6") != std::string::npos);
  CHECK(bench.desk.account.user == "duty");
  CHECK(bench.desk.account.password == "fern-house");
  REQUIRE(bench.seen.asked.size() == 1);
  CHECK_FALSE(bench.seen.asked[0].canBeLeftOut);
  CHECK(bench.seen.asked[0].use == SecretUse::Proved);
  REQUIRE(bench.seen.certificates.size() == 1);
  CHECK(bench.seen.certificates[0].sha256 == sha256OfPem(certificate().certificatePem));
  bench.on([&] { return bench.visitor->close(), 0; });
  CHECK(bench.ended()->kind() == ErrorKind::Cancelled);
}

TEST_CASE("RDP: every depth shows the picture, rounded as that depth rounds", "[rdp]") {
  const int bits = GENERATE(24, 16, 15);
  Bench bench;
  bench.client.colours = bits;
  bench.open();
  REQUIRE(bench.live());
  if (bits == 24) CHECK(samePixels(*bench.seen_, *bench.shown));
  CHECK(largestDifference(*bench.seen_, *bench.shown) <= (bits == 24 ? 0 : 8));
  CHECK(bench.on([&] { return bench.visitor->figures().rectanglesByForm.contains("RLE"); }));
}

TEST_CASE("RDP: a program, its folder and where sound plays reach the service", "[rdp]") {
  Bench bench;
  CHECK(bench.client.program.empty());
  SECTION("as the record says") {
    bench.client.program = "seeds.exe /all", bench.client.folder = "C:\\Garten–Ost";
    bench.client.soundThere = true;
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.desk.info.program == "seeds.exe /all");
    CHECK(bench.desk.info.folder == "C:\\Garten–Ost");
    CHECK(bench.desk.info.soundThere);
    CHECK_FALSE(bench.desk.info.sound);
  }
  SECTION("usually the desktop, with sound sent here when it is wanted") {
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.desk.info.program.empty());
    CHECK(bench.desk.info.sound);
    CHECK_FALSE(bench.desk.info.soundThere);
  }
}

TEST_CASE("RDP: plain TLS signs in by the client info; old security is told as plain", "[rdp]") {
  Bench bench;
  bench.server.network = false;
  SECTION("TLS") {
    bench.server.tls = true;
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.seen.agreed.security == "TLS");
    CHECK(bench.seen.agreed.sealed);
    CHECK(bench.seen.asked[0].canBeLeftOut);
  }
  SECTION("old security, after the service said that it has nothing else") {
    bench.server.legacy = true;
    bench.server.fips = GENERATE(false, true);
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.dials == 2);
    CHECK_FALSE(bench.seen.agreed.sealed);
    CHECK(bench.seen.plains == std::vector<std::string>{"old RDP security"});
    CHECK(bench.seen.asked[0].use == SecretUse::Clear);
    CHECK(samePixels(*bench.seen_, *bench.shown));
    bench.on([&] { return bench.visitor->key('a', 0x1e, true), 0; });
    CHECK(bench.until([&] { return !bench.desk.keys.empty(); }));
  }
  SECTION("old security that nobody wants") {
    bench.server.legacy = true;
    bench.seen.goesOn = false;
    bench.open();
    CHECK(bench.ended()->kind() == ErrorKind::NotTrusted);
    CHECK(bench.seen.asked.empty());
  }
  SECTION("only sealed lines") {
    bench.server.legacy = true;
    bench.client.sealedOnly = true;
    bench.open();
    CHECK(bench.ended()->kind() == ErrorKind::Unsupported);
    CHECK(bench.seen.asked.empty());
  }
}

TEST_CASE("RDP: refused sign-ins say why; nothing goes to an untrusted service", "[rdp]") {
  Bench bench;
  SECTION("a wrong password") {
    bench.seen.answer.password = "other";
    bench.open();
    CHECK(bench.ended()->kind() == ErrorKind::SignInFailed);
    CHECK(bench.ended()->detail() == "wrong name or password");
  }
  SECTION("an expired one") {
    bench.seen.answer.user = "expired";
    bench.open();
    CHECK(bench.ended()->detail() == "the password has expired");
  }
  SECTION("a certificate that nobody trusts") {
    bench.seen.trusts = false;
    bench.open();
    CHECK(bench.ended()->kind() == ErrorKind::NotTrusted);
    CHECK(bench.seen.asked.empty());
  }
  SECTION("no answer") {
    bench.seen.leavesOut = true;
    bench.open();
    CHECK(bench.ended()->kind() == ErrorKind::SignInFailed);
  }
  CHECK_FALSE(bench.seen.isOpen);
}

TEST_CASE("RDP: keys, characters, pointer, wheel, clipboard, bell and pointer shapes", "[rdp]") {
  Bench bench;
  bench.open();
  REQUIRE(bench.live());
  bench.on([&] {
    bench.visitor->key(0xffe9, 0x38, true);    // Alt
    bench.visitor->key(0xff51, 0xe04b, true);  // left arrow
    bench.visitor->key(0x10020ac, 0, true);    // the euro sign, which has no place on the layout
    bench.visitor->pointer({30, 40}, 0);
    bench.visitor->pointer({30, 40}, 1);
    bench.visitor->pointer({30, 40}, 0);
    bench.visitor->pointer({30, 40}, 16);
    bench.visitor->pointer({30, 40}, 128);
    return 0;
  });
  CHECK(bench.until([&] { return bench.desk.pointers.size() >= 6; }));
  CHECK(bench.desk.keys == std::vector<std::pair<std::uint32_t, bool>>{{0x38, true}, {0xe04b, true}});
  CHECK(bench.desk.characters == U"€");
  CHECK(bench.desk.pointers.front().first == Point{30, 40});
  CHECK(bench.desk.pointers.back().second == 128);
  bench.on([&] {
    bench.visitor->offerClip(std::make_shared<TextClip>("from the desk"));
    bench.host->offerClip(std::make_shared<TextClip>("from the machine"));
    bench.host->bell();
    bench.host->setCursor({{1, 2}, {0, 1}, {rgb(1, 2, 3), 0}});
    return 0;
  });
  CHECK(bench.until(
      [&] { return bench.desk.text == "from the desk" && bench.seen.text == "from the machine"; }));
  CHECK(bench.until([&] { return bench.seen.bells == 1 && bench.seen.cursor.size == Size{1, 2}; }));
  CHECK(bench.seen.cursor.pixels == std::vector<Pixel>{rgb(1, 2, 3), 0});
}

TEST_CASE("RDP: the desktop takes the pane's size and the session stays", "[rdp]") {
  Bench bench;
  bench.open();
  REQUIRE(bench.live());
  CHECK(bench.until([&] { return bench.seen.canResize; }));
  bench.on([&] { return bench.visitor->requestSize({401, 300}), 0; });
  CHECK(bench.until([&] {
    return bench.seen.size == Size{400, 300} && bench.seen.region.covers(bench.seen_->rect());
  }));
  CHECK(samePixels(*bench.seen_, *bench.shown));
  // What changes later comes too, and refresh() brings everything again.
  bench.on([&] {
    bench.shown->fill({10, 10, 50, 50}, rgb(9, 8, 7));
    bench.host->damaged(Region({10, 10, 50, 50}));
    return 0;
  });
  CHECK(bench.until([&] { return bench.seen_->pixel(12, 12) == rgb(9, 8, 7); }));
  bench.on([&] { return bench.seen.region.clear(), bench.visitor->refresh(), 0; });
  CHECK(bench.until([&] { return bench.seen.region.covers(bench.seen_->rect()); }));
  // Nobody looks: nothing comes.
  bench.on([&] { return bench.visitor->pauseUpdates(true), 0; });
  bench.on([&] { return bench.visitor->offerClip(std::make_shared<TextClip>("mark")), 0; });
  CHECK(bench.until([&] { return bench.desk.text == "mark"; }));
  bench.on([&] {
    bench.shown->fill({0, 0, 5, 5}, rgb(1, 1, 1));
    bench.host->damaged(Region({0, 0, 5, 5}));
    return 0;
  });
  bench.on([&] { return bench.visitor->offerClip(std::make_shared<TextClip>("after")), 0; });
  CHECK(bench.until([&] { return bench.desk.text == "after"; }));
  CHECK(bench.seen_->pixel(2, 2) != rgb(1, 1, 1));
  bench.on([&] { return bench.visitor->pauseUpdates(false), 0; });
  CHECK(bench.until([&] { return bench.seen_->pixel(2, 2) == rgb(1, 1, 1); }));
}

TEST_CASE("RDP: the service ends the session with a reason", "[rdp]") {
  Bench bench;
  bench.open();
  REQUIRE(bench.live());
  bench.on([&] { return bench.host->endWith(0x5), 0; });
  REQUIRE(bench.ended());
  CHECK(bench.ended()->kind() == ErrorKind::ClosedByPeer);
  CHECK_THAT(bench.ended()->detail(), Catch::Contains("took over"));
}

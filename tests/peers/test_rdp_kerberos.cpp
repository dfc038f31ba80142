// Signing in to a remote desktop with a ticket of a real realm.
#include "rdp/kerberos.hpp"
#include "tests/core/rdp_bench.hpp"
#include "tests/peers/realm.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

constexpr const char* kHost = "seed-bank.alder-vale.example";

struct KerberosBench {
  KerberosBench() {
    bench.client.host = kHost;
    bench.client.signIn = SignInKind::Network;
    bench.seen.answer.user = "duty@alder-vale.example";
    bench.server.check = [this] { return realm.check(); };
  }
  /// NTLM is taken as well, by accounts of the service's own.
  void alsoTakesNtlm() {
    bench.server.check = [this] { return ntlmCheck("seed-bank", bench.server.account); };
    bench.server.account = [](const NtlmAccount& a) {
      return a.user == "duty@alder-vale.example" ? KnownAccount{"fern-house", 0}
                                                 : KnownAccount{"", 0xc0000064};
    };
  }
  Realm realm;
  Bench bench;
};

}  // namespace

TEST_CASE("An account's realm is read from its name or its domain", "[rdp][kerberos]") {
  CHECK(realmOf({"duty@alder-vale.example", "", ""}) == "ALDER-VALE.EXAMPLE");
  CHECK(realmOf({"duty", "Alder-Vale.example", ""}) == "ALDER-VALE.EXAMPLE");
  CHECK(realmOf({"duty", "ALDER", ""}).empty());
  CHECK(realmOf({"duty", "", ""}).empty());
  CHECK(realmOf({"duty@fernery", "alder-vale.example", ""}).empty());
  CHECK(realmOf({"duty@.example", "", ""}).empty());
  CHECK_FALSE(isRealmKnownHere(""));
  if (!Realm::available()) return;
  const Realm realm;
  CHECK(isRealmKnownHere("ALDER-VALE.EXAMPLE"));
  CHECK_FALSE(isRealmKnownHere("ORCHARD.EXAMPLE"));
}

TEST_CASE("Kerberos: a ticket of the realm opens the desktop, by itself where the realm is known",
          "[rdp][kerberos]") {
  if (!Realm::available()) return;
  KerberosBench k;
  k.bench.client.proof = GENERATE(ProofKind::Fitting, ProofKind::Kerberos);
  k.bench.open();
  REQUIRE(k.bench.live());
  CHECK(k.bench.on([&] { return k.bench.seen.agreed.security; }) ==
        "TLS, network level authentication (Kerberos, CredSSP 6)");
  // The service gets name and password as after every network sign-in.
  CHECK(k.bench.on([&] { return k.bench.desk.account.user; }) == "duty@alder-vale.example");
  CHECK(k.bench.on([&] { return k.bench.desk.account.password; }) == "fern-house");
  CHECK(k.bench.on([&] { return k.bench.seen.said; }).empty());
}

TEST_CASE("Kerberos: what the realm refuses is told in its own words, and NTLM is not tried after it",
          "[rdp][kerberos]") {
  if (!Realm::available()) return;
  KerberosBench k;
  std::string said = "wrong name or password";
  SECTION("a wrong password") { k.bench.seen.answer.password = "orchid"; }
  SECTION("an unknown name") { k.bench.seen.answer.user = "moss@alder-vale.example"; }
  SECTION("a password that has expired") {
    k.realm.administer("modprinc -pwexpire yesterday duty");
    said = "the password has expired";
  }
  SECTION("an account that is switched off") {
    k.realm.administer("modprinc -allow_tix duty");
    said = "the account is locked or switched off";
  }
  SECTION("an account that has expired") {
    k.realm.administer("modprinc -expire yesterday duty");
    said = "the account has expired";
  }
  k.bench.open();
  const auto end = k.bench.ended();
  REQUIRE(end.has_value());
  CHECK(end->kind() == ErrorKind::SignInFailed);
  CHECK(end->detail() == said);
  CHECK_FALSE(end->cure().empty());
  CHECK(k.bench.on([&] { return k.bench.desk.account.user; }).empty());
}

TEST_CASE("Kerberos: without a ticket NTLM is used and that is said; not where Kerberos alone is wanted",
          "[rdp][kerberos]") {
  if (!Realm::available()) return;
  KerberosBench k;
  k.alsoTakesNtlm();
  const bool only = GENERATE(false, true);
  k.bench.client.proof = only ? ProofKind::Kerberos : ProofKind::Fitting;
  std::string reason;
  SECTION("the key service is off") {
    k.realm.stop();
    reason = "the realm gives no ticket";
  }
  SECTION("the realm does not know the machine") {
    k.bench.client.host = "audio-guide.alder-vale.example";
    reason = "the realm knows no service TERMSRV/audio-guide.alder-vale.example";
  }
  k.bench.open();
  if (!only) {
    REQUIRE(k.bench.live());
    CHECK(k.bench.on([&] { return k.bench.seen.agreed.security; }).find("(NTLM, ") != std::string::npos);
    CHECK(k.bench.on([&] { return k.bench.seen.said; }).starts_with("signed in with NTLM, since " + reason));
    return;
  }
  const auto end = k.bench.ended();
  REQUIRE(end.has_value());
  CHECK(end->kind() == ErrorKind::Unreachable);
  CHECK(end->detail().starts_with(reason));
}

TEST_CASE("Kerberos: a machine's number or an account without a realm get NTLM, or a sentence",
          "[rdp][kerberos]") {
  if (!Realm::available()) return;
  KerberosBench k;
  k.alsoTakesNtlm();
  SECTION("a number, whatever fits") {
    k.bench.client.host = "127.0.0.1";
    k.bench.open();
    REQUIRE(k.bench.live());
    CHECK(k.bench.on([&] { return k.bench.seen.said; }).empty());
  }
  SECTION("only Kerberos") {
    k.bench.client.proof = ProofKind::Kerberos;
    const bool number = GENERATE(true, false);
    if (number)
      k.bench.client.host = "127.0.0.1";
    else
      k.bench.seen.answer.user = "duty";
    k.bench.open();
    const auto end = k.bench.ended();
    REQUIRE(end.has_value());
    CHECK(end->detail().starts_with(number ? "Kerberos needs the machine's name"
                                           : "Kerberos needs the account's realm"));
  }
}

TEST_CASE("Kerberos: a key service that says nothing does not keep one who leaves", "[rdp][kerberos]") {
  if (!Realm::available()) return;
  KerberosBench k;
  k.realm.stall();
  k.bench.open();
  REQUIRE(k.bench.until([&] { return !k.bench.seen.asked.empty(); }));
  const auto left = std::chrono::steady_clock::now();
  k.bench.on([&] {
    k.bench.visitor->close();
    return true;
  });
  const auto end = k.bench.ended();
  REQUIRE(end.has_value());
  CHECK(end->kind() == ErrorKind::Cancelled);
  CHECK(std::chrono::steady_clock::now() - left < std::chrono::seconds(2));
}

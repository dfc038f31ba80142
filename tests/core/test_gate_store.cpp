// What the gateway keeps: accounts, codes, passes, the audit's chain; how wrong sign-ins wait.
#include <openssl/evp.h>

#include <SQLiteCpp/SQLiteCpp.h>

#include "base/file.hpp"
#include "gate/limiter.hpp"
#include "tests/core/gate_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("Accounts: right and wrong passwords, roles, one-time codes that count once", "[gate]") {
  TemporaryFolder folder;
  GateStore store(folder.path);
  store.addAccount("duty", "duty-at-the-gate", Role::Drive);
  const Seconds now = nowSeconds();
  CHECK(store.mayIn("duty", "duty-at-the-gate", "", now));
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gat", "", now));
  CHECK_FALSE(store.mayIn("nobody", "duty-at-the-gate", "", now));
  CHECK_THROWS_AS(store.addAccount("duty", "another-password", Role::Look), Error);
  CHECK_THROWS_AS(store.addAccount("short", "seven77", Role::Look), Error);
  store.startCodes("duty");
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", "", now));
  const std::string token = store.signIn("duty", now + 60);
  CHECK(store.person(token, now)->role == Role::Drive);
  store.setRole("duty", Role::Look);
  CHECK(store.person(token, now)->role == Role::Look);  // at once
  CHECK_FALSE(store.person(token, now + 61).has_value());
  store.setOff("duty", true);
  CHECK_FALSE(store.person(token, now).has_value());
  store.setOff("duty", false);
  store.setPassword("duty", "a-new-password");
  CHECK_FALSE(store.person(token, now).has_value());  // signed in with the old one
}

TEST_CASE("Accounts of the team's database: it is asked, and hears the passwords of its own people only",
          "[gate]") {
  TemporaryFolder folder;
  GateStore store(folder.path);
  store.addAccount("duty", "duty-at-the-gate", Role::Keeper);
  store.addStoreAccount("night volunteer", Role::Drive);
  const Seconds now = nowSeconds();
  std::vector<std::pair<std::string, std::string>> heard;
  const GateStore::StoreSignIn asked = [&](const std::string& name, const std::string& password) {
    heard.emplace_back(name, password);
    return password == "volunteers-drive";
  };
  CHECK(store.mayIn("night volunteer", "volunteers-drive", "", now, asked));
  CHECK_FALSE(store.mayIn("night volunteer", "something else", "", now, asked));
  CHECK_FALSE(store.mayIn("night volunteer", "volunteers-drive", "", now));  // no database here
  CHECK_FALSE(store.mayIn("night volunteer", "store", "", now));
  CHECK(store.mayIn("duty", "duty-at-the-gate", "", now, asked));
  CHECK_FALSE(store.mayIn("duty", "volunteers-drive", "", now, asked));
  CHECK_FALSE(store.mayIn("nobody", "volunteers-drive", "", now, asked));
  REQUIRE(heard.size() == 5);  // everybody waits for it
  CHECK(heard[2].second != "duty-at-the-gate");
  CHECK(heard[4].second != "volunteers-drive");
  CHECK(store.account("night volunteer")->byStore);
  CHECK_FALSE(store.account("duty")->byStore);
  store.setPassword("night volunteer", "one-of-its-own");
  CHECK(store.mayIn("night volunteer", "one-of-its-own", "", now, asked));
}

TEST_CASE("One-time codes are RFC 6238's, and none counts twice", "[gate]") {
  // RFC 6238 appendix B, SHA-1, the last six of eight digits.
  const std::string secret = "12345678901234567890";
  CHECK(timeCode(secret, 59) == "287082");
  CHECK(timeCode(secret, 1111111109) == "081804");
  CHECK(timeCode(secret, 20000000000) == "353130");
  CHECK(base32("Hello!") == "JBSWY3DPEE");
  TemporaryFolder folder;
  GateStore store(folder.path);
  store.addAccount("duty", "duty-at-the-gate", Role::Drive);
  const std::string shown = store.startCodes("duty");
  CHECK(shown.size() == 32);
  std::string raw;
  std::uint32_t held = 0;
  int bits = 0;
  for (const char c : shown) {
    held = held << 5 | static_cast<std::uint32_t>(c >= 'A' ? c - 'A' : c - '2' + 26);
    if ((bits += 5) >= 8) raw += static_cast<char>(held >> (bits -= 8) & 0xff);
  }
  const Seconds now = nowSeconds();
  const std::string code = timeCode(raw, now);
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", code == "000000" ? "000001" : "000000", now));
  CHECK(store.mayIn("duty", "duty-at-the-gate", code, now));
  CHECK_FALSE(store.mayIn("duty", "duty-at-the-gate", code, now));
  CHECK(store.mayIn("duty", "duty-at-the-gate", timeCode(raw, now + 30), now + 30));
}

TEST_CASE("Passes: until, uses, ended; only the hash is kept", "[gate]") {
  TemporaryFolder folder;
  GateStore store(folder.path);
  Pass p = passFor(7, 3600, 2);
  const std::string token = store.makePass(p);
  CHECK(token.size() == 43);
  const Seconds now = nowSeconds();
  REQUIRE(store.passOf(token).has_value());
  CHECK_FALSE(store.passOf(token.substr(0, 42) + (token.back() == 'A' ? 'B' : 'A')).has_value());
  CHECK(store.usePass(p.id, now));
  CHECK(store.usePass(p.id, now));
  CHECK_FALSE(store.usePass(p.id, now));
  CHECK(problemWith(*store.pass(p.id), now + 3600) == "expired");
  CHECK(problemWith(*store.pass(p.id), p.from - 1) == "not yet");
  const std::string cookie = store.signInByPass(p.id, p.until);
  CHECK(store.person(cookie, now)->onlyWay == 7);
  CHECK(store.person(cookie, now)->role == Role::Look);
  store.endPass(p.id);
  CHECK_FALSE(store.person(cookie, now).has_value());
  const std::string kept =
      textOf(readFile(folder.path / "gate.sqlite")) + textOf(readFile(folder.path / "gate.sqlite-wal"));
  CHECK(kept.find(token) == std::string::npos);
  CHECK(kept.find(cookie) == std::string::npos);
}

TEST_CASE("The audit's chain shows a changed and a removed line", "[gate]") {
  TemporaryFolder folder;
  {
    GateStore store(folder.path);
    for (int i = 0; i < 5; ++i) store.audit("duty", "127.0.0.1", "does " + std::to_string(i));
    CHECK(store.verifyAudit().entries == 5);
    CHECK(store.verifyAudit().wrongAt == 0);
    CHECK(store.auditEntries(3, 10).size() == 2);
  }
  const auto damage = [&](const std::string& sql) {
    SQLite::Database((folder.path / "gate.sqlite").string(), SQLite::OPEN_READWRITE).exec(sql);
    return GateStore(folder.path).verifyAudit().wrongAt;
  };
  SECTION("changed") { CHECK(damage("UPDATE audit SET entry = replace(entry, 'does 2', 'does 9')") == 3); }
  SECTION("removed") { CHECK(damage("DELETE FROM audit WHERE id = 2") == 2); }
}

TEST_CASE("Wrong sign-ins wait longer and longer; right ones clear it", "[gate]") {
  Limiter limiter;
  for (int i = 0; i < 3; ++i) limiter.wrong("n duty", 100);
  CHECK(limiter.waits("n duty", 100) == 0);
  limiter.wrong("n duty", 100);
  const Seconds first = limiter.waits("n duty", 100);
  CHECK(first >= 1);
  limiter.wrong("n duty", 100 + first);
  CHECK(limiter.waits("n duty", 100 + first) > first);
  for (int i = 0; i < 30; ++i) limiter.wrong("n duty", 200);
  CHECK(limiter.waits("n duty", 200) <= Limiter::kLongest);
  CHECK(limiter.waits("n seed desk", 200) == 0);
  limiter.right("n duty");
  CHECK(limiter.waits("n duty", 200) == 0);
}

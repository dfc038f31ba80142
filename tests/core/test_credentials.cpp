// Sign-ins with a name, what answers by itself, first passwords, own commands' words.
#include <fstream>

#include "base/file.hpp"
#include "credential/first_password.hpp"
#include "credential/one_time_code.hpp"
#include "record/agreed.hpp"
#include "record/catalogue.hpp"
#include "record/words.hpp"
#include "route/sign_in_source.hpp"
#include "route/text_opening.hpp"
#include "tests/store_suite.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

struct CredentialBench {
  CredentialBench() {
    if (const char* before = getenv("XDG_CONFIG_HOME")) configBefore = before;
    setenv("XDG_CONFIG_HOME", (folder.path / "xdg").c_str(), 1);
    tools.store = openSqliteStore(folder.path / "records.sqlite");
    tools.vault = openVault(folder.path / "config");
    f = fillStore(*tools.store);
    c.name = "duty at night", c.user = "duty", c.domain = "ALDER";
    tools.store->commit("credential", [&](StoreWriter& w) { w.put(c); });
    SecretBundle secrets;
    secrets.password = "orchid", secrets.use = SecretUse::Proved;
    keepBundle(tools, c.id, secrets);
  }
  ~CredentialBench() {
    if (configBefore)
      setenv("XDG_CONFIG_HOME", configBefore->c_str(), 1);
    else
      unsetenv("XDG_CONFIG_HOME");
  }
  void set(Owner owner, const std::string& key, const std::string& value) {
    tools.store->commit("set", [&](StoreWriter& w) { w.set(owner, key, value); });
  }
  SignInSource source(const std::string& address = "rdp://127.0.0.11") {
    records = tools.store->load();
    return {tools,
            {OwnerKind::WayIn, f.way},
            parseAddress(address),
            settingsOf(records, {OwnerKind::WayIn, f.way})};
  }
  std::optional<std::string> configBefore;
  TemporaryFolder folder;
  OpeningTools tools;
  FilledStore f;
  Credential c;
  Snapshot records;
};

std::string run(const std::string& command) {
  std::string out;
  FILE* pipe = popen((command + " 2>&1").c_str(), "r");
  char part[512];
  while (fgets(part, sizeof part, pipe) != nullptr) out += part;
  CHECK(pclose(pipe) == 0);
  return out;
}

}  // namespace

TEST_CASE("A named credential signs in wherever it is inherited, and is changed in one place",
          "[credential]") {
  CredentialBench b;
  CHECK(b.source().credential().empty());
  b.set({OwnerKind::Folder, b.f.place}, "signin.from", "named:duty at night");
  SignInSource source = b.source();
  CHECK(source.credential() == "duty at night");
  CHECK(source.user() == "duty");
  REQUIRE(source.find(SecretUse::Proved).has_value());
  CHECK(source.find(SecretUse::Proved)->password == "orchid");
  CHECK(source.find(SecretUse::Proved)->domain == "ALDER");
  // It was kept for a proved peer: nobody else gets it.
  CHECK_FALSE(source.find(SecretUse::Clear).has_value());
  CHECK_FALSE(source.find(SecretUse::Challenge).has_value());
  CHECK(usersOfCredential(b.tools.store->load(), "duty at night") == 1);
  // A new one that was taken goes into the credential, for all that take it.
  source.keep({"duty", "fern", SecretUse::Proved, ""});
  CHECK(b.source().find(SecretUse::Proved)->password == "fern");
  CHECK_FALSE(keptSignIn(b.tools, {OwnerKind::WayIn, b.f.way}).has_value());
  // Asked each time: nothing is answered by itself, though it is kept.
  b.set({OwnerKind::Machine, b.f.machine}, "signin.from", "ask");
  CHECK_FALSE(b.source().find(SecretUse::Proved).has_value());
  // A credential that is gone is told, not passed over.
  b.set({OwnerKind::Machine, b.f.machine}, "signin.from", "named:nobody");
  CHECK(failureOf([&] { b.source(); }).find("not there") != std::string::npos);
}

TEST_CASE("Nothing of a credential's secrets lies readable in the store", "[credential]") {
  CredentialBench b;
  SecretBundle secrets;
  secrets.password = "planted-secret-1", secrets.key = "planted-secret-2",
  secrets.passphrase = "planted-secret-3";
  secrets.codeSecret = "planted-secret-4";
  keepBundle(b.tools, b.c.id, secrets);
  const auto back = keptBundle(b.tools, b.c.id);
  REQUIRE(back.has_value());
  CHECK(back->key == "planted-secret-2");
  CHECK(back->codeSecret == "planted-secret-4");
  for (const auto& file : std::filesystem::recursive_directory_iterator(b.folder.path))
    if (file.is_regular_file())
      CHECK(textOf(readFile(file.path())).find("planted-secret") == std::string::npos);
  // Another credential's seal does not open with it.
  Credential other;
  other.name = "volunteer";
  b.tools.store->commit("other", [&](StoreWriter& w) { w.put(other); });
  b.tools.store->putSecret({OwnerKind::Credential, other.id},
                           *b.tools.store->secret({OwnerKind::Credential, b.c.id}));
  CHECK_FALSE(keptBundle(b.tools, other.id).has_value());
  CHECK_FALSE(bundleFrom("").has_value());
  CHECK_FALSE(bundleFrom("10p\0\0\0\xff-").has_value());
}

TEST_CASE("A command's first line is the password; it gets words, not a shell", "[credential]") {
  CredentialBench b;
  b.set({OwnerKind::WayIn, b.f.way}, "signin.from", "command");
  const auto fetched = [&](const std::string& command) {
    b.set({OwnerKind::WayIn, b.f.way}, "signin.command", command);
    // A record alone runs nothing here.
    CHECK(failureOf([&] { b.source(); }).find("agreed to") != std::string::npos);
    agreeTo(command);
    const SignInSource source = b.source("rdp://duty@127.0.0.11");
    CHECK(source.hasCommand());
    CHECK_FALSE(source.find(SecretUse::Proved).has_value());
    std::string out;
    const std::string failed = failureOf([&] {
      runToEnd([&]() -> Task<void> {
        const auto got = co_await source.fetch();
        out = got->user + ":" + got->password.plain();
      });
    });
    if (!failed.empty()) out = failed;
    return out;
  };
  CHECK(fetched("printf '%s-%s\\nmore' {user} {port}").find("duty:duty-3389") != std::string::npos);
  CHECK(fetched("echo $HOME;ls").find("duty:$HOME;ls") != std::string::npos);
  CHECK(fetched("true").find("printed nothing") != std::string::npos);
  CHECK(fetched("/no/such/program").find("/no/such/program") != std::string::npos);
  CHECK(failureOf([&] { fetched("echo {nothing}"); }).find("stands for nothing") != std::string::npos);
}

TEST_CASE("What a command prints answers only whom a kept password would", "[credential]") {
  CredentialBench b;
  b.set({OwnerKind::WayIn, b.f.way}, "signin.from", "command");
  b.set({OwnerKind::WayIn, b.f.way}, "signin.command", "echo orchid");
  agreeTo("echo orchid");
  b.records = b.tools.store->load();
  const Owner owner{OwnerKind::WayIn, b.f.way};
  struct NobodyThere : Asker {
    Task<Answer> ask(Question) override {
      ++asked;
      co_return Answer{};
    }
    void doing(const std::string&) override {}
    int asked = 0;
  };
  for (const SecretUse use : {SecretUse::Clear, SecretUse::Sealed, SecretUse::Challenge, SecretUse::Proved}) {
    SignInTurns turns(
        keptSignInsOf(b.tools, owner, parseAddress("vnc://127.0.0.11"), settingsOf(b.records, owner)));
    NobodyThere nobody;
    std::string given;
    runToEnd([&]() -> Task<void> {
      SignInWish wish;
      wish.use = use;
      try {
        const SignIn answer = co_await turns.next(nobody, wish);
        given = answer.password;
      } catch (const Error&) {
        given = "nothing";
      }
    });
    const bool proved = use == SecretUse::Challenge || use == SecretUse::Proved;
    CAPTURE(static_cast<int>(use));
    CHECK(given == (proved ? "orchid" : "nothing"));
    CHECK(nobody.asked == (proved ? 0 : 1));
  }
}

TEST_CASE("For a visitor who is to know the machine's own password, nothing of this desk signs in",
          "[credential]") {
  CredentialBench b;
  b.set({OwnerKind::WayIn, b.f.way}, "signin.from", "named:duty at night");
  b.set({OwnerKind::WayIn, b.f.way}, "ssh.keys", "/etc/hostname");
  b.tools.onlyGiven = true;
  CHECK_FALSE(b.source().find(SecretUse::Proved).has_value());
  CHECK(b.source().bundle().empty());
  const Address to = parseAddress("ssh://duty@127.0.0.1");
  const SettingReader setting = settingsOf(b.records, {OwnerKind::WayIn, b.f.way});
  const SshHop hop = sshHop(to, setting, b.tools, {OwnerKind::WayIn, b.f.way});
  CHECK_FALSE(hop.options.useAgent);
  CHECK(hop.options.keyFiles.empty());
  CHECK(hop.options.keyTexts.empty());
  CHECK_FALSE(hop.options.password.has_value());
  b.tools.givenKeyFile = "/proc/self/fd/9";
  CHECK(sshHop(to, setting, b.tools, {OwnerKind::WayIn, b.f.way}).options.keyFiles ==
        std::vector<std::string>{"/proc/self/fd/9"});
  b.set({OwnerKind::WayIn, b.f.way}, "signin.from", "command");
  b.set({OwnerKind::WayIn, b.f.way}, "signin.command", "echo orchid");
  CHECK_FALSE(b.source().hasCommand());
}

TEST_CASE("Codes and their secrets, as services hand them out", "[credential]") {
  CHECK(fromBase32("JBSW Y3DP ee==") == "Hello!");
  CHECK_FALSE(fromBase32("JBSW1").has_value());
  const std::string uri = "otpauth://totp/Alder%20Vale:duty?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ&issuer=x";
  REQUIRE(codeSecretFrom(uri).has_value());
  CHECK(timeCode(*codeSecretFrom(uri), 59) == "287082");  // RFC 6238 appendix B
  CHECK_FALSE(codeSecretFrom("otpauth://hotp/x?secret=GEZDGNBVGY3TQOJQ").has_value());
  CHECK_FALSE(codeSecretFrom("GEZA").has_value());
  CHECK(codeSecondsLeft(59) == 1);
  CHECK(codeSecondsLeft(60) == 30);
}

TEST_CASE("Whose account is asked for is told apart", "[credential]") {
  CHECK(accountWords(parseAddress("rdp://h")).find("machine itself") != std::string::npos);
  CHECK(accountWords(parseAddress("rdp://h:2179?machine=7")).find("of the host") != std::string::npos);
  CHECK(accountWords(parseAddress("vnc://h")).find("not that of an account") != std::string::npos);
  CHECK(accountWords(parseAddress("telnet://h")).empty());
  CHECK(asksOwnAccount(parseAddress("ssh://h")));
  CHECK_FALSE(asksOwnAccount(parseAddress("rdp://h?machine=7")));
}

TEST_CASE("A machine's first password opens with its key, in every form that keys and seals have",
          "[credential]") {
  TemporaryFolder folder;
  const std::string at = "cd " + folder.path.string() + " && ";
  const std::string password = "Kf7%glass-house";
  std::ofstream(folder.path / "plain") << password;
  run(at + "openssl genrsa -traditional -out pkcs1.pem 2048");
  run(at + "openssl pkcs8 -topk8 -nocrypt -in pkcs1.pem -out pkcs8.pem");
  run(at + "openssl pkcs8 -topk8 -passout pass:moss -in pkcs1.pem -out locked8.pem");
  run(at + "openssl rsa -traditional -aes128 -passout pass:moss -in pkcs1.pem -out locked1.pem");
  run(at + "cp pkcs1.pem ssh && chmod 600 ssh && ssh-keygen -q -p -P '' -N '' -f ssh");
  run(at + "cp pkcs1.pem lockedssh && chmod 600 lockedssh && ssh-keygen -q -p -P '' -N mosses -f lockedssh");
  run(at + "openssl genrsa -out other.pem 2048 && openssl genrsa -out small.pem 1024");
  run(at + "openssl genpkey -algorithm ed25519 -out ed.pem");
  const auto blob = [&](const std::string& options) {
    return run(at + "openssl pkeyutl -encrypt -inkey pkcs1.pem -in plain " + options + " | base64");
  };
  const std::string older = blob("-pkeyopt rsa_padding_mode:pkcs1");
  const std::string oaep = blob("-pkeyopt rsa_padding_mode:oaep");
  const std::string oaep256 =
      blob("-pkeyopt rsa_padding_mode:oaep -pkeyopt rsa_oaep_md:sha256 -pkeyopt rsa_mgf1_md:sha256");
  const auto key = [&](const char* name) { return textOf(readFile(folder.path / name)); };
  for (const std::string& sealed : {older, oaep, oaep256}) {
    for (const char* file : {"pkcs1.pem", "pkcs8.pem", "ssh"}) {
      CAPTURE(file);
      CHECK(firstPassword(sealed, key(file), "") == password);
      CHECK_FALSE(needsPassphrase(key(file)));
    }
    CHECK(firstPassword(sealed, key("locked8.pem"), "moss") == password);
    CHECK(firstPassword(sealed, key("locked1.pem"), "moss") == password);
    CHECK(failureOf([&] { firstPassword(sealed, key("lockedssh"), "mosses"); }).find("OpenSSH's form") !=
          std::string::npos);
    CHECK(failureOf([&] { firstPassword(sealed, key("other.pem"), ""); }).find("another key") !=
          std::string::npos);
  }
  CHECK(needsPassphrase(key("locked8.pem")));
  CHECK(needsPassphrase(key("locked1.pem")));
  CHECK(failureOf([&] { firstPassword(oaep, key("locked8.pem"), ""); }).find("locked") != std::string::npos);
  CHECK(failureOf([&] { firstPassword(oaep, key("locked8.pem"), "fern"); }).find("passphrase") !=
        std::string::npos);
  CHECK(failureOf([&] { firstPassword(oaep, key("small.pem"), ""); }).find("another size") !=
        std::string::npos);
  CHECK(failureOf([&] { firstPassword(oaep, key("ed.pem"), ""); }).find("not an RSA key") !=
        std::string::npos);
  CHECK(failureOf([&] { firstPassword("no base64!", key("pkcs1.pem"), ""); }).find("base64") !=
        std::string::npos);
  CHECK(failureOf([&] { firstPassword(oaep, "no key", ""); }).find("not a private key") != std::string::npos);
}

TEST_CASE("Passwords are made by a target's rules", "[credential]") {
  for (int i = 0; i < 50; ++i) {
    const std::string made = newPassword({8, true, true, true, false});
    CHECK(made.size() == 8);
    CHECK(made.find_first_of("0123456789") != std::string::npos);
    CHECK(made.find_first_of("ABCDEFGHIJKLMNOPQRSTUVWXYZ") != std::string::npos);
    CHECK(made.find_first_of("0O1lI#!") == std::string::npos);
  }
  CHECK(newPassword({}) != newPassword({}));
  CHECK_THROWS_AS(newPassword({8, false, false, false, false}), Error);
  CHECK_THROWS_AS(newPassword({3}), Error);
}

TEST_CASE("Own commands: titles, placeholders, words that stay words", "[credential]") {
  Machine m;
  m.name = "mist bench; rm", m.host = "fernery";
  Endpoint e;
  e.address = "ssh://duty@127.0.0.11:2201";
  const Placeholders p = placeholdersOf(m, &e);
  CHECK(wordsWith("ping -c1 {host}", p) == std::vector<std::string>{"ping", "-c1", "127.0.0.11"});
  CHECK(wordsWith("log '{name} on {on}' {{x} {user}:{port}", p) ==
        std::vector<std::string>{"log", "mist bench; rm on fernery", "{x}", "duty:2201"});
  CHECK_THROWS_AS(wordsWith("ping {nothing}", p), Error);
  CHECK(placeholdersOf(m, nullptr).at("host").empty());
  const auto commands = ownCommandsOf("Ping = ping {host};; Notes=edit {name}\n\n");
  REQUIRE(commands.size() == 2);
  CHECK(commands[1].title == "Notes");
  CHECK(commands[1].line == "edit {name}");
  CHECK_THROWS_AS(ownCommandsOf("no title"), Error);
  CHECK_THROWS_AS(ownCommandsOf("Quote = 'open"), Error);
}

// Every way to sign in to OpenSSH's server.
#include <fstream>

#include "base/file.hpp"
#include "route/hop.hpp"
#include "route/sign_in_source.hpp"
#include "route/text_opening.hpp"
#include "tests/peers/ssh_support.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

struct Outcome {
  std::string with, said;
  std::optional<ErrorKind> failed;
};

/// Signs in, runs a command, and says how it went.
Outcome signInAndRun(const SshBench& bench, const SshOptions& options, std::shared_ptr<Answers> answers) {
  Outcome out;
  Runtime runtime(2);
  const Executor strand = runtime.strand();
  runToEnd([&]() -> Task<void> {
    try {
      auto connection = co_await bench.connect(strand, options, answers);
      out.with = connection->signedInWith();
      StreamPtr command = co_await connection->exec("echo seed; echo bank >&2");
      Bytes in(1000);
      for (;;) {
        const std::size_t n = co_await command->readSome(in);
        out.said += textOf(ByteView(in).first(n));
      }
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::ClosedByPeer || out.with.empty()) {
        out.failed = e.kind();
        out.said = e.what();
      }
    }
  });
  return out;
}

}  // namespace

TEST_CASE("SSH: keys of every kind, with and without passphrase", "[ssh]") {
  if (!haveSshServer()) return;
  SshBench bench;
  const auto [type, passphrase] = GENERATE(table<std::string, std::string>(
      {{"ed25519", ""}, {"ecdsa", ""}, {"rsa", ""}, {"ed25519", "fern gully"}}));
  INFO(type << " " << passphrase);
  const fs::path key = bench.folder.path / "key";
  lab::makeSshKey(key, type, passphrase);
  bench.allowKey(key.string() + ".pub");
  auto answers = std::make_shared<Answers>();
  answers->byWord["Passphrase"] = passphrase;
  SshOptions options = plainSsh(bench.folder.path);
  options.keyFiles = {key};
  const Outcome out = signInAndRun(bench, options, answers);
  INFO(out.said);
  CHECK(out.with == "a key file");
  CHECK(out.said.find("seed\n") != std::string::npos);
  CHECK(out.said.find("bank\n") != std::string::npos);
  CHECK(answers->prompts.size() == (passphrase.empty() ? 0U : 1U));
  REQUIRE(answers->keys.size() == 1);
  CHECK(answers->keys[0].sha256 == bench.server().hostKeySha256());
  CHECK(answers->keys[0].knownHosts == HostKey::Known::No);
}

TEST_CASE("SSH: a wrong key, a wrong passphrase and an untrusted host end in clear errors", "[ssh]") {
  if (!haveSshServer()) return;
  SshBench bench;
  SshOptions options = plainSsh(bench.folder.path);
  auto answers = std::make_shared<Answers>();
  SECTION("a key that is not allowed") {
    lab::makeSshKey(bench.folder.path / "other");
    options.keyFiles = {bench.folder.path / "other"};
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::SignInFailed);
  }
  SECTION("a wrong passphrase") {
    lab::makeSshKey(bench.folder.path / "locked", "ed25519", "right");
    bench.allowKey(bench.folder.path / "locked.pub");
    answers->byWord["Passphrase"] = "wrong";
    options.keyFiles = {bench.folder.path / "locked"};
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::SignInFailed);
    CHECK(answers->prompts.size() == 2);
  }
  SECTION("nobody trusts the host") {
    answers->trusts = false;
    options.keyFiles = {bench.server().clientKey()};
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::NotTrusted);
  }
  SECTION("no key file at all") {
    options.keyFiles = {bench.folder.path / "nothing"};
    const Outcome out = signInAndRun(bench, options, answers);
    CHECK(out.failed == ErrorKind::Local);
    CHECK(out.said.find("cannot be read") != std::string::npos);
  }
}

TEST_CASE("SSH: agent and certificate", "[ssh]") {
  if (!haveSshServer()) return;
  TemporaryFolder folder;
  const fs::path authority = folder.path / "authority";
  lab::makeSshKey(authority);
  SshBench bench("TrustedUserCAKeys " + authority.string() + ".pub");
  auto answers = std::make_shared<Answers>();
  SshOptions options = plainSsh(bench.folder.path);
  SECTION("certificate") {
    const fs::path key = folder.path / "signed";
    lab::makeSshKey(key);
    REQUIRE(runs("ssh-keygen -s " + authority.string() + " -I duty -n " + lab::SshServer::user() + " " +
                 key.string() + ".pub"));
    options.keyFiles = {key};
    const Outcome out = signInAndRun(bench, options, answers);
    INFO(out.said);
    CHECK(out.with == "a key file");
  }
  SECTION("agent") {
    const std::string socket = folder.path / "agent";
    REQUIRE(runs("ssh-agent -a " + socket + " > " + (folder.path / "agent.env").string()));
    setenv("SSH_AUTH_SOCK", socket.c_str(), 1);
    REQUIRE(runs("ssh-add " + bench.server().clientKey().string()));
    options.useAgent = true;
    const Outcome out = signInAndRun(bench, options, answers);
    unsetenv("SSH_AUTH_SOCK");
    runs("pkill -f 'ssh-agent -a " + socket + "'");
    INFO(out.said);
    CHECK(out.with == "a key of the agent");
  }
}

namespace {

constexpr const char* kQuestionsOnly =
    "UsePAM yes\nKbdInteractiveAuthentication yes\nPasswordAuthentication no";

/// An account with a password, for the length of a test.
class Account {
 public:
  explicit Account(const std::string& password) {
    runs("userdel -f kettle-duty");  // left by a test that was killed
    made_ = runs("useradd -M -d /tmp -s /bin/sh kettle-duty") &&
            runs("echo 'kettle-duty:" + password + "' | chpasswd");
  }
  ~Account() { runs("userdel -f kettle-duty"); }
  Account(const Account&) = delete;
  Account& operator=(const Account&) = delete;
  [[nodiscard]] bool made() const { return made_; }

 private:
  bool made_ = false;
};

}  // namespace

TEST_CASE("SSH: password, and questions by keyboard-interactive", "[ssh]") {
  if (!haveSshServer() || !mayMakeAccounts()) return;
  Account account("alder-vale-7");
  REQUIRE(account.made());
  const bool challenge = GENERATE(false, true);
  SshBench bench(challenge ? kQuestionsOnly : "PasswordAuthentication yes");
  SshOptions options = plainSsh(bench.folder.path);
  options.user = "kettle-duty";
  auto answers = std::make_shared<Answers>();
  SECTION("typed") {
    answers->byWord["assword"] = "alder-vale-7";
    const Outcome out = signInAndRun(bench, options, answers);
    INFO(out.said);
    CHECK(out.with == (challenge ? "answers to its questions" : "a password"));
    CHECK(answers->prompts.size() == 1);
  }
  SECTION("kept") {
    options.password = "alder-vale-7";
    CHECK(signInAndRun(bench, options, answers).said.find("seed") != std::string::npos);
    CHECK(answers->prompts.empty());
  }
  SECTION("wrong") {
    options.password = "nonsense";
    answers->byWord["assword"] = "nonsense, too";
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::SignInFailed);
  }
}

namespace {

/// A PAM service of its own that wants the account's password, then a one-time code (RFC 4226).
class CodeService {
 public:
  /// "HOTP": by counter (RFC 4226); "HOTP/T30": by the clock (RFC 6238).
  explicit CodeService(const std::string& kind = "HOTP") {
    fs::create_symlink("/usr/sbin/sshd", program());
    const std::string users = folder_.path / "users.oath";
    // The secret of RFC 4226's appendix D.
    std::ofstream(users) << kind << " kettle-duty - 3132333435363738393031323334353637383930\n";
    fs::permissions(users, fs::perms::owner_read | fs::perms::owner_write);
    std::ofstream(service()) << "auth requisite pam_unix.so\nauth required pam_oath.so usersfile=" << users
                             << " window=5 digits=6\naccount required pam_permit.so\n"
                                "session required pam_permit.so\n";
  }
  ~CodeService() {
    std::error_code ignored;
    fs::remove(service(), ignored);
  }
  CodeService(const CodeService&) = delete;
  CodeService& operator=(const CodeService&) = delete;
  [[nodiscard]] fs::path program() const { return folder_.path / kName; }

 private:
  static constexpr const char* kName = "kettle-test-codes";
  static fs::path service() { return fs::path("/etc/pam.d") / kName; }
  TemporaryFolder folder_;
};

}  // namespace

TEST_CASE("SSH: a password and then a one-time code", "[ssh][codes]") {
  if (!haveSshServer() || !mayMakeAccounts()) return;
  Account account("alder-vale-7");
  REQUIRE(account.made());
  const CodeService service;
  SshBench bench(kQuestionsOnly, service.program());
  SshOptions options = plainSsh(bench.folder.path);
  options.user = "kettle-duty";
  auto answers = std::make_shared<Answers>();
  answers->byWord["assword:"] = "alder-vale-7";
  const std::string codeWord = "One-time";
  SECTION("the right code; the same one is not taken twice, the next one is") {
    answers->byWord[codeWord] = "755224";
    const Outcome first = signInAndRun(bench, options, answers);
    INFO(first.said);
    CHECK(first.with == "answers to its questions");
    REQUIRE(answers->prompts.size() == 2);
    CHECK(answers->prompts[1].find(codeWord) != std::string::npos);
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::SignInFailed);
    answers->byWord[codeWord] = "287082";
    CHECK(signInAndRun(bench, options, answers).with == "answers to its questions");
  }
  SECTION("a kept password is not given as the code") {
    options.password = "alder-vale-7";
    answers->byWord.erase("assword:");
    answers->byWord[codeWord] = "755224";
    const Outcome out = signInAndRun(bench, options, answers);
    INFO(out.said);
    CHECK(out.with == "answers to its questions");
    CHECK(answers->prompts.size() == 1);
  }
  SECTION("a wrong code") {
    answers->byWord[codeWord] = "000000";
    CHECK(signInAndRun(bench, options, answers).failed == ErrorKind::SignInFailed);
  }
}

namespace {

/// Whoever is asked anything, the test fails.
struct NobodyThere : Asker {
  Task<Answer> ask(Question question) override {
    asked.push_back(question.text);
    co_return Answer{};
  }
  void doing(const std::string&) override {}
  std::vector<std::string> asked;
};

/// Records with one way in by SSH that takes a named credential.
struct CredentialBench {
  CredentialBench(const SshBench& bench, const SecretBundle& secrets) : folder(bench.folder.path) {
    tools.store = openSqliteStore(folder / "records.sqlite");
    tools.vault = openVault(folder / "vault");
    tools.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
    tools.store->pin("ssh 127.0.0.1:" + std::to_string(bench.port()), bench.server().hostKeySha256());
    Credential c;
    c.name = "duty on the guests";
    tools.store->commit("fill", [&](StoreWriter& w) {
      w.put(c);
      Machine m;
      m.name = "gatehouse";
      w.put(m);
      Endpoint e;
      e.machine = m.id, e.label = "shell",
      e.address = "ssh://kettle-duty@127.0.0.1:" + std::to_string(bench.port());
      w.put(e);
      owner = {OwnerKind::WayIn, e.id};
      w.set({OwnerKind::Machine, m.id}, "signin.from", "named:duty on the guests");
      for (const char* off : {"ssh.agent", "ssh.useconfig"}) w.set(owner, off, "off");
      w.set(owner, "ssh.keys", "");
    });
    keepBundle(tools, c.id, secrets);
  }
  /// "", or why it does not sign in.
  std::string signIn(const std::string& user) {
    const Snapshot records = tools.store->load();
    Address to = parseAddress(records.endpoints.at(owner.id).address);
    to.user = user;
    std::vector<SshHop> hops{sshHop(to, settingsOf(records, owner), tools, owner)};
    RouteFacts facts;
    std::string failed;
    runToEnd([&]() -> Task<void> {
      try {
        auto connection = co_await tools.ssh->connect(hops, trustIn(tools.store), nobody, facts, nullptr);
        with = connection->signedInWith();
      } catch (const Error& e) {
        failed = e.what();
      }
    });
    return failed;
  }
  fs::path folder;
  Runtime runtime{2};
  OpeningTools tools;
  Owner owner;
  NobodyThere nobody;
  std::string with;
};

}  // namespace

TEST_CASE("SSH: a named credential answers password and code of a second factor by itself", "[ssh][codes]") {
  if (!haveSshServer() || !mayMakeAccounts()) return;
  Account account("alder-vale-7");
  REQUIRE(account.made());
  const CodeService service("HOTP/T30");
  SshBench bench(kQuestionsOnly, service.program());
  SecretBundle secrets;
  secrets.password = "alder-vale-7", secrets.codeSecret = "12345678901234567890";
  CredentialBench desk(bench, secrets);
  const std::string failed = desk.signIn("kettle-duty");
  INFO(failed);
  CHECK(failed.empty());
  CHECK(desk.with == "answers to its questions");
  CHECK(desk.nobody.asked.empty());
}

TEST_CASE("SSH: a key kept inside a named credential opens, locked or not", "[ssh]") {
  if (!haveSshServer()) return;
  const std::string passphrase = GENERATE("", "fern gully");
  CAPTURE(passphrase);
  SshBench bench;
  const fs::path key = bench.folder.path / "key";
  lab::makeSshKey(key, "ed25519", passphrase);
  bench.allowKey(key.string() + ".pub");
  SecretBundle secrets;
  secrets.key = textOf(readFile(key)), secrets.passphrase = passphrase;
  fs::remove(key);
  CredentialBench desk(bench, secrets);
  const std::string failed = desk.signIn(lab::SshServer::user());
  INFO(failed);
  CHECK(failed.empty());
  CHECK(desk.with == "a kept key");
  CHECK(desk.nobody.asked.empty());
}

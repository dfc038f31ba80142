// OpenSSH's server: every way to sign in, jumps, tunnels, files.
#include <catch2/catch.hpp>

#include <unistd.h>

#include <fstream>
#include <iostream>
#include <thread>

#include "lab/ssh_server.hpp"
#include "route/text_opening.hpp"
#include "ssh/config.hpp"
#include "ssh/sftp.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/text_support.hpp"

using namespace kw;
using namespace kw::test;
namespace fs = std::filesystem;

namespace {

int freeTcpPort() {
  Runtime runtime(1);
  return listenTcp(runtime.strand(), "127.0.0.1", 0)->port();
}

/// What a connection asks, answered from fields.
struct Answers : SshEvents {
  bool trusts = true;
  std::map<std::string, std::string> byWord;  ///< a word of the prompt and the answer to it
  std::vector<HostKey> keys;
  std::vector<std::string> prompts;
  Task<bool> trust(HostKey key) override {
    keys.push_back(key);
    co_return trusts;
  }
  Task<std::optional<std::string>> answer(SshPrompt prompt) override {
    prompts.push_back(prompt.text);
    for (const auto& [word, text] : byWord)
      if (prompt.text.find(word) != std::string::npos && !prompt.again) co_return text;
    co_return std::nullopt;
  }
};

struct Outcome {
  std::string with, said;
  std::optional<ErrorKind> failed;
};

/// Signs in, runs a command, and says how it went.
Outcome signInAndRun(SshOptions options, std::shared_ptr<Answers> answers, int port) {
  Outcome out;
  Runtime runtime(2);
  const Executor strand = runtime.strand();
  options.port = port;
  options.host = "127.0.0.1";
  if (options.user.empty()) options.user = lab::SshServer::user();
  runToEnd([&]() -> Task<void> {
    try {
      StreamPtr below =
          co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(port), std::chrono::seconds(5));
      auto connection = co_await SshConnection::open(strand, std::move(below), options, answers);
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

bool haveServer() { return have("/usr/sbin/sshd") && have("/usr/bin/ssh-keygen"); }

SshOptions plain(const fs::path& folder) {
  SshOptions o;
  o.useAgent = false;
  o.knownHostsFile = folder / "known_hosts";
  return o;
}

void allowKey(const lab::SshServer& server, const fs::path& publicKey) {
  std::ofstream(server.authorizedKeys(), std::ios::app) << std::ifstream(publicKey).rdbuf();
}

int run(const std::string& command) { return std::system((command + " >/dev/null 2>&1").c_str()); }

}  // namespace

TEST_CASE("SSH: keys of every kind, with and without passphrase", "[ssh]") {
  if (!haveServer()) return;
  TemporaryFolder folder;
  const int port = freeTcpPort();
  lab::SshServer server({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port), ""});
  const auto [type, passphrase] = GENERATE(table<std::string, std::string>(
      {{"ed25519", ""}, {"ecdsa", ""}, {"rsa", ""}, {"ed25519", "fern gully"}}));
  INFO(type << " " << passphrase);
  const fs::path key = folder.path / "key";
  lab::makeSshKey(key, type, passphrase);
  allowKey(server, key.string() + ".pub");
  auto answers = std::make_shared<Answers>();
  answers->byWord["Passphrase"] = passphrase;
  SshOptions options = plain(folder.path);
  options.keyFiles = {key};
  const Outcome out = signInAndRun(options, answers, port);
  INFO(out.said);
  CHECK(out.with == "a key file");
  CHECK(out.said.find("seed\n") != std::string::npos);
  CHECK(out.said.find("bank\n") != std::string::npos);
  CHECK(answers->prompts.size() == (passphrase.empty() ? 0U : 1U));
  REQUIRE(answers->keys.size() == 1);
  CHECK(answers->keys[0].sha256 == server.hostKeySha256());
  CHECK(answers->keys[0].knownHosts == HostKey::Known::No);
}

TEST_CASE("SSH: a wrong key, a wrong passphrase and an untrusted host end in clear errors", "[ssh]") {
  if (!haveServer()) return;
  TemporaryFolder folder;
  const int port = freeTcpPort();
  lab::SshServer server({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port), ""});
  SshOptions options = plain(folder.path);
  auto answers = std::make_shared<Answers>();
  SECTION("a key that is not allowed") {
    lab::makeSshKey(folder.path / "other");
    options.keyFiles = {folder.path / "other"};
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::SignInFailed);
  }
  SECTION("a wrong passphrase") {
    lab::makeSshKey(folder.path / "locked", "ed25519", "right");
    allowKey(server, folder.path / "locked.pub");
    answers->byWord["Passphrase"] = "wrong";
    options.keyFiles = {folder.path / "locked"};
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::SignInFailed);
    CHECK(answers->prompts.size() == 2);
  }
  SECTION("nobody trusts the host") {
    answers->trusts = false;
    options.keyFiles = {server.clientKey()};
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::NotTrusted);
  }
  SECTION("no key file at all") {
    options.keyFiles = {folder.path / "nothing"};
    const Outcome out = signInAndRun(options, answers, port);
    CHECK(out.failed == ErrorKind::Local);
    CHECK(out.said.find("cannot be read") != std::string::npos);
  }
}

TEST_CASE("SSH: agent and certificate", "[ssh]") {
  if (!haveServer()) return;
  TemporaryFolder folder;
  const int port = freeTcpPort();
  const fs::path authority = folder.path / "authority";
  lab::makeSshKey(authority);
  lab::SshServer server({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port),
                         "TrustedUserCAKeys " + authority.string() + ".pub"});
  auto answers = std::make_shared<Answers>();
  SshOptions options = plain(folder.path);
  SECTION("certificate") {
    const fs::path key = folder.path / "signed";
    lab::makeSshKey(key);
    REQUIRE(run("ssh-keygen -s " + authority.string() + " -I duty -n " + lab::SshServer::user() + " " +
                key.string() + ".pub") == 0);
    options.keyFiles = {key};
    const Outcome out = signInAndRun(options, answers, port);
    INFO(out.said);
    CHECK(out.with == "a key file");
  }
  SECTION("agent") {
    const std::string socket = folder.path / "agent";
    REQUIRE(run("ssh-agent -a " + socket + " > " + (folder.path / "agent.env").string()) == 0);
    setenv("SSH_AUTH_SOCK", socket.c_str(), 1);
    REQUIRE(run("ssh-add " + server.clientKey().string()) == 0);
    options.useAgent = true;
    const Outcome out = signInAndRun(options, answers, port);
    unsetenv("SSH_AUTH_SOCK");
    run("pkill -f 'ssh-agent -a " + socket + "'");
    INFO(out.said);
    CHECK(out.with == "a key of the agent");
  }
}

namespace {

/// An account with a password, for the length of a test. Needs root; tests run in a container or as root on
/// CI.
class Account {
 public:
  explicit Account(const std::string& password) {
    made_ = run("useradd -M -d /tmp -s /bin/sh kettle-duty") == 0 &&
            run("echo 'kettle-duty:" + password + "' | chpasswd") == 0;
  }
  ~Account() { run("userdel -f kettle-duty"); }
  Account(const Account&) = delete;
  Account& operator=(const Account&) = delete;
  [[nodiscard]] bool made() const { return made_; }

 private:
  bool made_ = false;
};

}  // namespace

TEST_CASE("SSH: password, and questions by keyboard-interactive", "[ssh]") {
  if (!haveServer()) return;
  if (getuid() != 0) {
    std::cout << "SKIPPED: SSH: password needs root, to make an account" << std::endl;
    return;
  }
  Account account("alder-vale-7");
  REQUIRE(account.made());
  TemporaryFolder folder;
  const bool challenge = GENERATE(false, true);
  const int port = freeTcpPort();
  lab::SshServer server({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port),
                         challenge ? "UsePAM yes\nKbdInteractiveAuthentication yes\nPasswordAuthentication no"
                                   : "PasswordAuthentication yes"});
  SshOptions options = plain(folder.path);
  options.user = "kettle-duty";
  auto answers = std::make_shared<Answers>();
  SECTION("typed") {
    answers->byWord["assword"] = "alder-vale-7";
    const Outcome out = signInAndRun(options, answers, port);
    INFO(out.said);
    CHECK(out.with == (challenge ? "answers to its questions" : "a password"));
    CHECK(answers->prompts.size() == 1);
  }
  SECTION("kept") {
    options.password = "alder-vale-7";
    CHECK(signInAndRun(options, answers, port).said.find("seed") != std::string::npos);
    CHECK(answers->prompts.empty());
  }
  SECTION("wrong") {
    options.password = "nonsense";
    answers->byWord["assword"] = "nonsense, too";
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::SignInFailed);
  }
}

namespace {

/// A PAM service of its own that wants the account's password, then a one-time code (RFC 4226). Needs root.
class CodeService {
 public:
  explicit CodeService(const fs::path& folder) : program_(folder / kName) {
    fs::create_symlink("/usr/sbin/sshd", program_);
    const std::string users = folder / "users.oath";
    // The secret of RFC 4226's appendix D.
    std::ofstream(users) << "HOTP kettle-duty - 3132333435363738393031323334353637383930\n";
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
  [[nodiscard]] fs::path program() const { return program_; }

 private:
  static constexpr const char* kName = "kettle-test-codes";
  static fs::path service() { return fs::path("/etc/pam.d") / kName; }
  fs::path program_;
};

}  // namespace

TEST_CASE("SSH: a password and then a one-time code", "[ssh][codes]") {
  if (!haveServer()) return;
  if (getuid() != 0) {
    std::cout << "SKIPPED: SSH: one-time codes need root, to make a PAM service" << std::endl;
    return;
  }
  Account account("alder-vale-7");
  REQUIRE(account.made());
  TemporaryFolder folder;
  CodeService service(folder.path);
  const int port = freeTcpPort();
  lab::SshServer server({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port),
                         "UsePAM yes\nKbdInteractiveAuthentication yes\nPasswordAuthentication no",
                         service.program()});
  SshOptions options = plain(folder.path);
  options.user = "kettle-duty";
  auto answers = std::make_shared<Answers>();
  answers->byWord["assword:"] = "alder-vale-7";
  const std::string codeWord = "One-time";
  SECTION("the right code; the same one is not taken twice, the next one is") {
    answers->byWord[codeWord] = "755224";
    const Outcome first = signInAndRun(options, answers, port);
    INFO(first.said);
    CHECK(first.with == "answers to its questions");
    REQUIRE(answers->prompts.size() == 2);
    CHECK(answers->prompts[1].find(codeWord) != std::string::npos);
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::SignInFailed);
    answers->byWord[codeWord] = "287082";
    CHECK(signInAndRun(options, answers, port).with == "answers to its questions");
  }
  SECTION("a kept password is not given as the code") {
    options.password = "alder-vale-7";
    answers->byWord.erase("assword:");
    answers->byWord[codeWord] = "755224";
    const Outcome out = signInAndRun(options, answers, port);
    INFO(out.said);
    CHECK(out.with == "answers to its questions");
    CHECK(answers->prompts.size() == 1);
  }
  SECTION("a wrong code") {
    answers->byWord[codeWord] = "000000";
    CHECK(signInAndRun(options, answers, port).failed == ErrorKind::SignInFailed);
  }
}

namespace {

/// Records of two jump hosts, one behind the other.
struct TwoJumps {
  TwoJumps() {
    for (int i = 0; i < 2; ++i) {
      const int port = freeTcpPort();
      ports.push_back(port);
      servers.push_back(std::make_unique<lab::SshServer>(lab::SshServerPlan{
          folder.path / ("jump" + std::to_string(i)), "127.0.0.1", static_cast<std::uint16_t>(port), ""}));
    }
    store = openSqliteStore(folder.path / "records.sqlite");
    tools.store = store;
    tools.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
    store->commit("jumps", [&](StoreWriter& w) {
      for (int i = 0; i < 2; ++i) {
        Machine m;
        m.name = i == 0 ? "gatehouse" : "fernery";
        w.put(m);
        Endpoint e;
        e.machine = m.id;
        e.label = "shell";
        e.address = "ssh://" + lab::SshServer::user() +
                    "@127.0.0.1:" + std::to_string(ports[static_cast<std::size_t>(i)]);
        w.put(e);
        const Owner owner{OwnerKind::Machine, m.id};
        w.set(owner, "ssh.keys", servers[static_cast<std::size_t>(i)]->clientKey().string());
        w.set(owner, "ssh.knownhosts", (folder.path / "known_hosts").string());
        w.set(owner, "ssh.agent", "off");
        if (i == 1) w.set(owner, "route.via", "gatehouse");
      }
    });
  }
  TemporaryFolder folder;
  std::vector<int> ports;
  std::vector<std::unique_ptr<lab::SshServer>> servers;
  std::shared_ptr<Store> store;
  Runtime runtime{2};
  OpeningTools tools;
};

SettingReader reading(std::map<std::string, std::string> own) {
  return [own, usual = builtInSettings()](const std::string& key) {
    const auto at = own.find(key);
    return at == own.end() ? usual(key) : at->second;
  };
}

Answer yes(bool remember) {
  Answer a;
  a.accepted = true;
  a.remember = remember;
  return a;
}

}  // namespace

TEST_CASE("two jumps: a shell through them, keys asked for once and then kept", "[ssh]") {
  if (!haveServer()) return;
  TwoJumps jumps;
  const Snapshot records = jumps.store->load();
  const Machine* fernery = records.machineNamed("fernery");
  const Endpoint* shell = records.endpointsOf(fernery->id).front();
  const Owner owner{OwnerKind::WayIn, shell->id};
  for (int time = 0; time < 2; ++time) {
    OpeningTools tools = jumps.tools;
    tools.ssh = std::make_shared<SshPool>([&] { return jumps.runtime.strand(); });
    TextWatch watch(makeSession(jumps.runtime.strand(), parseAddress(shell->address), "fernery",
                                settingsOf(records, owner), tools, owner),
                    yes(true));
    REQUIRE(watch.live(std::chrono::seconds(20)));
    CHECK(watch.questions().size() == (time == 0 ? 2U : 0U));
    watch.console().resizeText(31, 97);
    watch.send("stty size; echo valve-$((20+3))\r");
    CHECK(watch.shows("valve-23"));
    CHECK(watch.shows("31 97"));
    REQUIRE(watch.route().hops.size() == 1);
    CHECK(watch.route().hops[0].reached);
    CHECK(watch.route().sealed);
  }
  // What was trusted is in the known_hosts file as well.
  std::ifstream known(jumps.folder.path / "known_hosts");
  const std::string text((std::istreambuf_iterator<char>(known)), {});
  for (const int port : jumps.ports)
    CHECK(text.find("[127.0.0.1]:" + std::to_string(port)) != std::string::npos);
}

TEST_CASE("a changed host key stops everything and shows both", "[ssh]") {
  if (!haveServer()) return;
  TwoJumps jumps;
  jumps.store->pin("ssh 127.0.0.1:" + std::to_string(jumps.ports[0]), "SHA256:another");
  const Address address =
      parseAddress("ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(jumps.ports[0]));
  TextWatch watch(makeSession(jumps.runtime.strand(), address, "gatehouse",
                              reading({{"ssh.keys", jumps.servers[0]->clientKey().string()},
                                       {"ssh.agent", "off"},
                                       {"ssh.knownhosts", (jumps.folder.path / "known").string()}}),
                              jumps.tools, {}));
  CHECK_FALSE(watch.live(std::chrono::seconds(20)));
  CHECK(watch.status().problem == ErrorKind::NotTrusted);
  REQUIRE(watch.questions().size() == 1);
  CHECK(watch.questions()[0].pinned == "SHA256:another");
  CHECK(watch.questions()[0].certificate.sha256 == jumps.servers[0]->hostKeySha256());
}

TEST_CASE("VNC to QEMU through two jumps shows what QEMU shows", "[ssh]") {
  if (!haveServer() || !have("/usr/bin/qemu-system-x86_64")) return;
  TwoJumps jumps;
  Qemu qemu({"-m", "64"}, "", true);
  REQUIRE(eventually([&] { return qemu.screendump().size().width >= 640; }, std::chrono::seconds(30)));
  qemu.stop();
  Address address = parseAddress(qemu.address());
  const auto trusts = std::make_shared<int>(0);
  VncConfig config = vncConfig(address, "mist-bench", reading({{"screen.quality", "lossless"}}));
  const std::vector<SshHop> hops = hopsTo(address, reading({{"route.via", "fernery"}}), jumps.tools);
  REQUIRE(hops.size() == 2);
  OpeningTools tools = jumps.tools;
  config.connect = [hops, address, tools](Asker& asker, RouteFacts& facts, ConnectFindings* f) {
    return connectThrough(hops, address, std::chrono::seconds(10), tools, asker, facts, f);
  };
  Viewer viewer(config);
  viewer.answer = yes(true);
  REQUIRE(viewer.live());
  CHECK(viewer.shows(qemu.screendump()));
  CHECK(viewer.route().hops.size() == 2);
}

TEST_CASE("a tunnel to a port where nobody listens says so; a lost jump is seen", "[ssh]") {
  if (!haveServer()) return;
  TwoJumps jumps;
  const Address nowhere = parseAddress("tcp://127.0.0.1:" + std::to_string(freeTcpPort()));
  const SettingReader setting = reading({{"route.via", "gatehouse"}, {"reconnect.again", "off"}});
  TextWatch watch(makeSession(jumps.runtime.strand(), nowhere, "mist-bench", setting, jumps.tools, {}),
                  yes(true));
  CHECK_FALSE(watch.live());
  CHECK(watch.status().problem == ErrorKind::Refused);
  CHECK(watch.status().sentence.find("cannot reach it") != std::string::npos);

  const Address shell =
      parseAddress("ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(jumps.ports[0]));
  TextWatch second(makeSession(jumps.runtime.strand(), shell, "gatehouse",
                               reading({{"ssh.keys", jumps.servers[0]->clientKey().string()},
                                        {"ssh.agent", "off"},
                                        {"reconnect.again", "off"},
                                        {"ssh.knownhosts", (jumps.folder.path / "k").string()}}),
                               jumps.tools, {}),
                   yes(false));
  REQUIRE(second.live());
  // The server's process for this session dies without a word; the shell's parent is it.
  second.send("kill -9 $PPID\r");
  CHECK(eventually([&] { return second.status().stage == SessionStage::Ended; }, std::chrono::seconds(20)));
  CHECK(second.status().problem == ErrorKind::ClosedByPeer);
}

TEST_CASE("a read over a tunnel may be given up at any moment", "[ssh]") {
  if (!haveServer()) return;
  TwoJumps jumps;
  Runtime quiet(1);
  auto listener = listenTcp(quiet.strand(), "127.0.0.1", 0);  // takes visitors and says nothing
  const Executor strand = jumps.runtime.strand();
  int givenUp = 0;
  runToEnd([&]() -> Task<void> {
    SshOptions options = plain(jumps.folder.path);
    options.user = lab::SshServer::user(), options.host = "127.0.0.1", options.port = jumps.ports[0];
    options.keyFiles = {jumps.servers[0]->clientKey()};
    StreamPtr below =
        co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(jumps.ports[0]), std::chrono::seconds(5));
    auto connection =
        co_await SshConnection::open(strand, std::move(below), options, std::make_shared<Answers>());
    for (int i = 0; i < 60; ++i) {
      StreamPtr tunnel = co_await connection->forward("127.0.0.1", listener->port());
      const auto read = [](ByteStream& s) -> Task<void> {
        Bytes in(100);
        co_await s.readSome(in);
      };
      auto reading = read(*tunnel);
      auto pause = systemClock()->sleep(std::chrono::microseconds(i * 50));
      co_await firstOf(std::move(reading), std::move(pause));
      ++givenUp;
    }
  });
  CHECK(givenUp == 60);
}

namespace {

/// A server with its folder, and files over it.
class SftpBench {
 public:
  /// One thread is the hardest case: nobody else sees what it read by the way.
  explicit SftpBench(unsigned threads = 2)
      : server_({folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port_), ""}),
        runtime_(threads) {}
  /// On a connection of its own; two strands, as the window has them.
  void with(const std::function<Task<void>(Sftp&, SshConnection&)>& work) {
    const Executor strand = runtime_.strand(), other = runtime_.strand();
    runToEnd([&]() -> Task<void> {
      SshOptions options = plain(folder.path);
      options.user = lab::SshServer::user(), options.host = "127.0.0.1", options.port = port_;
      options.keyFiles = {server_.clientKey()};
      StreamPtr below =
          co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(port_), std::chrono::seconds(5));
      auto connection =
          co_await SshConnection::open(strand, std::move(below), options, std::make_shared<Answers>());
      StreamPtr stream = co_await connection->subsystem("sftp");
      auto sftp = co_await Sftp::open(other, std::move(stream));
      co_await work(*sftp, *connection);
      sftp->close();
    });
  }
  TemporaryFolder folder;

 private:
  int port_ = freeTcpPort();
  lab::SshServer server_;
  Runtime runtime_;
};

/// Keeps every processor busy, so that threads are parted from their work at any point.
class BusyMachine {
 public:
  BusyMachine() {
    for (unsigned i = 0; i < 2 * std::thread::hardware_concurrency(); ++i)
      threads_.emplace_back([this] {
        while (!over_) {
        }
      });
  }
  ~BusyMachine() {
    over_ = true;
    for (std::thread& t : threads_) t.join();
  }
  BusyMachine(const BusyMachine&) = delete;
  BusyMachine& operator=(const BusyMachine&) = delete;

 private:
  std::atomic<bool> over_ = false;
  std::vector<std::thread> threads_;
};

}  // namespace

// One thing after the other: any other traffic on the connection would bring a lost answer to light by the
// way.
TEST_CASE("no answer is lost on a busy machine", "[ssh][sftp]") {
  if (!haveServer()) return;
  SftpBench bench(1);
  constexpr int kRounds = 25;
  int rounds = 0;
  const BusyMachine busy;
  bench.with([&](Sftp& sftp, SshConnection& connection) -> Task<void> {
    const auto all = [&]() -> Task<void> {
      for (; rounds < kRounds; ++rounds) {
        for (int i = 0; i < 10; ++i) co_await sftp.stat("/");
        co_await sftp.list("/");
        StreamPtr out = co_await connection.exec("echo");
        Bytes in(16);
        co_await out->readSome(in);
      }
    };
    auto task = all();
    co_await within(std::chrono::seconds(60), "answers", std::move(task));
  });
  CHECK(rounds == kRounds);
}

TEST_CASE("SFTP: listing, rights, renaming, removing; errors name the file", "[ssh][sftp]") {
  if (!haveServer()) return;
  SftpBench bench;
  const std::string there = bench.folder.path / "there";
  bench.with([&](Sftp& sftp, SshConnection&) -> Task<void> {
    co_await sftp.makeFolder(there);
    std::ofstream(there + "/Größe.txt") << "12345";
    auto files = co_await sftp.list(there);
    REQUIRE(files.size() == 1);
    CHECK(files[0].name == "Größe.txt");
    CHECK(files[0].size == 5);
    co_await sftp.setPermissions(there + "/Größe.txt", 0640);
    files = co_await sftp.list(there);
    CHECK(files[0].rights() == "-rw-r-----");
    co_await sftp.rename(there + "/Größe.txt", there + "/b");
    const auto missing = co_await sftp.stat(there + "/Größe.txt");
    CHECK_FALSE(missing);
    std::string what;
    try {
      co_await sftp.list(there + "/nothing");
    } catch (const Error& e) {
      what = e.what();
    }
    CHECK(what.find("no such file") != std::string::npos);
    CHECK(what.find("nothing") != std::string::npos);
    co_await sftp.remove(there + "/b");
    co_await sftp.removeFolder(there);
    CHECK_FALSE(fs::exists(there));
  });
}

TEST_CASE("1 GiB goes both ways intact; a copy that was broken off is resumed", "[ssh][sftp][slow]") {
  if (!haveServer()) return;
  SftpBench bench;
  const fs::path original = bench.folder.path / "original", sent = bench.folder.path / "sent",
                 back = bench.folder.path / "back";
  constexpr std::uint64_t kSize = 1ULL << 30;
  {
    std::ofstream out(original, std::ios::binary);
    Bytes block(1 << 20);
    unsigned seed = 9;
    for (std::uint64_t at = 0; at < kSize; at += block.size()) {
      for (std::size_t i = 0; i < block.size(); i += 64)
        block[i] = static_cast<Byte>((seed = seed * 1103515245 + 12345) >> 16);
      out.write(reinterpret_cast<const char*>(block.data()), static_cast<std::streamsize>(block.size()));
    }
  }
  const auto cancel = std::make_shared<std::atomic<bool>>(false);
  const auto with = [&](const std::function<Task<void>(Sftp&)>& work) {
    bench.with([&](Sftp& sftp, SshConnection&) { return work(sftp); });
  };
  const OnCopy stopHalfway = [&](const CopyProgress& p) {
    if (p.done > kSize / 3) *cancel = true;
  };
  const auto broken = [&](const std::function<Task<void>(Sftp&)>& work) {
    *cancel = false;
    CHECK_THROWS_AS(with(work), Error);
  };
  broken([&](Sftp& s) -> Task<void> { co_await s.upload(original, sent, 0, stopHalfway, cancel); });
  const std::uint64_t partly = fs::file_size(sent);
  CHECK(partly > kSize / 4);
  CHECK(partly < kSize);
  with([&](Sftp& s) -> Task<void> { co_await s.upload(original, sent, partly, nullptr, nullptr); });
  CHECK(fs::file_size(sent) == kSize);
  broken([&](Sftp& s) -> Task<void> { co_await s.download(sent, back, 0, stopHalfway, cancel); });
  const std::uint64_t here = fs::file_size(back);
  CHECK(here > kSize / 4);
  CHECK(here < kSize);
  with([&](Sftp& s) -> Task<void> { co_await s.download(sent, back, here, nullptr, nullptr); });
  const std::string wanted = sha256OfFile(original);
  CHECK(sha256OfFile(sent) == wanted);
  CHECK(sha256OfFile(back) == wanted);
}

TEST_CASE("SSH client configuration: patterns, first value counts, includes, tokens", "[ssh-config]") {
  TemporaryFolder folder;
  std::ofstream(folder.path / "more") << "Host fernery\n  User seed-desk\n";
  setenv("HOME", folder.path.c_str(), 1);
  const SshConfig config = SshConfig::parse(
      "# the garden\nHost gatehouse\n  HostName 192.0.2.1\n  Port 2213\n  IdentityFile ~/.ssh/%h-%r\nInclude "
      "more\n"
      "Host fernery orchard !kiosk\n  ProxyJump gatehouse\n  User=duty\nHost *\n  User nobody\n  "
      "IdentityFile \"~/with space\"\nMatch user x\n Port 9\n",
      folder.path);
  CHECK(config.hosts() == std::vector<std::string>{"gatehouse", "fernery", "orchard"});
  const SshHostConfig gate = config.lookup("gatehouse");
  CHECK(gate.hostName == "192.0.2.1");
  CHECK(gate.port == 2213);
  CHECK(gate.user == "nobody");
  REQUIRE(gate.identityFiles.size() == 2);
  CHECK(gate.identityFiles[0] == folder.path.string() + "/.ssh/192.0.2.1-nobody");
  CHECK(gate.identityFiles[1] == folder.path.string() + "/with space");
  CHECK(config.lookup("fernery").user == "seed-desk");
  CHECK(config.lookup("orchard").user == "duty");
  CHECK(config.lookup("orchard").proxyJump == "gatehouse");
  CHECK(config.lookup("elsewhere").hostName == "elsewhere");
  CHECK_THROWS_WITH(SshConfig::parse("Host a\nPort many\n", folder.path), Catch::Contains("line 2"));
  std::ofstream(folder.path / "loop") << "Include loop\n";
  CHECK_THROWS_WITH(SshConfig::load(folder.path / "loop"), Catch::Contains("without end"));
}

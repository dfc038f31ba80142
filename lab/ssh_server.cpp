#include "lab/ssh_server.hpp"

#include <fcntl.h>
#include <pwd.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <fstream>
#include <sstream>
#include <thread>
#include <vector>

#include "base/error.hpp"
#include "base/runtime.hpp"
#include "wire/stream.hpp"

extern char** environ;

namespace kw::lab {

namespace {

namespace fs = std::filesystem;

pid_t startProcess(std::vector<std::string> words, const fs::path& output) {
  std::vector<char*> argv;
  for (std::string& w : words) argv.push_back(w.data());
  argv.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&actions, 1, output.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
  posix_spawn_file_actions_adddup2(&actions, 1, 2);
  pid_t process = -1;
  const int failed = posix_spawnp(&process, argv[0], &actions, nullptr, argv.data(), environ);
  posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) throw Error(ErrorKind::Local, "cannot start " + words[0]);
  return process;
}

std::string textOfFile(const fs::path& file) {
  std::ifstream in(file);
  std::ostringstream out;
  out << in.rdbuf();
  return out.str();
}

bool answers(const std::string& address, std::uint16_t port) {
  bool yes = false;
  try {
    runToEnd([&]() -> Task<void> {
      StreamPtr stream = co_await connectTcp(address, port, std::chrono::seconds(1));
      Bytes in(4);
      const std::size_t n = co_await stream->readSome(in);
      yes = n > 0;
    });
  } catch (const Error&) {
    return false;
  }
  return yes;
}

}  // namespace

bool SshServer::available() { return fs::exists(SshServerPlan().program); }

std::string SshServer::user() {
  const passwd* p = getpwuid(getuid());
  return p != nullptr ? p->pw_name : "root";
}

void makeSshKey(const fs::path& file, const std::string& type, const std::string& passphrase) {
  if (fs::exists(file)) return;
  const fs::path log = file.string() + ".log";
  const pid_t process =
      startProcess({"ssh-keygen", "-q", "-t", type, "-N", passphrase, "-C", "lab", "-f", file}, log);
  int status = 0;
  waitpid(process, &status, 0);
  if (status != 0) throw Error(ErrorKind::Local, "ssh-keygen failed: " + textOfFile(log));
  fs::remove(log);
}

SshServer::SshServer(SshServerPlan plan) : plan_(std::move(plan)) {
  std::error_code ignored;
  fs::create_directories(plan_.folder, ignored);
  fs::permissions(plan_.folder, fs::perms::owner_all, ignored);
  if (getuid() == 0) fs::create_directories("/run/sshd", ignored);  // where it parts its privileges
  makeSshKey(plan_.folder / "host");
  makeSshKey(clientKey());
  if (!fs::exists(authorizedKeys())) {
    std::ofstream(authorizedKeys()) << textOfFile(clientKey().string() + ".pub");
    fs::permissions(authorizedKeys(), fs::perms::owner_read | fs::perms::owner_write, ignored);
  }
  std::ofstream config(plan_.folder / "config");
  // The first value counts, so what is added goes before.
  config << plan_.extra << "\nListenAddress " << plan_.address << "\nPort " << plan_.port << "\nHostKey "
         << (plan_.folder / "host").string() << "\nPidFile none\nAuthorizedKeysFile "
         << authorizedKeys().string()
         << "\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication "
            "no\nPermitRootLogin yes\n"
            "PrintMotd no\nAllowTcpForwarding yes\nMaxStartups 100\nMaxSessions 100\nSubsystem sftp "
            "internal-sftp\n";
  config.close();
  process_ = startProcess({plan_.program, "-D", "-e", "-f", plan_.folder / "config"}, plan_.folder / "log");
  for (int i = 0; i < 200; ++i) {
    if (answers(plan_.address, plan_.port)) return;
    if (waitpid(process_, nullptr, WNOHANG) != 0) break;
    std::this_thread::sleep_for(std::chrono::milliseconds(25));
  }
  stop();
  throw Error(ErrorKind::Local, "the SSH server did not start: " + textOfFile(plan_.folder / "log"));
}

SshServer::~SshServer() { stop(); }

void SshServer::stop() {
  if (process_ <= 0) return;
  kill(process_, SIGTERM);
  waitpid(process_, nullptr, 0);
  process_ = -1;
}

std::string SshServer::hostKeySha256() const {
  const fs::path out = plan_.folder / "fingerprint";
  const pid_t process = startProcess({"ssh-keygen", "-l", "-f", plan_.folder / "host.pub"}, out);
  waitpid(process, nullptr, 0);
  std::istringstream words(textOfFile(out));
  std::string bits, hash;
  words >> bits >> hash;
  return hash;
}

}  // namespace kw::lab

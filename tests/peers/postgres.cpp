#include "tests/peers/postgres.hpp"

#include <pwd.h>
#include <signal.h>

#include <cstdlib>

#include "tests/peers/peer.hpp"

namespace kw::test {

namespace {

std::filesystem::path programs() {
  std::filesystem::path best;
  std::error_code ignored;
  for (const auto& entry : std::filesystem::directory_iterator("/usr/lib/postgresql", ignored))
    if (std::filesystem::exists(entry.path() / "bin/postgres")) best = std::max(best, entry.path() / "bin");
  return best;
}

/// The server refuses to run as root; looked up before the fork.
passwd itsUser;
void becomeItsUser() {
  if (geteuid() == 0 && (setgid(itsUser.pw_gid) != 0 || setuid(itsUser.pw_uid) != 0)) _exit(126);
}
pid_t launchAsItsUser(const std::vector<std::string>& words, const std::filesystem::path& log) {
  if (const passwd* user = getpwnam("postgres"); user != nullptr) itsUser = *user;
  return launch(words, log, becomeItsUser);
}

}  // namespace

bool Postgres::available() {
  if (!programs().empty()) return true;
  return have("/usr/lib/postgresql/15/bin/postgres");
}

Postgres::Postgres() : port_(freeTcpPort()) {
  if (geteuid() == 0)
    if (const passwd* user = getpwnam("postgres");
        user == nullptr || chown(folder_.path.c_str(), user->pw_uid, user->pw_gid) != 0)
      throw std::runtime_error("no user postgres");
  const auto data = (folder_.path / "data").string();
  if (ended(launchAsItsUser({programs() / "initdb", "-D", data, "-A", "trust", "-U", "duty", "-N", "-E",
                             "UTF8", "--locale=C.UTF-8"},
                            folder_.path / "log")) != 0)
    throw std::runtime_error("initdb does not work");
  start();
}

Postgres::~Postgres() { stop(); }

void Postgres::start() {
  process_ = launchAsItsUser({programs() / "postgres", "-D", (folder_.path / "data").string(), "-k",
                              folder_.path.string(), "-h", "127.0.0.1", "-p", std::to_string(port_), "-F"},
                             folder_.path / "log");
  const std::string ready =
      (programs() / "pg_isready").string() + " -q -h 127.0.0.1 -p " + std::to_string(port_);
  if (!eventually([&] { return std::system(ready.c_str()) == 0; }, std::chrono::seconds(20)))
    throw std::runtime_error("PostgreSQL does not come up");
}

void Postgres::stop() {
  if (process_ < 0) return;
  kill(process_, SIGQUIT);
  ended(process_);
  process_ = -1;
}

std::string Postgres::uri(const std::string& user) const {
  return "postgresql://" + user + "@127.0.0.1:" + std::to_string(port_) + "/postgres";
}

void Postgres::freeze() {
  const std::string process = std::to_string(process_);
  if (std::system(("pkill -STOP -P " + process + "; kill -STOP " + process).c_str()) != 0)
    throw std::runtime_error("the server cannot be stopped");
}

void Postgres::thaw() {
  const std::string process = std::to_string(process_);
  if (std::system(("kill -CONT " + process + "; pkill -CONT -P " + process).c_str()) != 0)
    throw std::runtime_error("the server cannot be woken");
}

void Postgres::run(const std::string& sql) const {
  const std::string command = (programs() / "psql").string() + " -q -h 127.0.0.1 -p " +
                              std::to_string(port_) + " -U duty postgres -c \"" + sql + "\" >/dev/null 2>&1";
  if (std::system(command.c_str()) != 0) throw std::runtime_error("psql does not take: " + sql);
}

}  // namespace kw::test

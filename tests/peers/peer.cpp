#include "tests/peers/peer.hpp"

#include <fcntl.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <iostream>

#include "tests/support.hpp"

namespace kw::test {

bool have(const std::string& file) {
  if (std::filesystem::exists(file)) return true;
  std::cout << "SKIPPED: " << Catch::getResultCapture().getCurrentTestName() << ": " << file
            << " is not installed" << std::endl;
  return false;
}

int freeTcpPort() {
  Runtime runtime(1);
  return listenTcp(runtime.strand(), "127.0.0.1", 0)->port();
}

pid_t launch(const std::vector<std::string>& words, const std::filesystem::path& log, void (*first)()) {
  // Before the fork: another thread may hold the allocator's lock at that moment.
  std::vector<char*> argv;
  for (const std::string& w : words) argv.push_back(const_cast<char*>(w.c_str()));
  argv.push_back(nullptr);
  const std::string file = log.string();
  const pid_t process = fork();
  if (process != 0) return process;
  prctl(PR_SET_PDEATHSIG, SIGQUIT);
  const int out = open(file.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0666);
  dup2(out, 1);
  dup2(out, 2);
  closefrom(3);
  if (first != nullptr) first();
  if (chdir("/") != 0) _exit(125);
  execv(argv[0], argv.data());
  _exit(127);
}

int ended(pid_t process) {
  int status = 0;
  waitpid(process, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

}  // namespace kw::test

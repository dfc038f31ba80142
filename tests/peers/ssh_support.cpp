#include "tests/peers/ssh_support.hpp"

#include <unistd.h>

#include <fstream>
#include <iostream>

namespace kw::test {

bool haveSshServer() { return have("/usr/sbin/sshd") && have("/usr/bin/ssh-keygen"); }

bool mayMakeAccounts() {
  if (getuid() == 0) return true;
  std::cout << "SKIPPED: only root may make accounts" << std::endl;
  return false;
}

bool runs(const std::string& command) { return std::system((command + " >/dev/null 2>&1").c_str()) == 0; }

Task<bool> Answers::trust(HostKey key) {
  keys.push_back(key);
  co_return trusts;
}

Task<std::optional<Secret>> Answers::answer(SshPrompt prompt) {
  prompts.push_back(prompt.text);
  for (const auto& [word, text] : byWord)
    if (prompt.text.find(word) != std::string::npos && !prompt.again) co_return text;
  co_return std::nullopt;
}

SshOptions plainSsh(const std::filesystem::path& folder) {
  SshOptions o;
  o.useAgent = false;
  o.knownHostsFile = folder / "known_hosts";
  o.user = lab::SshServer::user();
  return o;
}

SshBench::SshBench(const std::string& configuration, const std::filesystem::path& program)
    : server_(
          {folder.path / "server", "127.0.0.1", static_cast<std::uint16_t>(port_), configuration, program}) {}

std::string SshBench::address() const {
  return "ssh://" + lab::SshServer::user() + "@127.0.0.1:" + std::to_string(port_);
}

SshOptions SshBench::options() const {
  SshOptions o = plainSsh(folder.path);
  o.keyFiles = {server_.clientKey()};
  return o;
}

Task<std::shared_ptr<SshConnection>> SshBench::connect(Executor strand, SshOptions options,
                                                       std::shared_ptr<Answers> answers) const {
  options.host = "127.0.0.1", options.port = port_;
  StreamPtr below =
      co_await connectTcp("127.0.0.1", static_cast<std::uint16_t>(port_), std::chrono::seconds(5));
  co_return co_await SshConnection::open(strand, std::move(below), options, answers);
}

Task<std::shared_ptr<SshConnection>> SshBench::connect(Executor strand) const {
  return connect(std::move(strand), options(), std::make_shared<Answers>());
}

void SshBench::allowKey(const std::filesystem::path& publicKey) const {
  std::ofstream(server_.authorizedKeys(), std::ios::app) << std::ifstream(publicKey).rdbuf();
}

}  // namespace kw::test

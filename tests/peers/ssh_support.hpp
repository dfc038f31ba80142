// What the tests against OpenSSH's server share.
#pragma once
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "lab/ssh_server.hpp"
#include "ssh/connection.hpp"
#include "tests/peers/qemu.hpp"

namespace kw::test {

/// False, and the test counts as skipped, when Debian's server is not here.
bool haveSshServer();
/// False, and the test counts as skipped, when we may not change this machine's accounts.
bool mayMakeAccounts();
/// True when the shell command ended well; what it says is dropped.
bool runs(const std::string& command);

/// What a connection asks, answered from fields.
struct Answers : SshEvents {
  bool trusts = true;
  std::map<std::string, std::string> byWord;  ///< a word of the prompt and the answer to it
  std::vector<HostKey> keys;
  std::vector<std::string> prompts;
  Task<bool> trust(HostKey key) override;
  Task<std::optional<Secret>> answer(SshPrompt prompt) override;
};

/// No agent, no keys, and known hosts in this folder.
SshOptions plainSsh(const std::filesystem::path& folder);

/// A server on a free port of loopback, and connections to it.
class SshBench {
 public:
  /// `configuration`: more lines for the server's. `program`: a link to it under another name, for PAM.
  explicit SshBench(const std::string& configuration = "",
                    const std::filesystem::path& program = lab::SshServerPlan{}.program);
  [[nodiscard]] const lab::SshServer& server() const { return server_; }
  [[nodiscard]] int port() const { return port_; }
  /// As the account that the server runs under.
  [[nodiscard]] std::string address() const;
  /// Those of a visitor with the right key.
  [[nodiscard]] SshOptions options() const;
  [[nodiscard]] Task<std::shared_ptr<SshConnection>> connect(Executor strand, SshOptions options,
                                                             std::shared_ptr<Answers> answers) const;
  [[nodiscard]] Task<std::shared_ptr<SshConnection>> connect(Executor strand) const;
  void allowKey(const std::filesystem::path& publicKey) const;
  TemporaryFolder folder;

 private:
  int port_ = freeTcpPort();
  lab::SshServer server_;
};

}  // namespace kw::test

// The lab's jump host: OpenSSH's server with made-up keys, on a loopback port, for the account the lab runs
// under.
#pragma once
#include <sys/types.h>

#include <filesystem>
#include <string>

namespace kw::lab {

struct SshServerPlan {
  std::filesystem::path folder;  ///< for keys and configuration; made private
  std::string address = "127.0.0.1";
  std::uint16_t port = 0;  ///< must be given
  std::string extra;       ///< more lines for its configuration
  /// OpenSSH's server or a link to it; its name is the PAM service that it asks.
  std::filesystem::path program = "/usr/sbin/sshd";
};

class SshServer {
 public:
  /// Makes a host key, a client key and a configuration, and starts sshd. Throws Error{Local} when it does
  /// not start.
  explicit SshServer(SshServerPlan plan);
  ~SshServer();
  SshServer(const SshServer&) = delete;
  SshServer& operator=(const SshServer&) = delete;
  /// True when OpenSSH's server is installed.
  static bool available();

  [[nodiscard]] std::filesystem::path clientKey() const { return plan_.folder / "client"; }
  [[nodiscard]] std::filesystem::path authorizedKeys() const { return plan_.folder / "authorized_keys"; }
  /// "SHA256:…" of the host key.
  [[nodiscard]] std::string hostKeySha256() const;
  [[nodiscard]] static std::string user();
  void stop();

 private:
  SshServerPlan plan_;
  pid_t process_ = -1;
};

/// Makes a key pair unless the file is there. `type` as ssh-keygen -t names it.
void makeSshKey(const std::filesystem::path& file, const std::string& type = "ed25519",
                const std::string& passphrase = "");

}  // namespace kw::lab

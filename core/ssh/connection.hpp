// One SSH connection (RFC 4251 to 4254, through libssh): signs in, then opens shells, commands, tunnels and
// subsystems as plain streams. Each connection works on a strand of its own; its streams may be used from
// any.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "base/secret.hpp"
#include "wire/stream.hpp"

namespace kw {

/// The server's key, as it must be decided upon.
struct HostKey {
  std::string type;                                              ///< "ssh-ed25519"
  std::string sha256;                                            ///< "SHA256:…", as ssh-keygen -l prints it
  enum class Known { No, Yes, Changed } knownHosts = Known::No;  ///< what the known_hosts files say
};

struct SshPrompt {
  enum class Kind { Password, Passphrase, Challenge } kind = Kind::Password;
  std::string text;    ///< one sentence
  bool hidden = true;  ///< what is typed must not be seen
  bool again = false;  ///< the last answer was wrong
};

/// Whether a server's prompt wants the code of a second factor: "One-time password (OATH) for …".
bool asksForCode(const std::string& prompt);

/// What a connection asks while it is made; called on the connection's strand.
class SshEvents {
 public:
  virtual ~SshEvents() = default;
  virtual Task<bool> trust(HostKey key) = 0;
  /// Empty: no answer; this way of signing in is given up.
  virtual Task<std::optional<Secret>> answer(SshPrompt prompt) = 0;
  virtual void doing(const std::string& /*what*/) {}
};

struct SshOptions {
  std::string user, host;  ///< host as in known_hosts
  int port = 22;
  bool useAgent = true;
  std::vector<std::string> keyFiles;  ///< tried in order; a certificate beside one (-cert.pub) is used
  std::vector<Secret> keyTexts;       ///< private keys themselves, before the files
  std::string certificateFile;        ///< for the first key, when it lies elsewhere
  std::optional<Secret> password;     ///< kept; tried once before anybody is asked
  std::string knownHostsFile;         ///< read, and written when asked to; empty: ~/.ssh/known_hosts
  std::chrono::nanoseconds limit = std::chrono::seconds(20);  ///< for the key exchange
  std::chrono::seconds keepAlive{30};                         ///< 0: none
};

class SshConnection : public std::enable_shared_from_this<SshConnection> {
 public:
  /// Signs in over `below`. `strand` must be the connection's alone. Throws Error {NotTrusted},
  /// {SignInFailed}, {TimedOut}, {ProtocolBroken}, {ClosedByPeer}.
  static Task<std::shared_ptr<SshConnection>> open(Executor strand, StreamPtr below, SshOptions options,
                                                   std::shared_ptr<SshEvents> events);
  ~SshConnection();
  SshConnection(const SshConnection&) = delete;
  SshConnection& operator=(const SshConnection&) = delete;

  /// RFC 4254 7.2; throws Error{Refused} with the server's reason.
  Task<StreamPtr> forward(std::string host, int port);
  struct Shell {
    StreamPtr stream;
    std::function<Task<void>(int columns, int rows)> resize;
  };
  Task<Shell> shell(std::string terminalType, int columns, int rows);
  /// Output and error output of the command come as one.
  Task<StreamPtr> exec(std::string command);
  Task<StreamPtr> subsystem(std::string name);

  /// Writes the server's key into the known_hosts file.
  Task<void> remember();
  [[nodiscard]] bool alive() const;
  /// "publickey", "password" …
  [[nodiscard]] std::string signedInWith() const;
  [[nodiscard]] const HostKey& hostKey() const;
  /// "chacha20-poly1305@openssh.com, curve25519-sha256"
  [[nodiscard]] std::string ciphers() const;

  struct State;

 private:
  explicit SshConnection(std::shared_ptr<State> state) : state_(std::move(state)) {}
  std::shared_ptr<State> state_;
};

}  // namespace kw

// The SSH client configuration (ssh_config(5)), as far as it says how hosts are reached: Host patterns,
// HostName, Port, User, IdentityFile, CertificateFile, ProxyJump, Include. Read when asked, never written.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

namespace kw {

struct SshHostConfig {
  std::string hostName, user, proxyJump, certificateFile;
  int port = 0;  ///< 0: not said
  std::vector<std::string> identityFiles;
};

class SshConfig {
 public:
  /// Missing files are empty. Throws Error{Local} naming file and line when something cannot be read.
  static SshConfig load(const std::filesystem::path& file);
  static SshConfig parse(const std::string& text, const std::filesystem::path& folder);
  /// ~/.ssh/config
  static std::filesystem::path usualFile();

  /// The first value found counts, as the manual says; ~ and %h, %p, %r, %% are put in.
  [[nodiscard]] SshHostConfig lookup(const std::string& host) const;
  /// Names without wildcards, in the order of the file: what can be made into records.
  [[nodiscard]] std::vector<std::string> hosts() const;

 private:
  struct Line {
    std::vector<std::string> patterns;  ///< of the Host block it stands in; empty: before any
    std::string key, value;
  };
  void read(const std::string& text, const std::filesystem::path& folder, const std::string& name, int depth,
            std::vector<std::string> patterns);
  std::vector<Line> lines_;
  std::vector<std::string> hosts_;
};

/// ssh_config(5) PATTERNS: * and ?, and ! for not.
bool matchesPatterns(const std::string& host, const std::vector<std::string>& patterns);

}  // namespace kw

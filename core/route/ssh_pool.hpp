// SSH connections that several ways in share: each jump and each host is signed in to once.
#pragma once
#include <map>
#include <memory>
#include <mutex>

#include "route/hop.hpp"
#include "session/session.hpp"
#include "ssh/connection.hpp"

namespace kw {

class SshPool : public std::enable_shared_from_this<SshPool> {
 public:
  /// Makes the strands of new connections.
  explicit SshPool(std::function<Executor()> newStrand) : newStrand_(std::move(newStrand)) {}

  /// The connection to the last of `hops` through all others, an open one if there is one. Where somebody
  /// else is just opening it, his outcome is awaited first, so that nothing is asked twice. What must be
  /// asked is asked of `asker`, on the caller's strand; what was found is written into `facts.hops`.
  Task<std::shared_ptr<SshConnection>> connect(std::vector<SshHop> hops, std::shared_ptr<TrustStore> trust,
                                               Asker& asker, RouteFacts& facts, ConnectFindings* findings);

 private:
  struct Opening;
  [[nodiscard]] std::shared_ptr<SshConnection> find(const std::string& key);
  /// Null: the caller opens it now, and says so by end().
  [[nodiscard]] std::shared_ptr<Opening> openingElsewhere(const std::string& key);
  void end(const std::string& key);
  void keep(const std::string& key, const std::shared_ptr<SshConnection>& connection);
  std::function<Executor()> newStrand_;
  std::mutex lock_;
  std::map<std::string, std::weak_ptr<SshConnection>> open_;
  std::map<std::string, std::shared_ptr<Opening>> opening_;
};

/// A stream that keeps something alive as long as itself.
StreamPtr keeping(StreamPtr stream, std::shared_ptr<void> what);

}  // namespace kw

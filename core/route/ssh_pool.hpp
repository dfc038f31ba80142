// SSH connections that several ways in share: each jump and each host is signed in to once.
#pragma once
#include <map>
#include <mutex>

#include "route/hop.hpp"
#include "session/session.hpp"
#include "ssh/connection.hpp"

namespace kw {

class SshPool {
 public:
  /// Makes the strands of new connections.
  explicit SshPool(std::function<Executor()> newStrand) : newStrand_(std::move(newStrand)) {}

  /// The connection to the last of `hops` through all others, an open one if there is one. What must be asked
  /// is asked of `asker`, on the caller's strand; what was found is written into `facts.hops`.
  Task<std::shared_ptr<SshConnection>> connect(std::vector<SshHop> hops, std::shared_ptr<TrustStore> trust,
                                               Asker& asker, RouteFacts& facts, ConnectFindings* findings);

 private:
  [[nodiscard]] std::shared_ptr<SshConnection> find(const std::string& key);
  std::function<Executor()> newStrand_;
  std::mutex lock_;
  std::map<std::string, std::weak_ptr<SshConnection>> open_;
};

/// A stream that keeps something alive as long as itself.
StreamPtr keeping(StreamPtr stream, std::shared_ptr<void> what);

}  // namespace kw

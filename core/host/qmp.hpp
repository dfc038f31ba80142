// QEMU's machine protocol (QMP specification 1.0): one connection to one machine's monitor.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>

#include "base/runtime.hpp"
#include "host/stock.hpp"
#include "wire/stream.hpp"

namespace kw::host {

class QmpMonitor {
 public:
  QmpMonitor(const Executor& strand, StreamPtr stream);

  /// Reads the greeting and leaves the negotiation (section 2.2, 2.3), then answers and events until the
  /// stream ends: always ends with an Error. `ready` is called when commands may be given.
  Task<void> run(std::function<void()> ready, std::function<void(const std::string& event)> happened);
  /// The command's "return". Throws Error{Local} with QEMU's sentence when it refuses, {ClosedByPeer} when
  /// the monitor goes.
  Task<nlohmann::json> call(std::string command, nlohmann::json arguments = nlohmann::json::object());
  void close();
  /// "7.2.0"
  [[nodiscard]] const std::string& version() const { return version_; }

 private:
  struct Pending;
  void take(const nlohmann::json& message, const std::function<void(const std::string&)>& happened);
  void failAll();

  Executor strand_;
  StreamPtr stream_;
  std::map<int, std::shared_ptr<Pending>> pending_;
  std::string version_;
  int next_ = 1;
  bool over_ = false;
};

/// Everything about the machine, asked anew. Throws as call() does.
Task<StockMachine> readMachine(QmpMonitor& monitor, std::string fallbackName);
/// The guest agent's port, as QEMU knows it.
struct AgentPort {
  std::string socket;    ///< the path at which it is reached; empty: none, or not by a socket
  bool answers = false;  ///< an agent in the guest has opened it
};
Task<AgentPort> agentPort(QmpMonitor& monitor);
/// Serial ports out of query-chardev's answer.
std::vector<SerialFacts> serialsFrom(const nlohmann::json& chardevs);

}  // namespace kw::host

// Switching machines from browsers: the hosts that run them are watched while somebody may switch something
// there.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>
#include <string>

#include "host/host.hpp"
#include "route/opening.hpp"

namespace kw::gate {

/// On the gateway's strand, but for end().
class PowerDesk {
 public:
  /// `changed` is called on the gateway's strand.
  PowerDesk(Runtime& runtime, Executor strand, OpeningTools tools, std::function<void()> changed);
  /// {"state": "running", "acts": ["shutdown", …]}, with "why" instead of acts when its host cannot be asked
  /// now; null when no host is known for it. Begins to watch the host.
  nlohmann::json of(const Snapshot& records, Id machine);
  /// `done` gets what went wrong, on the gateway's strand; empty: the host took the order.
  void order(const Snapshot& records, Id machine, const std::string& act,
             std::function<void(std::string)> done);
  /// From any thread, once nothing else is called any more.
  void end();

 private:
  std::shared_ptr<host::Host> hostOf(const Snapshot& records, Id machine);

  Runtime& runtime_;
  Executor strand_;
  OpeningTools tools_;
  std::function<void()> changed_;
  /// By address: one that was changed is another host. Null for an address that makes no sense.
  std::map<std::pair<Id, std::string>, std::shared_ptr<host::Host>> hosts_;
};

}  // namespace kw::gate

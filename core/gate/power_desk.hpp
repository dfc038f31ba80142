// Switching machines from browsers: the hosts that run them are watched while somebody may switch something
// there.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "host/host.hpp"
#include "route/opening.hpp"

namespace kw::gate {

/// On the gateway's strand.
class PowerDesk {
 public:
  PowerDesk(Runtime& runtime, Executor strand, OpeningTools tools);
  /// Called on the gateway's strand, also after this has gone. Set before anything is watched.
  void whenChanged(std::function<void()> changed) { changed_ = std::move(changed); }
  /// {"state": "running", "acts": ["shutdown", …]}, with "why" instead of acts when its host cannot be asked
  /// now; null when no host is known for it. Begins to watch the host, unless that would run a command that
  /// nobody agreed to on this desk (record/agreed.hpp).
  nlohmann::json of(const Snapshot& records, Id machine);
  /// `done` gets what went wrong, on the gateway's strand; empty: the host took the order.
  void order(const Snapshot& records, Id machine, const std::string& act,
             std::function<void(std::string)> done);
  /// The hosts, for somebody elsewhere to end; none is watched any more.
  std::vector<std::shared_ptr<host::Host>> release();

 private:
  std::shared_ptr<host::Host> hostOf(const Snapshot& records, Id machine);

  Runtime& runtime_;
  Executor strand_;
  OpeningTools tools_;
  std::function<void()> changed_;
  bool released_ = false;
  /// By address: one that was changed is another host. Null for an address that makes no sense.
  std::map<std::pair<Id, std::string>, std::shared_ptr<host::Host>> hosts_;
};

}  // namespace kw::gate

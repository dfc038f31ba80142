// A gateway with two machines' names for one console, and whatever a browser can do to it over its own
// socket.
#pragma once
#include "gate/gate.hpp"
#include "lab/host.hpp"
#include "tests/gate_caller.hpp"
#include "tests/hosted.hpp"

namespace kw::test {

using namespace kw::gate;

inline Pass passFor(Id way, Seconds lasts, int most = 0, bool look = true) {
  Pass p;
  p.wayIn = way, p.machine = "mist-bench", p.label = "screen", p.look = look, p.most = most,
  p.note = "night volunteer", p.madeBy = "duty";
  p.from = nowSeconds();
  p.until = p.from + lasts;
  return p;
}

inline std::string contentPolicyOf(const std::string& answer) {
  const std::string name = "Content-Security-Policy: ";
  const auto at = answer.find(name);
  return at == std::string::npos ? ""
                                 : answer.substr(at + name.size(), answer.find('\r', at) - at - name.size());
}

struct GateBench : GateCaller {
  using Policy = std::map<std::string, std::string>;
  /// `policy` is set on mist-bench.
  explicit GateBench(const std::string& password = "", GateLimits limits = {}, GateOptions options = {},
                     const Policy& policy = {}) {
    lab::ConsolePlan plan;
    plan.options.password = password;
    plan.guest.name = "mist-bench";
    plan.options.name = "mist-bench";
    console =
        std::make_unique<lab::Console>(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), plan);
    console->start(true);
    tools.store = openSqliteStore(folder.path / "records.sqlite");
    tools.vault = openVault(folder.path / "vault");
    tools.store->commit("fill", [&](StoreWriter& w) {
      for (const char* name : {"mist-bench", "seed-bank"}) {
        Machine m;
        m.name = name;
        w.put(m);
        Endpoint e;
        e.machine = m.id, e.label = "screen",
        e.address = "vnc://127.0.0.1:" + std::to_string(console->port());
        w.put(e);
        (std::string(name) == "mist-bench" ? way : otherWay) = e.id;
        if (e.id == way)
          for (const auto& [key, value] : policy) w.set({OwnerKind::Machine, m.id}, key, value);
      }
    });
    options.port = 0;
    options.state = folder.path / "gate";
    options.limits = limits;
    gate = std::make_unique<Gate>(runtime, options, tools);
    gate->store().addAccount("duty", "duty-at-the-gate", Role::Keeper);
    gate->store().addAccount("seed desk", "seed-desk-looks", Role::Look);
    gate->start();
    port = gate->port();
  }
  ~GateBench() {
    gate.reset();
    console->stop();
    runtime.stop();
  }

  TemporaryFolder folder;
  Runtime runtime{2};
  std::unique_ptr<lab::Console> console;
  OpeningTools tools;
  Id way = 0, otherWay = 0;
  std::unique_ptr<Gate> gate;
};

}  // namespace kw::test

// A host watched from a test's thread.
#pragma once
#include "host/host.hpp"
#include "tests/support.hpp"

namespace kw::test {

struct Watching {
  explicit Watching(const std::string& address) {
    HostRecord record;
    record.name = "fernery";
    record.address = address;
    host = std::make_shared<host::Host>(record, host::AdapterTools{runtime.strand(), systemClock(), {}, {}});
    host->start();
  }
  ~Watching() { host->end(); }
  bool live() {
    return eventually([&] { return host->view().stage == host::HostStage::Live; }, std::chrono::seconds(20));
  }
  std::optional<host::StockMachine> machine(const std::string& name) {
    const auto stock = host->view().stock;
    for (const auto& [id, m] : *stock)
      if (m.name == name) return m;
    return std::nullopt;
  }
  /// Within two seconds, as it is promised.
  bool soon(const std::string& name, host::Running state,
            std::chrono::milliseconds limit = std::chrono::seconds(2)) {
    return eventually([&] { return machine(name) && machine(name)->state == state; }, limit);
  }
  std::string power(const std::string& name, host::PowerAct act) {
    return order([&](host::Host::Done d) { host->power(machine(name)->id, act, std::move(d)); });
  }
  std::string change(const std::string& name, const host::ConsoleChange& what) {
    return order([&](host::Host::Done d) { host->change(machine(name)->id, what, std::move(d)); });
  }
  static std::string order(const std::function<void(host::Host::Done)>& give) {
    std::promise<std::string> done;
    give([&](std::exception_ptr e) { done.set_value(e ? messageOf(e) : ""); });
    return done.get_future().get();
  }
  Runtime runtime{2};
  std::shared_ptr<host::Host> host;
};

}  // namespace kw::test

// A host of the lab with one machine, known to records, asked by its own command.
#pragma once
#include "lab/host_api.hpp"
#include "lab/scenario.hpp"
#include "record/agreed.hpp"
#include "tests/support.hpp"

namespace kw::test {

/// The machine of this name is put on "orchard", which may be watched: its command is agreed to in a
/// configuration folder of the test's own.
class Hosted {
 public:
  Hosted(Store& store, const std::filesystem::path& folder, const std::string& name, lab::Console& console)
      : store_(store) {
    if (const char* before = getenv("XDG_CONFIG_HOME")) configBefore_ = before;
    setenv("XDG_CONFIG_HOME", (folder / "config").c_str(), 1);
    lab::HostedMachine hosted;
    hosted.host = "orchard", hosted.name = name, hosted.id = lab::idForName(name), hosted.console = &console;
    const std::string socket = (folder / "hosts.sock").string();
    api_ = std::make_unique<lab::HostApi>(runtime_.strand(), socket, std::vector{hosted});
    command = std::string(KW_BUILD) + "/lab/kettle-lab host --socket " + socket + " orchard";
    Machine m = *store.load().machineNamed(name);
    machine = m.id;
    store.commit("host", [&](StoreWriter& w) {
      HostRecord h;
      h.name = "orchard", h.address = "command:" + command;
      w.put(h);
      m.host = "orchard";
      w.put(m);
      w.set({OwnerKind::Machine, m.id}, "host.id", hosted.id);
    });
  }
  ~Hosted() {
    api_.reset();
    runtime_.stop();
    if (configBefore_)
      setenv("XDG_CONFIG_HOME", configBefore_->c_str(), 1);
    else
      unsetenv("XDG_CONFIG_HOME");
  }
  Hosted(const Hosted&) = delete;
  Hosted& operator=(const Hosted&) = delete;
  /// The policy: whether browsers may switch it.
  void allow(bool on) {
    store_.commit("policy", [&](StoreWriter& w) {
      w.set({OwnerKind::Machine, machine}, "gate.power", on ? "on" : "off");
    });
  }
  Id machine = 0;
  std::string command;

 private:
  Store& store_;
  std::optional<std::string> configBefore_;
  Runtime runtime_{1};
  std::unique_ptr<lab::HostApi> api_;
};

}  // namespace kw::test

// A host as the verbs of the command line ask it.
#pragma once
#include <future>

#include "base/file.hpp"
#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "host/console.hpp"
#include "host/starting.hpp"

namespace kw::cli {

using namespace kw::host;  // NOLINT: the verbs of hosts speak of nothing else

inline constexpr auto kHostLimit = std::chrono::seconds(20);

inline const HostRecord& hostOrThrow(const Snapshot& s, const std::string& name) {
  const HostRecord* h = s.hostNamed(name);
  if (h == nullptr)
    throw Error(ErrorKind::Local, "no host has this name", name).withCure("kettle hosts list shows them.");
  return *h;
}

/// A host that is connected for as long as this object lives.
class Asked {
 public:
  Asked(const HostRecord& record, const OpeningTools& tools, std::chrono::nanoseconds limit = kHostLimit)
      : host_(std::make_shared<Host>(record, toolsFor(record, tools))) {
    host_->start();
    runToEnd([&] {
      return awaitView(
          host_,
          [](const HostView& v) { return v.stage == HostStage::Live || v.stage == HostStage::Waiting; },
          limit, record.name);
    });
    const HostView view = host_->view();
    if (view.stage != HostStage::Live)
      throw Error(view.problem.value_or(ErrorKind::Unreachable), view.sentence, record.name)
          .withCure(view.cure);
  }
  ~Asked() { host_->end(); }

  std::shared_ptr<Host> host() { return host_; }
  [[nodiscard]] std::shared_ptr<const Stock> stock() const { return host_->view().stock; }
  [[nodiscard]] HostPlace place() const { return {host_->record().name, {}}; }
  Executor strand() { return runtime_.strand(); }

  void power(const std::string& id, PowerAct act) {
    wait([&](Host::Done done) { host_->power(id, act, std::move(done)); });
  }
  void change(const std::string& id, const ConsoleChange& what) {
    wait([&](Host::Done done) { host_->change(id, what, std::move(done)); });
  }
  std::string firstPassword(const std::string& id) {
    const auto sealed = std::make_shared<std::string>();
    wait([&](Host::Done done) { host_->firstPassword(id, sealed, std::move(done)); });
    return *sealed;
  }
  void until(std::chrono::nanoseconds limit, const std::string& what,
             const std::function<bool(const HostView&)>& holds) {
    runToEnd([&] { return awaitView(host_, holds, limit, what); });
  }

 private:
  AdapterTools toolsFor(const HostRecord& record, const OpeningTools& tools) {
    AdapterTools out{runtime_.strand(), systemClock(), {}, {}};
    if (const auto kept = keptSignIn(tools, {OwnerKind::Host, record.id})) {
      out.user = kept->user;
      out.password = kept->password;
    }
    return out;
  }
  static void wait(const std::function<void(Host::Done)>& give) {
    std::promise<void> done;
    give([&](std::exception_ptr failure) { failure ? done.set_exception(failure) : done.set_value(); });
    done.get_future().get();
  }

  Runtime runtime_{1};
  std::shared_ptr<Host> host_;
};

inline OpeningTools localTools() {
  OpeningTools tools;
  tools.store = openUsualStore();
  tools.vault = openVault(configFolder());
  return tools;
}

/// A machine of the store with its host and what it is called there.
struct OnHost {
  Snapshot records;
  Id machine = 0;
  HostRecord host;
  std::string id;
};

inline OnHost onHost(const OpeningTools& tools, const std::string& name) {
  OnHost out;
  out.records = tools.store->load();
  const Machine* m = out.records.machineNamed(name);
  if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", name);
  out.machine = m->id;
  out.id = idOnHost(out.records, m->id);
  const HostRecord* host = out.records.hostNamed(m->host);
  if (host == nullptr || out.id.empty())
    throw Error(ErrorKind::Unsupported, "this machine is not linked to a host", name)
        .withCure("Adopt it: kettle hosts adopt HOST " + name + ", or set host.id.");
  out.host = *host;
  return out;
}

inline StockMachine machineOf(const Asked& asked, const OnHost& at) {
  const auto stock = asked.stock();
  const auto found = stock->find(at.id);
  if (found == stock->end())
    throw Error(ErrorKind::Local, at.host.name + " has no machine with this ID any more", at.id);
  return found->second;
}

inline std::string consoleText(const StockMachine& m) {
  std::string out;
  for (const ConsoleFacts& c : m.consoles) {
    out += (out.empty() ? "" : "; ") + c.scheme + " ";
    out += c.port != 0         ? c.listen + (c.listen.empty() ? "" : ":") + std::to_string(c.port)
           : c.automatic       ? "gets a port when started"
           : !c.socket.empty() ? c.socket
                               : "without a port";
    if (c.password) out += " password";
  }
  return out;
}

}  // namespace kw::cli

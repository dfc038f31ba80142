#include "host/why_inside.hpp"

#include <algorithm>

#include "base/result_within.hpp"
#include "host/adopt.hpp"
#include "record/catalogue.hpp"
#include "route/text_opening.hpp"

namespace kw::host {

namespace {

using Findings = std::vector<Finding>;
constexpr std::size_t kMostTables = 1 << 20;

std::string portText(int port) { return "port " + std::to_string(port); }

/// The machine's way in that can run commands; null without one.
const Endpoint* commandWay(const Snapshot& records, Id machine) {
  for (const Endpoint* e : records.endpointsOf(machine)) {
    try {
      const Address a = parseAddress(e->address);
      const WayKind* kind = findWayKind(a.scheme);
      if (kind != nullptr && kind->carriesFiles && !a.host.empty()) return e;
    } catch (const Error&) {
      // Told of where it is edited.
    }
  }
  return nullptr;
}

/// A machine's name as a jump stands for its SSH way in, with all that is kept for it; empty without one.
std::string jumpInto(const Snapshot& records, const Endpoint* command) {
  if (command == nullptr) return {};
  const auto machine = records.machines.find(command->machine);
  return machine == records.machines.end() ? std::string() : machine->second.name;
}

/// True while the address is one of the guest's own.
bool isGuests(const StockMachine& m, const std::string& host) {
  return std::find(m.addresses.begin(), m.addresses.end(), host) != m.addresses.end();
}

Task<std::string> tablesByAgent(const std::shared_ptr<Host>& host, const std::string& id,
                                std::chrono::nanoseconds limit) {
  std::string out;
  for (const char* path : kListenTables)
    out += co_await resultWithin(limit, path, readInGuest(host, id, path));
  co_return out;
}

Task<std::string> readAll(ByteStream& stream) {
  std::string out;
  try {
    for (Byte part[8192]; out.size() < kMostTables;) {
      const std::size_t n = co_await stream.readSome(part);
      out.append(reinterpret_cast<const char*>(part), n);
    }
  } catch (const Error& e) {
    if (e.kind() != ErrorKind::ClosedByPeer) throw;
  }
  co_return out;
}

Task<std::string> tablesByCommand(const Snapshot& records, const Endpoint& command, const WhyTools& tools) {
  const Address address = parseAddress(command.address);
  const Owner owner{OwnerKind::WayIn, command.id};
  const SettingReader setting = settingsOf(records, owner);
  const OpeningTools& opening = tools.inside->tools;
  std::vector<SshHop> hops = hopsTo(address, setting, opening);
  hops.push_back(sshHop(address, setting, opening, owner));
  RouteFacts facts;
  std::shared_ptr<TrustStore> trust = trustIn(opening.store);
  const auto connection =
      co_await opening.ssh->connect(std::move(hops), trust, *tools.inside->asker, facts, nullptr);
  const std::string ask = std::string("cat ") + kListenTables[0] + " " + kListenTables[1];
  const StreamPtr stream = co_await connection->exec(ask);
  co_return co_await resultWithin(tools.limit, "what it prints", readAll(*stream));
}

Task<void> byCommand(const Snapshot& records, const Endpoint& command, const Address& address,
                     const WhyTools& tools, Findings& out) {
  std::string problem;
  try {
    const auto listeners = listenersFrom(co_await tablesByCommand(records, command, tools));
    if (!listeners.empty())
      co_return judgeListeners(listeners, address, "inside", jumpInto(records, &command), out);
    problem = "it has no tables as Linux has them";
  } catch (const Error& e) {
    problem = e.detail();
  }
  out.push_back({"inside-unknown",
                 Weight::Remark,
                 "it could not be looked at from inside through \"" + command.label + "\": " + problem,
                 "Open that way in once, so that key and account are known; then look again.",
                 {}});
}

/// The machine as its host knows it, with the addresses that its agent tells a moment later; nothing without
/// an agent.
Task<std::optional<StockMachine>> withAddresses(const WhyTools& tools, const std::string& id) {
  const auto now = [host = tools.host, id] {
    const HostView view = host->view();
    const auto found = view.stock->find(id);
    return view.stage == HostStage::Live && found != view.stock->end() && found->second.agent
               ? std::optional(found->second)
               : std::nullopt;
  };
  const std::function<bool(const HostView&)> told = [&now](const HostView&) {
    return !now() || !now()->addresses.empty();
  };
  try {
    co_await awaitView(tools.host, told, tools.limit, "the guest's agent");
  } catch (const Error&) {
    // It says none; then the address is none of its.
  }
  co_return now();
}

/// True when the agent told something.
Task<bool> byAgent(const Snapshot& records, const Endpoint& way, const Address& address,
                   const WhyTools& tools, Findings& out) {
  if (!tools.host) co_return false;
  const std::string id = idOnHost(records, way.machine);
  const auto machine = co_await withAddresses(tools, id);
  if (!machine || !isGuests(*machine, address.host)) co_return false;
  try {
    const auto listeners = listenersFrom(co_await tablesByAgent(tools.host, id, tools.limit));
    if (listeners.empty()) co_return false;
    judgeListeners(listeners, address, "its agent says: inside",
                   jumpInto(records, commandWay(records, way.machine)), out);
    co_return true;
  } catch (const Error& e) {
    out.push_back({"inside-unknown",
                   Weight::Remark,
                   "its agent does not tell what listens inside: " + e.detail(),
                   {},
                   {}});
    co_return false;
  }
}

/// As it is reached from inside: an IPv4 address in IPv6's clothes is itself.
std::string loopbackOf(const OpenPort& open) {
  constexpr std::string_view mapped = "::ffff:";
  return open.address.starts_with(mapped) ? open.address.substr(mapped.size()) : open.address;
}

}  // namespace

void judgeListeners(const std::vector<OpenPort>& listeners, const Address& address, const std::string& by,
                    const std::string& jump, Findings& out) {
  std::vector<const OpenPort*> here;
  for (const OpenPort& l : listeners)
    if (l.port == address.port) here.push_back(&l);
  const WayKind* kind = findWayKind(address.scheme);
  if (here.empty()) {
    const int usual = kind == nullptr ? 0 : kind->port;
    const bool elsewhere = usual != 0 && usual != address.port &&
                           std::any_of(listeners.begin(), listeners.end(),
                                       [usual](const OpenPort& l) { return l.port == usual; });
    if (elsewhere)
      out.push_back({"inside-other-port", Weight::Trouble,
                     by + ", nothing listens on " + portText(address.port) + ", but something does on " +
                         portText(usual) + ", the usual one",
                     "Write " + portText(usual) + ".", "port:" + std::to_string(usual)});
    else
      out.push_back({"inside-nothing",
                     Weight::Trouble,
                     by + ", nothing listens on " + portText(address.port) +
                         ": the service is not there, or "
                         "not started",
                     "Install and start it in the machine; then look again.",
                     {}});
    return;
  }
  const bool onlyInside =
      std::all_of(here.begin(), here.end(), [](const OpenPort* l) { return l->onlyInside(); });
  if (onlyInside)
    out.push_back({"inside-loopback", Weight::Trouble,
                   by + ", " + portText(address.port) + " listens on " + here.front()->address +
                       " only: nobody reaches it from outside the machine",
                   jump.empty()
                       ? "Let the service listen on the machine's own address."
                       : "Go through a tunnel into the machine, or let the service listen on its own "
                         "address.",
                   jump.empty() ? std::string() : tunnelChange(loopbackOf(*here.front()), jump)});
  else
    out.push_back({"inside-listens",
                   Weight::Trouble,
                   by + ", " + portText(address.port) + " listens on " + here.front()->address +
                       ": the service is ready, and something between here and there turns this desk away",
                   "Let the port through in the machine's own firewall and on the way to it.",
                   {}});
}

Task<void> lookInside(const Snapshot& records, const Endpoint& way, Address address, const WhyTools& tools,
                      Findings& out) {
  if (co_await byAgent(records, way, address, tools, out)) co_return;
  const Endpoint* command = commandWay(records, way.machine);
  if (command == nullptr || command->id == way.id || parseAddress(command->address).host != address.host)
    co_return;
  if (tools.inside) co_return co_await byCommand(records, *command, address, tools, out);
  out.push_back({"inside-possible", Weight::Remark,
                 "what listens inside the machine can be asked through its way in \"" + command->label + "\"",
                 "Look inside.", "inside"});
}

}  // namespace kw::host

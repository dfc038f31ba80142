#include "host/console.hpp"

#include <set>

#include "record/catalogue.hpp"

namespace kw::host {

namespace {
const Endpoint* firstScreen(const Snapshot& records, Id machine) {
  for (const Endpoint* e : records.endpointsOf(machine))
    if (isOfForm(e->scheme(), Form::Screen)) return e;
  return nullptr;
}
}  // namespace

std::optional<OfferedWay> firstConsole(const StockMachine& machine, const HostPlace& place) {
  for (const OfferedWay& way : offeredWays(machine, place))
    if (isOfForm(parseAddress(way.address).scheme, Form::Screen)) return way;
  return std::nullopt;
}

std::optional<Address> addressNow(const Snapshot& records, const Endpoint& way, const StockMachine& machine,
                                  const HostPlace& place) {
  Address mine = parseAddress(way.address);
  const WayKind* kind = findWayKind(mine.scheme);
  bool automatic = false, sameHost = false;
  for (const ConsoleFacts& c : machine.consoles) {
    const WayKind* theirs = findWayKind(c.scheme);
    if (kind == nullptr || theirs == nullptr || std::string(kind->family) != theirs->family) continue;
    automatic = c.automatic;
    sameHost = c.listen.empty() || c.listen == mine.host || c.listen == "0.0.0.0" || c.listen == "::" ||
               mine.host == place.reachedAt;
    if (automatic && sameHost && c.port == 0) return std::nullopt;
  }
  if (!automatic || !sameHost) return mine;
  for (const StockRow& row : stockRows(records, place, {{machine.id, machine}}))
    for (const Drift& d : row.drift)
      if (d.kind == DriftKind::Port && d.wayIn == way.id) return parseAddress(d.way.address);
  return mine;
}

std::optional<ConsoleChange> passwordAgain(const Snapshot& records, const OpeningTools& tools, Id machine) {
  for (const Endpoint* e : records.endpointsOf(machine)) {
    const Owner owner{OwnerKind::WayIn, e->id};
    if (!isOfForm(e->scheme(), Form::Screen) || records.resolve(owner, "host.setagain").value != "on")
      continue;
    if (const auto kept = keptSignIn(tools, owner)) {
      ConsoleChange change;
      change.scheme = findWayKind(e->scheme())->family;
      change.password = kept->password;
      return change;
    }
  }
  return std::nullopt;
}

void setConsolePassword(const OpeningTools& tools, const Snapshot& records, Id machine,
                        const std::string& password) {
  const Endpoint* screen = firstScreen(records, machine);
  if (screen == nullptr)
    throw Error(ErrorKind::Local, "the machine has no screen to keep the password with")
        .withCure("Adopt its console first.");
  const Owner owner{OwnerKind::WayIn, screen->id};
  tools.store->commit("set the console's password",
                      [&](StoreWriter& w) { w.set(owner, "host.setagain", "on"); });
  keepSignIn(tools, owner, {"", password});
}

std::string serialPathFor(const StockMachine& machine) {
  std::set<std::string> taken;
  for (const SerialFacts& s : machine.serials) taken.insert(s.address);
  for (int i = 0;; ++i) {
    const std::string path = "/var/lib/libvirt/" + machine.name + ".serial" + std::to_string(i);
    if (!taken.contains("unix:" + path)) return path;
  }
}

int freePortFor(const Stock& stock, const Snapshot& records, const std::string& hostAddress, int from) {
  std::set<int> taken;
  for (const auto& [id, m] : stock)
    for (const ConsoleFacts& c : m.consoles) taken.insert(c.port), taken.insert(c.tlsPort);
  for (const auto& [id, e] : records.endpoints) {
    try {
      const Address a = parseAddress(e.address);
      if (a.host == hostAddress) taken.insert(a.port);
    } catch (const Error&) {
      continue;  // a broken address is shown as such on its sheet
    }
  }
  int port = from;
  while (port < 65535 && taken.contains(port)) ++port;
  return port;
}

}  // namespace kw::host

#include "host/adopt.hpp"

#include <algorithm>
#include <set>

#include "record/address.hpp"
#include "record/catalogue.hpp"

namespace kw::host {

namespace {

bool isLoopback(const std::string& host) {
  return host.starts_with("127.") || host == "::1" || host == "localhost";
}
bool isEverywhere(const std::string& host) { return host.empty() || host == "0.0.0.0" || host == "::"; }

std::optional<OfferedWay> wayOf(const ConsoleFacts& c, const std::string& id, const HostPlace& place) {
  OfferedWay way;
  Address address;
  address.scheme = c.scheme;
  if (!c.socket.empty()) {
    address.scheme += "+unix";
    address.path = c.socket;
  } else {
    address.host =
        isEverywhere(c.listen) ? (place.reachedAt.empty() ? "127.0.0.1" : place.reachedAt) : c.listen;
    address.port = c.port;
    if (c.port == 0 && c.tlsPort != 0) {
      address.scheme += "+tls";
      address.port = c.tlsPort;
    } else if (c.tlsPort != 0) {
      address.options["tls-port"] = std::to_string(c.tlsPort);
    }
    if (address.port == 0) return std::nullopt;
    if (c.byId) address.options["machine"] = id;
    if (!place.reachedAt.empty() && isLoopback(address.host)) way.via = "ssh://" + place.reachedAt;
  }
  const WayKind* kind = findWayKind(address.scheme);
  if (kind == nullptr) return std::nullopt;
  way.label = kind->wayName;
  way.address = address.uri();
  return way;
}

/// Sockets and devices are on the host; they can be opened only when that is this desk.
std::optional<OfferedWay> wayOf(const SerialFacts& s, const HostPlace& place) {
  if (s.address.empty()) return std::nullopt;
  try {
    const Address address = parseAddress(s.address);
    const WayKind* kind = findWayKind(address.scheme);
    if (kind == nullptr || (kind->hasPath && !place.reachedAt.empty())) return std::nullopt;
    return OfferedWay{kind->wayName, address.uri(), {}};
  } catch (const Error&) {
    return std::nullopt;
  }
}

bool parsed(const std::string& text, Address& out) {
  try {
    out = parseAddress(text);
    return true;
  } catch (const Error&) {
    return false;
  }
}

/// Whether both are the same kind of way on the same host, so that a different port or path is a change.
bool sameKind(const Address& a, const Address& b) {
  const WayKind *ka = findWayKind(a.scheme), *kb = findWayKind(b.scheme);
  if (ka == nullptr || kb == nullptr || std::string(ka->family) != kb->family || ka->form != kb->form)
    return false;
  return ka->hasPath || kb->hasPath ? ka->hasPath == kb->hasPath : a.host == b.host;
}

bool samePlace(const Address& a, const Address& b) {
  return a.host == b.host && a.port == b.port && a.path == b.path;
}

std::string whereOf(const Address& a) { return a.path.empty() ? std::to_string(a.port) : a.path; }

/// Ways of the record that its host does not offer as they are, and offered ones that the record lacks.
void compareWays(const Snapshot& records, Id record, const StockMachine& machine, const HostPlace& place,
                 std::vector<Drift>& out) {
  struct Open {
    OfferedWay way;
    Address at;
    bool matched = false;
  };
  std::vector<Open> offered;
  for (const OfferedWay& w : offeredWays(machine, place)) {
    Open o{w, {}, false};
    if (parsed(w.address, o.at)) offered.push_back(std::move(o));
  }
  std::vector<std::pair<const Endpoint*, Address>> unmatched;
  for (const Endpoint* e : records.endpointsOf(record)) {
    Address mine;
    if (!parsed(e->address, mine)) continue;
    const auto found = std::find_if(offered.begin(), offered.end(), [&](const Open& o) {
      return !o.matched && sameKind(mine, o.at) && samePlace(mine, o.at);
    });
    if (found != offered.end())
      found->matched = true;
    else
      unmatched.emplace_back(e, std::move(mine));
  }
  for (const auto& [endpoint, mine] : unmatched) {
    const auto found = std::find_if(offered.begin(), offered.end(), [&, at = &mine](const Open& o) {
      return !o.matched && sameKind(*at, o.at);
    });
    if (found == offered.end()) continue;
    found->matched = true;
    Drift d{DriftKind::Port, {}, {}, endpoint->id, found->way, {}};
    // What is kept besides host and port stays as it was.
    Address fresh = mine;
    fresh.scheme = found->at.scheme;
    fresh.host = found->at.host, fresh.port = found->at.port, fresh.path = found->at.path;
    d.way.address = fresh.uri();
    const std::string what = mine.path.empty() ? "port" : "path";
    d.sentence = endpoint->label + ": its " + what + " is " + whereOf(found->at) + " there, " +
                 whereOf(mine) + " here";
    d.cure = "take " + whereOf(found->at);
    out.push_back(std::move(d));
  }
  for (const Open& o : offered)
    if (!o.matched)
      out.push_back(
          {DriftKind::NewWay, "the host also offers " + o.way.address, "add this way in", 0, o.way, {}});
}

std::string freeName(const std::string& wanted, std::set<std::string>& taken) {
  std::string name = wanted;
  for (int i = 2; !taken.insert(name).second; ++i) name = wanted + " " + std::to_string(i);
  return name;
}

}  // namespace

std::vector<OfferedWay> offeredWays(const StockMachine& machine, const HostPlace& place) {
  std::vector<OfferedWay> out;
  for (const ConsoleFacts& c : machine.consoles)
    if (auto way = wayOf(c, machine.id, place)) out.push_back(std::move(*way));
  for (const SerialFacts& s : machine.serials)
    if (auto way = wayOf(s, place)) out.push_back(std::move(*way));
  return out;
}

std::string idOnHost(const Snapshot& records, Id machine) {
  return records.resolve({OwnerKind::Machine, machine}, "host.id").value;
}

std::vector<StockRow> stockRows(const Snapshot& records, const HostPlace& place, const Stock& stock) {
  std::multimap<std::string, Id> byId;
  std::map<std::string, Id> byName;
  for (const auto& [id, m] : records.machines) {
    if (m.host != place.name) continue;
    if (const std::string there = idOnHost(records, id); !there.empty())
      byId.emplace(there, id);
    else
      byName.emplace(m.name, id);
  }
  std::vector<StockRow> out;
  for (const auto& [id, machine] : stock) {
    StockRow row;
    row.machine = machine;
    const auto [first, last] = byId.equal_range(id);
    if (first != last) {
      row.record = first->second;
      for (auto second = std::next(first); second != last; ++second)
        row.drift.push_back({DriftKind::Twice,
                             "\"" + records.machines.at(second->second).name + "\" is a record of it too",
                             {},
                             0,
                             {},
                             {}});
      if (const std::string& mine = records.machines.at(row.record).name;
          mine != machine.name && !mine.starts_with(machine.name + " "))
        row.drift.push_back({DriftKind::Renamed,
                             "called " + machine.name + " there, " + mine + " here",
                             "take its name",
                             0,
                             {},
                             machine.name});
    } else if (const auto named = byName.find(machine.name); named != byName.end()) {
      row.record = named->second;
      row.drift.push_back({DriftKind::NoId, "known by its name only", "remember its ID", 0, {}, {}});
    }
    if (row.record != 0) compareWays(records, row.record, machine, place, row.drift);
    out.push_back(std::move(row));
  }
  std::stable_sort(out.begin(), out.end(),
                   [](const StockRow& a, const StockRow& b) { return a.machine.name < b.machine.name; });
  for (const auto& [there, record] : byId) {
    if (stock.contains(there)) continue;
    StockRow row;
    row.machine.id = there;
    row.machine.name = records.machines.at(record).name;
    row.record = record;
    row.gone = true;
    row.drift.push_back({DriftKind::Gone, "its host has no machine with this ID any more", {}, 0, {}, {}});
    out.push_back(std::move(row));
  }
  return out;
}

std::vector<Id> adopt(StoreWriter& writer, const Snapshot& records, const HostPlace& place, Id folder,
                      const std::vector<StockMachine>& machines) {
  std::set<std::string> taken;
  for (const auto& [id, m] : records.machines) taken.insert(m.name);
  std::vector<Id> out;
  for (const StockMachine& there : machines) {
    Machine m;
    m.folder = folder;
    m.name = freeName(there.name, taken);
    m.host = place.name;
    m.notes = there.title == there.name ? "" : there.title;
    writer.put(m);
    writer.set({OwnerKind::Machine, m.id}, "host.id", there.id);
    int position = 0;
    std::set<std::string> labels;
    for (const OfferedWay& way : offeredWays(there, place)) {
      Endpoint e;
      e.machine = m.id;
      e.label = freeName(way.label, labels);
      e.address = way.address;
      e.position = position++;
      writer.put(e);
      if (!way.via.empty()) writer.set({OwnerKind::WayIn, e.id}, "route.via", way.via);
    }
    out.push_back(m.id);
  }
  return out;
}

void cureDrift(StoreWriter& writer, const Snapshot& records, Id record, const std::string& idThere,
               const Drift& drift) {
  switch (drift.kind) {
    case DriftKind::Port: {
      Endpoint e = records.endpoints.at(drift.wayIn);
      e.address = drift.way.address;
      writer.put(e);
      break;
    }
    case DriftKind::NewWay: {
      Endpoint e;
      e.machine = record;
      std::set<std::string> labels;
      for (const Endpoint* other : records.endpointsOf(record)) {
        labels.insert(other->label);
        e.position = std::max(e.position, other->position + 1);
      }
      e.label = freeName(drift.way.label, labels);
      e.address = drift.way.address;
      writer.put(e);
      if (!drift.way.via.empty()) writer.set({OwnerKind::WayIn, e.id}, "route.via", drift.way.via);
      break;
    }
    case DriftKind::Renamed: {
      Machine m = records.machines.at(record);
      m.name = drift.name;
      writer.put(m);
      break;
    }
    case DriftKind::NoId: writer.set({OwnerKind::Machine, record}, "host.id", idThere); break;
    case DriftKind::Gone:
    case DriftKind::Twice:
    case DriftKind::NoSuchWay: break;
  }
}

}  // namespace kw::host

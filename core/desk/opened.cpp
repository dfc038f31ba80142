#include "desk/opened.hpp"

#include "base/error.hpp"

namespace kw {

Opened openedWayIn(const Executor& strand, std::shared_ptr<const Snapshot> records, Id wayIn,
                   OpeningTools tools) {
  const auto found = records->endpoints.find(wayIn);
  if (found == records->endpoints.end())
    throw Error(ErrorKind::Local, "this way in is not in the records any more");
  const Endpoint& way = found->second;
  const Owner owner{OwnerKind::WayIn, wayIn};
  const Address address = parseAddress(way.address);
  Opened out;
  out.machine = records->machines.at(way.machine).name;
  out.address = way.address;
  out.wayIn = wayIn;
  out.setting = [records, read = settingsOf(*records, owner)](const std::string& key) { return read(key); };
  out.label = way.label + " · " + kindOf(address, out.setting);
  tools.records = records;
  out.session = makeSession(strand, address, out.machine, out.setting, tools, owner);
  return out;
}

Opened openedAddress(const Executor& strand, const std::string& text, const OpeningTools& tools) {
  const Address address = parseAddress(text);
  Opened out;
  out.setting = builtInSettings();
  out.address = address.forPeople();
  out.machine = address.host.empty() ? address.path : address.host + ":" + std::to_string(address.port);
  out.session = makeSession(strand, address, out.address, out.setting, tools, {});
  out.label = (out.session->text() != nullptr ? "line · " : "screen · ") + kindOf(address, out.setting);
  return out;
}

Opened openedOnce(const Executor& strand, const exchange::Entry& entry, OpeningTools tools) {
  if (entry.ways.empty()) throw Error(ErrorKind::Local, "it names no way in", entry.from);
  const exchange::EntryWay& way = entry.ways.front();
  const Address address = parseAddress(way.address);
  if (entry.password) tools.givenPassword = entry.password;
  Opened out;
  out.setting = overlaid(builtInSettings(), way.settings);
  out.machine = entry.name;
  out.label = "file · " + kindOf(address, out.setting);
  out.address = address.forPeople() + " from " + entry.from;
  out.session = makeSession(strand, address, entry.name, out.setting, tools, {});
  return out;
}

}  // namespace kw

#include "record/copy.hpp"

namespace kw {

std::string freeName(const Snapshot& s, const std::string& like) {
  for (int i = 2;; ++i)
    if (const std::string name = like + " " + std::to_string(i); s.machineNamed(name) == nullptr) return name;
}

Id copyMachine(const Snapshot& s, StoreWriter& w, Id from, const std::string& name) {
  const auto settingsTo = [&](Owner source, Owner target) {
    const auto own = s.settings.find(source);
    if (own == s.settings.end()) return;
    for (const auto& [key, value] : own->second)
      if (key != "host.id" && key != "look.template" && key != "look.favourite") w.set(target, key, value);
  };
  Machine m = s.machines.at(from);
  m.id = m.version = 0;
  m.name = name;
  w.put(m);
  settingsTo({OwnerKind::Machine, from}, {OwnerKind::Machine, m.id});
  for (const Endpoint* e : s.endpointsOf(from)) {
    Endpoint copy = *e;
    copy.id = copy.version = 0;
    copy.machine = m.id;
    w.put(copy);
    settingsTo({OwnerKind::WayIn, e->id}, {OwnerKind::WayIn, copy.id});
  }
  return m.id;
}

}  // namespace kw

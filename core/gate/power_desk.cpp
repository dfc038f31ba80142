#include "gate/power_desk.hpp"

#include "host/adopt.hpp"
#include "record/agreed.hpp"

namespace kw::gate {

namespace {

using Json = nlohmann::json;
using host::PowerAct;
using host::Running;

/// What makes sense in this state, as far as the host can do it.
std::vector<PowerAct> actsFor(Running state, const host::HostAbilities& can) {
  std::vector<PowerAct> out;
  const auto add = [&out](bool may, PowerAct act) {
    if (may) out.push_back(act);
  };
  if (state == Running::Off || state == Running::Crashed) add(can.start.can, PowerAct::Start);
  if (state == Running::On) {
    add(can.power.can, PowerAct::ShutDown);
    add(can.restart.can, PowerAct::Restart);
  }
  if (state == Running::Paused) add(can.pause.can, PowerAct::Resume);
  if (state == Running::On || state == Running::Stopping || state == Running::Paused)
    add(can.power.can, PowerAct::Off);
  return out;
}

}  // namespace

PowerDesk::PowerDesk(Runtime& runtime, Executor strand, OpeningTools tools)
    : runtime_(runtime), strand_(std::move(strand)), tools_(std::move(tools)) {}

std::shared_ptr<host::Host> PowerDesk::hostOf(const Snapshot& records, Id machine) {
  const auto m = records.machines.find(machine);
  if (m == records.machines.end() || m->second.host.empty() || host::idOnHost(records, machine).empty())
    return nullptr;
  const HostRecord* record = records.hostNamed(m->second.host);
  const std::string command = record == nullptr ? "" : host::commandOf(record->address);
  if (record == nullptr || released_ || (!command.empty() && !isAgreed(command))) return nullptr;
  const std::pair<Id, std::string> key{record->id, record->address};
  if (const auto known = hosts_.find(key); known != hosts_.end()) return known->second;
  auto& place = hosts_[key];
  try {
    host::AdapterTools adapter{runtime_.strand(), tools_.clock, {}, {}};
    if (const auto kept = keptSignIn(tools_, {OwnerKind::Host, record->id})) {
      adapter.user = kept->user;
      adapter.password = kept->password;
    }
    place = std::make_shared<host::Host>(*record, adapter);
    place->observe([strand = strand_, changed = changed_] { post(strand, changed); });
    place->start();
  } catch (const Error&) {
    // An address that makes no sense shows as such where hosts are kept.
  }
  return place;
}

Json PowerDesk::of(const Snapshot& records, Id machine) {
  const auto host = hostOf(records, machine);
  if (!host) return nullptr;
  const host::HostView view = host->view();
  const auto found = view.stock->find(host::idOnHost(records, machine));
  if (view.stage != host::HostStage::Live || found == view.stock->end())
    return {
        {"state", "unknown"},
        {"why", view.stage == host::HostStage::Live ? host->record().name + " has no such machine any more"
                                                    : host->record().name + " cannot be asked now"}};
  Json acts = Json::array();
  for (const PowerAct act : actsFor(found->second.state, view.abilities)) acts.push_back(host::nameOf(act));
  return {{"state", host::nameOf(found->second.state)}, {"acts", acts}};
}

void PowerDesk::order(const Snapshot& records, Id machine, const std::string& act,
                      std::function<void(std::string)> done) {
  const Json now = of(records, machine);
  if (!now.is_object() || !now.contains("acts"))
    return done(now.is_object() ? now["why"]
                                : "no host is known for it, or nobody agreed to its command at the gateway");
  const auto acts = now["acts"].get<std::vector<std::string>>();
  const auto wanted = host::powerActFrom(act);
  if (!wanted || std::find(acts.begin(), acts.end(), act) == acts.end())
    return done("that cannot be done while it is " + now["state"].get<std::string>());
  hostOf(records, machine)
      ->power(host::idOnHost(records, machine), *wanted,
              [strand = strand_, done = std::move(done)](std::exception_ptr failure) {
                post(strand, [done, said = failure ? messageOf(failure) : std::string()] { done(said); });
              });
}

std::vector<std::shared_ptr<host::Host>> PowerDesk::release() {
  released_ = true;
  std::vector<std::shared_ptr<host::Host>> out;
  for (const auto& [key, host] : hosts_)
    if (host) out.push_back(host);
  hosts_.clear();
  return out;
}

}  // namespace kw::gate

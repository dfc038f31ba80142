#include "gate/gate_state.hpp"

#include "record/catalogue.hpp"

namespace kw::gate {

std::optional<Rules> Gate::State::rulesFor(Id way) const {
  if (!records->endpoints.contains(way)) return std::nullopt;
  return rulesOf(*records, way);
}

std::shared_ptr<Room> Gate::State::roomFor(Id way, const Person& person) {
  const bool kept = person.pass == 0 || person.carriesPassword;
  if (const auto found = rooms.find(way); found != rooms.end()) {
    // One that waits for an account's visitor is no way round the machine's own password.
    if (kept || !found->second->empty() || !found->second->usesKeptPasswords()) return found->second;
    const auto waiting = found->second;
    waiting->endAll("somebody with a pass begins anew");
  }
  const Endpoint e = records->endpoints.at(way);
  const std::string machine = records->machines.at(e.machine).name;
  Room::Plan plan;
  plan.strand = strand;
  plan.wayIn = way;
  plan.machine = machine;
  plan.rules = *rulesFor(way);
  const SettingReader setting = settingsOf(*records, {OwnerKind::WayIn, way});
  const Address address = parseAddress(e.address);
  plan.label = e.label + " · " + kindOf(address, setting);
  plan.keptPasswords = kept;
  // The snapshot lives as long as the reader that is made of it.
  plan.open = [this, snapshot = records, way, address, machine](const std::string& keyFile,
                                                                bool keptSecrets) {
    OpeningTools mine = tools;
    mine.givenKeyFile = keyFile;
    mine.records = snapshot;
    if (!keptSecrets) {
      mine.vault = nullptr;
      mine.onlyGiven = true;
      // Not over a connection that somebody else has signed in on.
      mine.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
    }
    const Owner owner{OwnerKind::WayIn, way};
    return makeSession(runtime.strand(), address, machine,
                       overlaid(settingsOf(*snapshot, owner), {{"screen.size", "asis"}}), mine, owner);
  };
  plan.audit = [this](const std::string& who, const std::string& from, const std::string& what, Json more) {
    store.audit(who, from, what, std::move(more));
  };
  plan.record = [this, machine, label = plan.label](bool picture) {
    return std::make_unique<RecordingWriter>(recordings(), machine, label, picture);
  };
  plan.recordingBytes = options.recordingBytes;
  plan.changed = [this] { wake(); };
  plan.over = [this](Id id) {
    rooms.erase(id);
    wake();
  };
  const auto room = std::make_shared<Room>(std::move(plan));
  room->start();
  if (busy) room->busy(true);
  rooms[way] = room;
  return room;
}

std::string Gate::State::forbidden(const Person& person, Id way) const {
  const auto rules = rulesFor(way);
  if (!rules || (person.onlyWay != 0 && person.onlyWay != way)) return "this is not yours to open";
  if (!rules->access) return "reaching it through the gateway is off" + rules->setBy("gate.access");
  if (person.pass != 0 && !rules->passes)
    return "passes are off for this machine" + rules->setBy("gate.passes");
  return "";
}

std::string Gate::State::whyNot(const Person& person, Id way) const {
  if (std::string why = forbidden(person, way); !why.empty()) return why;
  const auto rules = rulesFor(way);
  if (!canOpen(records->endpoints.at(way).scheme())) return "no engine for it";
  if (const auto room = rooms.find(way); room != rooms.end() && !rules->several)
    for (const VisitFacts& v : room->second->visits())
      if (v.who != person.name)
        return v.who + " is there, and only one visitor is allowed" + rules->setBy("gate.several");
  return "";
}

Task<void> Gate::State::visit(std::shared_ptr<WebSocket> socket, Person person, std::string token,
                              std::string from, Id way) {
  const auto self = shared_from_this();
  if (const std::string why = whyNot(person, way); !why.empty()) {
    store.audit(person.name, from, "opening refused", {{"way", way}, {"why", why}});
    co_await socket->goodbye(kNotAllowed, why);
    co_return;
  }
  const auto out = std::make_shared<Outbox>(strand, socket);
  spawn(strand, [out] { return out->run(); });
  std::shared_ptr<Room> room;
  std::string trouble;
  try {
    room = roomFor(way, person);
  } catch (const Error& e) {
    trouble = e.what();
  }
  if (!room) {
    out->finish(kNotAllowed, trouble);
    co_return;
  }
  const auto told = [out](std::string text) { out->put(std::move(text)); };
  const auto dismissed = [out](const std::string& why) {
    out->put(dumped({{"sentAway", why}}));
    out->finish(kSentAway, why);
  };
  const Id number = room->join(person, from, told, dismissed);
  visitors[{way, number}] = token;
  std::string why = "the line was lost";
  try {
    for (;;) {
      const Json message = co_await nextJson(socket);
      if (message.contains("ping")) out->put(dumped({{"pong", message["ping"]}}));
      room->take(number, message);
    }
  } catch (const Error& e) {
    if (e.kind() == ErrorKind::ClosedByPeer || e.kind() == ErrorKind::ProtocolBroken) why = e.what();
  } catch (const std::exception& e) {
    why = e.what();  // whatever it was, the visit is over and others go on
  }
  visitors.erase({way, number});
  room->leave(number, why);
  out->stop();
}

Task<void> Gate::State::picture(std::shared_ptr<WebSocket> socket, Person person, Id way, Id number) {
  const auto found = rooms.find(way);
  bool mine = false;
  if (found != rooms.end())
    for (const VisitFacts& v : found->second->visits())
      mine = mine || (v.number == number && v.who == person.name && v.pass == person.pass);
  if (!mine) {
    co_await socket->goodbye(kNotAllowed, "no such visit");
    co_return;
  }
  const auto room = found->second;
  co_await room->showPicture(number, streamOver(socket));
}

void Gate::State::checkPeople() {
  const Seconds now = nowSeconds();
  const auto current = visitors;
  for (const auto& [place, token] : current) {
    const auto room = rooms.find(place.first);
    if (room == rooms.end()) continue;
    auto person = store.person(token, now);
    if (person && !forbidden(*person, place.first).empty()) person.reset();
    const auto keep = room->second;
    keep->personIs(place.second, person);
  }
  const auto openPages = pages;
  for (const auto& page : openPages) {
    const auto person = store.person(page->token, now);
    if (!person) {
      page->out->put(dumped({{"signedOut", true}}));
      page->out->finish(kSentAway, "this sign-in ended");
      continue;
    }
    if (person->role != page->person.role) {
      page->person = *person;
      page->out->put(dumped({{"me", meJson(*person)}}));
    }
  }
}

void Gate::State::applyRules() {
  const auto now = rooms;
  for (const auto& [way, room] : now)
    if (const auto rules = rulesFor(way)) room->applyRules(*rules);
}

}  // namespace kw::gate

#include "base/base64.hpp"
#include "codec/jpeg.hpp"
#include "gate/gate_state.hpp"
#include "gate/shown_size.hpp"

namespace kw::gate {

namespace {

constexpr Seconds kLookInLasts = 60;
constexpr int kLookInQuality = 85;
constexpr int kMostAudit = 500;
constexpr std::size_t kMostWritten = 1000;  // bytes of a keeper's words

std::string jpegText(const Framebuffer& picture) {
  JpegEncoder encoder;
  Bytes jpeg;
  {
    const auto lock = picture.lock();
    jpeg = encoder.encode(picture, picture.rect(), kLookInQuality);
  }
  return base64Of(jpeg);
}

}  // namespace

bool Gate::State::maySwitch(const Person& person, Id machine) const {
  if (person.pass != 0 || person.role == Role::Look) return false;
  for (const Endpoint* e : records->endpointsOf(machine))
    if (const auto rules = rulesFor(e->id); rules->power && rules->drive && rules->access) return true;
  return false;
}

void Gate::State::orderPower(Page& page, const Json& wish) {
  const Id machine = idIn(wish, "machine");
  const auto found = records->machines.find(machine);
  const std::string act =
      wish.contains("act") && wish["act"].is_string() ? wish["act"].get<std::string>() : "";
  if (found == records->machines.end() || !maySwitch(page.person, machine))
    return page.out->put(dumped({{"error", "switching this machine is not allowed here, by its policy"}}));
  const std::string name = found->second.name;
  store.audit(page.person.name, page.from, "asks to " + act, {{"machine", name}});
  power.order(*records, machine, act, [out = page.out, name, act](const std::string& wrong) {
    if (!wrong.empty()) out->put(dumped({{"error", name + ", " + act + ": " + wrong}}));
  });
}

Json Gate::State::auditJson(const Person& person, const Json& wish) const {
  if (person.pass != 0 || person.role != Role::Keeper)
    return {{"error", "only a keeper of this gateway reads what happened"}};
  const bool narrowed = wish.contains("narrow") && wish["narrow"].is_string();
  const std::string narrow = narrowed ? wish["narrow"].get<std::string>().substr(0, 200) : "";
  Json audit{{"entries", store.newestAudit(narrow, kMostAudit)}};
  if (narrow.empty()) {
    const auto check = store.verifyAudit();
    audit["all"] = check.entries;
    audit["wrongAt"] = check.wrongAt;
  }
  return {{"audit", audit}};
}

Json Gate::State::makePass(Page& page, const Json& wish) {
  if (page.person.pass != 0 || page.person.role == Role::Look)
    return {{"error", "this account makes no passes"}};
  if (!wish.is_object()) return {{"error", "no wish"}};
  const Id way = idIn(wish, "way");
  const auto rules = rulesFor(way);
  if (!rules) return {{"error", "no such way in"}};
  const double hours = wish.contains("hours") && wish["hours"].is_number() ? wish["hours"].get<double>() : 1;
  const int uses = static_cast<int>(std::clamp<Id>(idIn(wish, "uses"), 0, 10000));
  if (const std::string why = problemWithPass(*rules, hours, uses); !why.empty()) return {{"error", why}};
  const Endpoint& e = records->endpoints.at(way);
  Pass pass;
  pass.wayIn = way;
  pass.machine = records->machines.at(e.machine).name;
  pass.label = e.label;
  pass.look = !(wish.contains("look") && wish["look"] == false) || !rules->drive;
  pass.carriesPassword = wish.contains("carry") && wish["carry"] == true && page.person.role == Role::Keeper;
  pass.from = nowSeconds();
  pass.until = pass.from + static_cast<Seconds>(hours * 3600);
  pass.most = uses;
  pass.note = wish.contains("note") && wish["note"].is_string()
                  ? cleanUtf8(wish["note"].get<std::string>().substr(0, 80))
                  : "";
  pass.madeBy = page.person.name;
  const std::string token = store.makePass(pass);
  store.audit(page.person.name, page.from, "makes a pass",
              {{"pass", pass.id}, {"machine", pass.machine}, {"look", pass.look}, {"until", pass.until}});
  return {{"passMade", {{"id", pass.id}, {"path", "/#pass=" + token}, {"until", pass.until}}}};
}

Json Gate::State::passesJson(const Person& person) const {
  Json out = Json::array();
  if (person.pass != 0) return out;
  for (const Pass& p : store.passes()) {
    if (person.role != Role::Keeper && p.madeBy != person.name) continue;
    const std::string problem = problemWith(p, nowSeconds());
    out.push_back({{"id", p.id},
                   {"machine", p.machine},
                   {"label", p.label},
                   {"look", p.look},
                   {"until", p.until},
                   {"uses", p.uses},
                   {"most", p.most},
                   {"note", p.note},
                   {"madeBy", p.madeBy},
                   {"state", problem.empty() && p.most > 0 && p.uses >= p.most ? "used up" : problem}});
  }
  return out;
}

void Gate::State::endPass(Page& page, Id id) {
  const auto pass = store.pass(id);
  if (!pass || page.person.pass != 0 ||
      (page.person.role != Role::Keeper && pass->madeBy != page.person.name))
    return;
  store.endPass(id);
  store.audit(page.person.name, page.from, "ends a pass", {{"pass", id}, {"machine", pass->machine}});
  checkPeople();
  page.out->put(dumped({{"passes", passesJson(page.person)}}));
}

std::optional<std::pair<std::shared_ptr<Room>, VisitFacts>> Gate::State::visitOf(const Json& wish) const {
  const auto room = rooms.find(idIn(wish, "way"));
  if (room == rooms.end()) return std::nullopt;
  for (const VisitFacts& v : room->second->visits())
    if (v.number == idIn(wish, "visit")) return std::pair(room->second, v);
  return std::nullopt;
}

void Gate::State::endVisit(Page& page, const Json& wish) {
  const auto found = visitOf(wish);
  if (!found) return;
  const auto& [room, v] = *found;
  if (page.person.role != Role::Keeper && (v.who != page.person.name || v.byPass)) return;
  store.audit(page.person.name, page.from, "ends a visit", {{"machine", v.machine}, {"of", v.who}});
  room->sendAway(v.number, "ended by " + page.person.name);
}

void Gate::State::writeTo(Page& page, const Json& wish) {
  const auto found = visitOf(wish);
  const auto text = wish.find("text");
  if (!found || page.person.role != Role::Keeper || text == wish.end() || !text->is_string()) return;
  const std::string words = cleanUtf8(text->get<std::string>().substr(0, kMostWritten));
  if (words.empty()) return;
  const auto& [room, v] = *found;
  store.audit(page.person.name, page.from, "writes to a visitor",
              {{"machine", v.machine}, {"of", v.who}, {"text", words}});
  room->write(v.number, page.person.name, words);
}

/// Once a minute at most for one who goes on looking.
void Gate::State::noteLookIn(const Page& page, Room& room, const VisitFacts& v) {
  const Seconds now = nowSeconds();
  std::erase_if(lookedIn, [now](const auto& one) { return now - one.second > kLookInLasts; });
  const std::string key = page.person.name + " " + std::to_string(v.wayIn) + " " + std::to_string(v.number);
  const bool goesOn = lookedIn.contains(key);
  lookedIn[key] = now;
  if (goesOn) return;
  store.audit(page.person.name, page.from, "looks in", {{"machine", v.machine}, {"of", v.who}});
  room.remark(page.person.name + ", a keeper of this gateway, looks in.");
}

void Gate::State::lookIn(const std::shared_ptr<Page>& page, const Json& wish) {
  if (page->person.role != Role::Keeper || page->person.pass != 0) return;
  Json seen{{"way", idIn(wish, "way")}, {"visit", idIn(wish, "visit")}};
  const auto tell = [out = page->out](const Json& what) { out->put(dumped({{"seen", what}})); };
  const auto found = visitOf(wish);
  if (!found) {
    seen["over"] = true;
    return tell(seen);
  }
  const auto& [room, v] = *found;
  noteLookIn(*page, *room, v);
  seen["serial"] = room->shown();
  seen["drives"] = v.drives;
  const auto picture = room->picture();
  const bool nothingNew = idIn(wish, "have") == static_cast<Id>(room->shown());
  if (nothingNew || (picture && sizeNow(*picture).empty())) return tell(seen);
  if (!picture) {
    seen["text"] = room->textNow();
    return tell(seen);
  }
  if (std::exchange(page->seeing, true)) return;
  spawn(strand, [self = shared_from_this(), page, picture, seen, tell]() -> Task<void> {
    const auto pack = [picture] { return jpegText(*picture); };
    Json answer = seen;
    try {
      answer["jpeg"] = co_await self->slow.run(pack);
    } catch (const std::exception&) {
      // A picture that cannot be packed is none; the next one may be.
    }
    page->seeing = false;
    tell(answer);
  });
}

}  // namespace kw::gate

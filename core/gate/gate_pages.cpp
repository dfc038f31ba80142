#include "gate/gate_state.hpp"

#include "record/catalogue.hpp"

namespace kw::gate {

Task<void> Gate::State::live(std::shared_ptr<WebSocket> socket, Person person, std::string token,
                             std::string from) {
  const auto self = shared_from_this();
  const auto page = std::make_shared<Page>();
  page->out = std::make_shared<Outbox>(strand, socket);
  page->person = person;
  page->token = token;
  page->from = from;
  pages.push_back(page);
  const std::shared_ptr<void> gone(nullptr, [self, page](void*) { std::erase(self->pages, page); });
  spawn(strand, [out = page->out] { return out->run(); });
  page->out->put(dumped({{"me", meJson(person)}}));
  tellPage(*page);
  wake();
  std::exception_ptr failure;
  try {
    for (;;) {
      const Json message = co_await nextJson(socket);
      takeFromPage(page, message);
    }
  } catch (...) {
    failure = std::current_exception();
  }
  page->out->stop();
  std::rethrow_exception(failure);
}

void Gate::State::takeFromPage(const std::shared_ptr<Page>& shared, const Json& message) {
  Page& page = *shared;
  if (message.contains("ping")) page.out->put(dumped({{"pong", message["ping"]}}));
  if (message.contains("makePass")) page.out->put(dumped(makePass(page, message["makePass"])));
  if (message.contains("endPass") && message["endPass"].is_number_integer())
    endPass(page, message["endPass"].get<Id>());
  if (message.contains("passes")) page.out->put(dumped({{"passes", passesJson(page.person)}}));
  if (message.contains("endVisit") && message["endVisit"].is_object()) endVisit(page, message["endVisit"]);
  if (message.contains("write") && message["write"].is_object()) writeTo(page, message["write"]);
  if (message.contains("lookIn") && message["lookIn"].is_object()) lookIn(shared, message["lookIn"]);
  if (message.contains("recordings"))
    spawn(strand, [self = shared_from_this(), shared] { return self->tellRecordings(shared); });
  if (message.contains("removeRecording")) removeRecording(shared, message["removeRecording"]);
  if (message.contains("power") && message["power"].is_object()) orderPower(page, message["power"]);
  if (message.contains("audit") && message["audit"].is_object())
    page.out->put(dumped(auditJson(page.person, message["audit"])));
}

void Gate::State::tellPage(Page& page) {
  std::string text = dumped({{"machines", machinesJson(page.person)}});
  if (text == page.shown) return;
  page.shown = text;
  page.out->put(std::move(text));
}

Json Gate::State::machinesJson(const Person& person) {
  std::map<std::pair<std::string, std::string>, Json> sorted;
  for (const auto& [id, m] : records->machines) {
    Json ways = Json::array();
    std::string state = "unknown", sentence = "not looked at yet";
    for (const Endpoint* e : records->endpointsOf(id)) {
      if (person.onlyWay != 0 && e->id != person.onlyWay) continue;
      const WayKind* kind = findWayKind(e->scheme());
      if (kind == nullptr) continue;
      const std::string why = whyNot(person, e->id);
      Json visits = Json::array();
      if (const auto room = rooms.find(e->id); room != rooms.end())
        for (const VisitFacts& v : room->second->visits())
          visits.push_back({{"visit", v.number},
                            {"who", v.who},
                            {"drives", v.drives},
                            {"since", v.since},
                            {"from", person.role == Role::Keeper ? v.from : ""},
                            {"pass", v.byPass}});
      ways.push_back({{"id", e->id},
                      {"label", e->label},
                      {"chip", e->label == "console" ? std::string(kind->chip) + " console" : kind->chip},
                      {"form", kind->form == Form::Screen ? "screen" : "text"},
                      {"keys", kind->carriesFiles},
                      {"why", why},
                      {"visits", visits}});
      if (!why.empty() && state == "unknown") sentence = why;
      if (const auto r = reached.find(e->id); r != reached.end() && state != "answering") {
        state = r->second.answers   ? "answering"
                : r->second.untried ? "unknown"
                : r->second.listens ? "silent"
                                    : "off";
        sentence = r->second.sentence;
      }
    }
    if (ways.empty()) continue;
    const auto path = records->pathOf(m.folder);
    const std::string group = path.empty() ? "" : path.back()->name;
    sorted[{group, m.name}] = {{"id", id},       {"name", m.name},       {"group", group},
                               {"state", state}, {"sentence", sentence}, {"ways", ways}};
    if (maySwitch(person, id))
      if (Json switching = power.of(*records, id); switching.is_object())
        sorted[{group, m.name}]["power"] = std::move(switching);
  }
  Json out = Json::array();
  for (auto& [key, one] : sorted) out.push_back(std::move(one));
  return out;
}

}  // namespace kw::gate

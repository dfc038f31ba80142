// Where the rules say so, whoever comes second waits at the door until somebody inside lets him in.
#include <algorithm>

#include "gate/room_visitor.hpp"

namespace kw::gate {

namespace {

constexpr std::size_t kMostAtDoor = 20;

bool same(const Person& a, const Person& b) { return a.name == b.name && a.pass == b.pass; }

std::string dumped(const nlohmann::json& json) {
  return json.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
}

}  // namespace

/// One who is there already, from another browser or after a line that was lost, asks nobody.
bool Room::mustAsk(const Person& person) const {
  return plan_.rules.askFirst && !visitors_.empty() &&
         std::none_of(visitors_.begin(), visitors_.end(),
                      [&](const auto& v) { return same(v->person, person); });
}

void Room::knock(const std::shared_ptr<Visitor>& visitor) {
  if (door_.size() >= kMostAtDoor) {
    visitor->dismiss("too many wait to be let in: try again later");
    return;
  }
  door_.push_back(visitor);
  plan_.audit(visitor->person.name, visitor->from, "asks to be let in",
              {{"machine", plan_.machine}, {"way", plan_.label}, {"visit", visitor->number}});
  const Visitor* driver = find(hand_);
  visitor->tell(dumped({{"door",
                         {{"machine", plan_.machine},
                          {"there", driver != nullptr ? driver->person.name : visitors_.front()->person.name},
                          {"since", driver != nullptr ? driver->since : visitors_.front()->since}}}}));
  tellDoor();
}

bool Room::mayOpenDoor(const Visitor& visitor) const { return hand_ == 0 || hand_ == visitor.number; }

void Room::tellDoor() {
  Json waiting = Json::array();
  for (const auto& v : door_)
    waiting.push_back(
        {{"visit", v->number}, {"who", v->person.name}, {"from", v->from}, {"pass", v->person.pass != 0}});
  for (const auto& v : visitors_) v->tell(dumped({{"knocks", mayOpenDoor(*v) ? waiting : Json::array()}}));
}

std::shared_ptr<Room::Visitor> Room::takeFromDoor(Id number) {
  const auto at =
      std::find_if(door_.begin(), door_.end(), [&](const auto& v) { return v->number == number; });
  if (at == door_.end()) return nullptr;
  auto out = *at;
  door_.erase(at);
  tellDoor();
  return out;
}

void Room::answerDoor(Visitor& visitor, const Json& message) {
  if (!mayOpenDoor(visitor)) return;
  const auto numberAt = [&](const char* key) {
    const auto found = message.find(key);
    return found != message.end() && found->is_number_integer() ? found->get<Id>() : Id{0};
  };
  if (const auto guest = takeFromDoor(numberAt("letIn"))) {
    plan_.audit(visitor.person.name, visitor.from, "lets in",
                {{"machine", plan_.machine}, {"whom", guest->person.name}});
    enter(guest);
  }
  if (const auto guest = takeFromDoor(numberAt("turnAway"))) {
    plan_.audit(visitor.person.name, visitor.from, "turns away",
                {{"machine", plan_.machine}, {"whom", guest->person.name}});
    guest->dismiss(visitor.person.name + " is there and let nobody in");
  }
}

/// Nobody is left to be asked, or nobody needs to be any more: the first who waits is in, and is asked by the
/// others.
void Room::openDoor() {
  while (!door_.empty() && (visitors_.empty() || !mustAsk(door_.front()->person))) {
    const auto next = door_.front();
    door_.pop_front();
    enter(next);
  }
  tellDoor();
}

}  // namespace kw::gate

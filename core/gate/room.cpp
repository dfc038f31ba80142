#include "gate/room.hpp"

#include <unistd.h>

#include "gate/room_visitor.hpp"
#include "gate/shown_size.hpp"
#include "session/text_console.hpp"

namespace kw::gate {

namespace {

constexpr auto kPeopleInterval = std::chrono::milliseconds(50);
constexpr std::size_t kMostPeople = 50;  // named to everybody

const char* wordFor(SessionStage stage) {
  switch (stage) {
    case SessionStage::Idle:
    case SessionStage::Connecting: return "connecting";
    case SessionStage::SigningIn: return "signing in";
    case SessionStage::Live: return "live";
    case SessionStage::Waiting: return "waiting";
    case SessionStage::Ended: return "ended";
  }
  return "";
}

const char* wordFor(Question::Kind kind) {
  switch (kind) {
    case Question::Kind::Password: return "password";
    case Question::Kind::UserAndPassword: return "account";
    case Question::Kind::Trust: return "trust";
    case Question::Kind::Text: return "text";
    case Question::Kind::Unsealed: return "unsealed";
  }
  return "";
}

}  // namespace

/// Brings the session's events to the gateway's strand.
class Room::Watcher : public SessionObserver {
 public:
  Watcher(Executor strand, std::weak_ptr<Room> room) : strand_(std::move(strand)), room_(std::move(room)) {}

  void statusChanged(const SessionStatus& s) override {
    later([s](Room& r) {
      r.status_ = s;
      const bool asking = s.stage == SessionStage::SigningIn || s.stage == SessionStage::Connecting;
      if (!asking && r.question_) {
        r.question_.reset();
        r.reply_ = {};
        r.tellAll({{"question", nullptr}});
      }
      if (s.stage == SessionStage::Live && r.keyFile_ >= 0) {
        ::close(r.keyFile_);
        r.keyFile_ = -1;
      }
      r.tellAll(r.statusJson());
      if (s.stage == SessionStage::Live) r.textSoon();
    });
  }
  void routeChanged(const RouteFacts& f) override {
    later([f](Room& r) {
      r.route_ = f;
      r.tellAll(r.routeJson());
    });
  }
  void capabilitiesChanged(const Capabilities& c) override {
    later([c](Room& r) {
      r.abilities_ = c;
      r.tellAll(r.screensJson());
    });
  }
  void pictureResized(Size, const std::vector<Screen>& screens) override {
    later([screens](Room& r) {
      ++r.shown_;
      r.screens_ = screens;
      r.forAllShown([&](Visitor& v) {
        if (v.picture) v.picture->resized(screens);
      });
      if (const auto picture = r.session_->picture()) {
        const Size size = sizeNow(*picture);
        r.tellAll({{"size", {size.width, size.height}}});
      }
      r.tellAll(r.screensJson());
      r.checkRecording();
    });
  }
  void screensOffered(const std::vector<ScreenOffer>& offers) override {
    later([offers](Room& r) {
      r.offers_ = offers;
      r.tellAll(r.screensJson());
    });
  }
  void damaged(const Region& region) override {
    later([region](Room& r) {
      ++r.shown_;
      r.forAllShown([&](Visitor& v) {
        if (v.picture) v.picture->damaged(region);
      });
    });
  }
  void pointerShapeChanged(const PointerShape& shape) override {
    later([shape](Room& r) {
      r.shape_ = shape;
      r.forAllShown([&](Visitor& v) {
        if (v.picture) v.picture->setCursor({shape.size, shape.hotspot, shape.pixels});
      });
    });
  }
  void bell() override {
    later([](Room& r) { r.tellAll({{"bell", true}}); });
  }
  void textChanged() override {
    later([](Room& r) { r.textSoon(); });
  }
  void clipboardText(const std::string& text) override {
    if (text.size() > kMostText) return;
    later([text](Room& r) {
      if (!r.plan_.rules.clipboardFrom) return;
      for (auto& v : r.visitors_)
        if (r.hand_ == v->number)
          v->tell(Json{{"clip", text}}.dump(-1, ' ', false, Json::error_handler_t::replace));
    });
  }
  void remark(const std::string& what) override {
    later([what](Room& r) { r.tellAll({{"remark", what}}); });
  }
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    later([question, reply](Room& r) {
      r.question_ = question;
      r.reply_ = reply;
      r.tellAll(r.questionJson());
    });
  }

 private:
  void later(std::function<void(Room&)> what) {
    post(strand_, [weak = room_, what = std::move(what)] {
      if (const auto room = weak.lock(); room && !room->ended_) what(*room);
    });
  }
  Executor strand_;
  std::weak_ptr<Room> room_;
};

Room::Room(Plan plan) : plan_(std::move(plan)) {}

Room::~Room() {
  dropRecorder();
  if (session_) {
    session_->stopObserving(watcher_);
    session_->end();
  }
  if (keyFile_ >= 0) ::close(keyFile_);
}

void Room::start() { begin({}); }

void Room::begin(const std::string& keyFile) {
  if (session_) {
    session_->stopObserving(watcher_);
    session_->end();
  }
  question_.reset();
  reply_ = {};
  offers_.clear();
  recordAnew();
  session_ = plan_.open(keyFile, plan_.keptPasswords);
  watcher_ = std::make_shared<Watcher>(plan_.strand, weak_from_this());
  session_->setPolicy(policy());
  session_->observe(watcher_);
  session_->start();
}

Policy Room::policy() const {
  Policy out;
  out.clipboardTo = plan_.rules.clipboardTo;
  out.clipboardFrom = plan_.rules.clipboardFrom;
  out.input = plan_.rules.drive;
  out.files = false;
  return out;
}

void Room::applyRules(const Rules& rules) {
  if (rules == plan_.rules) return;
  plan_.rules = rules;
  session_->setPolicy(policy());
  if (const Visitor* driver = find(hand_); driver != nullptr && !mayDrive(*driver)) hand_ = 0;
  for (const auto& v : visitors_) {
    if (hand_ == 0 && mayDrive(*v)) hand_ = v->number;
    tellState(*v);
  }
  openDoor();
  checkRecording();
  tellPeople();
}

Room::Visitor* Room::find(Id number) {
  for (auto& v : visitors_)
    if (v->number == number) return v.get();
  return nullptr;
}

bool Room::mayDrive(const Visitor& v) const { return plan_.rules.drive && v.person.role != Role::Look; }

bool Room::mayAnswer(const Visitor& v) const {
  return mayDrive(v) ||
         std::none_of(visitors_.begin(), visitors_.end(), [this](const auto& o) { return mayDrive(*o); });
}

Id Room::join(const Person& person, const std::string& from, std::function<void(std::string)> tell,
              std::function<void(std::string)> dismiss) {
  auto v = std::make_shared<Visitor>(*this, next_++, person);
  v->from = from;
  // Held by the visitor itself.
  v->tell = [visitor = v.get(), tell = std::move(tell)](std::string text) {
    visitor->sent += text.size();
    tell(std::move(text));
  };
  v->dismiss = std::move(dismiss);
  const Id number = v->number;
  if (mustAsk(person))
    knock(v);
  else
    enter(std::move(v));
  return number;
}

void Room::enter(std::shared_ptr<Visitor> v) {
  Visitor& here = *v;
  here.since = nowSeconds();
  visitors_.push_back(std::move(v));
  ++leaving_;
  if (hand_ == 0 && mayDrive(here)) hand_ = here.number;
  plan_.audit(here.person.name, here.from, "visit begins",
              {{"machine", plan_.machine},
               {"way", plan_.label},
               {"drives", hand_ == here.number},
               {"visit", here.number}});
  tellState(here);
  if (!door_.empty()) tellDoor();
  checkRecording();
  tellPeople();
}

void Room::tellState(Visitor& v) {
  const auto send = [&](const Json& j) { v.tell(j.dump(-1, ' ', false, Json::error_handler_t::replace)); };
  send({{"visit", v.number},
        {"machine", plan_.machine},
        {"label", plan_.label},
        {"form", session_->text() != nullptr ? "text" : "screen"},
        {"may",
         {{"drive", mayDrive(v)},
          {"answer", mayAnswer(v)},
          {"why", !plan_.rules.drive
                      ? "typing from a browser is off for this machine" + plan_.rules.setBy("gate.hand")
                  : v.person.role == Role::Look && v.person.pass != 0 ? "this pass only looks"
                  : v.person.role == Role::Look                       ? "this account only looks"
                                                                      : ""},
          {"clipboardTo", plan_.rules.clipboardTo},
          {"clipboardFrom", plan_.rules.clipboardFrom},
          {"clipboardWhy",
           plan_.rules.clipboardTo && plan_.rules.clipboardFrom ? "" : plan_.rules.setBy("gate.clipboard")},
          {"endAll", plan_.rules.handEnds || v.person.role == Role::Keeper}}},
        {"recorded", recorder_ != nullptr}});
  send(statusJson());
  send(routeJson());
  send(screensJson());
  if (busy_) send({{"busy", true}});
  if (question_) send(questionJson());
  if (const auto picture = session_->picture()) {
    const Size size = sizeNow(*picture);
    if (!size.empty()) send({{"size", {size.width, size.height}}});
  }
  if (session_->text() != nullptr) tellText(v);
}

nlohmann::json Room::statusJson() const {
  Json s{{"stage", wordFor(status_.stage)},
         {"sentence", status_.sentence},
         {"cure", status_.cure},
         {"attempt", status_.attempt},
         {"problem", status_.problem.has_value()}};
  if (status_.nextTry.count() > 0) s["next"] = std::chrono::duration<double>(status_.nextTry).count();
  return {{"status", s}};
}

nlohmann::json Room::routeJson() const {
  return {{"route",
           {{"host", route_.host},
            {"port", route_.port},
            {"reached", route_.reached},
            {"sealed", route_.sealed},
            {"security", route_.security}}}};
}

nlohmann::json Room::questionJson() const {
  const Question& q = *question_;
  Json j{{"kind", wordFor(q.kind)},
         {"text", q.text},
         {"hint", q.account.empty() || q.hint.empty() ? q.account + q.hint : q.account + " " + q.hint},
         {"user", q.user},
         {"again", q.again},
         {"refused", q.refused}};
  if (q.kind == Question::Kind::Trust)
    j["certificate"] = {{"subject", q.certificate.subject},
                        {"issuer", q.certificate.issuer},
                        {"until", q.certificate.notAfter},
                        {"sha256", q.certificate.sha256},
                        {"pinned", q.pinned}};
  return {{"question", j}};
}

nlohmann::json Room::screensJson() const {
  Json shown = Json::array(), offered = Json::array();
  const auto place = [](Rect r) { return Json{r.x, r.y, r.width, r.height}; };
  for (const Screen& s : screens_) shown.push_back(place(s.area));
  for (const ScreenOffer& o : offers_)
    offered.push_back({{"id", o.id}, {"on", o.on}, {"area", place(o.area)}});
  return {{"screens", shown},
          {"offers", abilities_.screens.can ? offered : Json::array()},
          {"resize", abilities_.resize.can}};
}

void Room::tellAll(const Json& message) {
  const std::string text = message.dump(-1, ' ', false, Json::error_handler_t::replace);
  forAllShown([&](Visitor& v) { v.tell(text); });
}

void Room::tellPeople() {
  plan_.changed();
  if (peopleToldLately_) {
    peopleChanged_ = true;
    return;
  }
  tellPeopleNow();
  peopleToldLately_ = true;
  spawn(plan_.strand, [self = shared_from_this()]() -> Task<void> {
    co_await systemClock()->sleep(kPeopleInterval * (1 + self->visitors_.size() / kMostPeople));
    self->peopleToldLately_ = false;
    if (std::exchange(self->peopleChanged_, false) && !self->ended_) self->tellPeople();
  });
}

/// Whoever drives comes first; a crowd is counted.
void Room::tellPeopleNow() {
  Json people = Json::array();
  const auto add = [&](const Visitor& v) {
    people.push_back({{"visit", v.number},
                      {"who", v.person.name},
                      {"drives", hand_ == v.number},
                      {"since", v.since},
                      {"from", v.from},
                      {"pass", v.person.pass != 0}});
  };
  if (const Visitor* driver = find(hand_)) add(*driver);
  for (const auto& v : visitors_)
    if (v->number != hand_ && people.size() < kMostPeople) add(*v);
  tellAll({{"people", people}, {"all", visitors_.size()}});
}

std::vector<VisitFacts> Room::visits() const {
  std::vector<VisitFacts> out;
  for (const auto& v : visitors_)
    out.push_back({v->number, plan_.wayIn, plan_.machine, plan_.label, v->person.name, v->from, v->since,
                   hand_ == v->number, v->person.pass != 0, v->person.pass});
  return out;
}

void Room::leave(Id number, const std::string& why) {
  const auto at =
      std::find_if(visitors_.begin(), visitors_.end(), [&](const auto& v) { return v->number == number; });
  if (at == visitors_.end()) {
    if (const auto tired = takeFromDoor(number))
      plan_.audit(tired->person.name, tired->from, "was not let in", {{"machine", plan_.machine}});
    return;
  }
  const auto gone = std::move(*at);
  visitors_.erase(at);
  if (gone->picture) gone->picture->close();
  plan_.audit(gone->person.name, gone->from, "visit ends",
              {{"machine", plan_.machine},
               {"way", plan_.label},
               {"visit", number},
               {"seconds", nowSeconds() - gone->since},
               {"sent", gone->sent},
               {"taken", gone->taken},
               {"why", why}});
  if (hand_ == number) {
    hand_ = 0;
    for (auto& v : visitors_)
      if (hand_ == 0 && mayDrive(*v)) hand_ = v->number;
  }
  if (!ended_ && !door_.empty()) openDoor();
  checkRecording();
  tellPeople();
  if (visitors_.empty() && !ended_) {
    ++leaving_;
    spawn(plan_.strand, [self = shared_from_this()] { return self->keepForAWhile(); });
  }
}

/// A lost line comes back to the same picture; after that the session ends.
Task<void> Room::keepForAWhile() {
  const auto self = shared_from_this();
  const std::uint64_t mine = leaving_;
  co_await systemClock()->sleep(std::chrono::seconds(plan_.rules.keep));
  if (mine == leaving_ && visitors_.empty()) endAll("nobody came back");
}

void Room::sendAway(Id number, const std::string& why) {
  if (Visitor* v = find(number)) {
    const auto dismiss = v->dismiss;
    leave(number, why);
    return dismiss(why);
  }
  if (const auto waiting = takeFromDoor(number)) waiting->dismiss(why);
}

void Room::endAll(const std::string& why) {
  if (std::exchange(ended_, true)) return;
  const auto self = shared_from_this();
  for (const auto& waiting : std::exchange(door_, {})) waiting->dismiss(why);
  while (!visitors_.empty()) {
    const auto dismiss = visitors_.front()->dismiss;
    leave(visitors_.front()->number, why);
    dismiss(why);
  }
  session_->stopObserving(watcher_);
  session_->end();
  plan_.over(plan_.wayIn);
}

void Room::say(Id number, const std::string& text) {
  if (Visitor* v = find(number))
    v->tell(Json{{"message", text}}.dump(-1, ' ', false, Json::error_handler_t::replace));
}

void Room::write(Id number, const std::string& who, const std::string& text) {
  if (Visitor* v = find(number))
    v->tell(Json{{"written", {{"who", who}, {"text", text}}}}.dump(-1, ' ', false,
                                                                   Json::error_handler_t::replace));
}

void Room::personIs(Id number, const std::optional<Person>& person) {
  Visitor* v = find(number);
  if (v == nullptr) {
    if (!person) return sendAway(number, "this sign-in ended");
    for (const auto& waiting : door_)
      if (waiting->number == number) waiting->person.role = person->role;
    return;
  }
  if (!person)
    return sendAway(number, v->person.pass != 0 ? "this pass does not open any more" : "this sign-in ended");
  const bool before = mayDrive(*v);
  v->person.role = person->role;
  if (before == mayDrive(*v)) return;
  if (!mayDrive(*v) && hand_ == number) hand_ = 0;
  if (mayDrive(*v) && hand_ == 0) hand_ = number;
  tellState(*v);
  tellPeople();
}

void Room::giveHandTo(Id number, const std::string& why) {
  Visitor* v = find(number);
  if (v == nullptr || !mayDrive(*v)) return;
  hand_ = number;
  plan_.audit(v->person.name, v->from, "has the hand", {{"machine", plan_.machine}, {"why", why}});
  if (!door_.empty()) tellDoor();
  tellPeople();
}

void Room::askForHand(Visitor& v) {
  if (!mayDrive(v)) return;
  if (hand_ == 0) return giveHandTo(v.number, "nobody had it");
  if (Visitor* holder = find(hand_))
    holder->tell(Json{{"handAsked", {{"visit", v.number}, {"who", v.person.name}}}}.dump(
        -1, ' ', false, Json::error_handler_t::replace));
}

void Room::rest() {
  for (const auto& v : visitors_)
    if (v->picture) v->picture->restIfQuiet();
}

}  // namespace kw::gate

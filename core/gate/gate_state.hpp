// What the gateway is inside: connections come in (gate.cpp), somebody signs in (gate_sign_in.cpp), sees the
// machines (gate_pages.cpp), orders things (gate_orders.cpp) and visits (gate_visits.cpp).
#pragma once
#include <map>
#include <nlohmann/json.hpp>

#include "base/blocking.hpp"
#include "gate/gate.hpp"
#include "gate/http.hpp"
#include "gate/limiter.hpp"
#include "gate/outbox.hpp"
#include "gate/power_desk.hpp"
#include "gate/room.hpp"
#include "route/checker.hpp"

namespace kw::gate {

using Json = nlohmann::json;

constexpr const char* kCookie = "kettle-gate";
// RFC 6455 7.4.1, and codes of our own above 4000.
constexpr int kGoingAway = 1001, kSentAway = 4001, kNotAllowed = 4003;

inline std::string dumped(const Json& json) {
  return json.dump(-1, ' ', false, Json::error_handler_t::replace);
}

inline Response jsonResponse(int status, const Json& body) {
  Response r;
  r.status = status;
  r.body = dumped(body);
  return r;
}
inline Response refusal(int status, const std::string& why) { return jsonResponse(status, {{"error", why}}); }

/// Everything on the gateway's strand.
struct Gate::State : std::enable_shared_from_this<Gate::State> {
  State(Runtime& r, GateOptions o, OpeningTools t);

  // gate.cpp
  [[nodiscard]] MadeCertificate readCertificate() const;
  void useCertificate(MadeCertificate made);
  [[nodiscard]] std::filesystem::path recordings() const { return options.state / "recordings"; }
  /// Notices when there is more to do than one strand can, and tells the rooms.
  Task<void> watchLoad();
  Task<void> acceptAll();
  /// One connection from its handshake to its end.
  Task<void> serve(std::shared_ptr<StreamPtr> shared);
  /// Browsers say where a request comes from; only our own page may ask for anything.
  [[nodiscard]] static bool ownOrigin(const Request& request) {
    return !request.header("host").empty() && request.header("origin") == "https://" + request.header("host");
  }
  Task<Response> answer(const Request& request, const std::string& from);
  Task<void> webSocket(const Request& request, StreamPtr stream, Bytes early, std::string from);
  Task<Json> nextJson(std::shared_ptr<WebSocket> socket);
  void wake() { changedSignal.notify(); }
  Task<void> tick();
  /// Looks which machines answer.
  Task<void> look();
  void stopNow();

  // gate_sign_in.cpp
  [[nodiscard]] std::optional<Person> personOf(const Request& request) const;
  [[nodiscard]] Json meJson(const Person& p) const;
  Task<Response> signIn(const Request& request, const std::string& from);
  Response signOut(const Request& request, const std::string& from);
  Response usePass(const Request& request, const std::string& from);

  // gate_upkeep.cpp
  /// What is looked after every minute. Throws Error.
  Task<void> keepHouse();
  /// Sign-ins of people whom the team's database lets in no more end.
  Task<void> signOutRefused();
  Task<void> removeOld();

  // gate_pages.cpp
  struct Page {
    std::shared_ptr<Outbox> out;
    Person person;
    std::string token, from, shown;
    bool seeing = false;  ///< a picture is on its way to it
  };
  /// The list of machines, who is where, passes.
  Task<void> live(std::shared_ptr<WebSocket> socket, Person person, std::string token, std::string from);
  void takeFromPage(const std::shared_ptr<Page>& page, const Json& message);
  void tellPage(Page& page);
  [[nodiscard]] Json machinesJson(const Person& person);

  // gate_recordings.cpp
  [[nodiscard]] static bool mayPlay(const Person& person) {
    return person.pass == 0 && person.role == Role::Keeper;
  }
  Task<void> tellRecordings(std::shared_ptr<Page> page);
  void removeRecording(const std::shared_ptr<Page>& page, const Json& wish);
  Task<Response> recordingPart(const Request& request, const std::string& from);

  // gate_orders.cpp
  /// Whether this person may switch a machine: the policy of one of its ways in says so, and he may drive
  /// there.
  [[nodiscard]] bool maySwitch(const Person& person, Id machine) const;
  void orderPower(Page& page, const Json& wish);
  /// The newest entries that have the words; for keepers. Without words also whether the chain is whole,
  /// which is too much work for every letter that is typed.
  [[nodiscard]] Json auditJson(const Person& person, const Json& wish) const;
  [[nodiscard]] static Id idIn(const Json& json, const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_number_integer() ? found->get<Id>() : 0;
  }
  Json makePass(Page& page, const Json& wish);
  [[nodiscard]] Json passesJson(const Person& person) const;
  void endPass(Page& page, Id id);
  /// The visit that {"way", "visit"} name; the room is held meanwhile.
  std::optional<std::pair<std::shared_ptr<Room>, VisitFacts>> visitOf(const Json& wish) const;
  /// A keeper ends anybody's visit; others their own.
  void endVisit(Page& page, const Json& wish);
  /// A keeper's words to one visitor.
  void writeTo(Page& page, const Json& wish);
  /// What a visitor sees, once, for a keeper; whoever is there is told of it.
  void lookIn(const std::shared_ptr<Page>& page, const Json& wish);
  void noteLookIn(const Page& page, Room& room, const VisitFacts& visit);

  // gate_visits.cpp
  [[nodiscard]] std::optional<Rules> rulesFor(Id way) const;
  std::shared_ptr<Room> roomFor(Id way, const Person& person);
  /// What policy and passes forbid; it counts for open visits, too.
  [[nodiscard]] std::string forbidden(const Person& person, Id way) const;
  /// Why this person may not open it now; empty when they may.
  [[nodiscard]] std::string whyNot(const Person& person, Id way) const;
  Task<void> visit(std::shared_ptr<WebSocket> socket, Person person, std::string token, std::string from,
                   Id way);
  Task<void> picture(std::shared_ptr<WebSocket> socket, Person person, Id way, Id number);
  /// Roles that were changed, sign-ins that ended, passes that are over: they count for open visits at once.
  void checkPeople();
  void applyRules();

  Runtime& runtime;
  Executor strand;
  GateOptions options;
  OpeningTools tools;
  GateStore store;
  MadeCertificate certificate;
  std::shared_ptr<const TlsIdentity> identity;
  std::shared_ptr<Snapshot> records;
  std::shared_ptr<Listener> listener;
  std::map<Id, std::shared_ptr<Room>> rooms;
  std::map<std::pair<Id, Id>, std::string> visitors;  ///< (way, visit) → sign-in
  std::vector<std::shared_ptr<Page>> pages;
  std::map<std::string, Seconds> lookedIn;  ///< who looked into which visit, and when last
  std::map<Id, CheckResult> reached;
  Limiter limiter;
  Signal changedSignal;
  PowerDesk power;
  std::size_t connections = 0;
  TimePoint nextLook{}, nextRest{}, nextUpkeep{};
  bool looking = false, keepingHouse = false, stopping = false, busy = false;
  std::uint16_t port = 0;
  BlockingThread slow;
};

}  // namespace kw::gate

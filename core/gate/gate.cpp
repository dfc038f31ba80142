#include "gate/gate.hpp"

#include <future>
#include <map>
#include <nlohmann/json.hpp>

#include "base/blocking.hpp"
#include "base/file.hpp"
#include "gate/http.hpp"
#include "gate/limiter.hpp"
#include "gate/outbox.hpp"
#include "gate/power_desk.hpp"
#include "gate/room.hpp"
#include "record/catalogue.hpp"
#include "route/checker.hpp"

namespace kw::gate {

namespace {

using Json = nlohmann::json;

constexpr const char* kCookie = "kettle-gate";
constexpr Seconds kSignInLasts = 12 * 3600;
constexpr int kMostAudit = 500;
constexpr std::size_t kMostMessage = 1 << 21;
constexpr std::size_t kMostWritten = 1000;  // bytes of a keeper's words
constexpr auto kTick = std::chrono::seconds(1);
constexpr int kLookEvery = 20, kLooksAtOnce = 4;
constexpr auto kLookLimit = std::chrono::seconds(3);
// RFC 6455 7.4.1, and codes of our own above 4000.
constexpr int kGoingAway = 1001, kSentAway = 4001, kNotAllowed = 4003;

std::string dumped(const Json& json) { return json.dump(-1, ' ', false, Json::error_handler_t::replace); }

Response jsonResponse(int status, const Json& body) {
  Response r;
  r.status = status;
  r.body = dumped(body);
  return r;
}
Response refusal(int status, const std::string& why) { return jsonResponse(status, {{"error", why}}); }

std::string cookieHeader(const std::string& token, Seconds lasts) {
  return std::string(kCookie) + "=" + token +
         "; HttpOnly; Secure; SameSite=Strict; Path=/; Max-Age=" + std::to_string(lasts);
}

Id idAt(const std::map<std::string, std::string>& query, const std::string& key) {
  const auto found = query.find(key);
  if (found == query.end() || found->second.empty() || found->second.size() > 18 ||
      found->second.find_first_not_of("0123456789") != std::string::npos)
    return 0;
  return std::stoll(found->second);
}

}  // namespace

struct Gate::State : std::enable_shared_from_this<Gate::State> {
  State(Runtime& r, GateOptions o, OpeningTools t)
      : runtime(r),
        strand(r.strand()),
        options(std::move(o)),
        tools(std::move(t)),
        store(options.state),
        changedSignal(strand),
        power(runtime, strand, tools) {
    if (!tools.ssh) tools.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
    loadCertificate();
    records = std::make_shared<Snapshot>(tools.store->load());
  }

  void loadCertificate() {
    if (!options.certificateFile.empty()) {
      certificate = {textOf(readFile(options.certificateFile)), textOf(readFile(options.keyFile))};
      return;
    }
    const auto file = options.state / "certificate.pem", key = options.state / "key.pem";
    if (!std::filesystem::exists(file)) {
      const MadeCertificate made = makeSelfSigned(options.address, 3650);
      writeFileSafely(key, viewOf(made.keyPem), 0600);
      writeFileSafely(file, viewOf(made.certificatePem), 0644);
    }
    certificate = {textOf(readFile(file)), textOf(readFile(key))};
  }

  // ---- one connection

  Task<void> acceptAll() {
    const auto self = shared_from_this();
    while (!stopping) {
      StreamPtr stream = co_await listener->accept();
      if (connections >= options.mostConnections) {
        stream->close();
        continue;
      }
      const auto shared = std::make_shared<StreamPtr>(std::move(stream));
      ++connections;
      spawn(
          strand, [self, shared] { return self->serve(shared); },
          [self](std::exception_ptr) { --self->connections; });
    }
  }

  Task<void> serve(std::shared_ptr<StreamPtr> shared) {
    const auto self = shared_from_this();
    const std::string from = (*shared)->peer();
    StreamPtr stream;
    const auto handshake = [&]() -> Task<void> {
      const TlsServerOptions tls{certificate.certificatePem, certificate.keyPem};
      stream = co_await startTlsServer(std::move(*shared), tls);
    };
    co_await within(options.limits.handshake, from, handshake());
    RequestReader reader(*stream);
    for (;;) {
      Request request;
      const auto read = [&]() -> Task<void> { request = co_await reader.next(); };
      co_await within(options.limits.request, from, read());
      if (request.wantsWebSocket()) {
        const auto early = reader.rest();
        co_return co_await webSocket(request, std::move(stream), early, from);
      }
      const Response response = co_await answer(request, from);
      const std::string text = printed(response, request.method == "HEAD");
      co_await within(options.limits.request, from, stream->write(viewOf(text)));
      if (lowered(request.header("connection")) == "close") break;
    }
    stream->close();
  }

  /// Browsers say where a request comes from; only our own page may ask for anything.
  [[nodiscard]] static bool ownOrigin(const Request& request) {
    return !request.header("host").empty() && request.header("origin") == "https://" + request.header("host");
  }

  [[nodiscard]] std::optional<Person> personOf(const Request& request) const {
    return store.person(request.cookie(kCookie), nowSeconds());
  }

  Task<Response> answer(const Request& request, const std::string& from) {
    const bool get = request.method == "GET" || request.method == "HEAD";
    if (get) {
      if (const PageFile* file = pageFile(request.path == "/" ? "/index.html" : request.path)) {
        Response r;
        r.type = file->type;
        r.body = file->contents;
        r.headers["Cache-Control"] = "no-cache";
        co_return r;
      }
      if (request.path == "/health") co_return jsonResponse(200, {{"ok", true}});
      if (request.path == "/me") {
        const auto person = personOf(request);
        if (!person) co_return refusal(401, "not signed in");
        co_return jsonResponse(200, meJson(*person));
      }
      co_return refusal(404, "nothing is here");
    }
    if (request.method != "POST") co_return refusal(405, "not this way");
    if (!ownOrigin(request)) co_return refusal(403, "asked from another site");
    if (request.path == "/sign-in") co_return co_await signIn(request, from);
    if (request.path == "/pass") co_return usePass(request, from);
    if (request.path == "/sign-out") {
      if (const auto person = personOf(request)) store.audit(person->name, from, "signs out");
      store.signOut(request.cookie(kCookie));
      Response r = jsonResponse(200, {{"ok", true}});
      r.headers["Set-Cookie"] = cookieHeader("", 0);
      wake();
      co_return r;
    }
    co_return refusal(404, "nothing is here");
  }

  [[nodiscard]] Json meJson(const Person& p) const {
    return {{"name", p.name},   {"role", nameOf(p.role)}, {"pass", p.pass != 0},
            {"way", p.onlyWay}, {"until", p.until},       {"gate", options.name}};
  }

  Task<Response> signIn(const Request& request, const std::string& from) {
    const Json body = Json::parse(request.body, nullptr, false);
    if (!body.is_object()) co_return refusal(400, "no sign-in");
    const auto text = [&](const char* key) {
      return body.contains(key) && body[key].is_string() ? body[key].get<std::string>() : std::string();
    };
    const std::string name = text("name"), password = text("password"), code = text("code");
    const std::string byName = "n " + name, byAddress = "a " + from;
    const Seconds now = nowSeconds();
    if (const Seconds wait = std::max(limiter.waits(byName, now), limiter.waits(byAddress, now)); wait > 0) {
      Response r = refusal(429, "too many wrong sign-ins: wait " + std::to_string(wait) + " s");
      r.headers["Retry-After"] = std::to_string(wait);
      co_return r;
    }
    const auto check = [this, name, password, code, now] { return store.mayIn(name, password, code, now); };
    const bool right = co_await slow.run(check);
    if (!right) {
      limiter.wrong(byName, now);
      limiter.wrong(byAddress, now);
      store.audit(name.substr(0, 64), from, "sign-in refused");
      co_return refusal(401, "name, password or code is not right");
    }
    limiter.right(byName);
    limiter.right(byAddress);
    store.audit(name, from, "signs in");
    const std::string token = store.signIn(name, now + kSignInLasts);
    Response r = jsonResponse(200, meJson(*store.person(token, now)));
    r.headers["Set-Cookie"] = cookieHeader(token, kSignInLasts);
    co_return r;
  }

  Response usePass(const Request& request, const std::string& from) {
    const Json body = Json::parse(request.body, nullptr, false);
    const std::string token = body.is_object() && body.contains("pass") && body["pass"].is_string()
                                  ? body["pass"].get<std::string>()
                                  : "";
    const Seconds now = nowSeconds();
    const std::string byAddress = "p " + from;
    if (limiter.waits(byAddress, now) > 0) return refusal(429, "too many wrong passes: wait a little");
    const auto pass = store.passOf(token);
    if (!pass) {
      limiter.wrong(byAddress, now);
      store.audit("", from, "unknown pass refused");
      return refusal(401, "this pass does not exist");
    }
    std::string problem = problemWith(*pass, now);
    const auto rules = rulesFor(pass->wayIn);
    if (problem.empty() && (!rules || !rules->access || !rules->passes))
      problem = "switched off for this machine";
    // The same browser coming back with its sign-in is no further use.
    const auto person = personOf(request);
    const bool back = person && person->pass == pass->id;
    if (problem.empty() && !back && !store.usePass(pass->id, now)) problem = "used up";
    if (!problem.empty()) {
      store.audit(pass->note, from, "pass refused", {{"pass", pass->id}, {"why", problem}});
      return refusal(403, "this pass is " + problem);
    }
    if (back) return jsonResponse(200, meJson(*person));
    store.audit(pass->note, from, "pass used", {{"pass", pass->id}, {"machine", pass->machine}});
    const std::string cookie = store.signInByPass(pass->id, pass->until);
    Response r = jsonResponse(200, meJson(*store.person(cookie, now)));
    r.headers["Set-Cookie"] = cookieHeader(cookie, pass->until - now);
    return r;
  }

  // ---- web sockets

  Task<void> webSocket(const Request& request, StreamPtr stream, Bytes early, std::string from) {
    const auto person = personOf(request);
    Response no;
    if (!ownOrigin(request))
      no = refusal(403, "asked from another site");
    else if (!person)
      no = refusal(401, "not signed in");
    else if (request.path != "/live" && request.path != "/visit" && request.path != "/picture")
      no = refusal(404, "nothing is here");
    else
      no.status = 101;
    if (no.status != 101) {
      const std::string text = printed(no, false);
      co_await stream->write(viewOf(text));
      stream->close();
      co_return;
    }
    const std::string accept =
        "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: "
        "Upgrade\r\nSec-WebSocket-Accept: " +
        webSocketAccept(request.header("sec-websocket-key")) + "\r\n\r\n";
    co_await stream->write(viewOf(accept));
    const auto socket = std::make_shared<WebSocket>(strand, std::move(stream), WebSocket::Side::Server,
                                                    kMostMessage, std::move(early));
    const std::string token = request.cookie(kCookie);
    if (request.path == "/live")
      co_await live(socket, *person, token, from);
    else if (request.path == "/visit")
      co_await visit(socket, *person, token, from, idAt(request.query, "way"));
    else
      co_await picture(socket, *person, idAt(request.query, "way"), idAt(request.query, "visit"));
  }

  Task<Json> nextJson(std::shared_ptr<WebSocket> socket) {
    WebSocketMessage message;
    const auto receive = [&]() -> Task<void> { message = co_await socket->receive(); };
    co_await within(options.limits.silence, "the page", receive());
    if (!message.text) protocolBroken("a page's message", "bytes where text belongs");
    const std::string text = textOf(message.bytes);
    Json json = Json::parse(text, nullptr, false);
    if (!json.is_object()) protocolBroken("a page's message", "it is no object");
    co_return json;
  }

  struct Page {
    std::shared_ptr<Outbox> out;
    Person person;
    std::string token, from, shown;
  };

  /// The list of machines, who is where, passes.
  Task<void> live(std::shared_ptr<WebSocket> socket, Person person, std::string token, std::string from) {
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
        takeFromPage(*page, message);
      }
    } catch (...) {
      failure = std::current_exception();
    }
    page->out->stop();
    std::rethrow_exception(failure);
  }

  void takeFromPage(Page& page, const Json& message) {
    if (message.contains("ping")) page.out->put(dumped({{"pong", message["ping"]}}));
    if (message.contains("makePass")) page.out->put(dumped(makePass(page, message["makePass"])));
    if (message.contains("endPass") && message["endPass"].is_number_integer())
      endPass(page, message["endPass"].get<Id>());
    if (message.contains("passes")) page.out->put(dumped({{"passes", passesJson(page.person)}}));
    if (message.contains("endVisit") && message["endVisit"].is_object()) endVisit(page, message["endVisit"]);
    if (message.contains("write") && message["write"].is_object()) writeTo(page, message["write"]);
    if (message.contains("power") && message["power"].is_object()) orderPower(page, message["power"]);
    if (message.contains("audit") && message["audit"].is_object())
      page.out->put(dumped(auditJson(page.person, message["audit"])));
  }

  /// Whether this person may switch a machine: the policy of one of its ways in says so, and he may drive
  /// there.
  [[nodiscard]] bool maySwitch(const Person& person, Id machine) const {
    if (person.pass != 0 || person.role == Role::Look) return false;
    for (const Endpoint* e : records->endpointsOf(machine))
      if (const auto rules = rulesFor(e->id); rules->power && rules->drive && rules->access) return true;
    return false;
  }

  void orderPower(Page& page, const Json& wish) {
    const Id machine = idIn(wish, "machine");
    const auto found = records->machines.find(machine);
    const std::string act =
        wish.contains("act") && wish["act"].is_string() ? wish["act"].get<std::string>() : "";
    if (found == records->machines.end() || !maySwitch(page.person, machine))
      return page.out->put(
          dumped({{"error", "switching this machine is not allowed here: set by its group's policy"}}));
    const std::string name = found->second.name;
    store.audit(page.person.name, page.from, "asks to " + act, {{"machine", name}});
    power.order(*records, machine, act, [out = page.out, name, act](const std::string& wrong) {
      if (!wrong.empty()) out->put(dumped({{"error", name + ", " + act + ": " + wrong}}));
    });
  }

  /// The newest entries that have the words; for keepers. Without words also whether the chain is whole,
  /// which is too much work for every letter that is typed.
  [[nodiscard]] Json auditJson(const Person& person, const Json& wish) const {
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

  [[nodiscard]] static Id idIn(const Json& json, const char* key) {
    const auto found = json.find(key);
    return found != json.end() && found->is_number_integer() ? found->get<Id>() : 0;
  }

  Json makePass(Page& page, const Json& wish) {
    if (page.person.pass != 0 || page.person.role == Role::Look)
      return {{"error", "this account makes no passes"}};
    if (!wish.is_object()) return {{"error", "no wish"}};
    const Id way = idIn(wish, "way");
    const auto rules = rulesFor(way);
    if (!rules) return {{"error", "no such way in"}};
    if (!rules->access || !rules->passes)
      return {{"error", "passes are switched off for this machine, by its group's policy"}};
    const double hours =
        wish.contains("hours") && wish["hours"].is_number() ? wish["hours"].get<double>() : 1;
    if (!(hours > 0) || hours > rules->passHours)
      return {{"error", "a pass of this machine lasts at most " + std::to_string(rules->passHours) + " h"}};
    const Endpoint& e = records->endpoints.at(way);
    Pass pass;
    pass.wayIn = way;
    pass.machine = records->machines.at(e.machine).name;
    pass.label = e.label;
    pass.look = !(wish.contains("look") && wish["look"] == false) || !rules->drive;
    pass.carriesPassword =
        wish.contains("carry") && wish["carry"] == true && page.person.role == Role::Keeper;
    pass.from = nowSeconds();
    pass.until = pass.from + static_cast<Seconds>(hours * 3600);
    pass.most = static_cast<int>(std::clamp<Id>(idIn(wish, "uses"), 0, 10000));
    pass.note = wish.contains("note") && wish["note"].is_string()
                    ? cleanUtf8(wish["note"].get<std::string>().substr(0, 80))
                    : "";
    pass.madeBy = page.person.name;
    const std::string token = store.makePass(pass);
    store.audit(page.person.name, page.from, "makes a pass",
                {{"pass", pass.id}, {"machine", pass.machine}, {"look", pass.look}, {"until", pass.until}});
    return {{"passMade", {{"id", pass.id}, {"path", "/#pass=" + token}, {"until", pass.until}}}};
  }

  [[nodiscard]] Json passesJson(const Person& person) const {
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

  void endPass(Page& page, Id id) {
    const auto pass = store.pass(id);
    if (!pass || page.person.pass != 0 ||
        (page.person.role != Role::Keeper && pass->madeBy != page.person.name))
      return;
    store.endPass(id);
    store.audit(page.person.name, page.from, "ends a pass", {{"pass", id}, {"machine", pass->machine}});
    checkPeople();
    page.out->put(dumped({{"passes", passesJson(page.person)}}));
  }

  /// The visit that {"way", "visit"} name; the room is held meanwhile.
  std::optional<std::pair<std::shared_ptr<Room>, VisitFacts>> visitOf(const Json& wish) const {
    const auto room = rooms.find(idIn(wish, "way"));
    if (room == rooms.end()) return std::nullopt;
    for (const VisitFacts& v : room->second->visits())
      if (v.number == idIn(wish, "visit")) return std::pair(room->second, v);
    return std::nullopt;
  }

  /// A keeper ends anybody's visit; others their own.
  void endVisit(Page& page, const Json& wish) {
    const auto found = visitOf(wish);
    if (!found) return;
    const auto& [room, v] = *found;
    if (page.person.role != Role::Keeper && (v.who != page.person.name || v.byPass)) return;
    store.audit(page.person.name, page.from, "ends a visit", {{"machine", v.machine}, {"of", v.who}});
    room->sendAway(v.number, "ended by " + page.person.name);
  }

  /// A keeper's words to one visitor.
  void writeTo(Page& page, const Json& wish) {
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

  [[nodiscard]] std::optional<Rules> rulesFor(Id way) const {
    if (!records->endpoints.contains(way)) return std::nullopt;
    return rulesOf(settingsOf(*records, {OwnerKind::WayIn, way}));
  }

  std::shared_ptr<Room> roomFor(Id way, const Person& person) {
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
    plan.changed = [this] { wake(); };
    plan.over = [this](Id id) {
      rooms.erase(id);
      wake();
    };
    const auto room = std::make_shared<Room>(std::move(plan));
    room->start();
    rooms[way] = room;
    return room;
  }

  /// What policy and passes forbid; it counts for open visits, too.
  [[nodiscard]] std::string forbidden(const Person& person, Id way) const {
    const auto rules = rulesFor(way);
    if (!rules || (person.onlyWay != 0 && person.onlyWay != way)) return "this is not yours to open";
    if (!rules->access) return "reaching it through the gateway is off: set by its group's policy";
    if (person.pass != 0 && !rules->passes) return "passes are off for this machine";
    return "";
  }

  /// Why this person may not open it now; empty when they may.
  [[nodiscard]] std::string whyNot(const Person& person, Id way) const {
    if (std::string why = forbidden(person, way); !why.empty()) return why;
    const auto rules = rulesFor(way);
    if (!canOpen(records->endpoints.at(way).scheme())) return "no engine for it";
    if (const auto room = rooms.find(way); room != rooms.end() && !rules->several)
      for (const VisitFacts& v : room->second->visits())
        if (v.who != person.name) return v.who + " is there, and only one visitor is allowed";
    return "";
  }

  Task<void> visit(std::shared_ptr<WebSocket> socket, Person person, std::string token, std::string from,
                   Id way) {
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

  Task<void> picture(std::shared_ptr<WebSocket> socket, Person person, Id way, Id number) {
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

  // ---- what goes on by itself

  void wake() { changedSignal.notify(); }

  /// Roles that were changed, sign-ins that ended, passes that are over: they count for open visits at once.
  void checkPeople() {
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

  void applyRules() {
    const auto now = rooms;
    for (const auto& [way, room] : now)
      if (const auto rules = rulesFor(way)) room->applyRules(*rules);
  }

  Task<void> tick() {
    const auto self = shared_from_this();
    while (!stopping) {
      co_await firstOf(tools.clock->sleep(kTick), changedSignal.wait());
      if (stopping) break;
      try {
        if (auto fresh = tools.store->changesSince(*records)) {
          records = std::move(fresh);
          applyRules();
        }
        checkPeople();
      } catch (const Error&) {
        // A store that cannot be read now is tried again; visits go on.
      }
      const auto openPages = pages;
      for (const auto& page : openPages) tellPage(*page);
      if (!pages.empty() && !looking && ++sinceLook >= kLookEvery) {
        sinceLook = 0;
        looking = true;
        spawn(strand, [self] { return self->look(); });
      }
    }
  }

  Task<void> look() {
    const auto self = shared_from_this();
    std::vector<std::pair<Id, Address>> todo;
    for (const auto& [id, e] : records->endpoints) {
      try {
        const auto rules = rulesFor(id);
        if (!rules->access || !canOpen(e.scheme()) || nearestJump(*records, id)) continue;
        todo.emplace_back(id, parseAddress(e.address));
      } catch (const Error&) {
        continue;  // a broken address shows as such on its sheet
      }
    }
    const auto next = std::make_shared<std::size_t>(0);
    const auto list = std::make_shared<decltype(todo)>(std::move(todo));
    const auto running = std::make_shared<int>(kLooksAtOnce);
    for (int i = 0; i < kLooksAtOnce; ++i)
      spawn(strand, [self, next, list, running]() -> Task<void> {
        while (*next < list->size() && !self->stopping) {
          const auto [id, address] = (*list)[(*next)++];
          self->reached[id] = co_await checkAddress(address, kLookLimit);
        }
        if (--*running == 0) {
          self->looking = false;
          self->wake();
        }
      });
    co_return;
  }

  void tellPage(Page& page) {
    std::string text = dumped({{"machines", machinesJson(page.person)}});
    if (text == page.shown) return;
    page.shown = text;
    page.out->put(std::move(text));
  }

  [[nodiscard]] Json machinesJson(const Person& person) {
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

  void stopNow() {
    stopping = true;
    if (listener) listener->close();
    const auto all = rooms;
    for (const auto& [way, room] : all) room->endAll("the gateway ends");
    for (const auto& page : std::vector(pages)) page->out->finish(kGoingAway, "the gateway ends");
    wake();
  }

  Runtime& runtime;
  Executor strand;
  GateOptions options;
  OpeningTools tools;
  GateStore store;
  MadeCertificate certificate;
  std::shared_ptr<Snapshot> records;
  std::shared_ptr<Listener> listener;
  std::map<Id, std::shared_ptr<Room>> rooms;
  std::map<std::pair<Id, Id>, std::string> visitors;  ///< (way, visit) → sign-in
  std::vector<std::shared_ptr<Page>> pages;
  std::map<Id, CheckResult> reached;
  Limiter limiter;
  Signal changedSignal;
  PowerDesk power;
  std::size_t connections = 0;
  int sinceLook = kLookEvery;
  bool looking = false, stopping = false;
  std::uint16_t port = 0;
  BlockingThread slow;
};

Gate::Gate(Runtime& runtime, GateOptions options, OpeningTools tools)
    : state_(std::make_shared<State>(runtime, std::move(options), std::move(tools))) {}

Gate::~Gate() { stop(); }

void Gate::start() {
  state_->listener = listenTcp(state_->strand, state_->options.address, state_->options.port);
  state_->port = state_->listener->port();
  state_->power.whenChanged([weak = state_->weak_from_this()] {
    if (const auto state = weak.lock()) state->wake();
  });
  spawn(state_->strand, [state = state_] { return state->acceptAll(); });
  spawn(state_->strand, [state = state_] { return state->tick(); });
  state_->store.audit("", "", "gateway starts", {{"port", state_->port}});
}

void Gate::stop() {
  using Hosts = std::vector<std::shared_ptr<host::Host>>;
  const auto done = std::make_shared<std::promise<Hosts>>();
  post(state_->strand, [state = state_, done] {
    if (!state->stopping) state->stopNow();
    done->set_value(state->power.release());
  });
  // The context may have been stopped already; then nothing runs any more anyway.
  auto hosts = done->get_future();
  if (hosts.wait_for(std::chrono::seconds(2)) != std::future_status::ready) return;
  for (const auto& host : hosts.get()) host->end();
}

std::uint16_t Gate::port() const { return state_->port; }
std::string Gate::fingerprint() const { return sha256OfPem(state_->certificate.certificatePem); }
GateStore& Gate::store() { return state_->store; }

}  // namespace kw::gate

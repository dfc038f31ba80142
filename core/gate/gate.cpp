#include "gate/gate_state.hpp"

#include <future>
#include "base/file.hpp"
#include "record/catalogue.hpp"

namespace kw::gate {

namespace {

constexpr std::size_t kMostMessage = 1 << 21;
constexpr auto kTick = std::chrono::seconds(1), kLookEvery = std::chrono::seconds(20),
               kRestEvery = std::chrono::seconds(5);
constexpr auto kLeastBetween = std::chrono::milliseconds(30);
constexpr int kLooksAtOnce = 4;
constexpr auto kLoadEvery = std::chrono::milliseconds(200);
constexpr double kBusyLate = 40, kCalmLate = 8;  // milliseconds that work waits for its turn
constexpr auto kLookLimit = std::chrono::seconds(3);

Id idAt(const std::map<std::string, std::string>& query, const std::string& key) {
  const auto found = query.find(key);
  if (found == query.end() || found->second.empty() || found->second.size() > 18 ||
      found->second.find_first_not_of("0123456789") != std::string::npos)
    return 0;
  return std::stoll(found->second);
}

}  // namespace

Gate::State::State(Runtime& r, GateOptions o, OpeningTools t)
    : runtime(r),
      strand(r.strand()),
      options(std::move(o)),
      tools(std::move(t)),
      store(options.state),
      changedSignal(strand),
      power(runtime, strand, tools) {
  if (!tools.ssh) tools.ssh = std::make_shared<SshPool>([this] { return runtime.strand(); });
  useCertificate(readCertificate());
  records = std::make_shared<Snapshot>(tools.store->load());
}

MadeCertificate Gate::State::readCertificate() const {
  if (!options.certificateFile.empty())
    return {textOf(readFile(options.certificateFile)), textOf(readFile(options.keyFile))};
  const auto file = options.state / "certificate.pem", key = options.state / "key.pem";
  if (!std::filesystem::exists(file)) {
    const MadeCertificate made = makeSelfSigned(options.address, 3650);
    writeFileSafely(key, viewOf(made.keyPem), 0600);
    writeFileSafely(file, viewOf(made.certificatePem), 0644);
  }
  return {textOf(readFile(file)), textOf(readFile(key))};
}

void Gate::State::useCertificate(MadeCertificate made) {
  identity = tlsIdentity({made.certificatePem, made.keyPem});
  certificate = std::move(made);
}

Task<void> Gate::State::acceptAll() {
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

Task<void> Gate::State::serve(std::shared_ptr<StreamPtr> shared) {
  const auto self = shared_from_this();
  const std::string from = (*shared)->peer();
  StreamPtr stream;
  const auto handshake = [&]() -> Task<void> {
    stream = co_await startTlsServer(std::move(*shared), identity);
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
    Response response = co_await answer(request, from);
    response.headers["Content-Security-Policy"] = contentPolicy(options.embedders);
    const std::string text = printed(response, request.method == "HEAD");
    co_await within(options.limits.request, from, stream->write(viewOf(text)));
    if (lowered(request.header("connection")) == "close") break;
  }
  stream->close();
}

Task<Response> Gate::State::answer(const Request& request, const std::string& from) {
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
    if (request.path == "/recording") co_return co_await recordingPart(request, from);
    co_return refusal(404, "nothing is here");
  }
  if (request.method != "POST") co_return refusal(405, "not this way");
  if (!ownOrigin(request)) co_return refusal(403, "asked from another site");
  if (request.path == "/sign-in") co_return co_await signIn(request, from);
  if (request.path == "/pass") co_return usePass(request, from);
  if (request.path == "/sign-out") co_return signOut(request, from);
  co_return refusal(404, "nothing is here");
}

Task<void> Gate::State::webSocket(const Request& request, StreamPtr stream, Bytes early, std::string from) {
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

Task<Json> Gate::State::nextJson(std::shared_ptr<WebSocket> socket) {
  WebSocketMessage message;
  const auto receive = [&]() -> Task<void> { message = co_await socket->receive(); };
  co_await within(options.limits.silence, "the page", receive());
  if (!message.text) protocolBroken("a page's message", "bytes where text belongs");
  const std::string text = textOf(message.bytes);
  Json json = Json::parse(text, nullptr, false);
  if (!json.is_object()) protocolBroken("a page's message", "it is no object");
  co_return json;
}

Task<void> Gate::State::tick() {
  const auto self = shared_from_this();
  TimePoint lastRound{};
  while (!stopping) {
    co_await firstOf(tools.clock->sleep(kTick), changedSignal.wait());
    // However many come and go at once, everybody is told a bounded number of times.
    if (const auto since = tools.clock->now() - lastRound; since < kLeastBetween)
      co_await tools.clock->sleep(kLeastBetween - since);
    if (stopping) break;
    lastRound = tools.clock->now();
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
    if (lastRound >= nextRest) {
      nextRest = lastRound + kRestEvery;
      for (const auto& [way, room] : rooms) room->rest();
    }
    if (!pages.empty() && !looking && lastRound >= nextLook) {
      nextLook = lastRound + kLookEvery;
      looking = true;
      spawn(strand, [self] { return self->look(); });
    }
    if (!keepingHouse && lastRound >= nextUpkeep) {
      nextUpkeep = lastRound + options.upkeepEvery;
      keepingHouse = true;
      spawn(
          strand, [self] { return self->keepHouse(); },
          [self](std::exception_ptr) { self->keepingHouse = false; });  // what failed is tried again then
    }
  }
}

Task<void> Gate::State::watchLoad() {
  const auto self = shared_from_this();
  double late = 0;  // milliseconds, smoothed
  while (!stopping) {
    const TimePoint before = tools.clock->now();
    co_await tools.clock->sleep(kLoadEvery);
    const std::chrono::duration<double, std::milli> over = tools.clock->now() - before - kLoadEvery;
    late += (over.count() - late) / 4;
    const bool now = busy ? late > kCalmLate : late > kBusyLate;
    if (now == busy) continue;
    busy = now;
    for (const auto& [way, room] : rooms) room->busy(busy);
  }
}

Task<void> Gate::State::look() {
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

void Gate::State::stopNow() {
  stopping = true;
  if (listener) listener->close();
  const auto all = rooms;
  for (const auto& [way, room] : all) room->endAll("the gateway ends");
  for (const auto& page : std::vector(pages)) page->out->finish(kGoingAway, "the gateway ends");
  wake();
}

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
  spawn(state_->strand, [state = state_] { return state->watchLoad(); });
  state_->store.audit("", "", "gateway starts", {{"port", state_->port}});
}

void Gate::reload() {
  const auto failed = std::make_shared<std::promise<void>>();
  post(state_->strand, [state = state_, failed] {
    try {
      state->useCertificate(state->readCertificate());
      state->store.audit("", "", "certificate read anew");
      failed->set_value();
    } catch (...) {
      failed->set_exception(std::current_exception());
    }
  });
  failed->get_future().get();
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

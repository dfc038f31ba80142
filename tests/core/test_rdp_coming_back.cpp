// A session that is cut off comes back to where it was, by the service's cookie.
#include "rdp/coming_back.hpp"
#include "session/rdp_session.hpp"
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

struct Host : Desk {
  std::mutex mutex;
  std::vector<std::string> visits;
  void signedIn(const NtlmAccount& a) override { note("signed in " + a.user); }
  void cameBack(const NtlmAccount& a) override { note("came back " + a.user); }
  void note(const std::string& what) {
    const std::lock_guard held(mutex);
    visits.push_back(what);
  }
  std::vector<std::string> seen() {
    const std::lock_guard held(mutex);
    return visits;
  }
};

/// Answers every question, and keeps what was remarked.
struct Visitor : SessionObserver {
  std::mutex mutex;
  SessionStatus status;
  std::vector<std::string> remarks;
  std::atomic<int> rings = 0;
  void bell() override { ++rings; }
  void statusChanged(const SessionStatus& s) override {
    const std::lock_guard held(mutex);
    status = s;
  }
  void remark(const std::string& text) override {
    const std::lock_guard held(mutex);
    remarks.push_back(text);
  }
  void asked(const Question&, std::function<void(Answer)> reply) override {
    Answer a;
    a.accepted = true;
    a.user = "duty", a.password = "fern-house";
    reply(a);
  }
};

/// A machine whose connection can be cut.
struct CutWay : Way {
  explicit CutWay(Executor on) : strand(std::move(on)) {
    options.certificate = certificate();
    options.comeBacks = std::make_shared<ComeBackBook>();
    options.account = [this](const NtlmAccount&) { return KnownAccount{password, 0}; };
    host.strand = strand;
  }
  Task<StreamPtr> connect(Asker&, RouteFacts&, ConnectFindings*, std::optional<Place>) override {
    auto [a, b] = memoryPair(strand);
    server = std::make_shared<Server>(strand, picture, options, host);
    host.server = server.get();
    spawn(strand, [serving = server, other = std::make_shared<StreamPtr>(std::move(b))]() -> Task<void> {
      co_await serving->run(std::move(*other));
    });
    co_return std::move(a);
  }
  [[nodiscard]] std::string pinName() const override { return "seed-bank"; }
  [[nodiscard]] std::string forPeople() const override { return "seed-bank"; }

  Executor strand;
  ServerOptions options;
  std::string password = "fern-house";
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{320, 200});
  Host host;
  std::shared_ptr<Server> server;
};

}  // namespace

TEST_CASE("A session that was cut comes back by the cookie, also where the password has changed", "[rdp]") {
  Runtime runtime{1};
  const Executor strand = runtime.strand();
  const auto way = std::make_shared<CutWay>(strand);
  const auto visitor = std::make_shared<Visitor>();
  const bool legacy = GENERATE(false, true);
  CAPTURE(legacy);
  way->options.network = false, way->options.tls = !legacy, way->options.legacy = legacy;
  RdpConfig config;
  config.label = "seed-bank";
  config.way = way;
  config.options.host = "seed-bank";
  config.options.user = "duty";
  config.reconnect.first = std::chrono::milliseconds(1);
  const auto session = makeRdpSession(strand, systemClock(), config);
  session->observe(visitor);
  session->start();
  REQUIRE(eventually([&] { return way->host.seen().size() == 1; }));
  // What rings after the cookie was sent is heard after it came: a cut before that would lose it.
  const auto cut = [&] {
    const int before = visitor->rings;
    post(strand, [way] { way->server->bell(); });
    REQUIRE(eventually([&] { return visitor->rings > before; }));
    post(strand, [way] { way->server->close(); });
  };
  // Only the cookie can let it in now.
  post(strand, [way] { way->password = "orchid"; });
  cut();
  REQUIRE(eventually([&] { return way->host.seen().size() == 2; }));
  cut();  // its next cookie is a new one
  REQUIRE(eventually([&] { return way->host.seen().size() == 3; }));
  CHECK(way->host.seen() == std::vector<std::string>{"signed in duty", "came back duty", "came back duty"});
  // A service that has forgotten it says so, and the password counts again.
  post(strand, [way] {
    way->options.comeBacks = std::make_shared<ComeBackBook>();
    way->password = "fern-house";
  });
  cut();
  REQUIRE(eventually([&] { return way->host.seen().size() == 4; }));
  CHECK(way->host.seen().back() == "signed in duty");
  CHECK(eventually([&] {
    const std::lock_guard held(visitor->mutex);
    return std::count(visitor->remarks.begin(), visitor->remarks.end(),
                      "The session from before the cut is not there any more; this is a new one.") == 1;
  }));
  session->end();
  REQUIRE(eventually([&] {
    const std::lock_guard held(visitor->mutex);
    return visitor->status.stage == SessionStage::Ended;
  }));
  runtime.stop();
}

TEST_CASE("A cookie of before a cut is good once, with its own random, for its own session", "[rdp]") {
  ComeBackBook book;
  const ComeBackCookie one = book.begin({"duty", "", ""}), two = book.begin({"seed desk", "", ""});
  CHECK(one.random != two.random);
  const Bytes sent = writeComeBackCookie(one);
  CHECK(sent.size() == 28);
  CHECK(readComeBackCookie(sent).random == one.random);
  const Bytes clientRandom(32, 7);
  CHECK_FALSE(book.take(proofOfCookie(one, clientRandom), {}).has_value());
  CHECK_FALSE(book.take(proofOfCookie({one.logonId, two.random}, {}), {}).has_value());
  CHECK_FALSE(book.take(proofOfCookie({99, one.random}, {}), {}).has_value());
  CHECK(book.take(proofOfCookie(one, {}), {})->user == "duty");
  CHECK_FALSE(book.take(proofOfCookie(one, {}), {}).has_value());
  CHECK(book.take(proofOfCookie(two, clientRandom), clientRandom)->user == "seed desk");
  CHECK_THROWS_AS(book.take(Bytes(27, 0), {}), Error);
  CHECK_THROWS_AS(readComeBackCookie(Bytes(20, 0)), Error);
  Bytes wrong = sent;
  wrong[0] = 29;
  CHECK_THROWS_AS(readComeBackCookie(wrong), Error);
}

// A farm that sends a session on: by a routing token, to another address, in a circle.
#include "session/rdp_session.hpp"
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

struct Watcher : SessionObserver {
  std::mutex mutex;
  SessionStatus status;
  std::vector<Question> questions;
  Region seen = Region::exact();
  void statusChanged(const SessionStatus& s) override {
    const std::lock_guard held(mutex);
    status = s;
  }
  void damaged(const Region& r) override {
    const std::lock_guard held(mutex);
    seen.add(r);
  }
  void asked(const Question& q, std::function<void(Answer)> reply) override {
    {
      const std::lock_guard held(mutex);
      questions.push_back(q);
    }
    Answer a;
    a.accepted = true;
    a.user = "duty";
    a.password = "fern-house";
    reply(a);
  }
  template <typename F>
  auto get(F what) {
    const std::lock_guard held(mutex);
    return what(*this);
  }
};

/// A broker and two machines, told apart by where the visitor was sent.
struct Farm : Way {
  explicit Farm(Executor on) : strand(std::move(on)) {}
  Executor strand;
  std::mutex mutex;
  std::vector<std::string> dialled;
  std::function<std::optional<Redirection>(const std::string& place, int visit)> plan;
  std::string plainPlace;  ///< where only old security is spoken
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{320, 200});
  Desk desk;
  std::vector<std::shared_ptr<Server>> servers;

  Task<StreamPtr> connect(Asker&, RouteFacts&, ConnectFindings*, std::optional<Place> elsewhere) override {
    const std::string place = elsewhere ? elsewhere->host : "broker";
    int visit = 0;
    {
      const std::lock_guard held(mutex);
      dialled.push_back(place);
      visit = static_cast<int>(dialled.size());
    }
    ServerOptions options;
    options.certificate = certificate();
    options.account = [](const NtlmAccount&) { return KnownAccount{"fern-house", 0}; };
    if (place == plainPlace) options.network = false, options.legacy = true;
    options.redirect = [this, place, visit](const NtlmAccount&) { return plan(place, visit); };
    auto [a, b] = memoryPair(strand);
    auto server = std::make_shared<Server>(strand, picture, options, desk);
    desk.strand = strand;
    desk.server = server.get();
    servers.push_back(server);
    spawn(strand, [server, other = std::make_shared<StreamPtr>(std::move(b))]() -> Task<void> {
      co_await server->run(std::move(*other));
    });
    co_return std::move(a);
  }
  [[nodiscard]] std::string pinName() const override { return "broker"; }
  [[nodiscard]] std::string forPeople() const override { return "the broker"; }
};

struct FarmBench {
  Runtime runtime{1};
  Executor strand = runtime.strand();
  std::shared_ptr<Farm> farm = std::make_shared<Farm>(strand);
  std::shared_ptr<Watcher> watcher = std::make_shared<Watcher>();
  std::shared_ptr<Session> session;
  void open() {
    RdpConfig config;
    config.label = "seed-bank";
    config.way = farm;
    config.options.host = "broker";
    config.options.user = "duty";
    config.reconnect.enabled = false;
    session = makeRdpSession(strand, systemClock(), config);
    session->observe(watcher);
    session->start();
  }
  ~FarmBench() {
    session->end();
    eventually(
        [&] { return watcher->get([](Watcher& w) { return w.status.stage == SessionStage::Ended; }); });
    runtime.stop();
  }
  bool shows() {
    return eventually([&] {
      return watcher->get([](Watcher& w) { return w.seen.covers({0, 0, 320, 200}); });
    });
  }
};

}  // namespace

TEST_CASE("RDP farm: a routing token or an address leads on; the password is asked for once", "[rdp][farm]") {
  const bool byToken = GENERATE(true, false);
  FarmBench bench;
  bench.farm->plan = [&](const std::string&, int visit) -> std::optional<Redirection> {
    if (visit > 1) return std::nullopt;
    Redirection to;
    (byToken ? to.routingToken : to.address) = byToken ? "tsv://farm.1" : "127.0.0.12";
    return to;
  };
  bench.open();
  REQUIRE(bench.shows());
  CHECK(bench.farm->dialled == std::vector<std::string>{"broker", byToken ? "broker" : "127.0.0.12"});
  int passwords = 0, certificates = 0;
  bench.watcher->get([&](Watcher& w) {
    for (const Question& q : w.questions) ++(q.kind == Question::Kind::Trust ? certificates : passwords);
    return 0;
  });
  CHECK(passwords == 1);
  // Nobody was told to remember it: at another place it is asked about again.
  CHECK(certificates == (byToken ? 1 : 2));
}

TEST_CASE("RDP farm: a password given to a sealed broker does not go on in clear by itself", "[rdp][farm]") {
  FarmBench bench;
  bench.farm->plainPlace = "127.0.0.12";
  bench.farm->plan = [](const std::string& place, int) -> std::optional<Redirection> {
    if (place != "broker") return std::nullopt;
    Redirection to;
    to.address = "127.0.0.12";
    return to;
  };
  bench.open();
  REQUIRE(bench.shows());
  int passwords = 0;
  bench.watcher->get([&](Watcher& w) {
    for (const Question& q : w.questions) passwords += q.kind == Question::Kind::UserAndPassword ? 1 : 0;
    return 0;
  });
  CHECK(passwords == 2);
}

TEST_CASE("RDP farm: a circle ends with a clear error", "[rdp][farm]") {
  FarmBench bench;
  bench.farm->plan = [](const std::string& place, int) -> std::optional<Redirection> {
    Redirection to;
    to.address = place == "127.0.0.11" ? "127.0.0.12" : "127.0.0.11";
    return to;
  };
  bench.open();
  REQUIRE(eventually(
      [&] { return bench.watcher->get([](Watcher& w) { return w.status.stage == SessionStage::Ended; }); }));
  CHECK(bench.watcher->get([](Watcher& w) { return w.status.sentence; }).find("in a circle") !=
        std::string::npos);
  CHECK(bench.farm->dialled.size() == 6);
}

TEST_CASE("RDP farm: the packet of the specification, and broken ones", "[rdp][farm]") {
  Redirection to;
  to.address = "127.0.0.12";
  to.user = "duty";
  to.domain = "ALDER";
  Redirection back = readRedirection(writeRedirection(to));
  CHECK(back.address == "127.0.0.12");
  CHECK(back.user == "duty");
  CHECK(back.domain == "ALDER");
  CHECK_FALSE(back.onlyTold);
  // A token wins over an address, and without either there is nowhere to go.
  to.routingToken = "tsv://farm.1";
  back = readRedirection(writeRedirection(to));
  CHECK(back.address.empty());
  CHECK(back.routingToken == "tsv://farm.1");
  CHECK(readRedirection(writeRedirection({})).onlyTold);
  const Bytes whole = writeRedirection(to);
  for (std::size_t n = 0; n < whole.size(); ++n)
    CHECK_THROWS_AS(readRedirection(ByteView(whole).first(n)), Error);
}

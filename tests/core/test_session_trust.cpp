// What a session trusts and remembers: kept passwords, pins, lines that were sealed.
#include "tests/core/session_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A recorded machine opens with its settings, its kept password and its pin", "[session][record]") {
  test::TemporaryFolder folder;
  OpeningTools tools;
  tools.store = openSqliteStore(folder.path / "records.sqlite");
  tools.vault = openVault(folder.path / "config");
  Owner owner;
  tools.store->commit("add", [&](StoreWriter& w) {
    Machine m;
    m.name = "mist-bench";
    w.put(m);
    Endpoint e;
    e.machine = m.id;
    e.address = "vnc://127.0.0.1:5907";
    w.put(e);
    owner = {OwnerKind::WayIn, e.id};
    w.set({OwnerKind::Machine, m.id}, "screen.colours", "16");
    w.set(owner, "screen.quality", "low");
    w.set(owner, "security.sealed", "on");
    w.set(owner, "reconnect.longest", "7");
  });
  keepSignIn(tools, owner, {"duty", "orchid"});
  const Snapshot s = tools.store->load();
  const Address address = parseAddress("vnc://127.0.0.1:5907");
  VncConfig config = vncConfig(address, "mist-bench", settingsOf(s, owner));
  config.kept = keptSignInsOf(tools, owner, address, builtInSettings());
  CHECK(config.options.format == PixelFormat::rgb565());
  CHECK(config.options.quality == 3);
  CHECK(config.options.compression == 9);
  CHECK(config.options.security.sealedOnly);
  CHECK(config.reconnect.longest == std::chrono::seconds(7));
  CHECK(config.kept.find(SecretUse::Challenge)->password == "orchid");
  CHECK(config.kept.find(SecretUse::Proved)->user == "duty");
  CHECK_FALSE(config.kept.find(SecretUse::Clear));
  // The password is nowhere on disk in the clear.
  for (const auto& file : std::filesystem::recursive_directory_iterator(folder.path))
    if (file.is_regular_file()) CHECK(textOf(readFile(file.path())).find("orchid") == std::string::npos);
}

namespace {

/// A console that was pinned when it was sealed; whoever answers on its address now offers less.
struct Impostor {
  explicit Impostor(lab::ConsolePlan p) : bench(std::move(p)) {
    peer = "127.0.0.1:" + std::to_string(bench.config.port);
    trust->pins[peer] = "ab:cd";
    bench.config.trust = trust;
    bench.config.kept.find = [this](SecretUse use) -> std::optional<SignIn> {
      ++asked;
      const SignIn kept{"duty", "orchid", SecretUse::Proved};
      return mayAnswer(kept.use, use) ? std::optional(kept) : std::nullopt;
    };
  }
  bool refused() {
    return test::eventually([&] {
      return bench.watcher->get([](SessionWatcher& w) { return w.status.problem == ErrorKind::NotTrusted; });
    });
  }
  std::string peer;
  std::shared_ptr<MemoryTrust> trust = std::make_shared<MemoryTrust>();
  std::atomic<int> asked = 0;
  SessionBench bench;
};

lab::ConsolePlan impostorPlan(const std::string& kind) {
  lab::ConsolePlan p = plan(kind == "none" ? "" : "orchid");
  p.options.anonymousTls = kind == "anonymous TLS";
  if (kind == "plain") {
    p.options.user = "duty";
    p.options.plainSignIn = true;
  }
  return p;
}

}  // namespace

TEST_CASE("A line that was sealed is not continued in clear without a question, and no kept password leaves",
          "[session]") {
  const std::string kind = GENERATE("none", "VNC password", "anonymous TLS");
  CAPTURE(kind);
  Impostor impostor(impostorPlan(kind));
  impostor.bench.watcher->replies = {Answer{}};
  impostor.bench.open();
  REQUIRE(impostor.refused());
  CHECK(impostor.asked == 0);
  impostor.bench.watcher->get([&](SessionWatcher& w) {
    REQUIRE(w.questions.size() == 1);
    CHECK(w.questions[0].kind == Question::Kind::Unsealed);
    CHECK(w.questions[0].pinned == "ab:cd");
    return 0;
  });
}

TEST_CASE("Going on in clear is possible, but then the password is asked, not taken from what is kept",
          "[session]") {
  Impostor impostor(impostorPlan("VNC password"));
  Answer goOn;
  goOn.accepted = true;
  impostor.bench.watcher->replies = {goOn, SessionBench::password("orchid")};
  impostor.bench.open();
  REQUIRE(impostor.bench.watcher->reaches(SessionStage::Live));
  CHECK(impostor.asked == 1);  // looked for, and not found for this use
  CHECK(impostor.bench.watcher->get([](SessionWatcher& w) { return w.questions.size() == 2; }));
}

TEST_CASE("A kept secret answers only the kind of method that it was kept for", "[session]") {
  using U = SecretUse;
  for (U kept : {U::Unknown, U::Clear, U::Challenge, U::Sealed, U::Proved})
    CHECK_FALSE(mayAnswer(kept, U::Clear));
  CHECK(mayAnswer(U::Proved, U::Proved));
  CHECK_FALSE(mayAnswer(U::Proved, U::Sealed));
  CHECK_FALSE(mayAnswer(U::Proved, U::Challenge));
  CHECK(mayAnswer(U::Clear, U::Challenge));
  CHECK_FALSE(mayAnswer(U::Challenge, U::Sealed));
  CHECK(mayAnswer(U::Unknown, U::Proved));
  CHECK_FALSE(mayAnswer(U::Unknown, U::Sealed));
}

TEST_CASE("Only looking: keys, size and power stay here; several observers see the same", "[session]") {
  lab::ConsolePlan p = plan();
  p.options.power = true;
  SessionBench bench(p);
  bench.config.viewOnly = true;
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  auto second = std::make_shared<SessionWatcher>();
  bench.session->observe(second);
  REQUIRE(second->reaches(SessionStage::Live));  // told though it came late
  REQUIRE(test::eventually([&] {
    return second->get([](SessionWatcher& w) { return w.size == Size{1280, 800}; });
  }));
  REQUIRE(test::eventually(
      [&] { return bench.watcher->get([](SessionWatcher& w) { return w.can.resize.can; }); }));
  bench.session->requestSize({900, 600});
  bench.session->power(PowerWish::Reset);
  bench.session->setViewOnly(false);
  bench.session->requestSize({1000, 700});
  REQUIRE(test::eventually([&] {
    return second->get([](SessionWatcher& w) { return w.size == Size{1000, 700}; });
  }));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.size == Size{1000, 700}; }));
  bench.console.withGuest([](lab::Guest& g) { CHECK(g.phase() == lab::Phase::Desktop); });
  bench.session->stopObserving(second);
}

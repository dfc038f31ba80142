// Sessions: questions, trust, staying connected; with a clock that stands still unless told.
#include "tests/core/session_bench.hpp"

using namespace kw;
using namespace kw::test;

TEST_CASE("A session becomes live and says what it can", "[session]") {
  SessionBench bench(plan());
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(test::eventually([&] {
    return bench.watcher->get([](SessionWatcher& w) { return w.seen.covers({0, 0, 1280, 800}); });
  }));
  CHECK(test::eventually(
      [&] { return bench.watcher->get([](SessionWatcher& w) { return w.can.resize.can; }); }));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return !w.can.sound.can && !w.can.sound.why.empty(); }));
  CHECK(bench.watcher->get([](SessionWatcher& w) {
    return w.route.reached && !w.route.sealed && w.route.machineName == "mist-bench";
  }));
}

TEST_CASE("A wrong password is asked for again; the right one is remembered only when wanted", "[session]") {
  SessionBench bench(plan("orchid"));
  bench.watcher->replies = {SessionBench::password("fern"), SessionBench::password("orchid", true)};
  std::vector<std::string> remembered;
  std::mutex mutex;
  bench.config.kept.keep = [&](const rfb::SignIn& s) {
    std::lock_guard lock(mutex);
    remembered.push_back(s.password.plain());
  };
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(bench.watcher->get([](SessionWatcher& w) {
    return w.questions.size() == 2 && !w.questions[0].again && w.questions[1].again;
  }));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return !w.questions[0].hint.empty(); }));
  std::lock_guard lock(mutex);
  CHECK(remembered == std::vector<std::string>{"orchid"});
}

TEST_CASE("Refusing to give a password ends the session", "[session]") {
  SessionBench bench(plan("orchid"));
  bench.watcher->replies = {Answer{}};
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Ended));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.status.problem == ErrorKind::SignInFailed; }));
}

TEST_CASE("end() while a question is open ends at once", "[session]") {
  SessionBench bench(plan("orchid"));
  auto session = bench.open();
  REQUIRE(test::eventually(
      [&] { return bench.watcher->get([](SessionWatcher& w) { return w.open.size() == 1; }); }));
  session->end();
  CHECK(bench.watcher->reaches(SessionStage::Ended));
  bench.watcher->open[0](SessionBench::password("orchid"));  // a late answer does no harm
}

TEST_CASE("A certificate is asked about once; a changed one stops everything and shows both", "[session]") {
  lab::ConsolePlan p = plan("orchid");
  p.options.certificate = makeSelfSigned("orchard");
  SessionBench bench(p);
  auto trust = std::make_shared<MemoryTrust>();
  bench.config.trust = trust;
  bench.config.kept.find = [](SecretUse) { return SignIn{"", "orchid"}; };
  Answer yes;
  yes.accepted = yes.remember = true;
  bench.watcher->replies = {yes};
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  bench.session->end();
  REQUIRE(bench.watcher->reaches(SessionStage::Ended));
  const std::string peer = "127.0.0.1:" + std::to_string(bench.config.port);
  CHECK(trust->pins[peer] == sha256OfPem(p.options.certificate->certificatePem));
  // Again: not asked.
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.questions.size() == 1; }));
  bench.session->end();
  REQUIRE(bench.watcher->reaches(SessionStage::Ended));
  // The pin no longer fits: asked, with the old one; no password leaves before.
  trust->pins[peer] = "00:11";
  int asked = 0;
  bench.config.kept.find = [&](SecretUse) {
    ++asked;
    return rfb::SignIn{"", "orchid"};
  };
  bench.watcher->replies = {Answer{}};
  bench.open();
  REQUIRE(test::eventually([&] {
    return bench.watcher->get([](SessionWatcher& w) { return w.status.problem == ErrorKind::NotTrusted; });
  }));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.questions.back().pinned == "00:11"; }));
  CHECK(asked == 0);
}

TEST_CASE("A certificate that is good this time is good for the whole session, and another is asked about",
          "[session]") {
  lab::ConsolePlan p = plan("orchid");
  p.options.certificate = makeSelfSigned("orchard");
  SessionBench bench(p);
  bench.config.trust = std::make_shared<MemoryTrust>();
  bench.config.reconnect.first = std::chrono::milliseconds(1);
  Answer thisTime, wrong, right;
  thisTime.accepted = wrong.accepted = right.accepted = true;
  wrong.password = "moss", right.password = "orchid";
  bench.watcher->replies = {thisTime, wrong, right};
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(bench.watcher->get([](SessionWatcher& w) {
    return w.questions.size() == 3 && w.questions[0].kind == Question::Kind::Trust &&
           w.questions[1].kind != Question::Kind::Trust && w.questions[2].kind != Question::Kind::Trust;
  }));
  bench.session->end();
  REQUIRE(bench.watcher->reaches(SessionStage::Ended));
  // Another session asks again.
  bench.watcher->get([&](SessionWatcher& w) { return w.replies = {thisTime, right}, 0; });
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(bench.watcher->get([](SessionWatcher& w) {
    return w.questions.size() == 5 && w.questions[3].kind == Question::Kind::Trust;
  }));
}

TEST_CASE("A peer that takes the connection and says nothing is given up; a question may stay open for ever",
          "[session]") {
  auto clock = std::make_shared<ManualClock>();
  const auto minute = std::chrono::minutes(1) + std::chrono::milliseconds(1);
  SECTION("silent") {
    SessionBench bench(plan());
    std::shared_ptr<Listener> silent;
    std::vector<StreamPtr> taken;
    runToEnd([&]() -> Task<void> {
      const Executor here = co_await asio::this_coro::executor;
      silent = listenTcp(here, "127.0.0.1", 0);
      bench.config.port = silent->port();
      bench.config.reconnect.enabled = false;
      bench.open(clock);
      taken.push_back(co_await silent->accept());
    });
    // The connection is there, on this side too.
    REQUIRE(bench.watcher->reaches(SessionStage::SigningIn));
    // The figures sleep as well.
    for (int i = 0; i < 2; ++i) {
      REQUIRE(test::eventually([&] { return clock->sleepers() >= 2; }));
      CHECK(bench.watcher->get([](SessionWatcher& w) { return w.status.stage != SessionStage::Ended; }));
      clock->advance(minute);
    }
    REQUIRE(bench.watcher->reaches(SessionStage::Ended));
    CHECK(bench.watcher->get([](SessionWatcher& w) { return w.status.problem == ErrorKind::TimedOut; }));
    CHECK(bench.watcher->get(
        [](SessionWatcher& w) { return w.status.sentence.find("said nothing") != std::string::npos; }));
  }
  SECTION("a question") {
    SessionBench bench(plan("orchid"));
    bench.open(clock);
    REQUIRE(test::eventually(
        [&] { return bench.watcher->get([](SessionWatcher& w) { return w.open.size() == 1; }); }));
    for (int i = 0; i < 20; ++i) {
      REQUIRE(test::eventually([&] { return clock->sleepers() >= 2; }));
      clock->advance(minute);
    }
    bench.watcher->get([](SessionWatcher& w) {
      w.open.front()(SessionBench::password("orchid"));
      return 0;
    });
    CHECK(bench.watcher->reaches(SessionStage::Live));
  }
}

TEST_CASE("A lost line is tried again with growing delays, and comes back", "[session]") {
  SessionBench bench(plan());
  auto clock = std::make_shared<ManualClock>();
  bench.config.reconnect.first = std::chrono::seconds(1);
  bench.config.reconnect.longest = std::chrono::seconds(5);
  bench.open(clock);
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  bench.console.stop();
  for (std::size_t i = 1; i <= 5; ++i) {
    REQUIRE(test::eventually([&] {
      return bench.watcher->get(
          [&](SessionWatcher& w) { return w.delays.size() == i && w.status.stage == SessionStage::Waiting; });
    }));
    const auto delay = bench.watcher->get([](SessionWatcher& w) { return w.delays.back(); });
    // The figures sleep as well; the second sleeper is the delay.
    REQUIRE(test::eventually([&] { return clock->sleepers() >= 2; }));
    if (i == 5) bench.console.start(true);
    clock->advance(delay + std::chrono::milliseconds(1));
  }
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.delays; }) ==
        std::vector<std::chrono::nanoseconds>{std::chrono::seconds(1), std::chrono::seconds(1),
                                              std::chrono::seconds(2), std::chrono::seconds(4),
                                              std::chrono::seconds(5)});
  CHECK(bench.watcher->reaches(SessionStage::Live));
  CHECK_FALSE(bench.session->picture()->size().empty());
}

TEST_CASE("A lost line that comes back signs in with what was typed, and asks when that is wrong by now",
          "[session]") {
  SessionBench bench(plan("orchid"));
  bench.config.reconnect.first = std::chrono::milliseconds(1);
  Answer right;
  right.accepted = true, right.password = "orchid";
  bench.watcher->replies = {right};
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  const auto questions = [&] {
    return bench.watcher->get([](SessionWatcher& w) { return w.questions.size(); });
  };
  CHECK(questions() == 1);
  bench.console.stop();
  REQUIRE(bench.watcher->reaches(SessionStage::Waiting));
  bench.console.start(true);
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  CHECK(questions() == 1);
  // Another service at the same place has another password.
  bench.console.stop();
  REQUIRE(bench.watcher->reaches(SessionStage::Waiting));
  lab::ConsolePlan other = plan("moss");
  other.port = static_cast<std::uint16_t>(bench.config.port);
  lab::Console changed(bench.runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), other);
  changed.start(true);
  REQUIRE(test::eventually([&] { return questions() == 2; }));
  CHECK(bench.watcher->get([](SessionWatcher& w) { return w.questions.back().again; }));
  bench.session->end();
  CHECK(bench.watcher->reaches(SessionStage::Ended));
  changed.stop();
}

TEST_CASE("What was typed and worked answers no other kind of sign-in by itself, and never one in clear",
          "[session]") {
  struct Person : Asker {
    int asked = 0;
    Task<Answer> ask(Question) override {
      ++asked;
      Answer a;
      a.accepted = true, a.user = "duty", a.password = "orchid";
      co_return a;
    }
    void doing(const std::string&) override {}
  };
  Runtime runtime{1};
  Person person;
  SignInTurns turns(KeptSignIns{});
  const auto signIn = [&](SecretUse use) {
    const int before = person.asked;
    std::promise<void> over;
    spawn(
        runtime.strand(),
        [&turns, &person, use]() -> Task<void> {
          turns.begin();
          SignInWish wish;
          wish.user = "duty", wish.use = use;
          const SignIn got = co_await turns.next(person, wish);
          if (got.password == "orchid") turns.worked();
        },
        [&](std::exception_ptr) { over.set_value(); });
    over.get_future().wait();
    return person.asked - before;
  };
  CHECK(signIn(SecretUse::Proved) == 1);
  CHECK(signIn(SecretUse::Proved) == 0);
  CHECK(signIn(SecretUse::Sealed) == 1);  // nobody proved who he is now
  CHECK(signIn(SecretUse::Sealed) == 0);
  CHECK(signIn(SecretUse::Clear) == 1);
  CHECK(signIn(SecretUse::Clear) == 1);
  CHECK(signIn(SecretUse::Challenge) == 0);  // shows no more than what was given in clear
  CHECK(signIn(SecretUse::Proved) == 1);
  runtime.stop();
}

TEST_CASE("retry() does not wait for the delay; end() ends the waiting", "[session]") {
  SessionBench bench(plan());
  auto clock = std::make_shared<ManualClock>();
  bench.open(clock);
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  bench.console.stop();
  REQUIRE(bench.watcher->reaches(SessionStage::Waiting));
  bench.console.start(true);
  bench.session->retry();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  bench.console.stop();
  REQUIRE(bench.watcher->reaches(SessionStage::Waiting));
  bench.session->end();
  CHECK(bench.watcher->reaches(SessionStage::Ended));
}

TEST_CASE("Looking only sends nothing that changes the machine", "[session]") {
  SessionBench bench(plan());
  bench.config.viewOnly = true;
  bench.open();
  REQUIRE(bench.watcher->reaches(SessionStage::Live));
  const auto noteIsWritten = [&] {
    std::string note;
    bench.console.withGuest([&](lab::Guest& g) {
      g.key(keysym::kControlLeft, true);
      g.key('c', true);
      g.key(keysym::kControlLeft, false);
      note = g.takeCopied();
    });
    return !note.empty();
  };
  bench.session->key('a', 0, true);
  bench.session->setViewOnly(false);
  bench.session->key('b', 0, true);
  CHECK(test::eventually(noteIsWritten));
  std::string note;
  bench.console.withGuest([&](lab::Guest& g) {
    g.key(keysym::kControlLeft, true);
    g.key('c', true);
    note = g.takeCopied();
  });
  CHECK(note == "b");
}

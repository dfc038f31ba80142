// A session whose clock stands still, and whoever watches it.
#pragma once
#include "base/file.hpp"
#include "lab/host.hpp"
#include "route/engine_vnc.hpp"
#include "session/keys.hpp"
#include "session/sign_in_turns.hpp"
#include "session/vnc_session.hpp"
#include "tests/support.hpp"

namespace kw::test {

/// Everything a session says; answers from `replies` in order, or leaves the question open.
struct SessionWatcher : SessionObserver {
  std::mutex mutex;
  SessionStatus status;
  std::vector<SessionStage> stages;
  std::vector<std::chrono::nanoseconds> delays;
  std::vector<Question> questions;
  std::vector<std::function<void(Answer)>> open;
  std::vector<Answer> replies;
  Capabilities can;
  RouteFacts route;
  Region seen = Region::exact();
  Size size;

  void statusChanged(const SessionStatus& s) override {
    std::lock_guard lock(mutex);
    status = s;
    stages.push_back(s.stage);
    if (s.stage == SessionStage::Waiting) delays.push_back(s.nextTry);
  }
  void capabilitiesChanged(const Capabilities& c) override {
    std::lock_guard lock(mutex);
    can = c;
  }
  void routeChanged(const RouteFacts& r) override {
    std::lock_guard lock(mutex);
    route = r;
  }
  void pictureResized(Size s, const std::vector<Screen>&) override {
    std::lock_guard lock(mutex);
    size = s;
  }
  void damaged(const Region& r) override {
    std::lock_guard lock(mutex);
    seen.add(r);
  }
  void asked(const Question& q, std::function<void(Answer)> reply) override {
    std::unique_lock lock(mutex);
    questions.push_back(q);
    if (replies.empty()) {
      open.push_back(std::move(reply));
      return;
    }
    const Answer answer = replies.front();
    replies.erase(replies.begin());
    lock.unlock();
    reply(answer);
  }
  template <typename F>
  auto get(F f) {
    std::lock_guard lock(mutex);
    return f(*this);
  }
  bool reaches(SessionStage stage) {
    return test::eventually([&] { return get([&](SessionWatcher& w) { return w.status.stage == stage; }); });
  }
};

struct MemoryTrust : TrustStore {
  std::mutex mutex;
  std::map<std::string, std::string> pins;
  std::optional<std::string> pinned(const std::string& peer) override {
    std::lock_guard lock(mutex);
    const auto found = pins.find(peer);
    return found == pins.end() ? std::nullopt : std::optional(found->second);
  }
  void pin(const std::string& peer, const std::string& sha) override {
    std::lock_guard lock(mutex);
    pins[peer] = sha;
  }
};

inline lab::ConsolePlan plan(const std::string& password = "") {
  lab::ConsolePlan p;
  p.guest.name = "mist-bench";
  p.guest.scene = lab::SceneKind::MistBench;
  p.options.name = "mist-bench";
  p.options.password = password;
  return p;
}

struct SessionBench {
  explicit SessionBench(lab::ConsolePlan p)
      : console(runtime.strand(), systemClock(), std::make_shared<lab::Fonts>(), std::move(p)) {
    console.start(true);
    config.label = "mist-bench";
    config.host = "127.0.0.1";
    config.port = console.port();
  }
  std::shared_ptr<Session> open(std::shared_ptr<Clock> clock = systemClock()) {
    session = makeVncSession(runtime.strand(), std::move(clock), config);
    session->observe(watcher);
    session->start();
    return session;
  }
  ~SessionBench() {
    if (session) {
      session->end();
      watcher->reaches(SessionStage::Ended);
    }
    console.stop();
    runtime.stop();
  }
  static Answer password(const std::string& text, bool remember = false) {
    Answer a;
    a.accepted = true;
    a.password = text;
    a.remember = remember;
    return a;
  }
  Runtime runtime{1};
  lab::Console console;
  VncConfig config;
  std::shared_ptr<SessionWatcher> watcher = std::make_shared<SessionWatcher>();
  std::shared_ptr<Session> session;
};

}  // namespace kw::test

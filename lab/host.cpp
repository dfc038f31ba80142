#include "lab/host.hpp"

#include <future>
#include <list>

namespace kw::lab {

namespace {
constexpr auto kFrame = std::chrono::milliseconds(66);
}

struct Console::State : std::enable_shared_from_this<Console::State> {
  struct Visitor : rfb::ServerEvents {
    explicit Visitor(State& s) : state(s) {}
    void signedIn(bool shared) override {
      if (!shared) state.dropOthers(this);
      server->setCursor(Guest::cursor());
    }
    void key(std::uint32_t keysym, std::uint32_t, bool down) override {
      state.guest.key(keysym, down), state.touched();
    }
    void pointer(Point at, unsigned buttons) override { state.guest.pointer(at, buttons), state.touched(); }
    void clipboard(const std::string& text) override { state.guest.setClipboard(text); }
    int layoutWanted(Size size, const std::vector<Screen>&) override {
      if (!state.guest.resize(size)) return 3;
      state.paint();
      return 0;
    }
    bool power(rfb::PowerAction) override {
      state.guest.reboot();
      state.touched();
      return true;
    }
    State& state;
    std::unique_ptr<rfb::Server> server;
  };

  State(Executor s, std::shared_ptr<Clock> c, std::shared_ptr<Fonts> fonts, const ConsolePlan& p)
      : strand(std::move(s)),
        clock(std::move(c)),
        options(p.options),
        guest(p.guest, std::move(fonts)),
        wake(strand) {
    began = clock->now();
  }

  [[nodiscard]] Guest::Time now() const {
    return std::chrono::duration_cast<Guest::Time>(clock->now() - began);
  }

  void dropOthers(const Visitor* keep) {
    for (auto& v : visitors)
      if (v.get() != keep) v->server->close();
  }

  void touched() { paint(); }

  void paint() {
    const Guest::Change change = guest.advance(now());
    for (auto& v : visitors) {
      if (change.resized) v->server->resized(guest.screens());
      if (!change.damage.empty()) v->server->damaged(change.damage);
    }
    if (const std::string copied = guest.takeCopied(); !copied.empty())
      for (auto& v : visitors) v->server->setClipboard(copied);
  }

  /// Paints while somebody looks; else the guest stands still until the next visitor.
  Task<void> animate() {
    auto self = shared_from_this();
    while (!stopped) {
      if (visitors.empty()) {
        co_await wake.wait();
        continue;
      }
      paint();
      co_await clock->sleep(kFrame);
    }
  }

  Task<void> acceptAll() {
    auto self = shared_from_this();
    while (!stopped) {
      StreamPtr stream = co_await listener->accept();
      spawn(strand,
            [self, shared = std::make_shared<StreamPtr>(std::move(stream))] { return self->serve(shared); });
    }
  }

  Task<void> serve(std::shared_ptr<StreamPtr> stream) {
    auto self = shared_from_this();
    paint();
    auto visitor = std::make_shared<Visitor>(*this);
    visitor->server =
        std::make_unique<rfb::Server>(strand, guest.picture(), guest.screens(), options, *visitor);
    visitors.push_back(visitor);
    wake.notify();
    try {
      co_await visitor->server->run(std::move(*stream));
    } catch (const std::exception&) {
      // Every visit ends this way: left, sent nonsense, or gave a wrong password.
    }
    visitors.remove(visitor);
  }

  Executor strand;
  std::shared_ptr<Clock> clock;
  rfb::ServerOptions options;
  TimePoint began;
  Guest guest;
  Signal wake;
  std::unique_ptr<Listener> listener;
  std::list<std::shared_ptr<Visitor>> visitors;
  bool stopped = false;
};

Console::Console(Executor strand, std::shared_ptr<Clock> clock, std::shared_ptr<Fonts> fonts,
                 ConsolePlan plan)
    : plan_(std::move(plan)),
      state_(std::make_shared<State>(std::move(strand), std::move(clock), std::move(fonts), plan_)) {}

Console::~Console() { stop(); }

void Console::start(bool alreadyRunning) {
  state_->stopped = false;
  serving_ = true;
  state_->listener = listenTcp(state_->strand, plan_.address, port_ != 0 ? port_ : plan_.port);
  port_ = state_->listener->port();
  post(state_->strand, [state = state_, alreadyRunning] {
    if (alreadyRunning) state->guest.alreadyRunning(state->now());
    spawn(state->strand, [state] { return state->acceptAll(); });
    spawn(state->strand, [state] { return state->animate(); });
  });
}

void Console::stop() {
  if (!serving_) return;
  serving_ = false;
  auto done = std::make_shared<std::promise<void>>();
  post(state_->strand, [state = state_, done] {
    state->stopped = true;
    if (state->listener) state->listener->close();
    for (auto& v : state->visitors) v->server->close();
    state->wake.notify();
    done->set_value();
  });
  // The context may have been stopped already; then nothing runs any more anyway.
  done->get_future().wait_for(std::chrono::seconds(2));
}

int Console::visitors() const {
  int count = 0;
  const_cast<Console*>(this)->withGuest([&](Guest&) { count = static_cast<int>(state_->visitors.size()); });
  return count;
}

void Console::withGuest(const std::function<void(Guest&)>& what) {
  std::promise<void> done;
  post(state_->strand, [&] {
    what(state_->guest);
    done.set_value();
  });
  done.get_future().wait();
}

void Console::setClipboard(const std::string& utf8) {
  post(state_->strand, [state = state_, utf8] {
    for (auto& v : state->visitors) v->server->setClipboard(utf8);
  });
}

void Console::bell() {
  post(state_->strand, [state = state_] {
    for (auto& v : state->visitors) v->server->bell();
  });
}

}  // namespace kw::lab

#include "lab/host.hpp"

#include <future>
#include <list>
#include <mutex>

namespace kw::lab {

namespace {
constexpr auto kFrame = std::chrono::milliseconds(66);
}

struct Console::State : std::enable_shared_from_this<Console::State> {
  struct Visitor : Hands {
    explicit Visitor(State& s) : state(s) {}
    void signedIn(bool shared) override {
      if (!shared) state.dropOthers(this);
    }
    void key(std::uint32_t keysym, bool down) override { state.guest.key(keysym, down), state.touched(); }
    void pointer(Point at, unsigned buttons) override { state.guest.pointer(at, buttons), state.touched(); }
    void clipboard(const std::string& text) override { state.guest.setClipboard(text); }
    bool resize(Size size) override {
      if (!state.guest.resize(size)) return false;
      state.paint();
      return true;
    }
    bool arrange(const std::vector<Rect>& screens) override {
      if (!state.guest.arrange(screens)) return false;
      state.paint();
      return true;
    }
    void reboot() override {
      state.guest.reboot();
      state.touched();
    }
    State& state;
    std::unique_ptr<DoorServer> server;
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
    const unsigned mine = epoch;
    while (!stopped && epoch == mine) {
      if (visitors.empty()) {
        co_await wake.wait();
        continue;
      }
      paint();
      co_await clock->sleep(kFrame);
    }
  }

  Task<void> acceptAll(std::shared_ptr<Listener> at, DoorMaker make) {
    auto self = shared_from_this();
    while (!stopped) {
      StreamPtr stream = co_await at->accept();
      admit(std::move(stream), make);
    }
  }

  /// With the password of the moment.
  DoorMaker vncMaker() {
    return
        [this](const Executor& on, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
               Hands& hands) { return vncDoor(options)(on, std::move(picture), std::move(screens), hands); };
  }

  void admit(StreamPtr stream, DoorMaker make) {
    spawn(strand, [self = shared_from_this(), make, shared = std::make_shared<StreamPtr>(std::move(stream))] {
      return self->serve(shared, make);
    });
  }

  Task<void> serve(std::shared_ptr<StreamPtr> stream, DoorMaker make) {
    auto self = shared_from_this();
    paint();
    auto visitor = std::make_shared<Visitor>(*this);
    visitor->server = make(strand, guest.picture(), guest.screens(), *visitor);
    visitors.push_back(visitor);
    wake.notify();
    try {
      co_await visitor->server->run(std::move(*stream));
    } catch (const std::exception&) {
      // Every visit ends this way: left, sent nonsense, or gave a wrong password.
    }
    visitors.remove(visitor);
  }

  /// A service that begins to listen some time after the machine runs.
  Task<void> openDoor(std::size_t index, DoorPlan plan) {
    auto self = shared_from_this();
    const unsigned mine = epoch;
    if (plan.answersAfter.count() > 0) co_await clock->sleep(plan.answersAfter);
    if (stopped || epoch != mine) co_return;
    std::shared_ptr<Listener> at = listenTcp(strand, plan.address, plan.port);
    {
      const std::lock_guard held(doorLock);
      doors[index] = at;
    }
    co_await acceptAll(at, plan.make);
  }

  Executor strand;
  std::shared_ptr<Clock> clock;
  rfb::ServerOptions options;
  TimePoint began;
  Guest guest;
  Signal wake;
  std::shared_ptr<Listener> listener;
  mutable std::mutex doorLock;
  std::map<std::size_t, std::shared_ptr<Listener>> doors;
  std::list<std::shared_ptr<Visitor>> visitors;
  bool stopped = false;
  unsigned epoch = 0;  ///< counts starts
};

Console::Console(Executor strand, std::shared_ptr<Clock> clock, std::shared_ptr<Fonts> fonts,
                 ConsolePlan plan)
    : plan_(std::move(plan)),
      state_(std::make_shared<State>(std::move(strand), std::move(clock), std::move(fonts), plan_)) {}

Console::~Console() { stop(); }

void Console::start(bool alreadyRunning) {
  serving_ = true;
  std::shared_ptr<Listener> listener;
  if (plan_.vnc) {
    listener = listenTcp(state_->strand, plan_.address, port_ != 0 ? port_ : plan_.port);
    port_ = listener->port();
  }
  post(state_->strand, [state = state_, alreadyRunning, plan = plan_, listener] {
    state->stopped = false;
    ++state->epoch;
    state->listener = listener;
    if (alreadyRunning) state->guest.alreadyRunning(state->now());
    if (state->listener)
      spawn(state->strand, [state] { return state->acceptAll(state->listener, state->vncMaker()); });
    for (std::size_t i = 0; i < plan.doors.size(); ++i)
      spawn(state->strand, [state, i, door = plan.doors[i]] { return state->openDoor(i, door); });
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
    {
      const std::lock_guard held(state->doorLock);
      for (auto& [index, door] : state->doors) door->close();
      state->doors.clear();
    }
    for (auto& v : state->visitors) v->server->close();
    state->wake.notify();
    done->set_value();
  });
  // The context may have been stopped already; then nothing runs any more anyway.
  done->get_future().wait_for(std::chrono::seconds(2));
}

std::uint16_t Console::doorPort(std::size_t door) const {
  const std::lock_guard held(state_->doorLock);
  const auto found = state_->doors.find(door);
  return found == state_->doors.end() ? std::uint16_t{0} : found->second->port();
}

void Console::admit(StreamPtr stream, DoorMaker maker) {
  post(state_->strand, [state = state_, maker, shared = std::make_shared<StreamPtr>(std::move(stream))] {
    state->admit(std::move(*shared), maker);
  });
}

void Console::setPassword(const std::string& password) {
  withGuest([&](Guest&) { state_->options.password = password; });
}

std::string Console::password() const {
  std::string out;
  const_cast<Console*>(this)->withGuest([&](Guest&) { out = state_->options.password; });
  return out;
}

void Console::usePort(std::uint16_t port) {
  if (!serving_) {
    port_ = port;
    return;
  }
  if (port == port_) return;
  const std::shared_ptr<Listener> fresh = listenTcp(state_->strand, plan_.address, port);
  port_ = fresh->port();
  post(state_->strand, [state = state_, fresh] {
    if (state->listener) state->listener->close();
    state->listener = fresh;
    spawn(state->strand, [state, fresh] { return state->acceptAll(fresh, state->vncMaker()); });
  });
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

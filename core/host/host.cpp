#include "host/host.hpp"

#include <future>
#include <map>
#include <mutex>

#include "base/called.hpp"

namespace kw::host {

namespace {
constexpr auto kFirstDelay = std::chrono::seconds(1), kLongestDelay = std::chrono::seconds(30);
}

struct Host::State : HostNews, std::enable_shared_from_this<Host::State> {
  State(const std::string& address, AdapterTools t)
      : tools(std::move(t)), adapter(makeAdapter(address, tools)), wake(tools.strand), over(tools.strand) {}

  // HostNews; on the strand.
  void all(std::vector<StockMachine> machines) override {
    auto fresh = std::make_shared<Stock>();
    const auto old = view().stock;
    for (StockMachine& m : machines) {
      keepSince(old, m);
      (*fresh)[m.id] = std::move(m);
    }
    attempt = 0;
    change([&](HostView& v) {
      v.stock = std::move(fresh);
      v.stage = HostStage::Live;
      v.sentence.clear();
      v.cure.clear();
      v.problem.reset();
      v.attempt = 0;
      v.abilities = adapter->abilities();
    });
  }
  void one(StockMachine machine) override {
    const auto old = view().stock;
    keepSince(old, machine);
    if (const auto found = old->find(machine.id); found != old->end() && found->second == machine) return;
    auto fresh = std::make_shared<Stock>(*old);
    (*fresh)[machine.id] = std::move(machine);
    change([&](HostView& v) { v.stock = std::move(fresh); });
  }
  void gone(const std::string& id) override {
    auto fresh = std::make_shared<Stock>(*view().stock);
    if (fresh->erase(id) > 0) change([&](HostView& v) { v.stock = std::move(fresh); });
  }
  void described(const std::string& what, bool sealed) override {
    change([&](HostView& v) { v.description = what, v.sealed = sealed; });
  }

  /// A state that did not change began when it was first seen; one that did begins now, unless the host
  /// knows better.
  static void keepSince(const std::shared_ptr<const Stock>& old, StockMachine& m) {
    if (!m.since.empty()) return;
    const auto before = old->find(m.id);
    if (before == old->end()) return;
    m.since = before->second.state == m.state ? before->second.since : timeText();
  }

  HostView view() const {
    const std::lock_guard held(mutex);
    return shown;
  }

  void change(const std::function<void(HostView&)>& what) {
    std::vector<std::function<void()>> tell;
    {
      const std::lock_guard held(mutex);
      what(shown);
      for (const auto& [number, told] : observers) tell.push_back(told);
    }
    for (const auto& told : tell) told();
  }

  Task<void> run() {
    auto self = shared_from_this();
    auto delay = kFirstDelay;
    while (!ending) {
      ++attempt;
      change([&](HostView& v) {
        v.stage = HostStage::Connecting;
        v.attempt = attempt;
      });
      Error failure(ErrorKind::ClosedByPeer, "the host ended the connection");
      try {
        co_await adapter->run(*this);
      } catch (const Error& e) {
        failure = e;
      } catch (const std::exception& e) {
        failure = Error(ErrorKind::Local, e.what());
      }
      if (ending) break;
      if (attempt <= 1) delay = kFirstDelay;
      change([&](HostView& v) {
        v.stage = HostStage::Waiting;
        v.problem = failure.kind();
        v.sentence = failure.what();
        v.cure = failure.cure();
      });
      co_await firstOf(tools.clock->sleep(delay), wake.wait());
      delay = std::min(delay * 2, kLongestDelay);
    }
    change([&](HostView& v) { v.stage = HostStage::Ended; });
    finished = true;
    over.notify();
  }

  AdapterTools tools;
  std::unique_ptr<HostAdapter> adapter;
  Signal wake, over;
  bool ending = false, running = false, finished = false;
  int attempt = 0, nextObserver = 1;
  mutable std::mutex mutex;
  HostView shown;
  std::map<int, std::function<void()>> observers;
};

Host::Host(const HostRecord& record, AdapterTools tools)
    : record_(record), state_(std::make_shared<State>(record.address, std::move(tools))) {
  state_->shown.abilities = state_->adapter->abilities();
}

// Whoever held it last may be a task of its own strand, so nothing is waited for here.
Host::~Host() { endSoon(); }

void Host::start() {
  post(state_->tools.strand, [state = state_] {
    if (std::exchange(state->running, true)) return;
    spawn(state->tools.strand, [state] { return state->run(); });
  });
}

void Host::end() {
  // The context may have been stopped already; then nothing runs any more anyway.
  endSoon().wait_for(std::chrono::seconds(3));
}

std::future<void> Host::endSoon() {
  {
    const std::lock_guard held(state_->mutex);
    state_->observers.clear();
  }
  auto done = std::make_shared<std::promise<void>>();
  post(state_->tools.strand, [state = state_, done] {
    state->ending = true;
    state->adapter->close();
    state->wake.notify();
    if (!state->running || state->finished) return done->set_value();
    spawn(state->tools.strand, [state, done]() -> Task<void> {
      while (!state->finished) co_await state->over.wait();
      done->set_value();
    });
  });
  return done->get_future();
}

void Host::retry() {
  post(state_->tools.strand, [state = state_] { state->wake.notify(); });
}

int Host::observe(std::function<void()> told) {
  int number = 0;
  {
    const std::lock_guard held(state_->mutex);
    number = state_->nextObserver++;
    state_->observers[number] = told;
  }
  post(state_->tools.strand, [state = state_, number] {
    std::function<void()> now;
    {
      const std::lock_guard held(state->mutex);
      if (const auto found = state->observers.find(number); found != state->observers.end())
        now = found->second;
    }
    if (now) now();
  });
  return number;
}

void Host::stopObserving(int number) {
  const std::lock_guard held(state_->mutex);
  state_->observers.erase(number);
}

HostView Host::view() const { return state_->view(); }

void Host::power(std::string id, PowerAct act, Done done) {
  spawn(
      state_->tools.strand,
      [state = state_, id = std::move(id), act]() -> Task<void> {
        if (state->view().stage != HostStage::Live)
          throw Error(ErrorKind::Unreachable, "the host is not reached now");
        co_await state->adapter->power(id, act);
      },
      std::move(done));
}

void Host::change(std::string id, ConsoleChange what, Done done) {
  spawn(
      state_->tools.strand,
      [state = state_, id = std::move(id), what = std::move(what)]() -> Task<void> {
        if (state->view().stage != HostStage::Live)
          throw Error(ErrorKind::Unreachable, "the host is not reached now");
        co_await state->adapter->change(id, what);
      },
      std::move(done));
}

void Host::readInGuest(std::string id, std::string path, std::shared_ptr<std::string> into, Done done) {
  spawn(
      state_->tools.strand,
      [state = state_, into = std::move(into), id = std::move(id), path = std::move(path)]() -> Task<void> {
        if (state->view().stage != HostStage::Live)
          throw Error(ErrorKind::Unreachable, "the host is not reached now");
        *into = co_await state->adapter->readInGuest(id, path);
      },
      std::move(done));
}

void Host::firstPassword(std::string id, std::shared_ptr<std::string> into, Done done) {
  spawn(
      state_->tools.strand,
      [state = state_, into = std::move(into), id = std::move(id)]() -> Task<void> {
        if (state->view().stage != HostStage::Live)
          throw Error(ErrorKind::Unreachable, "the host is not reached now");
        *into = co_await state->adapter->firstPassword(id);
      },
      std::move(done));
}

Task<void> ordered(std::function<void(Host::Done)> give) {
  const std::exception_ptr failure = co_await called<std::exception_ptr>(std::move(give));
  if (failure) std::rethrow_exception(failure);
}

Task<std::string> readInGuest(std::shared_ptr<Host> host, std::string id, std::string path) {
  const auto text = std::make_shared<std::string>();
  const std::function<void(Host::Done)> give = [&](Host::Done done) {
    host->readInGuest(std::move(id), std::move(path), text, std::move(done));
  };
  co_await ordered(give);
  co_return std::move(*text);
}

Task<void> awaitView(std::shared_ptr<Host> host, std::function<bool(const HostView&)> holds,
                     std::chrono::nanoseconds limit, std::string what) {
  const Executor here = co_await asio::this_coro::executor;
  auto changed = std::make_shared<Signal>(here);
  const int number = host->observe([here, changed] { post(here, [changed] { changed->notify(); }); });
  const auto leave = [host, number] { host->stopObserving(number); };
  try {
    // `holds` lives in this frame, which outlives the inner task.
    const auto wait = [&]() -> Task<void> {
      while (!holds(host->view())) co_await changed->wait();
    };
    co_await within(limit, what, wait());
  } catch (...) {
    leave();
    throw;
  }
  leave();
}

}  // namespace kw::host

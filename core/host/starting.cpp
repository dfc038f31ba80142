#include "host/starting.hpp"

#include "route/checker.hpp"

namespace kw::host {

namespace {
constexpr auto kFirstInterval = std::chrono::milliseconds(300),
               kLongestInterval = std::chrono::milliseconds(10'000);
enum Step : std::size_t { kAsked, kRunning, kAddress, kAnswers, kSteps };
}  // namespace

StartErrand::StartErrand(Executor strand, std::shared_ptr<Clock> clock, StartPlan plan)
    : strand_(std::move(strand)), clock_(std::move(clock)), plan_(std::move(plan)), wake_(strand_) {
  view_.steps.resize(kSteps);
  view_.steps[kAsked].what = "ask " + plan_.host->record().name + " to start it";
  view_.steps[kRunning].what = "running";
  view_.steps[kAddress].what = "has an address";
  view_.steps[kAnswers].what = plan_.service + " answers";
}

void StartErrand::start(std::function<void(const StartView&)> told) {
  post(strand_, [self = shared_from_this(), told = std::move(told)] {
    self->told_ = told;
    spawn(self->strand_, [self] { return self->run(); });
  });
}

void StartErrand::stop() {
  post(strand_, [self = shared_from_this()] {
    self->stopping_ = true;
    self->wake_.notify();
  });
}

void StartErrand::lookNow() {
  post(strand_, [self = shared_from_this()] {
    self->lookWanted_ = true;
    self->wake_.notify();
  });
}

void StartErrand::tell() {
  view_.took = clock_->now() - began_;
  if (told_) told_(view_);
}

void StartErrand::begin(std::size_t step, const std::string& what, const std::string& remark) {
  view_.steps[step] = {what, remark, StepState::Now, clock_->now() - began_};
  tell();
}

void StartErrand::done(std::size_t step, const std::string& what, const std::string& remark) {
  view_.steps[step] = {what, remark, StepState::Done, clock_->now() - began_};
  tell();
}

std::optional<StockMachine> StartErrand::machineNow() const {
  const HostView host = plan_.host->view();
  const auto found = host.stock->find(plan_.id);
  if (found == host.stock->end()) return std::nullopt;
  return found->second;
}

Task<void> StartErrand::run() {
  const auto self = shared_from_this();
  began_ = clock_->now();
  // The host tells changes on a strand of its own.
  const int number =
      plan_.host->observe([self, strand = strand_] { post(strand, [self] { self->wake_.notify(); }); });
  try {
    co_await steps();
  } catch (const Error& e) {
    view_.failure = e;
  } catch (const std::exception& e) {
    view_.failure = Error(ErrorKind::Local, e.what());
  }
  plan_.host->stopObserving(number);
  if (view_.failure)
    for (StartStep& s : view_.steps)
      if (s.state == StepState::Now) {
        s.state = StepState::Failed;
        s.remark = view_.failure->detail();
        s.at = clock_->now() - began_;
      }
  view_.over = true;
  tell();
  told_ = nullptr;
}

Task<void> StartErrand::steps() {
  co_await askToStart();
  co_await untilRunning();
  co_await passwordAgain();
  co_await untilAnswers();
}

Task<void> StartErrand::askToStart() {
  const std::string& host = plan_.host->record().name;
  begin(kAsked, "asking " + host + " to start it");
  for (;;) {
    if (stopping_) throw Error(ErrorKind::Cancelled, "waiting was stopped");
    if (clock_->now() - began_ > plan_.limit)
      throw Error(ErrorKind::TimedOut, host + " was not reached in time");
    const HostView view = plan_.host->view();
    const auto machine = machineNow();
    if (view.stage == HostStage::Live && !machine)
      throw Error(ErrorKind::Local, host + " has no machine with this ID").withCure("Look at the stock.");
    if (view.stage == HostStage::Live && machine->state == Running::On) {
      wasRunning_ = true;
      co_return done(kAsked, host + " says that it runs", "it need not be started");
    }
    if (view.stage == HostStage::Live && machine->state != Running::Stopping) {
      const bool paused = machine->state == Running::Paused;
      if (!paused && !view.abilities.start.can) throw Error(ErrorKind::Unsupported, view.abilities.start.why);
      const std::function<void(Host::Done)> order = [&](Host::Done told) {
        plan_.host->power(plan_.id, paused ? PowerAct::Resume : PowerAct::Start, std::move(told));
      };
      co_await ordered(order);
      co_return done(kAsked,
                     paused ? "asked " + host + " to let it go on" : "asked " + host + " to start it");
    }
    view_.steps[kAsked].remark = view.stage == HostStage::Live ? "it is still shutting down"
                                 : view.sentence.empty()       ? "connecting to the host"
                                                               : view.sentence;
    tell();
    co_await firstOf(clock_->sleep(kLongestInterval), wake_.wait());
  }
}

Task<void> StartErrand::untilRunning() {
  if (!wasRunning_) begin(kRunning, "running", "waiting for the host to say so");
  for (;;) {
    if (stopping_) throw Error(ErrorKind::Cancelled, "waiting was stopped");
    if (const auto m = machineNow(); m && m->state == Running::On) break;
    if (clock_->now() - began_ > plan_.limit) throw Error(ErrorKind::TimedOut, "it did not run in time");
    co_await firstOf(clock_->sleep(kLongestInterval), wake_.wait());
  }
  done(kRunning, "running", wasRunning_ ? "since before" : "firmware, then loading");
}

/// The password that the host forgot with the last stop. That it is not taken is told, and the rest goes on.
Task<void> StartErrand::passwordAgain() {
  if (!plan_.again) co_return;
  std::string remark = "its console's password was set again";
  try {
    const std::function<void(Host::Done)> order = [&](Host::Done told) {
      plan_.host->change(plan_.id, *plan_.again, std::move(told));
    };
    co_await ordered(order);
  } catch (const Error& e) {
    remark = std::string("its console's password was not set: ") + e.what();
  }
  done(kRunning, "running", remark);
}

void StartErrand::throwIfStoppedAgain() const {
  const auto m = machineNow();
  if (m && (m->state == Running::Off || m->state == Running::Crashed))
    throw Error(ErrorKind::ClosedByPeer, "it stopped again" + (m->reason.empty() ? "" : ": " + m->reason))
        .withCure("Look at its console or its serial line while it starts.");
}

Task<Address> StartErrand::untilAddress() {
  for (;;) {
    if (stopping_) throw Error(ErrorKind::Cancelled, "waiting was stopped");
    throwIfStoppedAgain();
    if (const auto m = machineNow())
      if (auto address = plan_.addressNow(*m)) co_return *address;
    if (clock_->now() - began_ > plan_.limit)
      throw Error(ErrorKind::TimedOut, "no address became known in time");
    begin(kAddress, "no address is known yet", "the host tells it when it knows");
    co_await firstOf(clock_->sleep(kLongestInterval), wake_.wait());
  }
}

Task<void> StartErrand::untilAnswers() {
  std::chrono::nanoseconds interval = kFirstInterval;
  int looks = 0;
  for (;;) {
    const Address address = co_await untilAddress();
    // It keeps the time at which it was known first.
    const std::string known = "has an address: " + address.forPeople();
    if (view_.steps[kAddress].what != known) done(kAddress, known);
    ++looks;
    if (looks == 1) begin(kAnswers, plan_.service + " does not answer yet", "first look");
    const CheckResult look = co_await checkAddress(address, plan_.lookLimit);
    if (look.answers || look.untried) {
      view_.address = address;
      co_return done(kAnswers, plan_.service + " answers", look.sentence);
    }
    if (stopping_) throw Error(ErrorKind::Cancelled, "waiting was stopped");
    throwIfStoppedAgain();
    if (clock_->now() - began_ > plan_.limit)
      throw Error(ErrorKind::TimedOut, "it runs, but " + plan_.service + " did not answer: " + look.sentence)
          .withCure("Look at its console meanwhile, or ask why it does not open.");
    const auto seconds = std::chrono::duration<double>(interval).count();
    char next[32];
    std::snprintf(next, sizeof next, seconds < 10 ? "%.1f s" : "%.0f s", seconds);
    begin(kAnswers, plan_.service + " does not answer yet",
          look.sentence + " · looked " + std::to_string(looks) + " times, next in " + next);
    const auto machineBefore = machineNow();
    const auto until = clock_->now() + interval;
    // Other machines of the host change too; only this one's change, or a person, is a reason to look early.
    while (clock_->now() < until && !stopping_) {
      co_await firstOf(clock_->sleep(until - clock_->now()), wake_.wait());
      if (machineNow() != machineBefore) break;
      if (std::exchange(lookWanted_, false)) break;
    }
    interval = std::min<std::chrono::nanoseconds>(interval * 3 / 2, kLongestInterval);
  }
}

}  // namespace kw::host

#include "route/shown.hpp"

#include <algorithm>

#include "picture/black.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "route/engine.hpp"

namespace kw {

namespace {

/// Says no to everything, and remembers what it was asked. On the session's strand.
class Looker : public SessionObserver {
 public:
  explicit Looker(const Executor& strand) : over(strand) {}
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    if (question.kind == Question::Kind::Trust)
      shown.certificate = question.certificate;
    else if (question.kind != Question::Kind::Unsealed)
      shown.asksSignIn = true;
    reply({});
    finish();
  }
  void statusChanged(const SessionStatus& s) override {
    if (s.stage == SessionStage::Live) shown.letIn = true;
    if (s.stage == SessionStage::Ended) ended = true;
    if (s.stage == SessionStage::Ended || s.stage == SessionStage::Waiting) finish();
  }
  void routeChanged(const RouteFacts& facts) override {
    if (!facts.machineName.empty()) shown.machineName = facts.machineName;
  }
  void pictureResized(Size size, const std::vector<Screen>&) override {
    size_ = size;
    seen_.clear();
  }
  void damaged(const Region& region) override {
    seen_.add(region);
    if (shown.letIn && pictureIsWhole()) finish();
  }
  [[nodiscard]] bool pictureIsWhole() const {
    return size_.area() > 0 && seen_.covers({0, 0, size_.width, size_.height});
  }

  Shown shown;
  Signal over;
  bool finished = false, ended = false;

 private:
  void finish() {
    finished = true;
    over.notify();
  }
  Size size_;
  Region seen_ = Region::exact();
};

}  // namespace

Task<Shown> shownBy(Address address, SettingReader setting, OpeningTools tools,
                    std::chrono::nanoseconds limit) {
  const Engine* engine = engineFor(address.scheme);
  if (engine == nullptr || !engine->besideOthers) co_return Shown{};
  const Executor here = co_await asio::this_coro::executor;
  tools.store = nullptr;  // what is pinned or kept must neither answer nor change
  tools.vault = nullptr;
  tools.onlyGiven = true;
  // Where others are let stay by who comes, they are.
  const SettingReader besideOthers = overlaid(std::move(setting), {{"screen.shared", "on"}});
  const auto session = makeSession(here, address, address.forPeople(), besideOthers, tools, {});
  const auto looker = std::make_shared<Looker>(here);
  session->observe(looker);
  Policy looking;
  looking.onlyLook = true;
  session->setPolicy(looking);
  session->start();
  const auto now = [&tools] { return tools.clock->now(); };
  const auto until = now() + limit;
  while (!looker->finished && now() < until)
    co_await firstOf(tools.clock->sleep(until - now()), looker->over.wait());
  Shown shown = looker->shown;
  const auto picture = session->picture();
  if (shown.letIn && looker->pictureIsWhole() && picture) shown.black = isBlack(*picture);
  session->end();
  for (const auto last = now() + limit; !looker->ended && now() < last;)
    co_await firstOf(tools.clock->sleep(last - now()), looker->over.wait());
  session->stopObserving(looker);
  co_return shown;
}

}  // namespace kw

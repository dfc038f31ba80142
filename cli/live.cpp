#include "cli/live.hpp"

namespace kw::cli {

int exitCodeFor(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::Unreachable:
    case ErrorKind::Refused:
    case ErrorKind::NameUnknown: return kUnreachable;
    case ErrorKind::TimedOut: return kTimedOut;
    case ErrorKind::SignInFailed: return kSignIn;
    case ErrorKind::NotTrusted: return kNotTrusted;
    case ErrorKind::ProtocolBroken:
    case ErrorKind::ClosedByPeer:
    case ErrorKind::Unsupported: return kProtocol;
    case ErrorKind::Cancelled:
    case ErrorKind::Local: return kUsage;
  }
  return kUsage;
}

namespace {
/// Of all pixels, for telling pictures apart.
std::uint64_t hashOf(const Framebuffer& picture) {
  const auto lock = picture.lock();
  std::uint64_t h = 0xcbf29ce484222325U;
  const auto pixels = static_cast<std::size_t>(picture.size().area());
  const Pixel* p = picture.row(0);
  for (std::size_t i = 0; i < pixels; ++i) h = (h ^ p[i]) * 0x100000001b3U;
  return h;
}
}  // namespace

class Live::Observer : public SessionObserver {
 public:
  Observer(std::shared_ptr<State> state, bool trustOnce) : state_(std::move(state)), trustOnce_(trustOnce) {}

  void statusChanged(const SessionStatus& s) override {
    change([&] { state_->status = s; });
  }
  void routeChanged(const RouteFacts& r) override {
    change([&] { state_->route = r; });
  }
  void figuresChanged(const Figures& f) override {
    change([&] {
      state_->figures = f;
      ++state_->figureCount;
    });
  }
  void pictureResized(Size size, const std::vector<Screen>& screens) override {
    change([&] {
      if (size != state_->size) state_->seen.clear();
      state_->size = size;
      state_->screens = screens;
      state_->lastChange = std::chrono::steady_clock::now();
    });
  }
  void screensOffered(const std::vector<ScreenOffer>& list) override {
    change([&] { state_->offers = list; });
  }
  void capabilitiesChanged(const Capabilities& c) override {
    change([&] { state_->capabilities = c; });
  }
  void damaged(const Region& region) override {
    change([&] {
      // Exact coverage matters here, so the region is kept to the picture and grows only by what came.
      state_->seen.add(region);
      if (!state_->compareStates || isNews()) state_->lastChange = std::chrono::steady_clock::now();
    });
  }
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    reply(answerOnTerminal(question, trustOnce_));
  }

 private:
  /// Whether the picture is one that was not there a moment ago. Two places that blink make four states.
  bool isNews() {
    constexpr std::size_t kStates = 4;
    auto& seen = state_->statesSeen;
    const std::uint64_t now = hashOf(*state_->picture);
    const bool news = std::find(seen.begin(), seen.end(), now) == seen.end();
    if (news) seen.push_back(now);
    if (seen.size() > kStates) seen.pop_front();
    return news;
  }
  template <typename F>
  void change(F what) {
    {
      std::lock_guard lock(state_->mutex);
      what();
    }
    state_->changed.notify_all();
  }
  std::shared_ptr<State> state_;
  bool trustOnce_;
};

Live::Live(const LiveOptions& options) {
  deadline_ = std::chrono::steady_clock::now() +
              std::chrono::milliseconds(static_cast<std::int64_t>(options.timeoutSeconds * 1000));
  const OpeningTools tools = openTools(options, runtime_);
  const Target target = findTarget(options, tools, showsScreen);
  session_ =
      makeSession(runtime_.strand(), target.address, target.label, target.setting, tools, target.owner);
  state_->picture = session_->picture();
  session_->observe(std::make_shared<Observer>(state_, options.trustOnce));
  session_->start();
}

Live::~Live() {
  session_->end();
  std::unique_lock lock(state_->mutex);
  state_->changed.wait_for(lock, std::chrono::seconds(2),
                           [&] { return state_->status.stage == SessionStage::Ended; });
}

void Live::throwIfOver(std::unique_lock<std::mutex>& lock) const {
  if (state_->status.stage != SessionStage::Ended) return;
  const SessionStatus status = state_->status;
  lock.unlock();
  throw Error(status.problem.value_or(ErrorKind::ClosedByPeer), status.sentence);
}

template <typename Condition>
void Live::waitUntil(Condition condition, const char* what) {
  std::unique_lock lock(state_->mutex);
  while (!condition()) {
    throwIfOver(lock);
    if (state_->changed.wait_until(lock, deadline_) == std::cv_status::timeout && !condition())
      throw Error(ErrorKind::TimedOut, std::string("no ") + what + " within the time limit");
  }
}

bool Live::isWhole() const {
  return !state_->size.empty() &&
         (state_->paintsPartly || state_->seen.covers({0, 0, state_->size.width, state_->size.height}));
}

/// Some services paint a part of their screen and leave the rest as it is: they are asked once for all of it,
/// and what they show then is their picture.
void Live::waitForPicture() {
  constexpr std::chrono::seconds kStill{2};
  bool askedForAll = false;
  auto since = std::chrono::steady_clock::now();
  std::unique_lock lock(state_->mutex);
  while (!isWhole()) {
    throwIfOver(lock);
    const auto now = std::chrono::steady_clock::now();
    if (now >= deadline_) throw Error(ErrorKind::TimedOut, "no full picture within the time limit");
    since = std::max(since, state_->lastChange);
    const bool painted = state_->status.stage == SessionStage::Live && !state_->seen.empty();
    if (painted && now >= since + kStill) {
      if (std::exchange(askedForAll, true)) state_->paintsPartly = true;
      since = now;
      lock.unlock();
      session_->refresh();
      lock.lock();
      continue;
    }
    state_->changed.wait_until(lock, std::min(painted ? since + kStill : deadline_, deadline_));
  }
}

void Live::waitForQuiet(std::chrono::milliseconds quiet) {
  std::unique_lock lock(state_->mutex);
  state_->compareStates = state_->picture != nullptr;
  for (;;) {
    throwIfOver(lock);
    const auto due = state_->lastChange + quiet;
    const auto now = std::chrono::steady_clock::now();
    const bool whole = isWhole();
    if (whole && now >= due) return;
    if (now >= deadline_)
      throw Error(ErrorKind::TimedOut, "the picture never stood still within the time limit");
    state_->changed.wait_until(lock, std::min(whole ? due : deadline_, deadline_));
  }
}

void Live::watchFor(std::chrono::milliseconds howLong) {
  const auto until = std::chrono::steady_clock::now() + howLong;
  std::unique_lock lock(state_->mutex);
  while (std::chrono::steady_clock::now() < until) {
    throwIfOver(lock);
    state_->changed.wait_until(lock, until);
  }
}

void Live::drain() {
  // A forced full picture comes back only after everything before it was read.
  {
    std::lock_guard lock(state_->mutex);
    state_->seen.clear();
    state_->paintsPartly = false;
  }
  session_->refresh();
  waitForPicture();
}

Framebuffer Live::copyOfPicture(int screen) const {
  Rect area;
  {
    std::lock_guard lock(state_->mutex);
    area = {0, 0, state_->size.width, state_->size.height};
    if (screen > 0) {
      if (static_cast<std::size_t>(screen) > state_->screens.size())
        throw Error(ErrorKind::Local,
                    "the machine shows " + std::to_string(state_->screens.size()) + " screen(s)");
      area = state_->screens[static_cast<std::size_t>(screen) - 1].area;
    }
  }
  const auto picture = session_->picture();
  auto lock = picture->lock();
  return picture->cropped(area);
}

std::vector<ScreenOffer> Live::offers() const {
  std::lock_guard lock(state_->mutex);
  return state_->offers;
}

Capabilities Live::capabilities() const {
  std::lock_guard lock(state_->mutex);
  return state_->capabilities;
}

std::string Live::waitForScreens(std::chrono::milliseconds most) {
  const auto until = std::chrono::steady_clock::now() + most;
  std::unique_lock lock(state_->mutex);
  while (!state_->capabilities.screens.can && std::chrono::steady_clock::now() < until) {
    throwIfOver(lock);
    state_->changed.wait_until(lock, until);
  }
  return state_->capabilities.screens.can ? "" : state_->capabilities.screens.why;
}

void Live::waitForOffers(const std::function<bool(const std::vector<ScreenOffer>&)>& good) {
  waitUntil([&] { return good(state_->offers); }, "such screens");
}

bool Live::offersWithin(std::chrono::milliseconds most,
                        const std::function<bool(const std::vector<ScreenOffer>&)>& good) {
  const auto until = std::chrono::steady_clock::now() + most;
  std::unique_lock lock(state_->mutex);
  while (!good(state_->offers) && std::chrono::steady_clock::now() < until) {
    throwIfOver(lock);
    state_->changed.wait_until(lock, until);
  }
  return good(state_->offers);
}

Figures Live::figures() const {
  std::lock_guard lock(state_->mutex);
  return state_->figures;
}

RouteFacts Live::route() const {
  std::lock_guard lock(state_->mutex);
  return state_->route;
}

}  // namespace kw::cli

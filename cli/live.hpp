// A session driven from a command line: blocks until something has happened, answers questions from flags.
#pragma once
#include <chrono>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>
#include <string>

#include "cli/target.hpp"

namespace kw::cli {

enum ExitCode {
  kDone = 0,
  kUsage = 2,
  kUnreachable = 3,
  kSignIn = 4,
  kProtocol = 5,
  kNotTrusted = 6,
  kTimedOut = 7
};
int exitCodeFor(ErrorKind kind);

class Live {
 public:
  explicit Live(const LiveOptions& options);
  ~Live();

  /// Blocks until the picture is whole. Throws Error, {TimedOut} when the limit passes first.
  void waitForPicture();
  /// Blocks until nothing new has been seen for `quiet`. What only alternates between a few states (a text
  /// cursor that blinks) is nothing new.
  void waitForQuiet(std::chrono::milliseconds quiet);
  /// Blocks for `howLong`, or until the session ends (throws then).
  void watchFor(std::chrono::milliseconds howLong);
  /// Blocks until everything sent so far has been taken by the peer.
  void drain();

  Session& session() { return *session_; }
  [[nodiscard]] Framebuffer copyOfPicture(int screen) const;
  /// All screens there are, on and off; empty where they cannot be switched.
  [[nodiscard]] std::vector<ScreenOffer> offers() const;
  [[nodiscard]] Capabilities capabilities() const;
  /// Blocks until the machine's agent has said what it can do with screens, at most so long; else why it
  /// cannot.
  std::string waitForScreens(std::chrono::milliseconds most);
  /// Blocks until the screens are as `good` wants them.
  void waitForOffers(const std::function<bool(const std::vector<ScreenOffer>&)>& good);
  /// The same for at most so long; false when they never were.
  bool offersWithin(std::chrono::milliseconds most,
                    const std::function<bool(const std::vector<ScreenOffer>&)>& good);
  [[nodiscard]] Figures figures() const;
  [[nodiscard]] RouteFacts route() const;

 private:
  class Observer;
  struct State {
    mutable std::mutex mutex;
    std::condition_variable changed;
    SessionStatus status;
    RouteFacts route;
    Figures figures;
    Region seen = Region::exact();
    bool paintsPartly = false;  ///< the rest of the screen stays as it began
    Size size;
    std::vector<Screen> screens;
    std::vector<ScreenOffer> offers;
    Capabilities capabilities;
    std::chrono::steady_clock::time_point lastChange;  ///< to something not seen just before
    std::shared_ptr<Framebuffer> picture;
    std::deque<std::uint64_t>
        statesSeen;  ///< of the whole picture, newest last; looked at while quiet is waited for
    bool compareStates = false;
    std::uint64_t figureCount = 0;
  };
  template <typename Condition>
  void waitUntil(Condition condition, const char* what);
  /// With the lock held.
  [[nodiscard]] bool isWhole() const;
  void throwIfOver(std::unique_lock<std::mutex>& lock) const;

  std::shared_ptr<State> state_ = std::make_shared<State>();
  Runtime runtime_{1};
  std::shared_ptr<Session> session_;
  std::chrono::steady_clock::time_point deadline_;
};

}  // namespace kw::cli

// What all sessions have in common: their stages, questions, and how they stay connected.
#pragma once
#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "session/session.hpp"

namespace kw {

class SessionBase : public Session, public Asker, public std::enable_shared_from_this<SessionBase> {
 public:
  void observe(std::shared_ptr<SessionObserver> observer) override;
  void start() override;
  void end() override;
  void retry() override;

  // Asker; on the strand.
  Task<Answer> ask(Question question) override;
  void doing(const std::string& what) override;

 protected:
  SessionBase(const Executor& strand, std::shared_ptr<Clock> clock, ReconnectPolicy reconnect);

  /// One connection from its beginning to its end; returns or throws when it is over.
  virtual Task<void> connectAndServe() = 0;
  /// Called on the strand after each connection, whatever its end.
  virtual void connectionOver() {}
  /// Ends the connection there is.
  virtual void closeConnection() = 0;
  /// True when the failure is to be followed by another attempt at once (a wrong password: ask again).
  virtual bool triesAgainAtOnce(const Error&) { return false; }
  /// Once a second while running.
  virtual void everySecond(double /*seconds since the last time*/) {}
  /// What the address is called in sentences.
  [[nodiscard]] virtual std::string peerName() const = 0;

  template <typename Derived, typename F>
  void onStrand(F what) {
    auto self = std::static_pointer_cast<Derived>(shared_from_this());
    post(strand_, [self, what = std::move(what)] { what(*self); });
  }
  void setStatus(SessionStage stage, std::string sentence, std::optional<ErrorKind> problem = {},
                 std::string cure = {}, std::chrono::nanoseconds next = {});
  /// To be called when the peer has let us in.
  void becomeLive();

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  std::shared_ptr<SessionObserver> observer_ = std::make_shared<SessionObserver>();
  SessionStatus status_;
  RouteFacts route_;
  bool ending_ = false;

 private:
  void startNow();
  void endNow();
  Task<void> run();
  Task<void> endWatch();
  Task<bool> waitForNext(Error failure);
  Task<void> untilWoken();
  Task<void> count();
  [[nodiscard]] bool worthAnotherTry(ErrorKind kind) const;

  ReconnectPolicy reconnect_;
  Signal wake_, answered_;
  std::shared_ptr<std::optional<Answer>> pendingAsk_;
  int attempt_ = 0;
  bool running_ = false, retryNow_ = false, counting_ = false;
};

}  // namespace kw

// What all sessions have in common: their stages, questions, and how they stay connected.
#pragma once
#include <set>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "session/observers.hpp"
#include "session/session.hpp"

namespace kw {

class SessionBase : public Session, public Asker, public std::enable_shared_from_this<SessionBase> {
 public:
  void observe(std::shared_ptr<SessionObserver> observer) override;
  void start() override;
  void end() override;
  void retry() override;
  void stopObserving(std::shared_ptr<SessionObserver> observer) override;
  void setPolicy(Policy policy) override;
  void setViewOnly(bool on) override;

  // Commands: brought to the strand, checked against the policy, and handed to the …Now() below.
  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down) final;
  void pointer(Point at, unsigned buttons) final;
  void pointerBy(int dx, int dy, unsigned buttons) final;
  void offerClip(std::shared_ptr<Clip> clip) final;
  void requestSize(Size size) final;
  void switchScreen(std::uint32_t id, Size size) final;
  void arrangeScreens(std::vector<ScreenOffer> plan) final;
  void power(PowerWish wish) final;
  void setSound(bool on) final;
  void setColours(int bits) final;
  void setQuality(int quality, int compression) final;
  void refresh() final;
  void setPaused(bool paused) final;

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
  // What an engine does for each command; on the strand, also while not connected.
  virtual void keyNow(std::uint32_t /*keysym*/, std::uint32_t /*scanCode*/, bool /*down*/) {}
  virtual void pointerNow(Point, unsigned /*buttons*/) {}
  virtual void pointerByNow(int /*dx*/, int /*dy*/, unsigned /*buttons*/) {}
  virtual void clipboardNow(const std::string& /*utf8*/) {}
  /// Fetches the text and calls clipboardNow(), unless the engine can offer before fetching.
  virtual void clipNow(std::shared_ptr<Clip> clip);
  virtual void sizeNow(Size) {}
  virtual void switchScreenNow(std::uint32_t /*id*/, Size) {}
  virtual void arrangeNow(const std::vector<ScreenOffer>&) {}
  virtual void powerNow(PowerWish) {}
  virtual void soundNow(bool /*on*/) {}
  virtual void coloursNow(int /*bits*/) {}
  virtual void qualityNow(int /*quality*/, int /*compression*/) {}
  virtual void refreshNow() {}
  virtual void pausedNow(bool /*paused*/) {}
  /// Text copied over there, told on if the policy lets it.
  void tellClipboard(const std::string& utf8);
  /// The same before it is fetched.
  void tellClip(std::shared_ptr<Clip> whole);

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
  std::shared_ptr<Observers> observer_ = std::make_shared<Observers>();
  Policy policy_;
  SessionStatus status_;
  RouteFacts route_;
  bool ending_ = false;

 private:
  template <typename F>
  void later(F what) {
    post(strand_, [self = shared_from_this(), what = std::move(what)] { what(*self); });
  }
  void startNow();
  void endNow();
  Task<void> run();
  Task<void> endWatch();
  Task<void> patience();
  Task<bool> waitForNext(Error failure);
  Task<void> untilWoken();
  Task<void> count();
  [[nodiscard]] bool worthAnotherTry(ErrorKind kind) const;

  ReconnectPolicy reconnect_;
  Signal wake_, answered_, never_;
  Task<Answer> askNow(Question question);
  std::shared_ptr<std::optional<Answer>> pendingAsk_;
  std::set<std::string> goodHere_;  ///< certificates that were accepted for this session, by question
  int attempt_ = 0;
  std::uint64_t steps_ = 0;  ///< of getting in: what was told, what was answered
  bool running_ = false, retryNow_ = false, counting_ = false;
};

}  // namespace kw

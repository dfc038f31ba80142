// A host that is watched: its adapter, how it stands, and its stock, kept fresh and connected again when
// lost.
#pragma once
#include <functional>
#include <future>
#include <memory>

#include "base/runtime.hpp"
#include "host/adapter.hpp"
#include "record/model.hpp"

namespace kw::host {

enum class HostStage { Idle, Connecting, Live, Waiting, Ended };

struct HostView {
  HostStage stage = HostStage::Idle;
  std::string sentence;  ///< "lost: closed by the other side"; empty while live
  std::string cure;
  std::optional<ErrorKind> problem;
  std::string description;  ///< "libvirt 9.0.0, local"
  bool sealed = false;
  int attempt = 0;
  HostAbilities abilities;
  std::shared_ptr<const Stock> stock = std::make_shared<Stock>();  ///< the last that was told
};

/// Thread-safe; callbacks come on the host's strand.
class Host : public std::enable_shared_from_this<Host> {
 public:
  using Done = std::function<void(std::exception_ptr)>;

  /// Throws Error{Local} when the address makes no sense.
  Host(const HostRecord& record, AdapterTools tools);
  ~Host();

  [[nodiscard]] const HostRecord& record() const { return record_; }
  void start();
  /// Ends for good. Returns when nothing of it runs any more on its strand, at most after a few seconds.
  void end();
  /// While waiting for the next attempt: now.
  void retry();
  /// `told` is called after each change of view(), from now on and once at once. Returns a number for
  /// stopObserving().
  int observe(std::function<void()> told);
  void stopObserving(int number);
  [[nodiscard]] HostView view() const;

  /// `done` gets null when the host took the order (not when the machine is there).
  void power(std::string id, PowerAct act, Done done);
  void change(std::string id, ConsoleChange change, Done done);
  /// `into` is written before `done` is called.
  void readInGuest(std::string id, std::string path, std::shared_ptr<std::string> into, Done done);
  /// Likewise; what HostAdapter::firstPassword() gives.
  void firstPassword(std::string id, std::shared_ptr<std::string> into, Done done);

 private:
  std::future<void> endSoon();
  struct State;
  HostRecord record_;
  std::shared_ptr<State> state_;
};

/// One order to a host, awaited on the caller's strand.
Task<void> ordered(std::function<void(Host::Done)> give);
/// Host::readInGuest, awaited likewise.
Task<std::string> readInGuest(std::shared_ptr<Host> host, std::string id, std::string path);

/// Waits on the caller's strand until `holds` is true of the view, or throws Error{TimedOut, what}.
Task<void> awaitView(std::shared_ptr<Host> host, std::function<bool(const HostView&)> holds,
                     std::chrono::nanoseconds limit, std::string what);

}  // namespace kw::host

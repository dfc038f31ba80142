// From "off" to "its way in answers", step by step: asked, running, has an address, answers. Events where the
// host has them, growing intervals where only looking helps.
#pragma once
#include <functional>

#include "host/host.hpp"
#include "record/address.hpp"

namespace kw::host {

enum class StepState { Done, Now, Ahead, Failed };
struct StartStep {
  std::string what, remark;  ///< "running", "firmware, then loading"
  StepState state = StepState::Ahead;
  std::chrono::nanoseconds at{};  ///< since the beginning; when it was done, failed, or last looked at
};

struct StartView {
  std::vector<StartStep> steps;
  bool over = false;
  std::optional<Error> failure;    ///< set when over without success
  std::optional<Address> address;  ///< where it answers
  std::chrono::nanoseconds took{};
};

struct StartPlan {
  std::shared_ptr<Host> host;
  std::string id;  ///< on the host
  /// Where the way in is, from what the host tells now; nothing while that is not known.
  std::function<std::optional<Address>(const StockMachine&)> addressNow;
  std::chrono::nanoseconds limit = std::chrono::minutes(5);
  std::chrono::nanoseconds lookLimit = std::chrono::seconds(3);
  /// Given to the host as soon as the machine runs.
  std::optional<ConsoleChange> again;
  std::string service = "its way in";  ///< "its desktop service"
};

/// Thread-safe; `told` comes on the strand.
class StartErrand : public std::enable_shared_from_this<StartErrand> {
 public:
  StartErrand(Executor strand, std::shared_ptr<Clock> clock, StartPlan plan);
  void start(std::function<void(const StartView&)> told);
  /// Ends the waiting; the machine goes on as it is.
  void stop();
  /// Looks now, not after the interval.
  void lookNow();

 private:
  Task<void> run();
  Task<void> steps();
  Task<void> askToStart();
  Task<void> untilRunning();
  Task<void> passwordAgain();
  Task<Address> untilAddress();
  Task<void> untilAnswers();
  std::optional<StockMachine> machineNow() const;
  void throwIfStoppedAgain() const;
  void begin(std::size_t step, const std::string& what, const std::string& remark = "");
  void done(std::size_t step, const std::string& what, const std::string& remark = "");
  void tell();

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  StartPlan plan_;
  std::function<void(const StartView&)> told_;
  StartView view_;
  TimePoint began_;
  Signal wake_;
  bool stopping_ = false, wasRunning_ = false, lookWanted_ = false;
};

}  // namespace kw::host

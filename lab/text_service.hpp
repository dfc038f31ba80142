// Serves an appliance's text: as a socket (a hypervisor's serial port), as a telnet server, or behind a
// simulated network terminal server (RFC 2217) whose line must be set right.
#pragma once
#include <filesystem>
#include <memory>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "lab/appliance.hpp"
#include "line/line.hpp"

namespace kw::lab {

struct TextServicePlan {
  enum class Kind { Socket, Telnet, TerminalServer } kind = Kind::Telnet;
  std::filesystem::path socket;
  std::string address = "127.0.0.1";
  std::uint16_t port = 0;  ///< 0: any free port
  LineSettings line;       ///< what the appliance speaks, behind a terminal server
  std::function<std::unique_ptr<Appliance>()> make;
};

/// One appliance and its visitors, on a strand of its own. All visitors see the same line.
class TextService {
 public:
  TextService(Executor strand, std::shared_ptr<Clock> clock, TextServicePlan plan);
  ~TextService();
  /// Throws Error{Local} when port or path are taken.
  void start();
  [[nodiscard]] std::uint16_t port() const { return port_; }

 private:
  struct State;
  TextServicePlan plan_;
  std::shared_ptr<State> state_;
  std::uint16_t port_ = 0;
};

}  // namespace kw::lab

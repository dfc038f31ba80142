// A simulated host: listens on its loopback address and serves each guest's console on a port of its own.
#pragma once
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/clock.hpp"
#include "lab/door.hpp"
#include "lab/guest.hpp"
#include "rfb/server.hpp"
#include "wire/stream.hpp"

namespace kw::lab {

struct ConsolePlan {
  GuestPlan guest;
  std::string address = "127.0.0.1";
  std::uint16_t port = 0;  ///< 0: any free port
  rfb::ServerOptions options;
  bool vnc = true;                ///< serve the console by VNC on address and port
  std::vector<DoorPlan> doors;    ///< further ways to the guest
  std::string id;                 ///< what hosts know the machine by
  std::uint16_t consoleById = 0;  ///< the host's port where it is named by its ID
};

/// One guest with its console, on a strand of its own. Thread-safe.
class Console {
 public:
  Console(Executor strand, std::shared_ptr<Clock> clock, std::shared_ptr<Fonts> fonts, ConsolePlan plan);
  ~Console();

  /// Listens and runs. Throws Error{Local} when the port is taken.
  void start(bool alreadyRunning);
  /// Drops all visitors and stops listening, as a killed host does.
  void stop();

  [[nodiscard]] std::uint16_t port() const { return port_; }
  [[nodiscard]] const ConsolePlan& plan() const { return plan_; }
  /// Of plan().doors; 0 while it does not answer yet.
  [[nodiscard]] std::uint16_t doorPort(std::size_t door) const;
  /// Lets a visitor in whom somebody else received (a host that asks for the machine's ID first).
  void admit(StreamPtr stream, DoorMaker maker);
  /// Of the VNC console; for visitors that come from now on.
  void setPassword(const std::string& password);
  [[nodiscard]] std::string password() const;
  /// The VNC console listens there from now on. Throws Error{Local} when the port is taken.
  void usePort(std::uint16_t port);
  [[nodiscard]] int visitors() const;
  /// Runs `what` with the guest on its strand, and waits for it.
  void withGuest(const std::function<void(Guest&)>& what);
  void setClipboard(const std::string& utf8);
  void bell();

 private:
  struct State;
  ConsolePlan plan_;
  std::shared_ptr<State> state_;
  std::uint16_t port_ = 0;
  bool serving_ = false;
};

}  // namespace kw::lab

// One kind of host behind one shape. Adding a kind: one file adapter_*.cpp, one row in kinds.cpp.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "base/clock.hpp"
#include "base/secret.hpp"
#include "base/task.hpp"
#include "host/stock.hpp"
#include "session/session.hpp"

namespace kw::host {

enum class PowerAct {
  Start,
  ShutDown,  ///< asks the guest; nothing is lost, but it may not listen
  Off,       ///< at once, as pulling the plug
  Restart,   ///< asks the guest
  Reset,     ///< at once, without the guest
  Pause,
  Resume,
};
/// "start", "shutdown", … as the command line has it.
const char* nameOf(PowerAct act);
std::optional<PowerAct> powerActFrom(const std::string& name);
/// Whether doing this loses what the guest has not saved.
bool losesWork(PowerAct act);

/// When a change of a console counts.
enum class When { AtOnce, AfterStop };

/// What may be changed about a machine's ways in; what is not set stays.
struct ConsoleChange {
  std::string scheme = "vnc";           ///< which of its consoles
  std::optional<std::string> password;  ///< empty: none is asked for
  std::optional<int> port;              ///< 0: the host picks one at each start
  std::optional<std::string> listen;
  std::optional<std::string> addSerial;  ///< a socket's path on the host
};

struct HostAbilities {
  Ability start, power, pause, restart, password, port, listen, serial;
  When passwordCounts = When::AtOnce, portCounts = When::AfterStop;
  bool passwordForgotten = true;  ///< at every stop of the machine
};

/// Where an adapter tells what it sees; on the adapter's strand.
class HostNews {
 public:
  virtual ~HostNews() = default;
  /// The connection stands, and these are all machines there are.
  virtual void all(std::vector<StockMachine> machines) = 0;
  virtual void one(StockMachine machine) = 0;
  virtual void gone(const std::string& id) = 0;
  /// "libvirt 9.0.0, local": for the host's row.
  virtual void described(const std::string& what, bool sealed) = 0;
};

/// Everything on one strand. Must not be destroyed while a task of it is pending.
class HostAdapter {
 public:
  virtual ~HostAdapter() = default;
  /// Connects, tells all machines and then every change, until the host is lost or close() is called: always
  /// ends with an Error that says why.
  virtual Task<void> run(HostNews& news) = 0;
  virtual void close() = 0;
  [[nodiscard]] virtual HostAbilities abilities() const = 0;
  // While run() is under way. Throw Error; {Unsupported} with the reason when it cannot be done.
  virtual Task<void> power(std::string id, PowerAct act) = 0;
  virtual Task<void> change(std::string id, ConsoleChange change) = 0;
  /// A small file of the running guest, by an agent in it.
  virtual Task<std::string> readInGuest(std::string id, std::string path);
  /// The password that was made with the machine, encrypted to its owner's key
  /// (credential/first_password.hpp) and as base64. Throws Error{Unsupported} where the host keeps none.
  virtual Task<std::string> firstPassword(std::string id);
  /// The host's own name for where its consoles can be reached from here: a console that listens on loopback
  /// of a host elsewhere is not at 127.0.0.1 of this desk. Empty: as the console says.
  [[nodiscard]] virtual std::string reachedAt() const { return {}; }
};

struct AdapterTools {
  Executor strand;
  std::shared_ptr<Clock> clock;
  std::string user;
  std::optional<Secret> password;
};

struct HostKind {
  const char* scheme;   ///< before the colon of the address
  const char* label;    ///< "libvirt"
  const char* example;  ///< "libvirt:qemu:///system"
  /// `rest` is the address behind the colon. Throws Error{Local} when it makes no sense.
  std::unique_ptr<HostAdapter> (*make)(const std::string& rest, const AdapterTools& tools);
  bool runsCommand = false;  ///< watching it runs what its address says
};
std::span<const HostKind> allHostKinds();
/// Throws Error{Local} for an address of no known kind.
std::unique_ptr<HostAdapter> makeAdapter(const std::string& address, const AdapterTools& tools);
/// The command that watching a host of this address would run; empty: none.
std::string commandOf(const std::string& address);
/// Empty when an adapter takes the address, else what is wrong with it.
std::string problemWithHostAddress(const std::string& address);

std::unique_ptr<HostAdapter> makeLibvirtAdapter(const std::string& rest, const AdapterTools& tools);
std::unique_ptr<HostAdapter> makeQmpAdapter(const std::string& rest, const AdapterTools& tools);
std::unique_ptr<HostAdapter> makeCommandAdapter(const std::string& rest, const AdapterTools& tools);

}  // namespace kw::host

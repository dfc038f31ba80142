#include "record/catalogue.hpp"

#include <algorithm>

#include "record/address.hpp"
#include "record/setting.hpp"

namespace kw {

namespace {

// RFC 7869 (vnc), RFC 3986; the ports are IANA's, or for spice the one hypervisors begin with.
constexpr const char* kScreenPassword =
    "The screen's own password, as its host or service has it; not that of an account.";
constexpr const char* kConsolePassword = "The console's password, as its host has it.";
constexpr const char* kOwnAccount = "An account of the machine itself.";

constexpr WayKind kWayKinds[] = {
    {"vnc", "vnc", Form::Screen, "vnc", "screen", "Screen by VNC", "vnc://host:5901", 5900, false, false,
     5900, kScreenPassword, 8},
    {"vnc+ws", "vnc", Form::Screen, "vnc", "screen", "Screen by VNC over WebSocket", "vnc+ws://host:5701", 0,
     false, false, 0, kScreenPassword, 8},
    {"vnc+wss", "vnc", Form::Screen, "vnc", "screen", nullptr, "vnc+wss://host:5701 (sealed by TLS)", 0,
     false, false, 0, kScreenPassword, 8},
    {"vnc+unix", "vnc", Form::Screen, "vnc", "screen", nullptr, "vnc+unix:/path", 0, true, false, 0,
     kScreenPassword, 8},
    {"rdp", "rdp", Form::Screen, "rdp", "desktop", "Desktop by RDP", "rdp://user@host", 3389, false, false, 0,
     kOwnAccount},
    {"spice", "spice", Form::Screen, "spice", "screen", "Screen by SPICE", "spice://host:5930", 5900, false,
     false, 0, kConsolePassword},
    {"spice+tls", "spice", Form::Screen, "spice", "screen", nullptr, nullptr, 0, false, false, 0,
     kConsolePassword},
    {"spice+unix", "spice", Form::Screen, "spice", "screen", nullptr, nullptr, 0, true, false, 0,
     kConsolePassword},
    {"ssh", "ssh", Form::Text, "ssh", "shell", "Shell by SSH", "ssh://user@host", 22, false, true, 0,
     kOwnAccount},
    {"telnet", "line", Form::Text, "telnet", "menu", "Text by telnet", "telnet://host", 23},
    {"serial", "line", Form::Text, "serial", "line", nullptr, "serial:/dev/ttyUSB0", 0, true},
    {"unix", "line", Form::Text, "serial", "line", nullptr, "unix:/path (a hypervisor's serial port)", 0,
     true},
    {"telnet+serial", "line", Form::Text, "serial", "line", "Serial line of a terminal server (RFC 2217)",
     "telnet+serial://host:port (network serial, RFC 2217)"},
    {"tcp", "line", Form::Text, "tcp", "line", "Raw text over TCP", "tcp://host:port"},
    {"tls", "line", Form::Text, "tls", "line", nullptr, nullptr}};

constexpr WayTarget kWayTargets[] = {
    {"rdp", "machine", "The machine's own service", "Console of a machine by its ID",
     "An account of the machine itself signs in. The machine must be running and its service switched on.",
     "An account of the host signs in, not one of the machine. It shows the machine from its firmware on and "
     "stays through restarts.",
     "The machine's ID on its host", 2179, "An account of the host, not one of the machine."}};

}  // namespace

const WayTarget* findWayTarget(const std::string& kind) {
  for (const WayTarget& t : kWayTargets)
    if (kind == t.kind) return &t;
  return nullptr;
}

std::string accountWords(const Address& address) {
  if (const WayTarget* target = findWayTarget(address.scheme);
      target != nullptr && address.options.contains(target->option))
    return target->withAccount;
  const WayKind* kind = findWayKind(address.scheme);
  return kind == nullptr ? "" : kind->account;
}

bool asksOwnAccount(const Address& address) { return accountWords(address) == kOwnAccount; }

std::span<const WayKind> allWayKinds() { return kWayKinds; }

const WayKind* findWayKind(const std::string& name) {
  for (const WayKind& s : kWayKinds)
    if (name == s.name) return &s;
  return nullptr;
}

bool isOfForm(const std::string& scheme, Form form) {
  const WayKind* s = findWayKind(scheme);
  return s != nullptr && s->form == form;
}

bool appliesTo(const Setting& setting, const std::string& scheme) {
  if (setting.protocols.empty()) return true;
  const WayKind* s = findWayKind(scheme);
  if (s == nullptr) return false;
  return std::any_of(setting.protocols.begin(), setting.protocols.end(), [s](const std::string& p) {
    return p == s->name || p == s->family || p == (s->form == Form::Screen ? "screen" : "text");
  });
}

bool sharesForm(const Setting& setting, const std::string& scheme) {
  const WayKind* own = findWayKind(scheme);
  return own != nullptr && std::any_of(std::begin(kWayKinds), std::end(kWayKinds), [&](const WayKind& other) {
           return other.form == own->form && appliesTo(setting, other.name);
         });
}

}  // namespace kw

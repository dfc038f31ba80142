#include "record/own_ports.hpp"

#include <unistd.h>

#include <algorithm>
#include <array>
#include <filesystem>
#include <fstream>
#include <sstream>

namespace kw {

namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 2> kOwnListeners = {"kettle-gate", "kettle-window"};
constexpr std::string_view kListens = "0A";

bool isNumber(const std::string& text) {
  return !text.empty() && text.find_first_not_of("0123456789") == std::string::npos;
}

/// Ports that somebody listens at, by the number of their socket.
void addListeners(const char* table, std::map<std::string, int>& out) {
  std::ifstream lines(table);
  for (std::string line; std::getline(lines, line);) {
    std::istringstream words(line);
    std::string number, local, remote, state, queues, timer, again, user, timeout, socket;
    words >> number >> local >> remote >> state >> queues >> timer >> again >> user >> timeout >> socket;
    const auto colon = local.rfind(':');
    if (state != kListens || colon == std::string::npos || !isNumber(socket)) continue;
    out[socket] = static_cast<int>(std::strtol(local.c_str() + colon + 1, nullptr, 16));
  }
}

std::string firstLine(const fs::path& file) {
  std::string line;
  std::ifstream in(file);
  std::getline(in, line);
  return line;
}

/// The ports among `listeners` whose sockets a process holds.
void addHeld(const fs::path& process, const std::string& name, const std::map<std::string, int>& listeners,
             std::map<int, std::string>& out) {
  constexpr std::string_view kSocket = "socket:[";
  std::error_code failed;
  for (fs::directory_iterator file(process / "fd", failed), end; !failed && file != end;
       file.increment(failed)) {
    std::error_code unread;
    const std::string target = fs::read_symlink(file->path(), unread).string();
    if (unread || !target.starts_with(kSocket)) continue;
    const auto found = listeners.find(target.substr(kSocket.size(), target.size() - kSocket.size() - 1));
    if (found != listeners.end()) out[found->second] = name;
  }
}

bool isThisComputer(const std::string& host) {
  if (host.starts_with("127.") || host == "::1" || host == "localhost") return true;
  std::array<char, 256> name{};
  return gethostname(name.data(), name.size() - 1) == 0 && host == name.data();
}

}  // namespace

std::map<int, std::string> ownPorts() {
  std::map<std::string, int> listeners;
  for (const char* table : {"/proc/net/tcp", "/proc/net/tcp6"}) addListeners(table, listeners);
  std::map<int, std::string> out;
  std::error_code failed;
  for (fs::directory_iterator process("/proc", failed), end; !failed && process != end;
       process.increment(failed)) {
    if (!isNumber(process->path().filename().string())) continue;
    const std::string name = firstLine(process->path() / "comm");
    if (std::find(kOwnListeners.begin(), kOwnListeners.end(), name) != kOwnListeners.end())
      addHeld(process->path(), name, listeners, out);
  }
  return out;
}

std::optional<std::string> OwnPorts::programAt(const std::string& host, int port) {
  if (port == 0 || !isThisComputer(host)) return std::nullopt;
  if (!ports_) ports_ = ownPorts();
  const auto found = ports_->find(port);
  return found == ports_->end() ? std::nullopt : std::optional(found->second);
}

}  // namespace kw

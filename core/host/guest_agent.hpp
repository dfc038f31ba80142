// QEMU's guest agent (its protocol reference, version 7.2), whichever way its host reaches it.
#pragma once
#include <functional>
#include <nlohmann/json.hpp>
#include <string>

#include "wire/stream.hpp"

namespace kw::host {

/// One command with its arguments; gives its "return". Throws Error{Local} with the agent's sentence.
using AgentCall = std::function<Task<nlohmann::json>(std::string command, nlohmann::json arguments)>;

/// A file of the guest, at most 1 MiB of it. Throws what `call` throws, Error{ProtocolBroken} for nonsense.
Task<std::string> readFileByAgent(AgentCall call, std::string path);

/// Addresses that others may reach it by.
Task<std::vector<std::string>> addressesByAgent(AgentCall call);
/// Whether it is one that means something outside of the guest and its own wire.
bool reachesOut(const std::string& address);

/// The agent at a socket of its own: what somebody else asked before is passed over first
/// (guest-sync-delimited).
class AgentSocket {
 public:
  explicit AgentSocket(StreamPtr stream) : stream_(std::move(stream)) {}
  Task<void> begin();
  Task<nlohmann::json> call(std::string command, nlohmann::json arguments);

 private:
  Task<nlohmann::json> answer();
  StreamPtr stream_;
  std::string waiting_;
};

}  // namespace kw::host

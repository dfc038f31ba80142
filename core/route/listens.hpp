// What listens at an address: told by what it says first, or by what it answers to a few harmless questions.
#pragma once
#include <string>

#include "record/address.hpp"
#include "wire/stream.hpp"

namespace kw {

struct Listening {
  std::string family;  ///< an engine's ("vnc", "ssh", …), or "http", "tls", "mail", "prompt"; empty: unknown
  std::string people;  ///< "an SSH server (SSH-2.0-OpenSSH_9.2)", "something that says nothing"
};

/// Makes up to five connections to the place, one after the other. Throws what connecting throws.
Task<Listening> whatListens(std::string host, std::uint16_t port, std::chrono::nanoseconds limit);
/// From the first bytes alone; empty family when they tell nothing.
Listening fromGreeting(const std::string& greeting);

}  // namespace kw

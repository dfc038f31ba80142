// The SSH jumps of a route, and how they are written.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "base/secret.hpp"
#include "record/address.hpp"
#include "record/model.hpp"
#include "ssh/connection.hpp"

namespace kw {

struct SshHop {
  SshOptions options;
  Owner owner;       ///< whose password may be kept; id 0: nobody's
  std::string name;  ///< for people: "duty@gatehouse"
  /// Keeps a password that worked, when it was to be remembered; may be empty.
  std::function<void(const Secret&)> remember;
  /// Answers what can be answered without asking anybody; nothing: somebody is asked. May be empty.
  std::function<Task<std::optional<Secret>>(SshPrompt)> answers = {};
  std::string credential = {};  ///< the named credential that it is remembered in; empty: the way in's own
};

/// The items of "ssh://duty@gatehouse, seed-bank": spaces around commas do not count.
std::vector<std::string> splitList(const std::string& text);

}  // namespace kw

// The table of engines: how an address of each family becomes a session, and what a look at it finds. Adding
// an engine: its schemes and settings in record/ (catalogue.cpp, settings_*.cpp), one file
// route/engine_*.cpp, one row in engines.cpp.
#pragma once
#include <span>

#include "route/opening.hpp"
#include "session/way.hpp"

namespace kw {

/// Everything an engine gets to make a session.
struct Opening {
  Executor strand;
  Address to;
  std::string label;  ///< the machine, in questions
  SettingReader setting;
  OpeningTools tools;
  Owner owner;  ///< the way in; id 0: an address that is not kept
  std::shared_ptr<Way> way;
};

/// How it is found out whether something answers, without signing in.
enum class Look {
  Connect,  ///< a connection is made, and greets() waits for what such a service says first
  Path,     ///< only the path is looked at
  Not,      ///< one visitor at a time: tried when opened
};

struct Engine {
  const char* family;
  /// Throws Error{Local} for settings or options that make no sense.
  std::shared_ptr<Session> (*make)(Opening);
  Look (*look)(const Address&);
  /// Returns when the service has shown that it is one; throws Error{ProtocolBroken} when it is another.
  /// Null: a connection is enough.
  Task<void> (*greets)(ByteStream&, const Address&);
  /// "vnc", or for serial lines their settings: "9600 8N1". For the header of a pane. Null: the chip's word.
  std::string (*kind)(const Address&, const SettingReader&);
  /// A further visitor turns nobody out, at least until he has signed in: it may be opened just to look.
  bool besideOthers = false;
};

std::span<const Engine* const> allEngines();
/// Null when no engine opens this scheme.
const Engine* engineFor(const std::string& scheme);

/// What a service says first, up to `n` bytes.
Task<std::string> readGreeting(ByteStream& stream, std::size_t n);

extern const Engine vncEngine, lineEngine, sshEngine, rdpEngine, spiceEngine;

}  // namespace kw

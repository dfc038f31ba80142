// The kinds of address there are, as pure data: what an engine needs to be known by in addresses, settings,
// sheets, chips and lists. A new engine adds its schemes here and its settings in a file beside it
// (settings_*.cpp); route/engines.cpp has the row that opens them. A test checks that the tables agree.
#pragma once
#include <span>
#include <string>
#include <vector>

namespace kw {

enum class Form { Screen, Text };  ///< what a way in shows

struct WayKind {
  const char* name;    ///< as in the address: "vnc+unix"
  const char* family;  ///< the engine that opens it: "vnc"
  Form form;
  const char* chip;           ///< what its chip says: "vnc"
  const char* wayName;        ///< the name of a new way in: "screen"
  const char* offer;          ///< in "Add a way in": "Screen by VNC"; null: not offered by name
  const char* example;        ///< for hints: "vnc://host:5901"; null: none
  int port = 0;               ///< the usual one; 0: it must be said
  bool hasPath = false;       ///< a path instead of a host
  bool carriesFiles = false;  ///< files of the machine are reached over it
  int displayBase = 0;        ///< host:1 typed means this port + 1; 0: numbers are ports
  const char* account = "";   ///< whose account or password signs in, for people; empty: none
  int passwordCounts = 0;     ///< of a plain password only so many characters count; 0: all
};

/// Something an address of a kind may name besides its host: then it leads elsewhere, and somebody else's
/// account signs in.
struct WayTarget {
  const char* kind;                    ///< of which addresses
  const char* option;                  ///< in the address: "machine"
  const char *without, *with;          ///< the two choices, for people
  const char *withoutHint, *withHint;  ///< whose account, where it is served
  const char* prompt;                  ///< in the empty field
  int port;                            ///< the usual one when it is named
  const char* withAccount;             ///< whose account signs in when it is named
};
/// Null where there is no such choice.
const WayTarget* findWayTarget(const std::string& kind);

struct Address;
/// Whose account or password an address asks for: "An account of the host, not one of the machine."
std::string accountWords(const Address& address);

/// True when an account of the machine itself signs in.
bool asksOwnAccount(const Address& address);

std::span<const WayKind> allWayKinds();
/// Null for a scheme nobody declared.
const WayKind* findWayKind(const std::string& name);
/// False for schemes nobody declared.
bool isOfForm(const std::string& scheme, Form form);

struct Setting;
/// Whether a setting means something for ways in of this scheme. Setting::protocols names schemes, families,
/// "screen" or "text"; empty: all.
bool appliesTo(const Setting& setting, const std::string& scheme);
/// Whether it means something for other ways in that show the same, a screen or text.
bool sharesForm(const Setting& setting, const std::string& scheme);

}  // namespace kw

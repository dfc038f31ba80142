// What the records allow with a way in through the gateway: its group's policy.
#pragma once
#include <map>
#include <string>

#include "gate/gate_store.hpp"

namespace kw::gate {

/// What the settings of a way in allow to people of the gateway.
struct Rules {
  bool access = true, drive = true, clipboardTo = true, clipboardFrom = true, several = true, passes = true,
       power = false;
  bool askFirst = false;  ///< whoever comes second is let in by who is there
  bool handEnds = true;   ///< whoever drives may end the session for all
  bool record = false;    ///< what is shown is kept
  int passHours = 24;
  int passUses = 0;  ///< at most; 0: any number
  Seconds keep = 120;
  /// Where each of them is set, by its key: "from group Glasshouses".
  std::map<std::string, std::string> where;
  bool operator==(const Rules&) const = default;
  /// For people, behind what is off: " (from group Glasshouses; whoever edits its sheet can change it)".
  [[nodiscard]] std::string setBy(const std::string& key) const;
};
/// Throws nothing; the way in must be there.
Rules rulesOf(const Snapshot& records, Id wayIn);
/// Why a pass for so long and so many uses may not be; empty when it may.
std::string problemWithPass(const Rules& rules, double hours, int uses);

}  // namespace kw::gate

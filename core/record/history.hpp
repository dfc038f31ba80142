// Who changed what, and when.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "record/model.hpp"

namespace kw {

struct FieldChange {
  std::string what;           ///< "mist-bench · tags", "way in screen · address", "Sizing"
  std::string before, after;  ///< empty: was not there, is not there any more
};

/// One commit.
struct Change {
  Id id = 0;
  std::string when;  ///< ISO 8601, UTC; empty for what was changed before this was kept
  std::string author, title;
  bool undone = false;
  std::vector<FieldChange> fields;
};

/// An owner with what belongs to it: a machine with its ways in.
std::vector<Owner> ownersWithin(const Snapshot& records, Owner owner);

}  // namespace kw

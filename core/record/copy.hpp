// A second machine like one that is there.
#pragma once
#include <string>

#include "record/model.hpp"
#include "record/store.hpp"

namespace kw {

/// "mist-bench 2", "mist-bench 3" …: the first that no machine has.
std::string freeName(const Snapshot& s, const std::string& like);

/// Everything of the machine but its passwords, and what makes it the one it is on its host, under another
/// name. Gives the new machine; throws what the writer throws.
Id copyMachine(const Snapshot& s, StoreWriter& w, Id from, const std::string& name);

}  // namespace kw

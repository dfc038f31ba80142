// Ports of the records' addresses.
#pragma once
#include <optional>
#include <string>

#include "record/address.hpp"
#include "record/model.hpp"

namespace kw {

/// The machine with another way in at the same address; nothing when there is none.
std::optional<std::string> clashOf(const Snapshot& records, const Endpoint& way);
/// The address's port, or the next one of the same host that no record uses.
int freePortFrom(const Snapshot& records, const Address& address);

}  // namespace kw

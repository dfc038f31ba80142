// Commands that stand in records run on this desk only after somebody at it agreed to them once: a record may
// come from a colleague or a file. What was agreed to is kept in the configuration folder, as SHA-256.
#pragma once
#include <string>

namespace kw {

[[nodiscard]] bool isAgreed(const std::string& command);
/// Throws Error{Local} when it cannot be kept.
void agreeTo(const std::string& command);

}  // namespace kw

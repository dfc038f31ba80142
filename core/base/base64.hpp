// RFC 4648, section 4.
#pragma once
#include <string>

#include "base/bytes.hpp"

namespace kw {

/// With padding, without line ends.
std::string base64Of(ByteView bytes);

}  // namespace kw

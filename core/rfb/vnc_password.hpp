// The challenge of RFC 6143 7.2.2: DES over 16 bytes, only eight characters of the password count.
#pragma once
#include <array>
#include <string_view>

#include "base/bytes.hpp"

namespace kw::rfb {

constexpr std::size_t kPasswordSignificant = 8;
using Challenge = std::array<Byte, 16>;

Challenge answerChallenge(const Challenge& challenge, std::string_view password);
Challenge randomChallenge();

}  // namespace kw::rfb

// What tests of the parts of RDP share.
#pragma once
#include "rdp/bitmap_codec.hpp"
#include "rdp/channels.hpp"
#include "rdp/clipboard.hpp"
#include "rdp/credssp.hpp"
#include "rdp/der.hpp"
#include "rdp/input.hpp"
#include "rdp/licensing.hpp"
#include "rdp/mcs.hpp"
#include "rdp/pointer.hpp"
#include "rdp/share.hpp"
#include "rdp/standard_security.hpp"
#include "tests/core/breaks.hpp"
#include "tests/support.hpp"

namespace kw::test {

using namespace kw::rdp;

inline Bytes unhex(const std::string& text) {
  Bytes out;
  for (std::size_t i = 0; i + 1 < text.size(); i += 2)
    out.push_back(static_cast<Byte>(std::stoi(text.substr(i, 2), nullptr, 16)));
  return out;
}

/// True when the call ends in Error{ProtocolBroken}.
}  // namespace kw::test

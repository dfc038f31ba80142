// Whether something refuses what a peer said.
#pragma once
#include "base/error.hpp"

namespace kw::test {

template <typename F>
bool breaks(F what) {
  try {
    what();
  } catch (const Error& e) {
    return e.kind() == ErrorKind::ProtocolBroken;
  }
  return false;
}

}  // namespace kw::test

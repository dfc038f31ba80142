// Findings about a picture that is open and still not what somebody expects: black, unchanged for long, of an
// old size.
#pragma once
#include <chrono>
#include <vector>

#include "picture/geometry.hpp"

namespace kw::host {

struct Finding;

/// What is known of a live session with a picture.
struct OpenPicture {
  Size size;
  Size wanted;            ///< the room it is shown in, in its own pixels
  bool follows = false;   ///< its record wants it to take that size
  std::string resizeWhy;  ///< why the machine cannot; empty when it can
  bool black = false;
  std::chrono::nanoseconds unchanged{};  ///< since anything in it changed
};
constexpr std::chrono::minutes kUnchangedForLong{5};

void lookAtOpenPicture(const OpenPicture& open, std::vector<Finding>& out);

}  // namespace kw::host

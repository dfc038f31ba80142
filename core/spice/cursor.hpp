// Pointers of SPICE's cursor channel, with their cache.
#pragma once
#include <map>
#include <optional>
#include <vector>

#include "base/little.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw::spice {

/// Pixels are 0xAARRGGBB, premultiplied. Size {0, 0}: hidden.
struct Pointer {
  Size size;
  Point hotspot;
  std::vector<Pixel> pixels;
};

class Pointers {
 public:
  /// Reads a pointer from a message; nothing when the message shows none. Throws Error{ProtocolBroken}.
  std::optional<Pointer> read(LittleReader& in);
  void forget(std::uint64_t id) { cache_.erase(id); }
  void forgetAll() { cache_.clear(); }

 private:
  std::map<std::uint64_t, Pointer> cache_;
};

}  // namespace kw::spice

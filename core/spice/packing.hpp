// How the server side packs images: see pixels.hpp for how they are read. Pixels are native; `stride` counts
// pixels.
#pragma once
#include <deque>

#include "spice/pixels.hpp"

namespace kw::spice {

/// True colour, top row first.
Bytes encodeLz(const Pixel* pixels, std::size_t stride, Size size);
Bytes encodeQuic(const Pixel* pixels, std::size_t stride, Size size, bool withAlpha = false);

/// GLZ of true colour: an image may refer to those before it, as far as they are kept.
class GlzWriter {
 public:
  Bytes encode(const Pixel* pixels, std::size_t stride, Size size);

 private:
  struct Kept {
    std::uint64_t id = 0;
    std::vector<Pixel> pixels;
  };
  /// Where three pixels were last seen.
  struct Place {
    std::uint64_t image = 0;
    std::size_t at = 0;
  };
  struct Found {
    std::size_t length = 0, offset = 0;  ///< offset: back from here less one, or from the other image's begin
    std::uint64_t imageDistance = 0;
  };
  [[nodiscard]] Found longest(const Kept& now, std::size_t i, const Place& place, Found best) const;
  static void put(ByteWriter& out, const Found& match);

  std::deque<Kept> kept_;
  std::vector<Place> places_ = std::vector<Place>(65536);
  std::uint64_t last_ = 0;
  std::size_t pixels_ = 0;
};

}  // namespace kw::spice

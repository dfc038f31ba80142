// The image codecs that only SPICE uses. Each gives native pixels; with alpha where the image has it, else
// opaque.
#pragma once
#include <cstdint>
#include <map>
#include <memory>
#include <vector>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw::spice {

/// Top row first, rows without padding.
struct Image {
  Size size;
  std::vector<Pixel> pixels;
  bool hasAlpha = false;  ///< premultiplied then
  [[nodiscard]] const Pixel* row(int y) const {
    return pixels.data() + static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width);
  }
};
using ImagePtr = std::shared_ptr<const Image>;

/// All throw Error{ProtocolBroken}. `size` is what the image's head says; what the data says must agree.
Image decodeQuic(ByteView data, Size size);
/// `palette` is for the palette kinds; may be empty for the others.
Image decodeLz(ByteView data, Size size, const std::vector<Pixel>& palette);
Image decodeLz4(ByteView data, Size size);

/// The dictionary of GLZ: images refer to pixels of earlier ones.
class GlzWindow {
 public:
  ImagePtr decode(ByteView data, Size size);
  void clear() { images_.clear(), pixels_ = 0; }

 private:
  struct Kept {
    std::shared_ptr<Image> image;
  };
  std::map<std::uint64_t, Kept> images_;
  std::size_t pixels_ = 0;
};

}  // namespace kw::spice

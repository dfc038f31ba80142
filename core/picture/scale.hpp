// Pictures larger and smaller: an area-weighted filter for shrinking, linear for growing, and plain
// repetition for whole factors. Only the damaged part is made anew.
#pragma once
#include "picture/framebuffer.hpp"

namespace kw {

/// Scales one source area to one target size; made once, used for every damage.
class Scaler {
 public:
  /// `source` is an area of the picture in its own coordinates.
  Scaler(Rect source, Size target);
  [[nodiscard]] Rect source() const { return source_; }
  [[nodiscard]] Size target() const { return target_; }
  /// The target pixels that depend on `damage` (in picture coordinates).
  [[nodiscard]] Rect targetOf(const Rect& damage) const;
  /// Makes `part` of the target from the picture. `out` is the target's first pixel, `stride` in pixels.
  void scale(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const;

 private:
  struct Tap {
    int first;  ///< first source index, relative to source_
    int count;
    int weight;  ///< index of the first weight in weights_
  };
  struct Axis {
    std::vector<Tap> taps;
    std::vector<std::uint16_t> weights;  ///< each target's weights sum to a power of two
  };
  static Axis makeAxis(int source, int target, int weightBits);
  /// Columns or rows between two of the source: the first of both, and what of the second.
  struct Between {
    std::vector<std::uint32_t> first;
    std::vector<std::uint16_t> share;
  };
  /// `whole` is all of the second, `most` the most that is said.
  static Between makeBetween(int source, int target, int whole, int most);
  void grow(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const;
  void halve(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const;
  void blend(const Framebuffer& picture, const Rect& part, Pixel* out, std::size_t stride) const;

  Rect source_;
  Size target_;
  bool grows_;              ///< in neither direction smaller, and two pixels at least to go between
  Axis across_, down_;      ///< unless it grows
  Between columns_, rows_;  ///< when it grows
};

/// Every pixel becomes factor x factor pixels. `out` is where part.x,part.y of `area` scaled goes.
void scaleWhole(const Framebuffer& picture, const Rect& area, int factor, Pixel* out, std::size_t stride);

}  // namespace kw

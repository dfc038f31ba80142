// A machine's picture: one allocation of native pixels, shared between the engine that decodes into it and
// the window that paints from it. Painting and decoding take turns under lock().
#pragma once
#include <memory>
#include <mutex>

#include "base/bytes.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw {

/// No picture is larger than this in either direction or in pixels (16384 x 8192 fits).
constexpr int kMostPictureSide = 16384;
constexpr std::int64_t kMostPictureArea = std::int64_t{16384} * 8192;
/// True when a peer may announce a picture of this size.
bool pictureSizeAllowed(Size size);

class Framebuffer {
 public:
  Framebuffer() = default;
  /// Black. Throws Error{ProtocolBroken} when the size is not allowed.
  explicit Framebuffer(Size size) { resize(size); }

  [[nodiscard]] Size size() const { return size_; }
  [[nodiscard]] int width() const { return size_.width; }
  [[nodiscard]] int height() const { return size_.height; }
  [[nodiscard]] Rect rect() const { return {0, 0, size_.width, size_.height}; }
  /// Pixels from one row to the next.
  [[nodiscard]] std::size_t stride() const { return static_cast<std::size_t>(size_.width); }

  Pixel* row(int y) { return pixels_.get() + static_cast<std::size_t>(y) * stride(); }
  [[nodiscard]] const Pixel* row(int y) const {
    return pixels_.get() + static_cast<std::size_t>(y) * stride();
  }
  Pixel* at(int x, int y) { return row(y) + x; }
  [[nodiscard]] Pixel pixel(int x, int y) const { return row(y)[x]; }

  /// Keeps what fits of the old picture; new parts are black.
  void resize(Size size);
  void fill(const Rect& rect, Pixel colour);
  /// `pixels` holds rect.width * rect.height values.
  void put(const Rect& rect, const Pixel* pixels);
  /// Moves pixels inside the picture; source and target may overlap.
  void copy(Point source, const Rect& target);
  /// A new picture with only `area` of this one.
  [[nodiscard]] Framebuffer cropped(const Rect& area) const;

  [[nodiscard]] std::unique_lock<std::mutex> lock() const { return std::unique_lock(*mutex_); }

 private:
  Size size_;
  std::unique_ptr<Pixel[]> pixels_;
  mutable std::unique_ptr<std::mutex> mutex_ = std::make_unique<std::mutex>();
};

}  // namespace kw

#include "picture/framebuffer.hpp"

#include "base/error.hpp"

namespace kw {

bool pictureSizeAllowed(Size size) {
  return !size.empty() && size.width <= kMostPictureSide && size.height <= kMostPictureSide &&
         size.area() <= kMostPictureArea;
}

void Framebuffer::resize(Size size) {
  if (size == size_) return;
  if (!pictureSizeAllowed(size))
    protocolBroken("picture size",
                   std::to_string(size.width) + "x" + std::to_string(size.height) + " is outside the limits");
  auto fresh = std::make_unique_for_overwrite<Pixel[]>(static_cast<std::size_t>(size.area()));
  std::fill_n(fresh.get(), size.area(), kOpaque);
  const int width = std::min(size.width, size_.width);
  for (int y = 0; y < std::min(size.height, size_.height); ++y)
    std::copy_n(row(y), width, fresh.get() + std::ptrdiff_t{y} * size.width);
  pixels_ = std::move(fresh);
  size_ = size;
}

void Framebuffer::fill(const Rect& rect, Pixel colour) {
  const Rect r = rect.intersected(this->rect());
  for (int y = r.y; y < r.bottom(); ++y) std::fill_n(at(r.x, y), r.width, colour);
}

void Framebuffer::put(const Rect& rect, const Pixel* pixels) {
  const Rect r = rect.intersected(this->rect());
  for (int y = r.y; y < r.bottom(); ++y)
    std::copy_n(pixels + std::ptrdiff_t{y - rect.y} * rect.width + (r.x - rect.x), r.width, at(r.x, y));
}

void Framebuffer::copy(Point source, const Rect& target) {
  const auto bytes = static_cast<std::size_t>(target.width) * sizeof(Pixel);
  if (source.y < target.y) {
    for (int i = target.height - 1; i >= 0; --i)
      std::memmove(at(target.x, target.y + i), at(source.x, source.y + i), bytes);
  } else {
    for (int i = 0; i < target.height; ++i)
      std::memmove(at(target.x, target.y + i), at(source.x, source.y + i), bytes);
  }
}

Framebuffer Framebuffer::cropped(const Rect& area) const {
  const Rect r = area.intersected(rect());
  Framebuffer out(r.size());
  for (int y = 0; y < r.height; ++y) std::copy_n(row(r.y + y) + r.x, r.width, out.row(y));
  return out;
}

}  // namespace kw

#include "rdp/order_surfaces.hpp"

#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "surface order";
constexpr int kMostSide = 8192;
/// Services count bytes of fewer bits a pixel; here each has four.
constexpr std::int64_t kMostArea = std::int64_t{kOffscreenKilobytes} * 1024;

}  // namespace

void OrderSurfaces::clear() {
  surfaces_.clear();
  saved_.clear();
  area_ = 0;
  current_ = kScreen;
}

void OrderSurfaces::create(LittleReader& in) {
  const unsigned number = in.u16();
  const int width = in.u16();
  const Size size{width, in.u16()};
  const unsigned deleted = (number & 0x8000) != 0 ? in.u16() : 0;
  const auto remove = [this](unsigned which) {
    const auto found = surfaces_.find(which);
    if (found == surfaces_.end()) return;
    area_ -= found->second.size().area();
    surfaces_.erase(found);
    if (which == current_) current_ = kScreen;
  };
  for (unsigned i = 0; i < deleted; ++i) remove(in.u16());
  const unsigned which = number & 0x7fff;
  remove(which);
  if (size.empty() || size.width > kMostSide || size.height > kMostSide || area_ + size.area() > kMostArea ||
      surfaces_.size() >= kOffscreenEntries)
    protocolBroken(kWhat, "a surface out of range");
  area_ += size.area();
  surfaces_[which] = Framebuffer(size);
}

void OrderSurfaces::switchTo(unsigned number) {
  if (number != kScreen) (void)surface(number);
  current_ = number;
}

Framebuffer* OrderSurfaces::target() {
  const auto found = surfaces_.find(current_);
  return found == surfaces_.end() ? nullptr : &found->second;
}

const Framebuffer& OrderSurfaces::surface(unsigned number) const {
  const auto found = surfaces_.find(number);
  if (found == surfaces_.end()) protocolBroken(kWhat, "a surface that was not made");
  return found->second;
}

/// Positions count pixels, one area after the other; what lay where the new one lies is gone.
void OrderSurfaces::save(std::uint32_t position, const Framebuffer& picture, const Rect& area) {
  const Rect shown = area.intersected(picture.rect());
  if (shown.empty()) return;
  if (area.size().area() > kSavedPixels || position > kSavedPixels * 4)
    protocolBroken(kWhat, "keeps more of the screen than was offered");
  const auto end = position + static_cast<std::uint32_t>(area.size().area());
  saved_.erase(saved_.lower_bound(position), saved_.lower_bound(end));
  saved_[position] = picture.cropped(shown);
}

const Framebuffer* OrderSurfaces::saved(std::uint32_t position) const {
  const auto found = saved_.find(position);
  return found == saved_.end() ? nullptr : &found->second;
}

}  // namespace kw::rdp

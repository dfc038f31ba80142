#include "rdp/codec/avc.hpp"

#include <cstring>

#include "rdp/codec/yuv_rows.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "H.264 picture";
constexpr std::size_t kMostRects = 16384;
/// 3.3.8.3.2: smaller differences are the coder's noise, which taking the mean back would make four times as
/// large.
constexpr int kNoise = 30;

Rect evenAligned(const Rect& r, Size size) {
  const int left = r.x & ~1, top = r.y & ~1;
  return Rect{left, top, ((r.right() + 1) & ~1) - left, ((r.bottom() + 1) & ~1) - top}.intersected(
      {0, 0, size.width, size.height});
}

}  // namespace

/// 2.2.4.4: rectangles, a quality for each, and the coded picture.
AvcDecoder::Part AvcDecoder::partOf(ByteView stream) {
  LittleReader in(stream, kWhat);
  Part out;
  const std::size_t count = in.u32();
  if (count > kMostRects) protocolBroken(kWhat, std::to_string(count) + " rectangles");
  for (std::size_t i = 0; i < count; ++i) {
    const int left = in.u16(), top = in.u16(), right = in.u16(), bottom = in.u16();
    out.rects.push_back({left, top, right - left, bottom - top});
  }
  in.skip(count * 2);
  out.data = in.rest();
  return out;
}

Region AvcDecoder::decode420(ByteView stream, Framebuffer& picture, Point at) {
  const Part part = partOf(stream);
  Region damage;
  const auto yuv = decoder_.decodePlanes(part.data);
  if (!yuv) return damage;
  for (const Rect& wanted : part.rects) {
    const Rect r = wanted.intersected({0, 0, yuv->size.width, yuv->size.height})
                       .moved(at.x, at.y)
                       .intersected(picture.rect());
    for (int y = r.y; y < r.bottom(); ++y) {
      const int from = y - at.y;
      yuvRows().row420(yuv->planes[0] + from * yuv->strides[0], yuv->planes[1] + from / 2 * yuv->strides[1],
                       yuv->planes[2] + from / 2 * yuv->strides[2], picture.at(r.x, y), r.x - at.x, r.width);
    }
    if (!r.empty()) damage.add(r);
  }
  return damage;
}

/// 2.2.4.5, 2.2.4.6
Region AvcDecoder::decode444(ByteView stream, FullColour arrangement, Framebuffer& picture, Point at) {
  LittleReader in(stream, kWhat);
  const std::uint32_t head = in.u32();
  const unsigned which = head >> 30;
  if (which > 2) protocolBroken(kWhat, "an unknown arrangement of its parts");
  const ByteView first = which == 0 ? in.bytes(head & 0x3fffffff) : in.rest();
  std::vector<Rect> rects;
  const auto take = [&](ByteView bytes, bool main) {
    const Part part = partOf(bytes);
    const auto yuv = decoder_.decodePlanes(part.data);
    if (!yuv) return;
    if (main) size(yuv->size);
    if (yuv->size != size_) protocolBroken(kWhat, "its colours have another size");
    for (const Rect& r : part.rects) {
      const Rect area = evenAligned(r, size_);
      if (area.empty()) continue;
      main ? takeMain(*yuv, area) : takeRest(*yuv, area, arrangement);
      rects.push_back(r);
    }
  };
  take(first, which != 2);
  if (which == 0) take(in.rest(), false);
  return show(rects, picture, at);
}

void AvcDecoder::size(Size size) {
  if (size == size_) return;
  size_ = size;
  const auto area = static_cast<std::size_t>(size.area());
  y_.assign(area, 0);
  for (Bytes& plane : colours_) plane.assign(area, 128);
  const auto quarter =
      static_cast<std::size_t>((size.width + 1) / 2) * static_cast<std::size_t>((size.height + 1) / 2);
  for (Bytes& plane : main_) plane.assign(quarter, 128);
}

/// Luma whole, and each colour for the four pixels it stands for, until the others come.
void AvcDecoder::takeMain(const Yuv420& in, const Rect& area) {
  const std::ptrdiff_t width = size_.width, half = (size_.width + 1) / 2;
  for (int y = area.y; y < area.bottom(); ++y) {
    std::copy_n(in.planes[0] + y * in.strides[0] + area.x, area.width,
                &y_[static_cast<std::size_t>(y * width + area.x)]);
    for (int c = 0; c < 2; ++c) {
      const Byte* from = in.planes[c + 1] + y / 2 * in.strides[c + 1];
      Byte* to = colours_[c].data() + y * width;
      for (int x = area.x; x < area.right(); ++x) to[x] = from[x / 2];
      if (y % 2 == 0)
        std::copy_n(from + area.x / 2, (area.width + 1) / 2, main_[c].data() + y / 2 * half + area.x / 2);
    }
  }
}

void AvcDecoder::takeRest(const Yuv420& in, const Rect& area, FullColour arrangement) {
  const std::ptrdiff_t width = size_.width;
  const auto plane = [&in](int which, int y) { return in.planes[which] + y * in.strides[which]; };
  for (int y = area.y; y < area.bottom(); ++y)
    for (int c = 0; c < 2; ++c) {
      Byte* to = colours_[c].data() + y * width;
      if (arrangement == FullColour::First) {
        // Odd rows lie in the luma plane, eight of one colour, then eight of the other; odd columns of even
        // rows in the colour planes.
        if (y % 2 == 1) {
          const int row = y / 2 / 8 * 16 + y / 2 % 8 + c * 8;
          if (row < in.size.height) std::copy_n(plane(0, row) + area.x, area.width, to + area.x);
        } else {
          for (int x = area.x | 1; x < area.right(); x += 2) to[x] = plane(c + 1, y / 2)[x / 2];
        }
        continue;
      }
      // Odd columns lie in the halves of the luma plane; of the odd rows every fourth column, and those
      // between, in the halves of the colour planes.
      const int half = size_.width / 2, quarter = size_.width / 4;
      for (int x = area.x | 1; x < area.right(); x += 2) to[x] = plane(0, y)[c * half + x / 2];
      if (y % 2 == 1)
        for (int x = area.x; x < area.right(); x += 2) {
          const int at = c * quarter + x / 4;
          if (at < (in.size.width + 1) / 2) to[x] = plane(x % 4 == 0 ? 1 : 2, y / 2)[at];
        }
    }
  evenOnes(area);
}

/// What the first picture has of a colour is the mean of four; three of them are known now.
void AvcDecoder::evenOnes(const Rect& area) {
  const std::ptrdiff_t width = size_.width, half = (size_.width + 1) / 2;
  for (int y = area.y; y + 1 < area.bottom(); y += 2)
    for (int x = area.x; x + 1 < area.right(); x += 2)
      for (int c = 0; c < 2; ++c) {
        Byte* at = colours_[c].data() + y * width + x;
        const int mean = main_[c][static_cast<std::size_t>(y / 2 * half + x / 2)];
        const int alone = std::clamp(4 * mean - at[1] - at[width] - at[width + 1], 0, 255);
        at[0] = static_cast<Byte>(std::abs(alone - mean) < kNoise ? mean : alone);
      }
}

Region AvcDecoder::show(const std::vector<Rect>& rects, Framebuffer& picture, Point at) const {
  Region damage;
  for (const Rect& wanted : rects) {
    const Rect r =
        wanted.intersected({0, 0, size_.width, size_.height}).moved(at.x, at.y).intersected(picture.rect());
    for (int y = r.y; y < r.bottom(); ++y) {
      const auto from = static_cast<std::size_t>(y - at.y) * static_cast<std::size_t>(size_.width) +
                        static_cast<std::size_t>(r.x - at.x);
      yuvRows().row444(&y_[from], &colours_[0][from], &colours_[1][from], picture.at(r.x, y), r.width);
    }
    if (!r.empty()) damage.add(r);
  }
  return damage;
}

}  // namespace kw::rdp

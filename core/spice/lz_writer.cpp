// Writes LZ and GLZ of true colour: simple searches, for what serves and for what tests.
#include <algorithm>

#include "base/bytes.hpp"
#include "spice/constants.hpp"
#include "spice/lz_format.hpp"
#include "spice/packing.hpp"

namespace kw::spice {

using namespace lz;

namespace {

constexpr std::size_t kBias = 1;

/// Pixels between matches: up to 32 after each count.
class Plain {
 public:
  Plain(ByteWriter& out, const std::vector<Pixel>& pixels) : out_(out), pixels_(pixels) {}
  void flush(std::size_t until) {
    while (from_ < until) {
      const std::size_t n = std::min<std::size_t>(kMostPlain, until - from_);
      out_.u8(static_cast<unsigned>(n - 1));
      for (std::size_t k = from_; k < from_ + n; ++k)
        out_.u8(pixels_[k] & 0xff).u8(pixels_[k] >> 8 & 0xff).u8(pixels_[k] >> 16);
      from_ += n;
    }
  }
  void goOn(std::size_t from) { from_ = from; }

 private:
  ByteWriter& out_;
  const std::vector<Pixel>& pixels_;
  std::size_t from_ = 0;
};

/// Without their top byte, rows without padding.
std::vector<Pixel> colours(const Pixel* pixels, std::size_t stride, Size size) {
  std::vector<Pixel> out;
  out.reserve(static_cast<std::size_t>(size.area()));
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x)
      out.push_back(pixels[static_cast<std::size_t>(y) * stride + static_cast<std::size_t>(x)] & 0xffffff);
  return out;
}

/// How far a length reaches above what its field of three bits shows.
void putMore(ByteWriter& out, std::size_t left) {
  for (; left >= 255; left -= 255) out.u8(255);
  out.u8(static_cast<unsigned>(left));
}

std::size_t alike(const std::vector<Pixel>& a, std::size_t atA, const std::vector<Pixel>& b,
                  std::size_t atB) {
  std::size_t n = 0;
  while (atA + n < a.size() && atB + n < b.size() && a[atA + n] == b[atB + n]) ++n;
  return n;
}

}  // namespace

Bytes encodeLz(const Pixel* pixels, std::size_t stride, Size size) {
  ByteWriter out;
  out.u32(kMagic).u32(kVersion).u32(kRgb32).u32(static_cast<std::uint32_t>(size.width));
  out.u32(static_cast<std::uint32_t>(size.height)).u32(static_cast<std::uint32_t>(size.width * 4)).u32(1);
  const std::vector<Pixel> all = colours(pixels, stride, size);
  const std::size_t w = static_cast<std::size_t>(size.width), count = all.size();
  Plain plain(out, all);
  const auto match = [&](std::size_t length, std::size_t distance) {
    const std::size_t biased = length - kBias, back = distance - 1;
    const std::size_t shown = std::min<std::size_t>(biased, 6);
    out.u8(static_cast<unsigned>((shown + 1) << 5 | back >> 8));
    if (shown == 6) putMore(out, biased - 6);
    out.u8(static_cast<unsigned>(back & 0xff));
  };
  for (std::size_t i = 0; i < count;) {
    // Runs of one colour, and rows as the row above: what desktops are made of.
    const std::size_t run = i > 0 ? alike(all, i, all, i - 1) : 0;
    const std::size_t above = run < 4 && i >= w && w < kMostDistance - 1 ? alike(all, i, all, i - w) : 0;
    if (std::max(run, above) < 3) {
      ++i;
      continue;
    }
    plain.flush(i);
    run >= above ? match(run, 1) : match(above, w);
    i += std::max(run, above);
    plain.goOn(i);
  }
  plain.flush(count);
  return out.take();
}

Bytes GlzWriter::encode(const Pixel* pixels, std::size_t stride, Size size) {
  Kept now{++last_, colours(pixels, stride, size)};
  while (!kept_.empty() && pixels_ + now.pixels.size() > kMostWindowPixels) {
    pixels_ -= kept_.front().pixels.size();
    kept_.pop_front();
  }
  ByteWriter out;
  out.u32(kMagic).u32(kVersion).u8(kRgb32 | 1U << 4).u32(static_cast<std::uint32_t>(size.width));
  out.u32(static_cast<std::uint32_t>(size.height)).u32(static_cast<std::uint32_t>(size.width * 4));
  out.u32(static_cast<std::uint32_t>(now.id >> 32)).u32(static_cast<std::uint32_t>(now.id));
  out.u32(static_cast<std::uint32_t>(now.id - (kept_.empty() ? now.id : kept_.front().id)));
  const std::vector<Pixel>& all = now.pixels;
  Plain plain(out, all);
  constexpr std::size_t kLeast = 6;
  const auto slotOf = [&](std::size_t i) -> Place& {
    const std::uint32_t mixed = all[i] * 0x9e3779b1U ^ all[i + 1] * 0x85ebca6bU ^ all[i + 2] * 0xc2b2ae35U;
    return places_[mixed >> 16];
  };
  for (std::size_t i = 0; i < all.size();) {
    Found best;
    if (i > 0) best = {alike(all, i, all, i - 1), 0, 0};
    if (best.length < kLeast && i + 2 < all.size()) {
      Place& place = slotOf(i);
      best = longest(now, i, place, best);
      place = {now.id, i};
    }
    if (best.length < kLeast) {
      ++i;
      continue;
    }
    plain.flush(i);
    put(out, best);
    i += best.length;
    plain.goOn(i);
  }
  plain.flush(all.size());
  pixels_ += all.size();
  kept_.push_back(std::move(now));
  return out.take();
}

GlzWriter::Found GlzWriter::longest(const Kept& now, std::size_t i, const Place& place, Found best) const {
  if (place.image == now.id) {
    const std::size_t length = alike(now.pixels, i, now.pixels, place.at);
    return length > best.length ? Found{length, i - place.at - 1, 0} : best;
  }
  for (const Kept& image : kept_)
    if (image.id == place.image)
      if (const std::size_t length = alike(now.pixels, i, image.pixels, place.at); length > best.length)
        return {length, place.at, now.id - image.id};
  return best;
}

/// Length and offset's low bits, offset's middle, then how far back the image is.
void GlzWriter::put(ByteWriter& out, const Found& m) {
  const bool far = m.offset >= 1U << 12;
  const std::size_t shown = std::min<std::size_t>(m.length, 7);
  out.u8(static_cast<unsigned>(shown << 5 | (far ? 16U : 0U) | (m.offset & 0xf)));
  if (shown == 7) putMore(out, m.length - 7);
  out.u8(static_cast<unsigned>(m.offset >> 4 & 0xff));
  const unsigned ownBits = far ? 0 : 6;
  unsigned more = 0;
  while (m.imageDistance >> (ownBits + 8 * more) != 0) ++more;
  if (far) {
    const bool farther = m.offset >= 1U << 17;
    out.u8(more << 6 | (farther ? 32U : 0U) | static_cast<unsigned>(m.offset >> 12 & 0x1f));
    for (unsigned k = 0; k < more; ++k) out.u8(static_cast<unsigned>(m.imageDistance >> (8 * k) & 0xff));
    if (farther) out.u8(static_cast<unsigned>(m.offset >> 17));
    return;
  }
  out.u8(more << 6 | static_cast<unsigned>(m.imageDistance & 0x3f));
  for (unsigned k = 0; k < more; ++k) out.u8(static_cast<unsigned>(m.imageDistance >> (6 + 8 * k) & 0xff));
}

}  // namespace kw::spice

#include "spice/cursor.hpp"

#include "spice/constants.hpp"

namespace kw::spice {

namespace {

constexpr const char* kWhat = "SPICE pointer";
enum Kind : unsigned { kAlpha, kMono, kColour4, kColour8, kColour16, kColour24, kColour32 };

/// Where both masks are set the pointer inverts what lies below, which ours cannot: a checker stands for it.
Pixel masked(bool transparent, Pixel colour, int x, int y) {
  if (!transparent) return colour | kOpaque;
  if ((colour & 0xffffff) == 0) return 0;
  return (x + y) % 2 == 0 ? rgb(0, 0, 0) : rgb(255, 255, 255);
}

bool bitAt(const Byte* row, int x) { return (row[x / 8] >> (7 - x % 8) & 1) != 0; }

void readMasked(LittleReader& in, unsigned kind, Pointer& out) {
  const std::size_t w = static_cast<std::size_t>(out.size.width),
                    h = static_cast<std::size_t>(out.size.height);
  static constexpr unsigned bits[] = {32, 1, 4, 8, 16, 24, 32};
  const std::size_t row = (w * bits[kind] + 7) / 8, maskRow = (w + 7) / 8;
  const ByteView first = in.bytes(kind == kMono ? maskRow * h : row * h);
  std::vector<Pixel> palette;
  if (kind == kColour4 || kind == kColour8)
    for (unsigned i = 0; i < (kind == kColour4 ? 16U : 256U); ++i) palette.push_back(in.u32());
  const ByteView second = in.bytes(maskRow * h);
  for (std::size_t y = 0; y < h; ++y)
    for (std::size_t x = 0; x < w; ++x) {
      const Byte* p = first.data() + y * row;
      const int ix = static_cast<int>(x), iy = static_cast<int>(y);
      Pixel colour = 0;
      bool transparent = bitAt(second.data() + y * maskRow, ix);
      switch (kind) {
        case kMono:  // the AND mask comes first, then the XOR mask
          colour = transparent ? 0xffffff : 0;
          transparent = bitAt(first.data() + y * maskRow, ix);
          break;
        case kColour4: colour = palette[p[x / 2] >> (x % 2 == 0 ? 4 : 0) & 0xf]; break;
        case kColour8: colour = palette[p[x]]; break;
        case kColour16: {
          const unsigned v = loadLe16(p + 2 * x);
          colour = rgb((v >> 10 & 31) * 255 / 31, (v >> 5 & 31) * 255 / 31, (v & 31) * 255 / 31);
          break;
        }
        case kColour24: colour = rgb(p[3 * x + 2], p[3 * x + 1], p[3 * x]); break;
        default: colour = loadLe32(p + 4 * x); break;
      }
      out.pixels.push_back(masked(transparent, colour & 0xffffff, ix, iy));
    }
}

}  // namespace

std::optional<Pointer> Pointers::read(LittleReader& in) {
  const unsigned flags = in.u16();
  if ((flags & 1) != 0) return std::nullopt;
  const std::uint64_t id = in.u64();
  const unsigned kind = in.u8();
  Pointer out;
  out.size.width = in.u16();
  out.size.height = in.u16();
  out.hotspot.x = in.u16();
  out.hotspot.y = in.u16();
  if ((flags & 4) != 0) {
    const auto found = cache_.find(id);
    if (found == cache_.end()) protocolBroken(kWhat, "one that is not remembered");
    return found->second;
  }
  if (out.size.width > kMostCursorSide || out.size.height > kMostCursorSide)
    protocolBroken(kWhat, "is " + std::to_string(out.size.width) + " by " + std::to_string(out.size.height));
  if (kind > kColour32) protocolBroken(kWhat, "kind " + std::to_string(kind));
  if (kind == kAlpha) {
    const std::size_t n = static_cast<std::size_t>(out.size.area());
    const ByteView data = in.bytes(4 * n);
    for (std::size_t i = 0; i < n; ++i) out.pixels.push_back(loadLe32(&data[4 * i]));
  } else {
    readMasked(in, kind, out);
  }
  if ((flags & 2) != 0) {
    if (cache_.size() >= 256) cache_.clear();
    cache_[id] = out;
  }
  return out;
}

}  // namespace kw::spice

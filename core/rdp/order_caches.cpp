#include "rdp/order_caches.hpp"

#include "rdp/bitmap_codec.hpp"
#include "rdp/picture_updates.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "cache order";
// 2.2.2.2.1.2.1.1 orderType
constexpr unsigned kBitmap = 0, kBitmapPacked = 2, kGlyph = 3, kBitmap2 = 4, kBitmap2Packed = 5, kBrush = 7,
                   kBitmap3 = 8;
constexpr unsigned kMostCaches = 5, kMostIndex = 0x7fff, kMostGlyphs = 254;
constexpr std::int64_t kMostArea = std::int64_t{64} << 18;  ///< 64 MB of pixels
constexpr int kMostSide = 1024;

/// 2.2.2.2.1.2.1.2: one byte, or two when its highest bit says so.
unsigned twoByte(LittleReader& in) {
  const unsigned first = in.u8();
  return (first & 0x80) != 0 ? (first & 0x7f) << 8 | in.u8() : first;
}
/// 2.2.2.2.1.2.1.3: the second highest bit is the sign.
int twoByteSigned(LittleReader& in) {
  const unsigned first = in.u8();
  const int high = static_cast<int>(first & 0x3f);
  const int v = (first & 0x80) != 0 ? high << 8 | in.u8() : high;
  return (first & 0x40) != 0 ? -v : v;
}
/// 2.2.2.2.1.2.1.4: the two highest bits say how many bytes follow.
std::uint32_t fourByte(LittleReader& in) {
  const unsigned first = in.u8();
  std::uint32_t v = first & 0x3f;
  for (unsigned i = 0; i < first >> 6; ++i) v = v << 8 | in.u8();
  return v;
}
/// Of the second and third revision.
unsigned bitsFor(unsigned flags) {
  switch (flags >> 3 & 0xf) {
    case 3: return 8;
    case 4: return 16;
    case 5: return 24;
    case 6: return 32;
    default: protocolBroken(kWhat, "a bitmap of an unknown depth");
  }
}

}  // namespace

void OrderCaches::take(unsigned type, unsigned flags, LittleReader in, const ColourMap& colours) {
  switch (type) {
    case kBitmap:
    case kBitmapPacked: return bitmap1(in, type == kBitmapPacked, flags, colours);
    case kBitmap2:
    case kBitmap2Packed: return bitmap2(in, type == kBitmap2Packed, flags, colours);
    case kBitmap3: return bitmap3(in, flags, colours);
    case kGlyph: return glyphs(in, flags);
    case kBrush: return brushOrder(in);
    default: return;  // colour tables: bitmaps of eight bits use the palette
  }
}

void OrderCaches::clear() {
  bitmaps_.clear();
  glyphs_.clear();
  brushes_.clear();
  area_ = 0;
}

/// 2.2.2.2.1.2.2
void OrderCaches::bitmap1(LittleReader& in, bool compressed, unsigned flags, const ColourMap& colours) {
  const unsigned cache = in.u8();
  in.skip(1);
  const int width = in.u8();
  const Size size{width, in.u8()};
  const unsigned bits = in.u8();
  std::size_t length = in.u16();
  const unsigned index = in.u16();
  if (compressed && (flags & 0x400) == 0) in.skip(8), length -= std::min<std::size_t>(length, 8);
  keep(cache, index, size, bits, compressed, in.bytes(length), colours);
}

/// 2.2.2.2.1.2.3
void OrderCaches::bitmap2(LittleReader& in, bool compressed, unsigned flags, const ColourMap& colours) {
  const unsigned more = flags >> 7;
  if ((more & 0x2) != 0) in.skip(8);  // the key of a picture that outlives the session
  const int width = static_cast<int>(twoByte(in));
  const Size size{width, (more & 0x1) != 0 ? width : static_cast<int>(twoByte(in))};
  std::size_t length = fourByte(in);
  unsigned index = twoByte(in);
  if ((more & 0x10) != 0) index = kMostIndex;  // for the next order only
  if (compressed && (more & 0x8) == 0) in.skip(8), length -= std::min<std::size_t>(length, 8);
  keep(flags & 7, index, size, bitsFor(flags), compressed, in.bytes(length), colours);
}

/// 2.2.2.2.1.2.8, without its codecs: those are for surface commands.
void OrderCaches::bitmap3(LittleReader& in, unsigned flags, const ColourMap& colours) {
  const unsigned index = in.u16();
  in.skip(8);
  const unsigned bits = in.u8();
  in.skip(2);
  const unsigned codec = in.u8();
  const int width = in.u16();
  const Size size{width, in.u16()};
  const std::size_t length = in.u32();
  if (codec != 0) protocolBroken(kWhat, "a bitmap in a codec that was not offered");
  keep(flags & 7, index, size, bits, false, in.bytes(length), colours);
}

void OrderCaches::keep(unsigned cache, unsigned index, Size size, unsigned bits, bool compressed,
                       ByteView data, const ColourMap& colours) {
  if (cache >= kMostCaches || index > kMostIndex || size.empty() || size.width > kMostSide ||
      size.height > kMostSide)
    protocolBroken(kWhat, "a bitmap out of range");
  auto& slot = bitmaps_[{cache, index}];
  area_ += size.area() - slot.size().area();
  if (area_ > kMostArea) protocolBroken(kWhat, "keeps more bitmaps than this program does");
  slot = Framebuffer(size);
  decodeBitmap(slot, bits, compressed, data, colours);
}

/// 2.2.2.2.1.2.5, 2.2.2.2.1.2.6
void OrderCaches::glyphs(LittleReader& in, unsigned flags) {
  const bool second = (flags & 0x20) != 0;
  const unsigned cache = second ? flags & 0xf : in.u8(), count = second ? flags >> 8 : in.u8();
  for (unsigned i = 0; i < count; ++i) {
    Glyph g;
    const unsigned index = second ? in.u8() : in.u16();
    g.origin.x = second ? twoByteSigned(in) : in.s16();
    g.origin.y = second ? twoByteSigned(in) : in.s16();
    g.size.width = second ? static_cast<int>(twoByte(in)) : in.u16();
    g.size.height = second ? static_cast<int>(twoByte(in)) : in.u16();
    if (cache > 9 || index > kMostGlyphs || g.size.width > kMostSide || g.size.height > kMostSide)
      protocolBroken(kWhat, "a glyph out of range");
    const auto bytes =
        static_cast<std::size_t>((g.size.width + 7) / 8) * static_cast<std::size_t>(g.size.height);
    const ByteView rows = in.bytes((bytes + 3) / 4 * 4);
    g.rows.assign(rows.begin(), rows.end());
    glyphs_[{cache, index}] = std::move(g);
  }
}

/// 2.2.2.2.1.2.7: those of one bit a pixel; coloured ones were not asked for.
void OrderCaches::brushOrder(LittleReader& in) {
  const unsigned index = in.u8(), format = in.u8();
  const unsigned width = in.u8(), height = in.u8();
  in.skip(1);
  const std::size_t length = in.u8();
  if (index > 63 || format != 1 || width != 8 || height != 8 || length != 8)
    protocolBroken(kWhat, "a brush of an unknown form");
  auto& rows = brushes_[index];
  for (std::size_t i = 0; i < 8; ++i) rows[7 - i] = in.u8();  // bottom row first
}

const Framebuffer* OrderCaches::bitmap(unsigned cache, unsigned index) const {
  const auto found = bitmaps_.find({cache, index});
  return found == bitmaps_.end() ? nullptr : &found->second;
}
const Glyph* OrderCaches::glyph(unsigned cache, unsigned index) const {
  const auto found = glyphs_.find({cache, index});
  return found == glyphs_.end() ? nullptr : &found->second;
}
const std::array<std::uint8_t, 8>* OrderCaches::brush(unsigned index) const {
  const auto found = brushes_.find(index);
  return found == brushes_.end() ? nullptr : &found->second;
}

}  // namespace kw::rdp

#include "rdp/pointer.hpp"

#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "pointer";

struct Head {
  unsigned bits = 24, cacheIndex = 0;
  Size size;
  Point hotspot;
  std::size_t andLength = 0, xorLength = 0;
};

Head readHead(LittleReader& in, PointerKind kind) {
  Head h;
  if (kind != PointerKind::Colour) h.bits = in.u16();
  h.cacheIndex = in.u16();
  h.hotspot.x = in.u16();
  h.hotspot.y = in.u16();
  h.size.width = in.u16();
  h.size.height = in.u16();
  h.andLength = kind == PointerKind::Large ? in.u32() : in.u16();
  h.xorLength = kind == PointerKind::Large ? in.u32() : in.u16();
  if (h.size.width > kMostPointerSide || h.size.height > kMostPointerSide)
    protocolBroken(kWhat, "is " + std::to_string(h.size.width) + " by " + std::to_string(h.size.height));
  return h;
}

/// Rows of masks are padded to two bytes.
std::size_t rowBytes(int width, unsigned bits) {
  return (static_cast<std::size_t>(width) * bits + 15) / 16 * 2;
}

Pixel colourAt(const Byte* row, int x, unsigned bits, const ColourMap& palette, unsigned& alpha) {
  const std::size_t i = static_cast<std::size_t>(x);
  alpha = 255;
  switch (bits) {
    case 1: return (row[i / 8] >> (7 - i % 8) & 1) != 0 ? rgb(255, 255, 255) : rgb(0, 0, 0);
    case 4: return palette[(row[i / 2] >> (i % 2 == 0 ? 4 : 0)) & 0xf];
    case 8: return palette[row[i]];
    case 15:
    case 16: {
      const unsigned v = loadLe16(row + 2 * i);
      const unsigned r = bits == 16 ? v >> 11 : v >> 10 & 31, b = v & 31;
      const unsigned g = bits == 16 ? (v >> 5 & 63) * 255 / 63 : (v >> 5 & 31) * 255 / 31;
      return rgb(r * 255 / 31, g, b * 255 / 31);
    }
    case 24: return rgb(row[3 * i + 2], row[3 * i + 1], row[3 * i]);
    case 32: alpha = row[4 * i + 3]; return rgb(row[4 * i + 2], row[4 * i + 1], row[4 * i]);
    default: protocolBroken(kWhat, "has " + std::to_string(bits) + " bits per pixel");
  }
}

Pixel premultiplied(Pixel colour, unsigned alpha) {
  const auto part = [&](int shift) { return ((colour >> shift & 0xff) * alpha + 127) / 255 << shift; };
  return alpha << 24 | part(16) | part(8) | part(0);
}

}  // namespace

PointerMessage readPointer(LittleReader& in, PointerKind kind, const ColourMap& palette) {
  const Head h = readHead(in, kind);
  const ByteView colours = in.bytes(h.xorLength), mask = in.bytes(h.andLength);
  PointerMessage message{h.cacheIndex, {h.size, h.hotspot, {}}};
  const std::size_t colourRow = rowBytes(h.size.width, h.bits), maskRow = rowBytes(h.size.width, 1);
  const std::size_t height = static_cast<std::size_t>(h.size.height);
  if (colours.size() < colourRow * height) protocolBroken(kWhat, "its picture is too short");
  const bool hasMask = mask.size() >= maskRow * height;
  if (!hasMask && h.bits != 32) protocolBroken(kWhat, "its mask is too short");
  message.cursor.pixels.reserve(static_cast<std::size_t>(h.size.area()));
  for (std::size_t y = height; y-- > 0;)  // bottom row first
    for (int x = 0; x < h.size.width; ++x) {
      unsigned alpha = 255;
      const Pixel colour = colourAt(colours.data() + y * colourRow, x, h.bits, palette, alpha);
      const bool masked =
          hasMask && (mask[y * maskRow + static_cast<std::size_t>(x) / 8] >> (7 - x % 8) & 1) != 0;
      // Masked and coloured inverts what lies below, which a pointer here cannot: a checker stands for it.
      if (masked && h.bits != 32)
        message.cursor.pixels.push_back((colour & 0xffffff) == 0             ? 0
                                        : (x + static_cast<int>(y)) % 2 == 0 ? rgb(0, 0, 0)
                                                                             : rgb(255, 255, 255));
      else
        message.cursor.pixels.push_back(
            masked && alpha == 255 && (colour & 0xffffff) == 0 ? 0 : premultiplied(colour, alpha));
    }
  return message;
}

Cursor usualPointer() {
  // An arrow of our own: black edge, white inside.
  static constexpr const char* rows[] = {"#           ", "##          ", "#.#         ", "#..#        ",
                                         "#...#       ", "#....#      ", "#.....#     ", "#......#    ",
                                         "#.......#   ", "#.....####  ", "#..#..#     ", "#.# #..#    ",
                                         "##  #..#    ", "     ##     "};
  Cursor out{{12, 14}, {0, 0}, {}};
  for (const char* row : rows)
    for (int x = 0; x < 12; ++x)
      out.pixels.push_back(row[x] == '#' ? rgb(0, 0, 0) : row[x] == '.' ? rgb(255, 255, 255) : 0);
  return out;
}

}  // namespace kw::rdp

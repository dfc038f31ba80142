#include "rfb/tiles.hpp"

#include "base/error.hpp"
#include "rfb/constants.hpp"

namespace kw::rfb {

namespace {

/// Walks over bytes that may end too early; `enough` turns false then.
struct Walker {
  const Byte* at;
  const Byte* end;
  bool enough = true;

  const Byte* take(std::size_t n) {
    if (static_cast<std::size_t>(end - at) < n) {
      enough = false;
      return nullptr;
    }
    const Byte* p = at;
    at += n;
    return p;
  }
};

/// RFC 6143 7.7.5: bytes of 255 go on, the first other one ends; the sum plus one is the length.
/// Returns 0 when the bytes end too early.
int runLength(Walker& in, int most) {
  int length = 1;
  for (;;) {
    const Byte* p = in.take(1);
    if (p == nullptr) return 0;
    length += *p;
    if (length > most) protocolBroken("RLE tile", "a run is longer than the tile");
    if (*p != 255) return length;
  }
}

/// Writes runs of pixels over the rows of a tile.
class RunWriter {
 public:
  RunWriter(Framebuffer& picture, const Rect& target)
      : row_(picture.at(target.x, target.y)),
        stride_(picture.stride()),
        width_(target.width),
        left_(target.width * target.height) {}
  [[nodiscard]] int left() const { return left_; }
  void put(Pixel colour, int count) {
    left_ -= count;
    while (count > 0) {
      const int now = std::min(count, width_ - x_);
      std::fill_n(row_ + x_, now, colour);
      x_ += now;
      count -= now;
      if (x_ == width_) {
        x_ = 0;
        row_ += stride_;
      }
    }
  }

 private:
  Pixel* row_;
  std::size_t stride_;
  int width_, x_ = 0, left_;
};

/// What one nibble (or, with four bits a pixel, one byte) stands for, as ready pixels.
template <int Bits>
struct IndexTable {
  static constexpr int kPixels = Bits == 1 ? 4 : 2;  ///< pixels of one entry
  static constexpr int kEntryBits = Bits == 4 ? 8 : Bits * kPixels;
  static constexpr int kEntries = 1 << kEntryBits;
  Pixel pixels[kEntries][kPixels];

  explicit IndexTable(const Pixel* colours) {
    for (int entry = 0; entry < kEntries; ++entry)
      for (int i = 0; i < kPixels; ++i)
        pixels[entry][i] = colours[(entry >> (Bits * (kPixels - 1 - i))) & ((1 << Bits) - 1)];
  }
};

/// Below this many pixels a table costs more than it saves.
constexpr std::int64_t kTableWorthwhile = 1024;

template <int Bits>
void unpackSmall(const Byte* from, std::size_t bytesPerRow, const Pixel* colours, Framebuffer& picture,
                 const Rect& target) {
  constexpr unsigned mask = (1U << Bits) - 1;
  for (int y = 0; y < target.height; ++y, from += bytesPerRow) {
    Pixel* out = picture.at(target.x, target.y + y);
    for (int x = 0; x < target.width; ++x) {
      const unsigned bit = static_cast<unsigned>(x) * Bits;
      out[x] = colours[(unsigned{from[bit / 8]} >> (8 - Bits - bit % 8)) & mask];
    }
  }
}

template <int Bits>
void unpackIndices(const Byte* from, std::size_t bytesPerRow, const Pixel* colours, Framebuffer& picture,
                   const Rect& target) {
  if (target.area() < kTableWorthwhile) return unpackSmall<Bits>(from, bytesPerRow, colours, picture, target);
  using Table = IndexTable<Bits>;
  const Table table(colours);
  constexpr int perByte = 8 / Bits;
  constexpr unsigned mask = (1U << Bits) - 1;
  constexpr std::size_t entryBytes = Table::kPixels * sizeof(Pixel);
  for (int y = 0; y < target.height; ++y, from += bytesPerRow) {
    Pixel* out = picture.at(target.x, target.y + y);
    const Byte* in = from;
    int x = 0;
    for (; x + perByte <= target.width; x += perByte, ++in) {
      for (int done = 0, shift = 8 - Table::kEntryBits; done < perByte;
           done += Table::kPixels, shift -= Table::kEntryBits)
        std::memcpy(out + x + done, table.pixels[(*in >> shift) & (Table::kEntries - 1)], entryBytes);
    }
    for (int shift = 8 - Bits; x < target.width; ++x, shift -= Bits)
      out[x] = colours[(unsigned{*in} >> shift) & mask];
  }
}

bool packedPalette(Walker& in, const RlePalette& palette, Framebuffer& picture, const Rect& target) {
  const int bits = palette.size <= 2 ? 1 : palette.size <= 4 ? 2 : 4;
  const auto perRow = static_cast<std::size_t>((target.width * bits + 7) / 8);
  const Byte* from = in.take(perRow * static_cast<std::size_t>(target.height));
  if (from == nullptr) return false;
  // Indices past the palette's end show its unused entries (black); they cannot reach outside the array.
  if (bits == 1) unpackIndices<1>(from, perRow, palette.colours, picture, target);
  if (bits == 2) unpackIndices<2>(from, perRow, palette.colours, picture, target);
  if (bits == 4) unpackIndices<4>(from, perRow, palette.colours, picture, target);
  return true;
}

bool readPalette(Walker& in, int size, const PixelReader& pixels, RlePalette& palette) {
  const Byte* from = in.take(static_cast<std::size_t>(size) * pixels.bytesPerPixel());
  if (from == nullptr) return false;
  palette = {};
  palette.size = size;
  pixels.many(from, palette.colours, static_cast<std::size_t>(size));
  return true;
}

bool plainRle(Walker& in, const PixelReader& pixels, Framebuffer& picture, const Rect& target) {
  RunWriter out(picture, target);
  while (out.left() > 0) {
    const Byte* p = in.take(pixels.bytesPerPixel());
    if (p == nullptr) return false;
    const Pixel colour = pixels.one(p);
    const int length = runLength(in, out.left());
    if (length == 0) return false;
    out.put(colour, length);
  }
  return true;
}

bool paletteRle(Walker& in, const RlePalette& palette, Framebuffer& picture, const Rect& target) {
  RunWriter out(picture, target);
  while (out.left() > 0) {
    const Byte* p = in.take(1);
    if (p == nullptr) return false;
    const int index = *p & 0x7f;
    if (index >= palette.size) protocolBroken("RLE tile", "a palette index is past the palette");
    int length = 1;
    if ((*p & 0x80) != 0) length = runLength(in, out.left());
    if (length == 0) return false;
    out.put(palette.colours[index], length);
  }
  return true;
}

bool rawTile(Walker& in, const PixelReader& pixels, Framebuffer& picture, const Rect& target) {
  const auto width = static_cast<std::size_t>(target.width);
  const Byte* from = in.take(width * static_cast<std::size_t>(target.height) * pixels.bytesPerPixel());
  if (from == nullptr) return false;
  for (int y = 0; y < target.height; ++y, from += width * pixels.bytesPerPixel())
    pixels.many(from, picture.at(target.x, target.y + y), width);
  return true;
}

bool rleTile(Walker& in, const PixelReader& pixels, Framebuffer& picture, const Rect& target,
             RlePalette& palette, bool reusable) {
  const Byte* kind = in.take(1);
  if (kind == nullptr) return false;
  const int k = *kind;
  if (k == 0) return rawTile(in, pixels, picture, target);
  if (k == 1) {
    if (!readPalette(in, 1, pixels, palette)) return false;
    picture.fill(target, palette.colours[0]);
    return true;
  }
  if (k <= 16) return readPalette(in, k, pixels, palette) && packedPalette(in, palette, picture, target);
  if (k == 128) return plainRle(in, pixels, picture, target);
  if (k >= 130) return readPalette(in, k - 128, pixels, palette) && paletteRle(in, palette, picture, target);
  if (reusable && (k == 127 || k == 129)) {
    if (palette.size == 0) protocolBroken("TRLE tile", "reuses a palette that was never sent");
    if (k == 129) return paletteRle(in, palette, picture, target);
    if (palette.size > 16) protocolBroken("TRLE tile", "packs a palette of more than 16 colours");
    return packedPalette(in, palette, picture, target);
  }
  protocolBroken("RLE tile", "unknown kind " + std::to_string(k));
}

void checkInside(int x, int y, int w, int h, const Rect& tile) {
  if (x + w > tile.width || y + h > tile.height) protocolBroken("Hextile", "a subrectangle leaves its tile");
}

bool hextileTile(Walker& in, const PixelReader& pixels, Framebuffer& picture, const Rect& tile,
                 HextileColours& colours) {
  const Byte* flags = in.take(1);
  if (flags == nullptr) return false;
  if ((*flags & hextile::kRaw) != 0) return rawTile(in, pixels, picture, tile);
  const unsigned size = pixels.bytesPerPixel();
  if ((*flags & hextile::kBackground) != 0) {
    const Byte* p = in.take(size);
    if (p == nullptr) return false;
    colours.background = pixels.one(p);
  }
  if ((*flags & hextile::kForeground) != 0) {
    const Byte* p = in.take(size);
    if (p == nullptr) return false;
    colours.foreground = pixels.one(p);
  }
  picture.fill(tile, colours.background);
  if ((*flags & hextile::kAnySubrects) == 0) return true;
  const Byte* count = in.take(1);
  if (count == nullptr) return false;
  const bool coloured = (*flags & hextile::kColoured) != 0;
  const unsigned each = (coloured ? size : 0) + 2;
  const Byte* p = in.take(std::size_t{*count} * each);
  if (p == nullptr) return false;
  for (int i = 0; i < *count; ++i, p += each) {
    const Byte* place = coloured ? p + size : p;
    const int x = place[0] >> 4, y = place[0] & 15, w = (place[1] >> 4) + 1, h = (place[1] & 15) + 1;
    checkInside(x, y, w, h, tile);
    const Pixel colour = coloured ? pixels.one(p) : colours.foreground;
    for (int line = 0; line < h; ++line) std::fill_n(picture.at(tile.x + x, tile.y + y + line), w, colour);
  }
  return true;
}

}  // namespace

PixelFormat tightForm(const PixelFormat& format) {
  if (!format.trueColour || format.bitsPerPixel != 32 || format.depth != 24 || format.redMax != 255 ||
      format.greenMax != 255 || format.blueMax != 255)
    return format;
  PixelFormat form = format;
  form.bitsPerPixel = 24;
  form.bigEndian = true;
  form.redShift = 16, form.greenShift = 8, form.blueShift = 0;
  return form;
}

std::optional<std::size_t> decodeRleTile(ByteView bytes, const PixelReader& compact, Framebuffer& picture,
                                         const Rect& target, RlePalette& palette, bool reusable) {
  Walker in{bytes.data(), bytes.data() + bytes.size()};
  std::optional<RlePalette> kept;
  if (reusable) kept = palette;  // a short tile is tried again from the start
  if (rleTile(in, compact, picture, target, palette, reusable))
    return static_cast<std::size_t>(in.at - bytes.data());
  if (kept) palette = *kept;
  return std::nullopt;
}

std::optional<std::size_t> decodeHextile(ByteView bytes, const PixelReader& pixels, Framebuffer& picture,
                                         const Rect& target, HextileColours& colours) {
  Walker in{bytes.data(), bytes.data() + bytes.size()};
  const HextileColours kept = colours;
  if (hextileTile(in, pixels, picture, target, colours))
    return static_cast<std::size_t>(in.at - bytes.data());
  colours = kept;
  return std::nullopt;
}

}  // namespace kw::rfb

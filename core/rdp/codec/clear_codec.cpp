#include "rdp/codec/clear_codec.hpp"

#include <algorithm>
#include <bit>

#include "rdp/codec/nscodec.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "ClearCodec picture";
constexpr unsigned kGlyphIndex = 1, kGlyphHit = 2, kCacheReset = 4;  // 2.2.4.1 flags
constexpr std::size_t kColumns = 32768, kShortColumns = 16384;       // 3.3.8.1
constexpr unsigned kGlyphs = 4000;
constexpr std::int64_t kMostGlyphArea = 1024;
constexpr int kMostBand = 52;

Pixel colour(LittleReader& in) {
  const ByteView c = in.bytes(3);
  return rgb(c[2], c[1], c[0]);
}

/// A byte, or after 0xff two, or after 0xffff four.
std::size_t runLength(LittleReader& in) {
  std::size_t n = in.u8();
  if (n == 0xff) n = in.u16();
  return n == 0xffff ? in.u32() : n;
}

/// 2.2.4.1.1.3.1.3: colours of a small table, as runs and stretches of following colours.
void tableRuns(LittleReader in, Size size, std::vector<Pixel>& out) {
  const std::size_t count = in.u8();
  if (count < 1 || count > 127) protocolBroken(kWhat, std::to_string(count) + " colours in a table");
  std::vector<Pixel> table(count);
  for (Pixel& p : table) p = colour(in);
  const int bits = count == 1 ? 1 : std::bit_width(count - 1);
  const auto area = static_cast<std::size_t>(size.area());
  out.clear();
  out.reserve(area);
  while (out.size() < area) {
    const unsigned head = in.u8(), stop = head & ((1U << bits) - 1), depth = head >> bits;
    if (stop >= count || depth > stop) protocolBroken(kWhat, "a colour beyond its table");
    const std::size_t run = runLength(in);
    if (run + depth + 1 > area - out.size()) protocolBroken(kWhat, "a run beyond its picture");
    out.insert(out.end(), run, table[stop - depth]);
    for (unsigned i = stop - depth; i <= stop; ++i) out.push_back(table[i]);
  }
}

}  // namespace

void ClearDecoder::decode(ByteView stream, Size size, std::vector<Pixel>& out) {
  LittleReader in(stream, kWhat);
  const unsigned flags = in.u8();
  in.skip(1);  // sequence number: messages come in order
  if ((flags & kCacheReset) != 0) columnAt_ = shortAt_ = 0;
  unsigned glyph = 0;
  if ((flags & kGlyphIndex) != 0) {
    glyph = in.u16();
    if (glyph >= kGlyphs || size.area() > kMostGlyphArea) protocolBroken(kWhat, "a glyph out of range");
  }
  if ((flags & kGlyphHit) != 0) {
    const auto found = glyphs_.find(glyph);
    if ((flags & kGlyphIndex) == 0 || found == glyphs_.end() || found->second.size != size)
      protocolBroken(kWhat, "a glyph that was not kept");
    out = found->second.pixels;
    return;
  }
  out.assign(static_cast<std::size_t>(size.area()), kOpaque);
  if (!in.atEnd()) {
    const std::size_t first = in.u32(), second = in.u32(), third = in.u32();
    residual(LittleReader(in.bytes(first), kWhat), size, out);
    bands(LittleReader(in.bytes(second), kWhat), size, out);
    pictures(LittleReader(in.bytes(third), kWhat), size, out);
  }
  if ((flags & kGlyphIndex) != 0) glyphs_[glyph] = {size, out};
}

/// 2.2.4.1.1.1
void ClearDecoder::residual(LittleReader in, Size size, std::vector<Pixel>& out) {
  const auto area = static_cast<std::size_t>(size.area());
  std::size_t at = 0;
  while (!in.atEnd()) {
    const Pixel c = colour(in);
    const std::size_t run = runLength(in);
    if (run > area - at) protocolBroken(kWhat, "a run beyond its picture");
    std::fill_n(out.begin() + static_cast<std::ptrdiff_t>(at), run, c);
    at += run;
  }
}

void ClearDecoder::bands(LittleReader in, Size size, std::vector<Pixel>& out) {
  while (!in.atEnd()) band(in, size, out);
}

/// 2.2.4.1.1.2.1
void ClearDecoder::band(LittleReader& in, Size size, std::vector<Pixel>& out) {
  const int left = in.u16(), right = in.u16(), top = in.u16(), bottom = in.u16(), height = bottom - top + 1;
  const Pixel background = colour(in);
  if (left > right || right >= size.width || top > bottom || bottom >= size.height || height > kMostBand)
    protocolBroken(kWhat, "a band outside of its picture");
  for (int x = left; x <= right; ++x) {
    const std::vector<Pixel>& c = column(in, height, background);
    for (int y = 0; y < height; ++y)
      out[static_cast<std::size_t>(top + y) * static_cast<std::size_t>(size.width) +
          static_cast<std::size_t>(x)] = c[static_cast<std::size_t>(y)];
  }
}

/// 2.2.4.1.1.2.1.1: one remembered, or one made of the background and some pixels in it, which are
/// remembered too.
const std::vector<Pixel>& ClearDecoder::column(LittleReader& in, int height, Pixel background) {
  const unsigned head = in.u16();
  if ((head & 0x8000) != 0) {
    const std::size_t index = head & 0x7fff;
    if (index >= columns_.size() || columns_[index].size() < static_cast<std::size_t>(height))
      protocolBroken(kWhat, "a column that was not kept");
    return columns_[index];
  }
  int on = 0;
  const std::vector<Pixel>* pixels = nullptr;
  if ((head & 0x4000) != 0) {
    const std::size_t index = head & 0x3fff;
    on = in.u8();
    if (index >= shortColumns_.size()) protocolBroken(kWhat, "a short column that was not kept");
    pixels = &shortColumns_[index];
  } else {
    on = static_cast<int>(head & 0xff);
    const int off = static_cast<int>(head >> 8 & 0x3f);
    if (off < on) protocolBroken(kWhat, "a short column that ends before it begins");
    std::vector<Pixel> made(static_cast<std::size_t>(off - on));
    for (Pixel& p : made) p = colour(in);
    if (shortColumns_.size() < kShortColumns && shortAt_ >= shortColumns_.size())
      shortColumns_.resize(shortAt_ + 1);
    shortColumns_[shortAt_] = std::move(made);
    pixels = &shortColumns_[shortAt_];
    shortAt_ = (shortAt_ + 1) % kShortColumns;
  }
  if (on + static_cast<int>(pixels->size()) > height) protocolBroken(kWhat, "a short column beyond its band");
  if (columnAt_ >= columns_.size()) columns_.resize(columnAt_ + 1);
  std::vector<Pixel>& whole = columns_[columnAt_];
  columnAt_ = (columnAt_ + 1) % kColumns;
  whole.assign(static_cast<std::size_t>(height), background);
  std::copy(pixels->begin(), pixels->end(), whole.begin() + on);
  return whole;
}

/// 2.2.4.1.1.3.1
void ClearDecoder::pictures(LittleReader in, Size size, std::vector<Pixel>& out) {
  while (!in.atEnd()) {
    const int x = in.u16(), y = in.u16(), w = in.u16();
    const Rect r{x, y, w, in.u16()};
    const std::size_t length = in.u32();
    const unsigned codec = in.u8();
    const ByteView data = in.bytes(length);
    if (r.empty() || r.right() > size.width || r.bottom() > size.height)
      protocolBroken(kWhat, "a part outside of its picture");
    const auto area = static_cast<std::size_t>(r.area());
    if (codec == 0) {
      LittleReader raw(data, kWhat);
      scratch_.resize(area);
      for (Pixel& p : scratch_) p = colour(raw);
    } else if (codec == 1) {
      decodeNsCodec(data, r.size(), scratch_);
    } else if (codec == 2) {
      tableRuns(LittleReader(data, kWhat), r.size(), scratch_);
    } else {
      protocolBroken(kWhat, "a part in an unknown codec");
    }
    for (int row = 0; row < r.height; ++row)
      std::copy_n(scratch_.begin() + static_cast<std::ptrdiff_t>(row) * r.width, r.width,
                  out.begin() + static_cast<std::ptrdiff_t>(r.y + row) * size.width + r.x);
  }
}

Bytes encodeClearRuns(const std::vector<Pixel>& pixels, unsigned sequence, int glyph) {
  LittleWriter runs;
  for (std::size_t at = 0; at < pixels.size();) {
    std::size_t run = 1;
    while (at + run < pixels.size() && pixels[at + run] == pixels[at]) ++run;
    runs.u8(pixels[at] & 255).u8(pixels[at] >> 8 & 255).u8(pixels[at] >> 16 & 255);
    if (run < 0xff)
      runs.u8(static_cast<unsigned>(run));
    else if (run < 0xffff)
      runs.u8(0xff).u16(static_cast<unsigned>(run));
    else
      runs.u8(0xff).u16(0xffff).u32(static_cast<std::uint32_t>(run));
    at += run;
  }
  LittleWriter out;
  out.u8(glyph >= 0 ? kGlyphIndex : 0).u8(sequence);
  if (glyph >= 0) out.u16(static_cast<unsigned>(glyph));
  out.u32(static_cast<std::uint32_t>(runs.size())).u32(0).u32(0).bytes(runs.view());
  return out.take();
}

}  // namespace kw::rdp

#include "rdp/picture_updates.hpp"

#include "rdp/bitmap_codec.hpp"

namespace kw::rdp {

namespace {

constexpr unsigned kCompressed = 0x1, kNoHeader = 0x400;  // 2.2.9.1.1.3.1.2.2 flags
constexpr const char* kWhat = "bitmap update";

PixelFormat formatOf(unsigned bits) {
  PixelFormat f;
  f.bitsPerPixel = bits == 15 ? 16 : bits;
  f.depth = bits == 32 ? 24 : bits;
  if (bits == 16) return PixelFormat::rgb565();
  if (bits == 15) f.redMax = f.greenMax = f.blueMax = 31, f.redShift = 10, f.greenShift = 5, f.blueShift = 0;
  if (bits == 8) return PixelFormat::colourMapped();
  return f;
}

}  // namespace

namespace {

void checkDepth(unsigned bits) {
  if (bits != 8 && bits != 15 && bits != 16 && bits != 24 && bits != 32)
    protocolBroken(kWhat, std::to_string(bits) + " bits per pixel");
}

/// Rows of wire pixels, the bottom one first.
struct WireRows {
  ByteView data;
  std::size_t rowBytes, rows;
  [[nodiscard]] const Byte* fromTop(std::size_t y) const { return data.data() + (rows - 1 - y) * rowBytes; }
};

/// What is not planar, opened into `scratch` where it is packed.
WireRows openRows(Size size, unsigned bits, bool compressed, ByteView data, Bytes& scratch) {
  const auto width = static_cast<std::size_t>(size.width), height = static_cast<std::size_t>(size.height);
  const std::size_t bytes = (bits + 7) / 8;
  if (compressed) {
    scratch.resize(width * bytes * height);
    decodeInterleaved(data, size.width, size.height, static_cast<int>(bytes), scratch);
    return {scratch, width * bytes, height};
  }
  const std::size_t row = (width * bytes + 3) / 4 * 4;
  if (data.size() < row * height) protocolBroken(kWhat, "fewer pixels than the bitmap has");
  return {data, row, height};
}

}  // namespace

void decodeBitmap(Framebuffer& out, unsigned bits, bool compressed, ByteView data, const ColourMap& colours) {
  checkDepth(bits);
  if (compressed && bits == 32)
    return decodePlanar(data, out.width(), out.height(), out.row(0), out.stride(), true);
  Bytes scratch;
  const WireRows rows = openRows(out.size(), bits, compressed, data, scratch);
  const PixelReader reader(formatOf(bits), &colours);
  for (int y = 0; y < out.height(); ++y)
    reader.many(rows.fromTop(static_cast<std::size_t>(y)), out.row(y), out.stride());
}

const PixelReader& PictureUpdates::readerFor(unsigned bits) {
  auto found = readers_.find(bits);
  if (found == readers_.end()) found = readers_.emplace(bits, PixelReader(formatOf(bits), &palette_)).first;
  return found->second;
}

Region PictureUpdates::bitmaps(ByteView body) {
  LittleReader in(body, kWhat);
  in.skip(2);
  const unsigned count = in.u16();
  Region damage;
  for (unsigned i = 0; i < count; ++i) damage.add(one(in));
  return damage;
}

Rect PictureUpdates::one(LittleReader& in) {
  const int left = in.u16(), top = in.u16(), right = in.u16(), bottom = in.u16();
  const Size size{in.u16(), in.u16()};
  const unsigned bits = in.u16(), flags = in.u16();
  std::size_t length = in.u16();
  const bool compressed = (flags & kCompressed) != 0;
  if (compressed && (flags & kNoHeader) == 0) {
    in.skip(2);
    length = in.u16();
    in.skip(4);
  }
  const ByteView data = in.bytes(length);
  if (size.empty() || right < left || bottom < top) protocolBroken(kWhat, "an empty rectangle");
  // The bitmap may be wider than what it is for (rows of four pixels); never smaller.
  const Rect to = Rect{left, top, right - left + 1, bottom - top + 1}.intersected(picture_->rect());
  if (to.width > size.width || to.height > size.height)
    protocolBroken(kWhat, "a bitmap smaller than its place");
  if (to.empty()) return {};
  decode(to, size, bits, compressed, data);
  return to;
}

void PictureUpdates::decode(const Rect& to, Size size, unsigned bits, bool compressed, ByteView data) {
  checkDepth(bits);
  ++forms_[!compressed ? "raw" : bits == 32 ? "planar" : "RLE"];
  const auto shown = static_cast<std::size_t>(to.width);
  if (compressed && bits == 32) {
    const auto width = static_cast<std::size_t>(size.width);
    pixels_.resize(static_cast<std::size_t>(size.area()));
    decodePlanar(data, size.width, size.height, pixels_.data(), width, true);
    const auto lock = picture_->lock();
    for (int y = 0; y < to.height; ++y)
      std::memcpy(picture_->at(to.x, to.y + y), pixels_.data() + static_cast<std::size_t>(y) * width,
                  shown * sizeof(Pixel));
    return;
  }
  const WireRows rows = openRows(size, bits, compressed, data, scratch_);
  const PixelReader& reader = readerFor(bits);
  const auto lock = picture_->lock();
  for (int y = 0; y < to.height; ++y)
    reader.many(rows.fromTop(static_cast<std::size_t>(y)), picture_->at(to.x, to.y + y), shown);
}

void PictureUpdates::palette(ByteView body) {
  LittleReader in(body, "palette");
  in.skip(4);
  const std::uint32_t count = in.u32();
  if (count > 256) protocolBroken("palette", std::to_string(count) + " colours");
  for (std::uint32_t i = 0; i < count; ++i) {
    const ByteView c = in.bytes(3);
    palette_[i] = rgb(c[0], c[1], c[2]);
  }
}

}  // namespace kw::rdp

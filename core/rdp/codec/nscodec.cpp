#include "rdp/codec/nscodec.hpp"

#include <algorithm>

#include "base/little.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "NSCodec picture";

struct Planes {
  std::size_t lumaWidth, chromaWidth, chromaHeight;
};
/// 2.2.2: thinned chroma has half of a luma plane whose rows are rounded up to eight.
Planes planesOf(Size size, bool thin) {
  const auto width = static_cast<std::size_t>(size.width), height = static_cast<std::size_t>(size.height);
  if (!thin) return {width, width, height};
  const std::size_t rounded = (width + 7) / 8 * 8;
  return {rounded, rounded / 2, (height + 1) / 2};
}

/// 2.2.2.1: a byte that comes twice begins a run; the last four bytes stand as they are.
Bytes openPlane(ByteView data, std::size_t size) {
  if (data.size() > size) protocolBroken(kWhat, "a plane longer than its pixels");
  if (data.size() == size) return Bytes(data.begin(), data.end());
  LittleReader in(data, kWhat);
  Bytes out;
  out.reserve(size);
  while (size - out.size() > 4) {
    const Byte value = in.u8();
    if (size - out.size() == 5 || in.left() == 0 || data[in.offset()] != value) {
      out.push_back(value);
      continue;
    }
    in.skip(1);
    std::size_t count = in.u8();
    count = count < 0xff ? count + 2 : in.u32();
    if (count > size - out.size()) protocolBroken(kWhat, "a run beyond its plane");
    out.insert(out.end(), count, value);
  }
  const ByteView last = in.bytes(size - out.size());
  out.insert(out.end(), last.begin(), last.end());
  return out;
}

Pixel clamped(int v) { return static_cast<Pixel>(std::clamp(v, 0, 255)); }

}  // namespace

void decodeNsCodec(ByteView stream, Size size, std::vector<Pixel>& out) {
  LittleReader in(stream, kWhat);
  std::size_t counts[4];
  for (std::size_t& c : counts) c = in.u32();
  const unsigned loss = in.u8();
  const bool thin = in.u8() != 0;
  in.skip(2);
  if (loss < 1 || loss > 7) protocolBroken(kWhat, "a loss of colour of " + std::to_string(loss));
  const Planes p = planesOf(size, thin);
  const auto height = static_cast<std::size_t>(size.height), width = static_cast<std::size_t>(size.width);
  const Bytes luma = openPlane(in.bytes(counts[0]), p.lumaWidth * height);
  const Bytes orange = openPlane(in.bytes(counts[1]), p.chromaWidth * p.chromaHeight);
  const Bytes green = openPlane(in.bytes(counts[2]), p.chromaWidth * p.chromaHeight);
  out.resize(width * height);
  for (std::size_t y = 0; y < height; ++y) {
    const std::size_t chroma = (thin ? y / 2 : y) * p.chromaWidth;
    for (std::size_t x = 0; x < width; ++x) {
      const std::size_t c = chroma + (thin ? x / 2 : x);
      const int l = luma[y * p.lumaWidth + x];
      const int co = static_cast<std::int8_t>(orange[c] << (loss - 1));
      const int cg = static_cast<std::int8_t>(green[c] << (loss - 1));
      out[y * width + x] = kOpaque | clamped(l + co - cg) << 16 | clamped(l + cg) << 8 | clamped(l - co - cg);
    }
  }
}

namespace {

Bytes closePlane(const Bytes& in) {
  LittleWriter out;
  std::size_t at = 0;
  while (in.size() - at > 4) {
    std::size_t run = 1;
    while (at + run < in.size() - 4 && in[at + run] == in[at]) ++run;
    if (run < 2) {
      out.u8(in[at++]);
      continue;
    }
    out.u8(in[at]).u8(in[at]);
    if (run - 2 < 0xff)
      out.u8(static_cast<unsigned>(run - 2));
    else
      out.u8(0xff).u32(static_cast<std::uint32_t>(run));
    at += run;
  }
  out.bytes(ByteView(in).subspan(at));
  return out.size() < in.size() ? out.take() : in;
}

}  // namespace

Bytes encodeNsCodec(const std::vector<Pixel>& pixels, Size size, int colourLoss, bool thin) {
  const Planes p = planesOf(size, thin);
  const auto height = static_cast<std::size_t>(size.height), width = static_cast<std::size_t>(size.width);
  Bytes luma(p.lumaWidth * height), orange(p.chromaWidth * p.chromaHeight), green(orange.size());
  for (std::size_t y = 0; y < height; ++y)
    for (std::size_t x = 0; x < p.lumaWidth; ++x) {
      const Pixel v = pixels[y * width + std::min(x, width - 1)];
      const int r = v >> 16 & 255, g = v >> 8 & 255, b = v & 255;
      luma[y * p.lumaWidth + x] = static_cast<Byte>((r >> 2) + (g >> 1) + (b >> 2));
      if (thin && (x % 2 != 0 || y % 2 != 0)) continue;
      const std::size_t c = (thin ? y / 2 : y) * p.chromaWidth + (thin ? x / 2 : x);
      orange[c] = static_cast<Byte>((r - b) >> colourLoss);
      green[c] = static_cast<Byte>((g - (r >> 1) - (b >> 1)) >> colourLoss);
    }
  const Bytes planes[3] = {closePlane(luma), closePlane(orange), closePlane(green)};
  LittleWriter out;
  for (const Bytes& plane : planes) out.u32(static_cast<std::uint32_t>(plane.size()));
  out.u32(0).u8(static_cast<unsigned>(colourLoss)).u8(thin ? 1 : 0).u16(0);
  for (const Bytes& plane : planes) out.bytes(plane);
  return out.take();
}

}  // namespace kw::rdp

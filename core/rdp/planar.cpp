#include <algorithm>

#include "base/error.hpp"
#include "base/simd.hpp"
#include "rdp/bitmap_codec.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "planar bitmap";
constexpr unsigned kLossMask = 0x07, kSubsampled = 0x08, kRle = 0x10, kNoAlpha = 0x20;

/// Sixteen values at a time. A plane has room for as many behind its last value, so that a short stretch
/// may be written whole: what it writes too much is written over by the next one.
typedef Byte Sixteen __attribute__((vector_size(16)));
constexpr std::size_t kRoomBehind = sizeof(Sixteen);

Sixteen load(const Byte* from) {
  Sixteen v;
  std::memcpy(&v, from, sizeof v);
  return v;
}

void store(Byte* to, Sixteen v) { std::memcpy(to, &v, sizeof v); }

/// A difference lies as its size above a bit for the sign (2.2.2.5.1.1), less one when negative.
Byte difference(Byte packed) { return static_cast<Byte>((packed >> 1) ^ -(packed & 1)); }

/// At most fifteen differences, added to the row above.
void addStretch(const Byte* packed, std::size_t count, bool sixteenReadable, const Byte* above, Byte* out) {
  if (!sixteenReadable) {
    for (std::size_t i = 0; i < count; ++i) out[i] = static_cast<Byte>(above[i] + difference(packed[i]));
    return;
  }
  const Sixteen v = load(packed);
  store(out, load(above) + ((v >> 1) ^ -(v & 1)));
}

/// One difference for `count` values.
void addSame(Byte same, std::size_t count, const Byte* above, Byte* out) {
  const Sixteen v = same - Sixteen{};
  for (std::size_t i = 0; i < count; i += sizeof v) store(out + i, load(above + i) + v);
}

/// One plane of RLE segments (2.2.2.5.1.1); gives how much of `data` it took. `out` has kRoomBehind more.
std::size_t decodePlane(ByteView data, int width, int height, Byte* out) {
  const Byte* at = data.data();
  const Byte* end = at + data.size();
  const auto left = [&] { return static_cast<std::size_t>(end - at); };
  const std::size_t w = static_cast<std::size_t>(width);
  for (int y = 0; y < height; ++y) {
    Byte* row = out + static_cast<std::size_t>(y) * w;
    const Byte* above = y == 0 ? nullptr : row - w;
    std::size_t x = 0;
    Byte last = 0;  // the value of the first row, the difference in others
    while (x < w) {
      if (at == end) protocolBroken(kWhat, "ends early");
      const unsigned control = *at++;
      std::size_t run = control & 0x0f, raw = control >> 4;
      if (run == 1) run = 16 + raw, raw = 0;
      if (run == 2) run = 32 + raw, raw = 0;
      if (raw + run > w - x) protocolBroken(kWhat, "a row is longer than the picture");
      if (raw + run == 0) protocolBroken(kWhat, "an empty segment");
      if (raw > left()) protocolBroken(kWhat, "ends early");
      if (raw > 0) last = above == nullptr ? at[raw - 1] : difference(at[raw - 1]);
      if (above == nullptr) {
        std::memcpy(row + x, at, raw);
        std::memset(row + x + raw, last, run);
      } else {
        if (raw > 0) addStretch(at, raw, left() >= sizeof(Sixteen), above + x, row + x);
        if (run > 0) addSame(last, run, above + x + raw, row + x + raw);
      }
      at += raw;
      x += raw + run;
    }
  }
  return static_cast<std::size_t>(at - data.data());
}

KW_VECTOR void joinPlanes(const Byte* r, const Byte* g, const Byte* b, Pixel* out, int count) {
  for (int i = 0; i < count; ++i) out[i] = rgb(r[i], g[i], b[i]);
}

struct Planes {
  Bytes first, second, third;  ///< red, green, blue; or luma, orange chroma, green chroma
};

Pixel fromYCoCg(int y, Byte orange, Byte green, unsigned shift) {
  const int co = static_cast<std::int8_t>(orange << shift), cg = static_cast<std::int8_t>(green << shift);
  const int t = y - cg;
  const auto clamp = [](int v) { return static_cast<unsigned>(std::clamp(v, 0, 255)); };
  return rgb(clamp(t + co), clamp(y + cg), clamp(t - co));
}

}  // namespace

void decodePlanar(ByteView data, int width, int height, Pixel* out, std::size_t stride, bool flip,
                  Bytes* alpha) {
  if (data.empty()) protocolBroken(kWhat, "is empty");
  const unsigned header = data[0];
  const unsigned loss = header & kLossMask;
  const bool half = loss != 0 && (header & kSubsampled) != 0;
  const int chromaWidth = half ? (width + 1) / 2 : width, chromaHeight = half ? (height + 1) / 2 : height;
  const std::size_t whole = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  const std::size_t chroma = static_cast<std::size_t>(chromaWidth) * static_cast<std::size_t>(chromaHeight);
  std::size_t at = 1;
  const auto plane = [&](Bytes& into, int w, int h, std::size_t size) {
    into.resize(size + kRoomBehind);
    if ((header & kRle) != 0) {
      at += decodePlane(data.subspan(at), w, h, into.data());
      return;
    }
    if (data.size() - at < size) protocolBroken(kWhat, "ends early");
    std::memcpy(into.data(), data.data() + at, size);
    at += size;
  };
  // Kept from one bitmap to the next: a desktop comes in hundreds of small ones.
  static thread_local Planes p;
  if (alpha != nullptr) alpha->clear();
  if ((header & kNoAlpha) == 0) {  // a desktop has none
    plane(p.first, width, height, whole);
    if (alpha != nullptr)
      alpha->assign(p.first.begin(), p.first.begin() + static_cast<std::ptrdiff_t>(whole));
  }
  plane(p.first, width, height, whole);
  plane(p.second, chromaWidth, chromaHeight, chroma);
  plane(p.third, chromaWidth, chromaHeight, chroma);
  for (int y = 0; y < height; ++y) {
    Pixel* row = out + static_cast<std::size_t>(flip ? height - 1 - y : y) * stride;
    const std::size_t from = static_cast<std::size_t>(y) * static_cast<std::size_t>(width);
    const Byte* a = p.first.data() + from;
    if (loss == 0) {
      const Byte* g = p.second.data() + from;
      const Byte* b = p.third.data() + from;
      joinPlanes(a, g, b, row, width);
      continue;
    }
    const std::size_t line =
        static_cast<std::size_t>(half ? y / 2 : y) * static_cast<std::size_t>(chromaWidth);
    for (int x = 0; x < width; ++x) {
      const std::size_t c = line + static_cast<std::size_t>(half ? x / 2 : x);
      row[x] = fromYCoCg(a[x], p.second[c], p.third[c], loss - 1);
    }
  }
}

namespace {

/// Segments of one row: differences to the row above in all but the first.
void encodeRow(const Byte* values, std::size_t n, Bytes& out) {
  std::size_t at = 0;
  Byte last = 0;
  while (at < n) {
    std::size_t raw = 0, run = 0;
    // Plain values until three equal ones follow.
    while (at + raw < n && raw < 15) {
      run = 0;
      const Byte before = raw == 0 ? last : values[at + raw - 1];
      while (at + raw + run < n && values[at + raw + run] == before && run < 47) ++run;
      if (run >= 3) break;
      run = 0;
      ++raw;
    }
    if (raw > 0 && run > 15) run = 15;
    if (raw == 0 && run >= 16) {
      out.push_back(static_cast<Byte>(run >= 32 ? ((run - 32) << 4) | 2 : ((run - 16) << 4) | 1));
    } else {
      out.push_back(static_cast<Byte>((raw << 4) | run));
      out.insert(out.end(), values + at, values + at + raw);
    }
    at += raw;
    if (raw > 0) last = values[at - 1];
    at += run;
  }
}

}  // namespace

Bytes encodePlanar(const Pixel* pixels, std::size_t stride, int width, int height, bool flip) {
  Bytes out{static_cast<Byte>(kRle | kNoAlpha)};
  const std::size_t w = static_cast<std::size_t>(width);
  Bytes row(w), above(w), values(w);
  for (int shift : {16, 8, 0}) {
    for (int y = 0; y < height; ++y) {
      const Pixel* from = pixels + static_cast<std::size_t>(flip ? height - 1 - y : y) * stride;
      for (std::size_t x = 0; x < w; ++x) row[x] = static_cast<Byte>(from[x] >> shift);
      for (std::size_t x = 0; x < w; ++x) {
        const int d = static_cast<std::int8_t>(row[x] - above[x]);
        values[x] = y == 0 ? row[x] : static_cast<Byte>(d < 0 ? ((-d - 1) << 1) | 1 : d << 1);
      }
      encodeRow(values.data(), w, out);
      std::swap(row, above);
    }
  }
  return out;
}

}  // namespace kw::rdp

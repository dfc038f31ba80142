#include "rfb/rect_decoder.hpp"

#include "rfb/constants.hpp"

namespace kw::rfb {

namespace {
/// Rows are taken in batches of about this many bytes: large enough to be quick, small enough for the cache.
constexpr std::size_t kBatch = std::size_t{128} << 10;
constexpr int kZrleTile = 64;
}  // namespace

RectDecoder::RectDecoder(const PixelFormat& format) : map_(defaultColourMap()) { setFormat(format); }

void RectDecoder::setFormat(const PixelFormat& format) {
  format_ = format;
  pixels_ = std::make_unique<PixelReader>(format, &map_);
  compact_ = std::make_unique<PixelReader>(format.compact(), &map_);
  tightPixels_ = std::make_unique<PixelReader>(tightForm(format), &map_);
}

void RectDecoder::setColours(unsigned first, const std::vector<Pixel>& colours) {
  for (std::size_t i = 0; i < colours.size() && first + i < map_.size(); ++i) map_[first + i] = colours[i];
}

bool RectDecoder::knows(std::int32_t e) {
  return e == encoding::kRaw || e == encoding::kCopyRect || e == encoding::kRre || e == encoding::kCoRre ||
         e == encoding::kHextile || e == encoding::kZlib || e == encoding::kTight ||
         e == encoding::kTightPng || e == encoding::kTrle || e == encoding::kZrle || e == encoding::kJpeg ||
         e == encoding::kOpenH264;
}

Task<void> RectDecoder::decode(std::int32_t e, Rect target, WireReader& in, Framebuffer& picture) {
  switch (e) {
    case encoding::kRaw: return raw(target, in, picture);
    case encoding::kCopyRect: return copyRect(target, in, picture);
    case encoding::kRre: return rre(target, in, picture, false);
    case encoding::kCoRre: return rre(target, in, picture, true);
    case encoding::kHextile: return tiled(target, in, picture, true);
    case encoding::kTrle: return tiled(target, in, picture, false);
    case encoding::kZlib: return zlib(target, in, picture);
    case encoding::kZrle: return zrle(target, in, picture);
    case encoding::kTight:
    case encoding::kTightPng: return tight(target, in, picture);
    case encoding::kJpeg: return jpeg(target, in, picture);
    case encoding::kOpenH264: return h264(target, in, picture);
    default:
      protocolBroken("FramebufferUpdate", "an encoding that was not asked for: " + std::to_string(e) +
                                              " at offset " + std::to_string(in.offset()));
  }
}

// RFC 6143 7.7.1
Task<void> RectDecoder::raw(Rect target, WireReader& in, Framebuffer& picture) {
  const auto width = static_cast<std::size_t>(target.width);
  const std::size_t rowBytes = width * pixels_->bytesPerPixel();
  if (rowBytes == 0) co_return;
  const int rowsAtOnce = static_cast<int>(std::max<std::size_t>(1, kBatch / rowBytes));
  for (int y = target.y; y < target.bottom();) {
    // Whatever has come already is taken at once; only then is more waited for.
    const int here = std::min<int>(target.bottom() - y, static_cast<int>(in.buffered() / rowBytes));
    const int rows = here > 0 ? here : std::min(rowsAtOnce, target.bottom() - y);
    if (here == 0) co_await in.need(rowBytes * static_cast<std::size_t>(rows));
    const ByteView bytes = in.take(rowBytes * static_cast<std::size_t>(rows));
    auto lock = picture.lock();
    for (int i = 0; i < rows; ++i)
      pixels_->many(bytes.data() + rowBytes * static_cast<std::size_t>(i), picture.at(target.x, y + i),
                    width);
    y += rows;
  }
}

// RFC 6143 7.7.2
Task<void> RectDecoder::copyRect(Rect target, WireReader& in, Framebuffer& picture) {
  co_await in.need(4);
  const int x = in.u16(), y = in.u16();
  if (!picture.rect().contains(Rect{x, y, target.width, target.height}))
    protocolBroken("CopyRect", "its source lies outside the picture");
  auto lock = picture.lock();
  picture.copy({x, y}, target);
}

// RFC 6143 7.7.3, and CoRRE of the registry with one-byte places
Task<void> RectDecoder::rre(Rect target, WireReader& in, Framebuffer& picture, bool compactForm) {
  const unsigned size = pixels_->bytesPerPixel();
  co_await in.need(4 + size);
  std::uint32_t left = in.u32();
  if (left > static_cast<std::uint64_t>(target.area()))
    protocolBroken("RRE", "more subrectangles than pixels");
  const Pixel background = pixels_->one(in.take(size).data());
  {
    auto lock = picture.lock();
    picture.fill(target, background);
  }
  const std::size_t each = size + (compactForm ? 4U : 8U);
  while (left > 0) {
    if (!in.has(each)) co_await in.need(each);
    const auto now = static_cast<std::uint32_t>(std::min<std::size_t>(left, in.buffered() / each));
    const ByteView bytes = in.take(each * now);
    left -= now;
    auto lock = picture.lock();
    for (const Byte* p = bytes.data(); p != bytes.data() + bytes.size(); p += each) {
      const Byte* place = p + size;
      const Rect sub =
          compactForm ? Rect{place[0], place[1], place[2], place[3]}
                      : Rect{loadBe16(place), loadBe16(place + 2), loadBe16(place + 4), loadBe16(place + 6)};
      if (sub.right() > target.width || sub.bottom() > target.height)
        protocolBroken("RRE", "a subrectangle leaves its rectangle");
      picture.fill(sub.moved(target.x, target.y), pixels_->one(p));
    }
  }
}

// RFC 6143 7.7.4 (Hextile) and 7.7.5 (TRLE): tiles of 16x16 whose length only their contents tell
Task<void> RectDecoder::tiled(Rect target, WireReader& in, Framebuffer& picture, bool hextile) {
  HextileColours colours;
  RlePalette palette;
  for (int y = target.y; y < target.bottom(); y += 16) {
    for (int x = target.x; x < target.right(); x += 16) {
      const Rect tile{x, y, std::min(16, target.right() - x), std::min(16, target.bottom() - y)};
      for (;;) {
        std::optional<std::size_t> used;
        if (in.buffered() > 0) {
          auto lock = picture.lock();
          const ByteView here(in.peek(), in.buffered());
          used = hextile ? decodeHextile(here, *pixels_, picture, tile, colours)
                         : decodeRleTile(here, *compact_, picture, tile, palette, true);
        }
        if (used) {
          in.take(*used);
          break;
        }
        co_await in.need(in.buffered() + 1);
      }
    }
  }
}

// Registry, Zlib Encoding: raw pixels in one zlib stream
Task<void> RectDecoder::zlib(Rect target, WireReader& in, Framebuffer& picture) {
  co_await in.need(4);
  const std::uint32_t length = in.u32();
  if (length > kMostCompressed)
    protocolBroken("Zlib rectangle", "announces " + std::to_string(length) + " bytes");
  co_await in.need(length);
  zlibStream_.feed(in.take(length));
  const auto width = static_cast<std::size_t>(target.width);
  const std::size_t rowBytes = width * pixels_->bytesPerPixel();
  if (target.empty()) {
    zlibStream_.finish();
    co_return;
  }
  const int rowsAtOnce = static_cast<int>(std::max<std::size_t>(1, (kBatch / 2) / rowBytes));
  for (int y = target.y; y < target.bottom(); y += rowsAtOnce) {
    const int rows = std::min(rowsAtOnce, target.bottom() - y);
    inflated_.resize(rowBytes * static_cast<std::size_t>(rows));
    zlibStream_.readAll(inflated_);
    auto lock = picture.lock();
    for (int i = 0; i < rows; ++i)
      pixels_->many(inflated_.data() + rowBytes * static_cast<std::size_t>(i), picture.at(target.x, y + i),
                    width);
  }
  zlibStream_.finish();
}

// RFC 6143 7.7.6
Task<void> RectDecoder::zrle(Rect target, WireReader& in, Framebuffer& picture) {
  co_await in.need(4);
  const std::uint32_t length = in.u32();
  if (length > kMostCompressed)
    protocolBroken("ZRLE rectangle", "announces " + std::to_string(length) + " bytes");
  co_await in.need(length);
  zrleTiles(in.take(length), target, picture);
}

void RectDecoder::zrleTiles(ByteView compressed, const Rect& target, Framebuffer& picture) {
  // A second thread is worth its start only for much work.
  static const bool severalProcessors = std::thread::hardware_concurrency() > 1;
  const bool much = target.area() >= (1 << 16) && compressed.size() >= (std::size_t{16} << 10);
  const auto pieces =
      inflatePieces(severalProcessors && much, zrleStream_, compressed, mostTileBytes(kZrleTile), inflated_);
  zrleTiles(*pieces, target, picture);
  zrleStream_.finish();
}

void RectDecoder::zrleTiles(InflatedPieces& pieces, const Rect& target, Framebuffer& picture) {
  RlePalette palette;
  ByteView here;
  bool dry = false;
  const auto more = [&] {
    const std::size_t before = here.size();
    here = pieces.more(here);
    dry = here.size() == before;
  };
  for (int y = target.y; y < target.bottom(); y += kZrleTile) {
    for (int x = target.x; x < target.right(); x += kZrleTile) {
      const Rect tile{x, y, std::min(kZrleTile, target.right() - x),
                      std::min(kZrleTile, target.bottom() - y)};
      while (here.size() < mostTileBytes(kZrleTile) && !dry) more();
      auto lock = picture.lock();
      const auto used = decodeRleTile(here, *compact_, picture, tile, palette, false);
      if (!used) protocolBroken("ZRLE rectangle", "its data ends inside a tile");
      here = here.subspan(*used);
    }
  }
  if (here.empty() && !dry) more();
  if (!here.empty()) protocolBroken("ZRLE rectangle", "holds more than its tiles");
}

}  // namespace kw::rfb

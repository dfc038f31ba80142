#include "rfb/encoders.hpp"

#include "rfb/constants.hpp"
#include "rfb/tiles.hpp"

namespace kw::rfb {

namespace {

/// The colours of an area in order of appearance, given up when there are more than `most`.
class ColourCount {
 public:
  explicit ColourCount(std::size_t most) : most_(most) {}
  bool add(Pixel p) {
    if (!colours.empty() && colours[last_] == p) return true;
    for (std::size_t i = 0; i < colours.size(); ++i)
      if (colours[i] == p) {
        last_ = i;
        return true;
      }
    if (colours.size() == most_) return false;
    last_ = colours.size();
    colours.push_back(p);
    return true;
  }
  bool addArea(const Rect& area, const Framebuffer& picture) {
    for (int y = area.y; y < area.bottom(); ++y) {
      const Pixel* row = picture.row(y);
      for (int x = area.x; x < area.right(); ++x)
        if (!add(row[x])) return false;
    }
    return true;
  }
  [[nodiscard]] unsigned indexOf(Pixel p) const {
    if (colours[last_] == p) return static_cast<unsigned>(last_);
    for (std::size_t i = 0; i < colours.size(); ++i)
      if (colours[i] == p) {
        last_ = i;
        return static_cast<unsigned>(i);
      }
    return 0;
  }
  std::vector<Pixel> colours;

 private:
  std::size_t most_;
  mutable std::size_t last_ = 0;
};

void header(const Rect& area, std::int32_t encoding, ByteWriter& out) {
  out.u16(static_cast<unsigned>(area.x)).u16(static_cast<unsigned>(area.y));
  out.u16(static_cast<unsigned>(area.width)).u16(static_cast<unsigned>(area.height)).s32(encoding);
}

void compactLength(std::size_t length, ByteWriter& out) {
  out.u8(static_cast<unsigned>(length & 0x7f) | (length > 0x7f ? 0x80U : 0));
  if (length <= 0x7f) return;
  out.u8(static_cast<unsigned>(length >> 7 & 0x7f) | (length > 0x3fff ? 0x80U : 0));
  if (length > 0x3fff) out.u8(static_cast<unsigned>(length >> 14 & 0xff));
}

void runLength(int length, Bytes& out) {
  for (--length; length >= 255; length -= 255) out.push_back(255);
  out.push_back(static_cast<Byte>(length));
}

/// Calls put(colour, length) for every run of a tile, row after row.
template <typename F>
void eachRun(const Rect& tile, const Framebuffer& picture, F put) {
  Pixel colour = picture.pixel(tile.x, tile.y);
  int length = 0;
  for (int y = tile.y; y < tile.bottom(); ++y) {
    const Pixel* row = picture.row(y);
    for (int x = tile.x; x < tile.right(); ++x) {
      if (row[x] == colour) {
        ++length;
        continue;
      }
      put(colour, length);
      colour = row[x];
      length = 1;
    }
  }
  put(colour, length);
}

constexpr int kTightMostPixels = 65536, kTightMostWidth = 2048;

}  // namespace

RectEncoder::RectEncoder(const PixelFormat& format) : zrleStream_(2) {
  setFormat(format);
  for (auto& stream : tightStreams_) stream = std::make_unique<Deflater>(kUsualCompression);
}

void RectEncoder::setFormat(const PixelFormat& format) {
  format_ = format;
  pixels_ = std::make_unique<PixelWriter>(format);
  compact_ = std::make_unique<PixelWriter>(format.compact());
  tightPixels_ = std::make_unique<PixelWriter>(tightForm(format));
}

void RectEncoder::setCompression(int level) {
  for (auto& stream : tightStreams_) stream->setLevel(std::clamp(level, 1, 9));
}

bool RectEncoder::knows(std::int32_t e) {
  return e == encoding::kRaw || e == encoding::kHextile || e == encoding::kZrle || e == encoding::kTrle ||
         e == encoding::kTight;
}

void RectEncoder::put(Pixel pixel, const PixelWriter& writer, Bytes& out) {
  Byte wire[4];
  writer.one(pixel, wire);
  out.insert(out.end(), wire, wire + writer.bytesPerPixel());
}

int RectEncoder::encode(std::int32_t e, const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  if (e == encoding::kTight) {
    const int width = std::min(area.width, kTightMostWidth);
    const int height = std::max(1, std::min(area.height, kTightMostPixels / width));
    int count = 0;
    for (int y = area.y; y < area.bottom(); y += height)
      for (int x = area.x; x < area.right(); x += width, ++count) {
        const Rect part{x, y, std::min(width, area.right() - x), std::min(height, area.bottom() - y)};
        header(part, e, out);
        tight(part, picture, out);
      }
    return count;
  }
  header(area, e, out);
  switch (e) {
    case encoding::kHextile: hextile(area, picture, out); break;
    case encoding::kZrle: zrle(area, picture, out); break;
    case encoding::kTrle: trle(area, picture, out); break;
    default: raw(area, picture, out);
  }
  return 1;
}

void RectEncoder::raw(const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  const std::size_t rowBytes = static_cast<std::size_t>(area.width) * pixels_->bytesPerPixel();
  Bytes& bytes = out.raw();
  for (int y = area.y; y < area.bottom(); ++y) {
    const std::size_t at = bytes.size();
    bytes.resize(at + rowBytes);
    pixels_->many(picture.row(y) + area.x, bytes.data() + at, static_cast<std::size_t>(area.width));
  }
}

void RectEncoder::hextile(const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  for (int y = area.y; y < area.bottom(); y += 16) {
    for (int x = area.x; x < area.right(); x += 16) {
      const Rect tile{x, y, std::min(16, area.right() - x), std::min(16, area.bottom() - y)};
      const Pixel background = picture.pixel(x, y);
      Bytes body;
      int count = 0;
      for (int ty = tile.y; ty < tile.bottom() && count < 256; ++ty) {
        const Pixel* row = picture.row(ty);
        for (int tx = tile.x; tx < tile.right();) {
          int end = tx + 1;
          while (end < tile.right() && row[end] == row[tx]) ++end;
          if (row[tx] != background) {
            put(row[tx], *pixels_, body);
            body.push_back(static_cast<Byte>((tx - tile.x) << 4 | (ty - tile.y)));
            body.push_back(static_cast<Byte>((end - tx - 1) << 4));
            ++count;
          }
          tx = end;
        }
      }
      const std::size_t rawSize = static_cast<std::size_t>(tile.area()) * pixels_->bytesPerPixel();
      if (count > 255 || body.size() >= rawSize) {
        out.u8(hextile::kRaw);
        raw(tile, picture, out);
        continue;
      }
      out.u8(hextile::kBackground | (count > 0 ? hextile::kAnySubrects | hextile::kColoured : 0));
      put(background, *pixels_, out.raw());
      if (count > 0) out.u8(static_cast<unsigned>(count)).bytes(body);
    }
  }
}

void RectEncoder::rleTiles(const Rect& area, int side, const Framebuffer& picture, Bytes& out) {
  const unsigned pixelSize = compact_->bytesPerPixel();
  for (int y = area.y; y < area.bottom(); y += side) {
    for (int x = area.x; x < area.right(); x += side) {
      const Rect tile{x, y, std::min(side, area.right() - x), std::min(side, area.bottom() - y)};
      ColourCount palette(127);
      const bool few = palette.addArea(tile, picture);
      const std::size_t colours = palette.colours.size();
      if (few && colours == 1) {
        out.push_back(1);
        put(palette.colours[0], *compact_, out);
        continue;
      }
      std::size_t runs = 0, singles = 0;
      eachRun(tile, picture, [&](Pixel, int length) {
        ++runs;
        if (length == 1) ++singles;
      });
      const std::size_t rawSize = static_cast<std::size_t>(tile.area()) * pixelSize;
      const std::size_t plainRleSize = runs * (pixelSize + 1);
      const std::size_t paletteRleSize = few ? colours * pixelSize + 2 * runs - singles : SIZE_MAX;
      const unsigned bits = colours <= 2 ? 1 : colours <= 4 ? 2 : 4;
      const std::size_t packedSize =
          few && colours <= 16
              ? colours * pixelSize +
                    static_cast<std::size_t>((tile.width * static_cast<int>(bits) + 7) / 8 * tile.height)
              : SIZE_MAX;
      const std::size_t least = std::min({rawSize, plainRleSize, paletteRleSize, packedSize});
      if (least == packedSize) {
        out.push_back(static_cast<Byte>(colours));
        for (Pixel p : palette.colours) put(p, *compact_, out);
        for (int ty = tile.y; ty < tile.bottom(); ++ty) {
          unsigned packed = 0, filled = 0;
          for (int tx = tile.x; tx < tile.right(); ++tx) {
            packed = packed << bits | palette.indexOf(picture.pixel(tx, ty));
            filled += bits;
            if (filled == 8) out.push_back(static_cast<Byte>(packed)), packed = filled = 0;
          }
          if (filled > 0) out.push_back(static_cast<Byte>(packed << (8 - filled)));
        }
      } else if (least == paletteRleSize) {
        out.push_back(static_cast<Byte>(128 + colours));
        for (Pixel p : palette.colours) put(p, *compact_, out);
        eachRun(tile, picture, [&](Pixel p, int length) {
          out.push_back(static_cast<Byte>(palette.indexOf(p) | (length > 1 ? 0x80 : 0)));
          if (length > 1) runLength(length, out);
        });
      } else if (least == plainRleSize) {
        out.push_back(128);
        eachRun(tile, picture, [&](Pixel p, int length) {
          put(p, *compact_, out);
          runLength(length, out);
        });
      } else {
        out.push_back(0);
        for (int ty = tile.y; ty < tile.bottom(); ++ty) {
          const std::size_t at = out.size();
          out.resize(at + static_cast<std::size_t>(tile.width) * pixelSize);
          compact_->many(picture.row(ty) + tile.x, out.data() + at, static_cast<std::size_t>(tile.width));
        }
      }
    }
  }
}

void RectEncoder::zrle(const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  Bytes plain, text;
  rleTiles(area, 64, picture, plain);
  zrleStream_.deflate(plain, text);
  out.u32(static_cast<std::uint32_t>(text.size())).bytes(text);
}

void RectEncoder::trle(const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  rleTiles(area, 16, picture, out.raw());
}

void RectEncoder::rest() {
  for (unsigned i = 0; i < 4; ++i)
    if (tightStreams_[i]->drop()) tightResets_ |= 1U << i;
}

unsigned RectEncoder::takeReset(unsigned stream) {
  const unsigned bit = tightResets_ & 1U << stream;
  tightResets_ &= ~bit;
  return bit;
}

void RectEncoder::tightZlib(unsigned stream, ByteView plain, ByteWriter& out) {
  if (plain.size() < 12) {
    out.bytes(plain);
    return;
  }
  Bytes text;
  tightStreams_[stream]->deflate(plain, text);
  compactLength(text.size(), out);
  out.bytes(text);
}

void RectEncoder::tight(const Rect& area, const Framebuffer& picture, ByteWriter& out) {
  constexpr unsigned kFill = 0x80, kJpeg = 0x90, kExplicitFilter = 0x40, kPaletteFilter = 1;
  ColourCount palette(256);
  const bool few = palette.addArea(area, picture);
  const std::size_t colours = palette.colours.size();
  if (few && colours == 1) {
    out.u8(kFill);
    put(palette.colours[0], *tightPixels_, out.raw());
    return;
  }
  if (few) {
    constexpr unsigned kMonoStream = 1, kIndexStream = 2;
    const unsigned stream = colours == 2 ? kMonoStream : kIndexStream;
    out.u8(kExplicitFilter | stream << 4 | takeReset(stream))
        .u8(kPaletteFilter)
        .u8(static_cast<unsigned>(colours - 1));
    for (Pixel p : palette.colours) put(p, *tightPixels_, out.raw());
    Bytes plain;
    for (int y = area.y; y < area.bottom(); ++y) {
      const Pixel* row = picture.row(y);
      unsigned bits = 0, filled = 0;
      for (int x = area.x; x < area.right(); ++x) {
        const unsigned index = palette.indexOf(row[x]);
        if (colours > 2) {
          plain.push_back(static_cast<Byte>(index));
          continue;
        }
        bits = bits << 1 | index;
        if (++filled == 8) plain.push_back(static_cast<Byte>(bits)), bits = filled = 0;
      }
      if (filled > 0) plain.push_back(static_cast<Byte>(bits << (8 - filled)));
    }
    tightZlib(stream, plain, out);
    return;
  }
  if (jpegQuality_ > 0 && format_.bitsPerPixel >= 16 && area.width >= 8 && area.height >= 8) {
    const Bytes jpeg = jpeg_.encode(picture, area, jpegQuality_);
    out.u8(kJpeg);
    compactLength(jpeg.size(), out);
    out.bytes(jpeg);
    return;
  }
  out.u8(takeReset(0));
  const std::size_t rowBytes = static_cast<std::size_t>(area.width) * tightPixels_->bytesPerPixel();
  Bytes plain(rowBytes * static_cast<std::size_t>(area.height));
  for (int y = 0; y < area.height; ++y)
    tightPixels_->many(picture.row(area.y + y) + area.x,
                       plain.data() + rowBytes * static_cast<std::size_t>(y),
                       static_cast<std::size_t>(area.width));
  tightZlib(0, plain, out);
}

}  // namespace kw::rfb

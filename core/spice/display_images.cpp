// The images that display messages carry or refer to, and their palettes.
#include "codec/zip.hpp"
#include "spice/display.hpp"

namespace kw::spice {

ImagePtr Display::imageAt(ByteView message, std::uint32_t offset) {
  if (offset == 0) return nullptr;
  if (offset >= message.size()) protocolBroken("SPICE image", "an image outside of the message");
  LittleReader in(message.subspan(offset), "SPICE image");
  ImagePtr image = readImage(in, message);
  if (image->size.empty()) protocolBroken("SPICE image", "an image without pixels");
  return image;
}

ImagePtr Display::surfaceImage(std::uint32_t id) {
  const Surface& s = surfaceOf(id);
  return std::make_shared<Image>(Image{s.size, s.pixels, s.hasAlpha});
}

void Display::remember(std::uint64_t id, const ImagePtr& image) {
  if (const auto old = cache_.find(id); old != cache_.end()) cachePixels_ -= old->second->pixels.size();
  cachePixels_ += image->pixels.size();
  if (cachePixels_ > 2 * kMostCachePixels + kMostSurfacePixels)
    protocolBroken("SPICE image", "more is to be remembered than was agreed");
  cache_[id] = image;
}

ImagePtr Display::readImage(LittleReader& in, ByteView message) {
  const std::uint64_t id = in.u64();
  const unsigned type = in.u8(), flags = in.u8();
  const std::uint32_t width = in.u32(), height = in.u32();
  if (!sizeAllowed(width, height)) protocolBroken("SPICE image", "is too large");
  const Size size{static_cast<int>(width), static_cast<int>(height)};
  const auto sized = [&] { return in.bytes(in.u32()); };
  ImagePtr image;
  switch (type) {
    case image::kBitmap:
      image = readBitmap(in, message, size);
      ++forms_["bitmap"];
      break;
    case image::kQuic:
      image = std::make_shared<Image>(decodeQuic(sized(), size));
      ++forms_["QUIC"];
      break;
    case image::kLzRgb:
      image = std::make_shared<Image>(decodeLz(sized(), size, {}));
      ++forms_["LZ"];
      break;
    case image::kLzPalette: {
      const unsigned own = in.u8();
      const std::uint32_t length = in.u32();
      const std::vector<Pixel> palette = readPalette(in, message, own);
      image = std::make_shared<Image>(decodeLz(in.bytes(length), size, palette));
      ++forms_["LZ palette"];
      break;
    }
    case image::kGlzRgb:
      image = window_.decode(sized(), size);
      ++forms_["GLZ"];
      break;
    case image::kZlibGlz: {
      const std::uint32_t plain = in.u32();
      if (plain > kMostMessage)
        protocolBroken("SPICE image", "unpacks to " + std::to_string(plain) + " bytes");
      image = window_.decode(inflateWhole(sized(), plain), size);
      ++forms_["zlib + GLZ"];
      break;
    }
    case image::kLz4:
      image = std::make_shared<Image>(decodeLz4(sized(), size));
      ++forms_["LZ4"];
      break;
    case image::kJpeg:
    case image::kJpegAlpha: {
      std::uint32_t jpegSize = 0;
      unsigned own = 0;
      if (type == image::kJpegAlpha) {
        own = in.u8();
        jpegSize = in.u32();
      }
      const ByteView data = sized();
      if (type == image::kJpeg) jpegSize = static_cast<std::uint32_t>(data.size());
      if (jpegSize > data.size()) protocolBroken("SPICE image", "its JPEG is longer than its data");
      auto made =
          std::make_shared<Image>(Image{size, std::vector<Pixel>(std::size_t{width} * height), false});
      jpeg_.decode(data.first(jpegSize), size, made->pixels.data());
      if (type == image::kJpegAlpha) {
        const Image alpha = decodeLz(data.subspan(jpegSize), size, {});
        for (std::size_t i = 0; i < made->pixels.size(); ++i)
          made->pixels[i] = (made->pixels[i] & 0xffffff) | (alpha.pixels[i] & kOpaque);
        made->hasAlpha = true;
      }
      (void)own;
      image = made;
      ++forms_["JPEG"];
      break;
    }
    case image::kFromCache:
    case image::kFromCacheLossless: {
      const auto found = cache_.find(id);
      if (found == cache_.end()) protocolBroken("SPICE image", "one that is not remembered");
      ++forms_["remembered"];
      return found->second;
    }
    case image::kSurface: return surfaceImage(in.u32());
    default: protocolBroken("SPICE image", "kind " + std::to_string(type));
  }
  if ((flags & 1) != 0 || (flags & 4) != 0) remember(id, image);
  return image;
}

std::vector<Pixel> Display::readPalette(LittleReader& in, ByteView message, unsigned flags) {
  if ((flags & 2) != 0) {
    const auto found = palettes_.find(in.u64());
    if (found == palettes_.end()) protocolBroken("SPICE palette", "one that is not remembered");
    return found->second;
  }
  const std::uint32_t offset = in.u32();
  if (offset == 0) return {};
  if (offset >= message.size()) protocolBroken("SPICE palette", "outside of the message");
  LittleReader palette(message.subspan(offset), "SPICE palette");
  const std::uint64_t id = palette.u64();
  const unsigned count = palette.u16();
  if (count > 256) protocolBroken("SPICE palette", std::to_string(count) + " colours");
  std::vector<Pixel> colours;
  for (unsigned i = 0; i < count; ++i) colours.push_back(palette.u32() | kOpaque);
  if ((flags & 1) != 0) {
    if (palettes_.size() > 256) palettes_.clear();
    palettes_[id] = colours;
  }
  return colours;
}

ImagePtr Display::readBitmap(LittleReader& in, ByteView message, Size size) {
  const unsigned format = in.u8(), flags = in.u8();
  const Size own{static_cast<int>(in.u32() & 0xffff), static_cast<int>(in.u32() & 0xffff)};
  const std::size_t stride = in.u32();
  const std::vector<Pixel> palette = readPalette(in, message, flags);
  static constexpr unsigned bitsOf[] = {0, 1, 1, 4, 4, 8, 16, 24, 32, 32, 8};
  if (format == 0 || format > 10 || !(own == size))
    protocolBroken("SPICE bitmap", "format or size cannot be");
  const unsigned bits = bitsOf[format];
  const std::size_t w = static_cast<std::size_t>(size.width), h = static_cast<std::size_t>(size.height);
  if (stride < (w * bits + 7) / 8 || stride > kMostMessage)
    protocolBroken("SPICE bitmap", "its rows are too short");
  const ByteView data = in.bytes(stride * h);
  auto image = std::make_shared<Image>(Image{size, std::vector<Pixel>(w * h), format >= 9});
  const auto index = [&](unsigned i) {
    return i < palette.size() ? palette[i] : i == 0 ? kOpaque : rgb(255, 255, 255);
  };
  for (std::size_t y = 0; y < h; ++y) {
    const Byte* row = data.data() + ((flags & 4) != 0 ? y : h - 1 - y) * stride;
    Pixel* out = image->pixels.data() + y * w;
    for (std::size_t x = 0; x < w; ++x) switch (format) {
        case 1: out[x] = index(row[x / 8] >> (x % 8) & 1); break;
        case 2: out[x] = index(row[x / 8] >> (7 - x % 8) & 1); break;
        case 3: out[x] = index(row[x / 2] >> (x % 2 == 0 ? 0 : 4) & 0xf); break;
        case 4: out[x] = index(row[x / 2] >> (x % 2 == 0 ? 4 : 0) & 0xf); break;
        case 5: out[x] = index(row[x]); break;
        case 6: {
          const unsigned v = loadLe16(row + 2 * x);
          const auto wide = [](unsigned five) { return (five << 3) | (five >> 2); };
          out[x] = rgb(wide(v >> 10 & 31), wide(v >> 5 & 31), wide(v & 31));
          break;
        }
        case 7: out[x] = rgb(row[3 * x + 2], row[3 * x + 1], row[3 * x]); break;
        case 8: out[x] = loadLe32(row + 4 * x) | kOpaque; break;
        case 9: out[x] = loadLe32(row + 4 * x); break;
        default: out[x] = static_cast<Pixel>(row[x]) << 24; break;
      }
  }
  return image;
}

}  // namespace kw::spice

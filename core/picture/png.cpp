#include "picture/png.hpp"

#include <png.h>

#include "base/error.hpp"
#include "base/file.hpp"

namespace kw {

Bytes encodePng(const Framebuffer& picture, int compression) {
  // The advanced interface, because the simplified one cannot set the compression level.
  png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, nullptr, nullptr);
  png_infop info = png != nullptr ? png_create_info_struct(png) : nullptr;
  if (info == nullptr) throw Error(ErrorKind::Local, "no memory for a PNG");
  Bytes out;
  Bytes line(static_cast<std::size_t>(picture.width()) * 3);
  if (setjmp(png_jmpbuf(png)) != 0) {
    png_destroy_write_struct(&png, &info);
    throw Error(ErrorKind::Local, "the PNG could not be made");
  }
  png_set_write_fn(
      png, &out,
      [](png_structp p, png_bytep data, size_t n) {
        auto* into = static_cast<Bytes*>(png_get_io_ptr(p));
        into->insert(into->end(), data, data + n);
      },
      nullptr);
  png_set_IHDR(png, info, static_cast<png_uint_32>(picture.width()),
               static_cast<png_uint_32>(picture.height()), 8, PNG_COLOR_TYPE_RGB, PNG_INTERLACE_NONE,
               PNG_COMPRESSION_TYPE_DEFAULT, PNG_FILTER_TYPE_DEFAULT);
  png_set_compression_level(png, compression);
  png_write_info(png, info);
  for (int y = 0; y < picture.height(); ++y) {
    const Pixel* row = picture.row(y);
    for (std::size_t x = 0; x < picture.stride(); ++x) {
      line[3 * x] = static_cast<Byte>(row[x] >> 16);
      line[3 * x + 1] = static_cast<Byte>(row[x] >> 8);
      line[3 * x + 2] = static_cast<Byte>(row[x]);
    }
    png_write_row(png, line.data());
  }
  png_write_end(png, nullptr);
  png_destroy_write_struct(&png, &info);
  return out;
}

Framebuffer decodePng(ByteView bytes) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  if (png_image_begin_read_from_memory(&image, bytes.data(), bytes.size()) == 0)
    protocolBroken("PNG picture", image.message);
  const Size size{static_cast<int>(std::min<png_uint_32>(image.width, 1U << 20)),
                  static_cast<int>(std::min<png_uint_32>(image.height, 1U << 20))};
  if (!pictureSizeAllowed(size)) {
    png_image_free(&image);
    protocolBroken("PNG picture", "size outside the limits");
  }
  Framebuffer out(size);
  image.format = PNG_FORMAT_BGRA;
  if (png_image_finish_read(&image, nullptr, out.row(0), 0, nullptr) == 0) {
    const std::string message = image.message;
    png_image_free(&image);
    protocolBroken("PNG picture", message);
  }
  makeOpaque(out.row(0), static_cast<std::size_t>(size.area()));
  return out;
}

void savePng(const Framebuffer& picture, const std::filesystem::path& file) {
  writeFileSafely(file, encodePng(picture));
}

Framebuffer loadPng(const std::filesystem::path& file) { return decodePng(readFile(file)); }

}  // namespace kw

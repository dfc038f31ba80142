// JPEG through libjpeg-turbo, straight into and out of a picture.
#pragma once
#include <memory>

#include "picture/framebuffer.hpp"

namespace kw {

class JpegDecoder {
 public:
  JpegDecoder();
  ~JpegDecoder();
  /// Decodes into `target` of the picture; the JPEG must be exactly as large. Throws Error{ProtocolBroken}.
  void decode(ByteView jpeg, Framebuffer& picture, const Rect& target);
  /// The size that a JPEG's head says. Throws Error{ProtocolBroken}.
  [[nodiscard]] Size sizeOf(ByteView jpeg);
  /// Decodes into opaque pixels, rows `stride` pixels apart (0: without gaps); the JPEG must be exactly as
  /// large.
  void decode(ByteView jpeg, Size size, Pixel* out, std::size_t stride = 0);

 private:
  void* handle_;
};

class JpegEncoder {
 public:
  JpegEncoder();
  ~JpegEncoder();
  /// `quality` 1..100; `fullColour` keeps every pixel's own colour (4:4:4), else 4:2:0.
  Bytes encode(const Framebuffer& picture, const Rect& area, int quality, bool fullColour = true);

 private:
  void* handle_;
};

}  // namespace kw

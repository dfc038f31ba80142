// Encodes rectangles of a picture for a viewer: what lab and gateway need. Holds the zlib streams of one
// viewer.
#pragma once
#include "codec/jpeg.hpp"
#include "codec/zip.hpp"
#include "picture/framebuffer.hpp"

namespace kw::rfb {

class RectEncoder {
 public:
  explicit RectEncoder(const PixelFormat& format);
  void setFormat(const PixelFormat& format);
  /// JPEG quality 1..100 for Tight, or 0 for none.
  void setJpegQuality(int quality) { jpegQuality_ = quality; }
  void setCompression(int level);

  [[nodiscard]] static bool knows(std::int32_t encoding);
  /// Appends rectangle headers and data; Tight may split `area` into several. Returns how many were written.
  int encode(std::int32_t encoding, const Rect& area, const Framebuffer& picture, ByteWriter& out);

 private:
  void raw(const Rect& area, const Framebuffer& picture, ByteWriter& out);
  void hextile(const Rect& area, const Framebuffer& picture, ByteWriter& out);
  void zrle(const Rect& area, const Framebuffer& picture, ByteWriter& out);
  void trle(const Rect& area, const Framebuffer& picture, ByteWriter& out);
  void rleTiles(const Rect& area, int side, const Framebuffer& picture, Bytes& out);
  void tight(const Rect& area, const Framebuffer& picture, ByteWriter& out);
  void tightZlib(unsigned stream, ByteView plain, ByteWriter& out);
  void put(Pixel pixel, const PixelWriter& writer, Bytes& out);

  PixelFormat format_;
  std::unique_ptr<PixelWriter> pixels_, compact_, tightPixels_;
  Deflater zrleStream_;
  std::unique_ptr<Deflater> tightStreams_[4];
  JpegEncoder jpeg_;
  int jpegQuality_ = 0;
  int compression_ = 2;
};

}  // namespace kw::rfb

// Encodes rectangles of a picture for a viewer: what lab and gateway need. Holds the zlib streams of one
// viewer.
#pragma once
#include "codec/jpeg.hpp"
#include "codec/zip.hpp"
#include "picture/framebuffer.hpp"

namespace kw::rfb {

constexpr int kUsualCompression = 2;  // of zlib's nine: quick

class RectEncoder {
 public:
  explicit RectEncoder(const PixelFormat& format);
  void setFormat(const PixelFormat& format);
  /// JPEG quality 1..100 for Tight, or 0 for none.
  void setJpegQuality(int quality) { jpegQuality_ = quality; }
  /// zlib's level for Tight, 1..9; others count as the nearest.
  void setCompression(int level);
  /// Gives back the memory of Tight's streams; a viewer is told with the next rectangle that they begin anew.
  /// ZRLE has no way to say so and keeps its own.
  void rest();

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
  /// The low bits of a control byte, for a rectangle that uses `stream`.
  unsigned takeReset(unsigned stream);
  void put(Pixel pixel, const PixelWriter& writer, Bytes& out);

  PixelFormat format_;
  std::unique_ptr<PixelWriter> pixels_, compact_, tightPixels_;
  Deflater zrleStream_;
  std::unique_ptr<Deflater> tightStreams_[4];
  unsigned tightResets_ = 0;  ///< bit per stream: the viewer does not know yet that it begins anew
  JpegEncoder jpeg_;
  int jpegQuality_ = 0;
};

}  // namespace kw::rfb

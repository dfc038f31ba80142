// Decodes the rectangles of a FramebufferUpdate into a picture. Holds what lives as long as the connection:
// zlib streams, palettes, H.264 contexts.
#pragma once
#include <map>
#include <memory>

#include "codec/h264.hpp"
#include "codec/inflate_ahead.hpp"
#include "codec/jpeg.hpp"
#include "codec/zip.hpp"
#include "picture/framebuffer.hpp"
#include "rfb/tiles.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

class RectDecoder {
 public:
  explicit RectDecoder(const PixelFormat& format);

  /// Takes effect for the rectangles that follow; compression streams live on.
  void setFormat(const PixelFormat& format);
  void setColours(unsigned first, const std::vector<Pixel>& colours);
  [[nodiscard]] const PixelFormat& format() const { return format_; }
  [[nodiscard]] const PixelReader& pixels() const { return *pixels_; }
  [[nodiscard]] const ColourMap& colourMap() const { return map_; }

  [[nodiscard]] static bool knows(std::int32_t encoding);
  /// `target` must lie inside the picture. The picture is locked only while pixels are written.
  Task<void> decode(std::int32_t encoding, Rect target, WireReader& in, Framebuffer& picture);

 private:
  Task<void> raw(Rect target, WireReader& in, Framebuffer& picture);
  Task<void> copyRect(Rect target, WireReader& in, Framebuffer& picture);
  Task<void> rre(Rect target, WireReader& in, Framebuffer& picture, bool compactForm);
  Task<void> tiled(Rect target, WireReader& in, Framebuffer& picture, bool hextile);
  Task<void> zlib(Rect target, WireReader& in, Framebuffer& picture);
  Task<void> zrle(Rect target, WireReader& in, Framebuffer& picture);
  void zrleTiles(ByteView compressed, const Rect& target, Framebuffer& picture);
  void zrleTiles(InflatedPieces& pieces, const Rect& target, Framebuffer& picture);
  Task<void> tight(Rect target, WireReader& in, Framebuffer& picture);
  Task<void> tightBasic(unsigned control, Rect target, WireReader& in, Framebuffer& picture);
  Task<ByteView> tightData(unsigned stream, std::size_t size, WireReader& in);
  Task<std::uint32_t> compactLength(WireReader& in);
  void tightCopy(ByteView data, const Rect& target, Framebuffer& picture);
  void tightGradient(ByteView data, const Rect& target, Framebuffer& picture);
  Task<void> jpeg(Rect target, WireReader& in, Framebuffer& picture);
  Task<void> h264(Rect target, WireReader& in, Framebuffer& picture);

  PixelFormat format_;
  ColourMap map_;
  std::unique_ptr<PixelReader> pixels_, compact_, tightPixels_;
  Inflater zlibStream_, zrleStream_;
  Inflater tightStreams_[4];
  JpegDecoder jpeg_;
  Bytes inflated_;
  Bytes jpegTables_;  ///< DQT and DHT segments of the last JPEG that had any
  struct H264Stream {
    Rect area;
    std::unique_ptr<H264Decoder> decoder;
  };
  std::vector<H264Stream> h264Streams_;
};

}  // namespace kw::rfb

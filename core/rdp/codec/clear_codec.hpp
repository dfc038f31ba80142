// ClearCodec (MS-RDPEGFX 2.2.4.1, 3.3.8.1): text and flat areas by runs, columns and small pictures that are
// remembered.
#pragma once
#include <map>
#include <vector>

#include "base/little.hpp"
#include "picture/geometry.hpp"
#include "picture/pixel_format.hpp"

namespace kw::rdp {

class ClearDecoder {
 public:
  /// `out` gets size.width * size.height pixels. Throws Error{ProtocolBroken}.
  void decode(ByteView stream, Size size, std::vector<Pixel>& out);

 private:
  void residual(LittleReader in, Size size, std::vector<Pixel>& out);
  void bands(LittleReader in, Size size, std::vector<Pixel>& out);
  void band(LittleReader& in, Size size, std::vector<Pixel>& out);
  const std::vector<Pixel>& column(LittleReader& in, int height, Pixel background);
  void pictures(LittleReader in, Size size, std::vector<Pixel>& out);

  std::vector<std::vector<Pixel>> columns_, shortColumns_;  ///< rings
  std::size_t columnAt_ = 0, shortAt_ = 0;
  struct Glyph {
    Size size;
    std::vector<Pixel> pixels;
  };
  std::map<unsigned, Glyph> glyphs_;
  std::vector<Pixel> scratch_;
};

/// Only runs (residual), for a server; with `glyph` the picture is remembered there.
Bytes encodeClearRuns(const std::vector<Pixel>& pixels, unsigned sequence, int glyph = -1);

}  // namespace kw::rdp

// Rows of luma and colours as pixels: ITU-R BT.709 with the full range (MS-RDPEGFX 3.3.8.3.1).
#pragma once
#include "picture/framebuffer.hpp"

namespace kw::rdp {

struct YuvRows {
  /// Colours of 4:2:0, each for two pixels; from pixel `first` of the row on, `count` of them. `out` is where
  /// the first of them goes, `y`, `u` and `v` are the row's beginning.
  void (*row420)(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int first, int count);
  /// A colour for each pixel.
  void (*row444)(const Byte* y, const Byte* u, const Byte* v, Pixel* out, int count);
};

/// What all of them give, exactly.
Pixel pixelOfYuv(int y, int u, int v);

const YuvRows& plainYuvRows();
/// Null on a machine without AVX2.
const YuvRows* wideYuvRows();
/// The fastest of this machine.
const YuvRows& yuvRows();

}  // namespace kw::rdp

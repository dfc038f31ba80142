// H.264 in the pipeline (MS-RDPEGFX 2.2.4.4 to 2.2.4.6, 3.3.8.3): 4:2:0 as it is, and 4:4:4 as two 4:2:0
// pictures whose second holds the colours that the first leaves out, in two arrangements.
#pragma once
#include <memory>

#include "base/little.hpp"
#include "codec/h264.hpp"
#include "picture/region.hpp"

namespace kw::rdp {

enum class FullColour { First, Second };  ///< AVC444 and AVC444v2

/// The decoder of one surface.
class AvcDecoder {
 public:
  explicit AvcDecoder(bool hardware = false) : decoder_(hardware) {}
  [[nodiscard]] bool byHardware() const { return decoder_.byHardware(); }
  /// Draws with the corner at `at`; gives what it touched. Throws Error{ProtocolBroken}.
  Region decode420(ByteView stream, Framebuffer& picture, Point at);
  Region decode444(ByteView stream, FullColour arrangement, Framebuffer& picture, Point at);

 private:
  struct Part {
    std::vector<Rect> rects;
    ByteView data;
  };
  static Part partOf(ByteView stream);
  void takeMain(const Yuv420& in, const Rect& area);
  void takeRest(const Yuv420& in, const Rect& area, FullColour arrangement);
  void evenOnes(const Rect& area);
  void size(Size size);
  Region show(const std::vector<Rect>& rects, Framebuffer& picture, Point at) const;

  H264Decoder decoder_;
  // Of 4:4:4: whole planes, and the colours of the first picture as they came.
  Size size_;
  Bytes y_, colours_[2], main_[2];
};

}  // namespace kw::rdp

// H.264 pictures through FFmpeg, one context per stream.
#pragma once
#include <memory>

#include "picture/framebuffer.hpp"

namespace kw {

class H264Decoder {
 public:
  H264Decoder();
  ~H264Decoder();
  /// Feeds an Annex B access unit; every picture it completes is written to `target` (clipped, never scaled).
  /// Broken data throws Error{ProtocolBroken}. Returns whether a picture came out.
  bool decode(ByteView accessUnit, Framebuffer& picture, const Rect& target);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kw

// H.264 pictures through FFmpeg, one context per stream.
#pragma once
#include <memory>
#include <optional>

#include "picture/framebuffer.hpp"

namespace kw {

/// The planes of a picture in 4:2:0, valid until the next one is decoded.
struct Yuv420 {
  const Byte* planes[3] = {};
  std::ptrdiff_t strides[3] = {};
  Size size;
};

/// Colours that lie in pairs (NV12), as two planes: `width` by `height` pairs, rows `stride` bytes apart.
void splitColours(const Byte* pairs, std::ptrdiff_t stride, int width, int height, Bytes& first,
                  Bytes& second);

class H264Decoder {
 public:
  /// `hardware`: by the machine's graphics processor (VA-API) where it can, else in software.
  explicit H264Decoder(bool hardware = false);
  ~H264Decoder();
  /// Feeds an Annex B access unit; every picture it completes is written to `target` (clipped, never scaled).
  /// Broken data throws Error{ProtocolBroken}. Returns whether a picture came out.
  bool decode(ByteView accessUnit, Framebuffer& picture, const Rect& target);

  /// The same without conversion: the newest picture that the data completes, if any.
  std::optional<Yuv420> decodePlanes(ByteView accessUnit);
  /// False in software. Whether the processor knows the stream's profile shows with its first picture: true
  /// until then wherever there is such a processor.
  [[nodiscard]] bool byHardware() const;

 private:
  void feed(ByteView accessUnit);
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kw

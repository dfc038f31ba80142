// Surface commands (MS-RDPBCGR 2.2.9.2): pictures in RemoteFX, NSCodec or as they are, between marks of
// frames.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <string>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/codec/remote_fx.hpp"

namespace kw::rdp {

/// The numbers this program gives to the codecs when it says what it knows (2.2.7.2.10.1.1 codecID).
constexpr unsigned kNsCodecId = 1, kRemoteFxId = 3;

class SurfaceCommands {
 public:
  /// `frameEnded` is told the frame's number, to be acknowledged.
  SurfaceCommands(std::shared_ptr<Framebuffer> picture, std::function<void(std::uint32_t)> frameEnded)
      : picture_(std::move(picture)), frameEnded_(std::move(frameEnded)) {}
  /// A surface commands update; gives what it touched. Throws Error{ProtocolBroken}.
  Region take(ByteView commands);
  [[nodiscard]] const std::map<std::string, std::uint64_t>& forms() const { return forms_; }

 private:
  void bits(LittleReader& in, Region& damage);
  void draw(unsigned codec, unsigned bitsPerPixel, const Rect& to, ByteView data, Region& damage);
  std::shared_ptr<Framebuffer> picture_;
  std::function<void(std::uint32_t)> frameEnded_;
  RemoteFxDecoder remoteFx_;
  std::vector<Pixel> pixels_;
  std::map<std::string, std::uint64_t> forms_;
};

/// One picture as a server sends it, between the marks of a frame.
Bytes writeSurfaceBits(const Rect& to, unsigned codec, ByteView data, std::uint32_t frame);

}  // namespace kw::rdp

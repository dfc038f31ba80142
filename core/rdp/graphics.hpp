// The graphics pipeline of a client (MS-RDPEGFX): surfaces that the service draws on in several codecs, parts
// of them remembered, and which of them lie where on the desktop. One dynamic channel carries it.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <string>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/codec/avc.hpp"
#include "rdp/codec/clear_codec.hpp"
#include "rdp/codec/progressive.hpp"
#include "rdp/codec/remote_fx.hpp"
#include "rdp/codec/zgfx.hpp"

namespace kw::rdp {

constexpr const char* kGraphicsChannel = "Microsoft::Windows::RDS::Graphics";

/// 2.2.1.6 RDPGFX_HEADER cmdId
namespace graphics {
constexpr unsigned kWireToSurface1 = 0x01, kWireToSurface2 = 0x02, kDeleteContext = 0x03, kSolidFill = 0x04,
                   kSurfaceToSurface = 0x05, kSurfaceToCache = 0x06, kCacheToSurface = 0x07, kEvict = 0x08,
                   kCreateSurface = 0x09, kDeleteSurface = 0x0a, kStartFrame = 0x0b, kEndFrame = 0x0c,
                   kAcknowledge = 0x0d, kReset = 0x0e, kMapToOutput = 0x0f, kCacheImportReply = 0x11,
                   kAdvertise = 0x12, kConfirm = 0x13, kMapToScaled = 0x17;
/// 2.2.2.1 codecId
constexpr unsigned kRaw = 0x0, kRemoteFx = 0x3, kClear = 0x8, kProgressive = 0x9, kPlanar = 0xa,
                   kAvc420 = 0xb, kAlpha = 0xc, kProgressive2 = 0xd, kAvc444 = 0xe, kAvc444v2 = 0xf;
}  // namespace graphics

/// A message's head and body; how a server writes them, before compression.
Bytes writeGraphics(unsigned command, ByteView body);

class Graphics {
 public:
  struct Events {
    std::function<void(Bytes)> send;  ///< a message for the channel
    /// The picture has this size now, and these monitors (none: one).
    std::function<void(Size, std::vector<Rect>)> resized;
    std::function<void(const Region&)> damaged;   ///< a frame is shown
    std::function<void()> decodesItself = [] {};  ///< in software, although hardware was wished
  };
  enum class Video { None, Software, Hardware };
  /// Without video H.264 is not offered.
  Graphics(std::shared_ptr<Framebuffer> picture, Events events, Video video = Video::Software);

  /// The channel is open: tells what we can.
  void opened();
  /// A message of the channel, compressed as it came. Throws Error{ProtocolBroken}.
  void take(ByteView message);
  void closed();
  [[nodiscard]] std::uint64_t frames() const { return frames_; }
  /// How many pictures came in each codec, by its name.
  [[nodiscard]] const std::map<std::string, std::uint64_t>& forms() const { return forms_; }

 private:
  struct Surface {
    Framebuffer picture;
    bool shown = false;
    Point origin;
    Size scaledTo;  ///< empty: as it is
    Region damage;
    std::map<std::uint32_t, ProgressiveDecoder> contexts;
    std::unique_ptr<AvcDecoder> avc;
    bool softwareTold = false;
  };
  struct Kept {
    Size size;
    std::vector<Pixel> pixels;
  };
  void command(unsigned which, LittleReader& in);
  void confirm(LittleReader& in);
  void reset(LittleReader& in);
  void createSurface(LittleReader& in);
  void mapSurface(LittleReader& in, bool scaled);
  void wireToSurface1(LittleReader& in);
  void wireToSurface2(LittleReader& in);
  void solidFill(LittleReader& in);
  void surfaceToSurface(LittleReader& in);
  void surfaceToCache(LittleReader& in);
  void cacheToSurface(LittleReader& in);
  void forget(unsigned slot);
  void endFrame(LittleReader& in);
  void present(Surface& s, Region& shown);
  void putPixels(Surface& s, const Rect& to);
  Surface& surface(unsigned id);
  AvcDecoder& avcOf(Surface& s);
  void tellSoftware(Surface& s);
  void roomFor(std::int64_t area);

  std::shared_ptr<Framebuffer> picture_;
  Events events_;
  Video video_;
  ZgfxReader bulk_;
  std::map<unsigned, Surface> surfaces_;
  std::map<unsigned, Kept> kept_;
  std::int64_t keptArea_ = 0;
  ClearDecoder clear_;
  RemoteFxDecoder remoteFx_;
  std::vector<Pixel> pixels_;
  bool inFrame_ = false;
  std::uint32_t decoded_ = 0;
  std::uint64_t frames_ = 0;
  std::map<std::string, std::uint64_t> forms_;
};

}  // namespace kw::rdp

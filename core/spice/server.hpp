// The server side of SPICE for one channel's connection; a visit is several of them. Shows a shared
// Framebuffer with up to four screens as images or as an MJPEG stream; pointer, keys, the agent's
// clipboard and screens. Used by the lab and by tests. Everything runs on one strand.
#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/runtime.hpp"
#include "codec/jpeg.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "spice/channel.hpp"
#include "spice/cursor.hpp"
#include "spice/packing.hpp"

namespace kw::spice {

/// How a server packs its images.
enum class ImagePacking { Lz, Glz, ZlibGlz, Quic, Jpeg };

struct ServerOptions {
  std::string name = "machine";
  std::string password;  ///< the ticket; empty: none
  bool agent = true;
  bool stream = false;  ///< what changes goes as MJPEG
  unsigned mostScreens = 1;
  bool sound = false;  ///< lists a channel for it
  Bytes uuid{};        ///< 16 bytes, or none
  ImagePacking packing = ImagePacking::Lz;
};

class ServerEvents {
 public:
  virtual ~ServerEvents() = default;
  virtual void linked(ChannelKind) {}
  virtual void scanCode(std::uint32_t /*set 1, 0xe0xx*/, bool /*down*/) {}
  virtual void pointer(Point, unsigned /*buttons as in session.hpp*/) {}
  virtual void clipboard(const std::string&) {}
  /// Screens in their order, off ones empty.
  virtual void screensWanted(const std::vector<Rect>&) {}
};

class ServerChannel {
 public:
  ServerChannel(const Executor& strand, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
                ServerOptions options, ServerEvents& events);
  ~ServerChannel();
  /// Runs until the visitor leaves; always ends with an Error.
  Task<void> run(StreamPtr stream);
  void close();
  [[nodiscard]] std::optional<ChannelKind> kind() const { return kind_; }

  // Each means something for one kind of channel only.
  void damaged(const Region& region);
  void resized(const std::vector<Screen>& screens);
  void setPointer(const Pointer& pointer);
  void setClipboard(const std::string& utf8);
  void beginSound(int channels, int rate);
  /// Signed 16 bits, the channels in turn.
  void sound(ByteView samples);
  void endSound();
  /// What is sent from now on is Opus, or samples as they are.
  void packSound(bool opus);

 private:
  Task<void> answerLink();
  Task<void> readMessages();
  Task<void> writeMessages();
  void message(unsigned type, ByteView body);
  void beginDisplay();
  void sendScreens();
  void compose();
  /// The image's kind and what follows its head.
  std::pair<unsigned, Bytes> packed(const Rect& area);
  void sendImage(const Rect& area);
  void sendFrame(const Rect& area);
  void agentData(ByteView piece);
  void agentMessage(unsigned type, ByteView body);
  void sendAgent(unsigned type, ByteView body);
  void send(unsigned type, ByteView body);

  Executor strand_;
  std::shared_ptr<Framebuffer> picture_;
  std::vector<Screen> screens_;
  ServerOptions options_;
  ServerEvents& events_;
  StreamPtr stream_;
  std::unique_ptr<WireReader> in_;
  std::optional<ChannelKind> kind_;
  Signal work_;
  Bytes outgoing_, agentBytes_;
  Region damage_;
  JpegEncoder jpeg_;
  GlzWriter glz_;
  std::string clipboard_;
  Point at_;
  unsigned buttons_ = 0, motions_ = 0;
  bool shown_ = false, streaming_ = false, marked_ = false, closed_ = false;
};

}  // namespace kw::spice

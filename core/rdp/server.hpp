// The server side of RDP for one visitor: shows a shared Framebuffer, hands keys and pointer up. Network
// level authentication or plain TLS; bitmaps as planar or RLE; pointers, clipboard text, display control.
// Used by the lab and by tests. Everything runs on one strand.
#pragma once
#include <functional>
#include <memory>
#include <optional>

#include "base/runtime.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/channels.hpp"
#include "rdp/clipboard.hpp"
#include "rdp/credssp.hpp"
#include "rdp/mcs.hpp"
#include "rdp/pointer.hpp"
#include "rdp/share.hpp"
#include "rdp/standard_security.hpp"
#include "wire/tls.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rdp {

struct ServerOptions {
  std::string name = "machine";
  MadeCertificate certificate;
  bool network = true;  ///< offer network level authentication
  bool tls = false;     ///< offer TLS with a sign-in by the client info
  bool legacy = false;  ///< take clients of old RDP security
  /// The password of an account, or the status that it is refused with.
  std::function<CredSspAnswer(const NtlmAccount&)> account;
  bool allowResize = true;
};

class ServerEvents {
 public:
  virtual ~ServerEvents() = default;
  virtual void signedIn(const NtlmAccount&) {}
  virtual void scanCode(std::uint32_t /*set 1, 0xe0xx*/, bool /*down*/) {}
  virtual void character(char32_t, bool /*down*/) {}
  /// Buttons as in session.hpp.
  virtual void pointer(Point, unsigned /*buttons*/) {}
  virtual void clipboard(const std::string& /*utf8*/) {}
  /// True: the picture has the new size now (resized() was called).
  virtual bool sizeWanted(Size) { return false; }
};

class Server {
 public:
  Server(const Executor& strand, std::shared_ptr<Framebuffer> picture, ServerOptions options,
         ServerEvents& events);
  ~Server();
  /// Runs until the visitor leaves; always ends with an Error.
  Task<void> run(StreamPtr stream);
  void close();

  void damaged(const Region& region);
  /// The shared picture has a new size (already changed by the caller).
  void resized();
  void setCursor(Cursor cursor);
  void setClipboard(const std::string& utf8);
  void bell();
  /// Ends the session with a reason of 2.2.5.1.1.
  void endWith(std::uint32_t errorInfo);
  [[nodiscard]] bool live() const { return live_; }

 private:
  Task<Bytes> readPacket();
  Task<Bytes> readPayload();
  Task<void> negotiate();
  Task<void> joinChannels();
  Task<void> readMessages();
  Task<void> writeMessages();
  void ioMessage(ByteView payload);
  void takeInfo(ByteView body);
  void dataMessage(const DataHead& head);
  void fastInput(unsigned count, ByteView body);
  void slowInput(ByteView body);
  void mouse(unsigned flags, Point at);
  void demandActive();
  void composeUpdate();
  void tile(const Rect& area);
  void fast(unsigned code, ByteView body);
  void sendOn(unsigned channelId, ByteView body, unsigned securityFlags = 0);
  void sendChannel(const std::string& name, ByteView message);
  void dynamicMessage(ByteView message);
  void queue(Bytes packet);

  Executor strand_;
  std::shared_ptr<Framebuffer> picture_;
  ServerOptions options_;
  ServerEvents& events_;
  StreamPtr stream_;
  std::unique_ptr<WireReader> in_;
  std::uint32_t selected_ = protocol::kRdp;
  StandardSecurity security_;
  RsaPair legacyKey_;
  ClientCore client_;
  std::vector<StaticChannel> channels_;
  std::map<unsigned, ChunkReader> chunks_;
  Clipboard clipboard_;
  NtlmAccount account_;
  Signal work_;
  Bytes outgoing_;
  Region damage_;
  std::optional<Cursor> cursor_;
  std::optional<Size> wantedSize_;
  Point at_;
  unsigned buttons_ = 0;
  std::uint32_t shareId_ = 0x103ea;
  bool informed_ = false, live_ = false, closed_ = false, suppressed_ = false, displayOpen_ = false,
       ending_ = false;
  bool reactivating_ = false;  ///< between the end of a share and the client's being ready for the next
};

}  // namespace kw::rdp

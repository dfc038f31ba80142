// The server side of RDP for one visitor: shows a shared Framebuffer, hands keys and pointer up. Network
// level authentication or plain TLS; bitmaps as planar or RLE, surface commands, or the graphics pipeline;
// pointers, clipboard text, display control with several monitors, sound. Used by the lab and by tests.
// Everything runs on one strand.
#pragma once
#include <chrono>
#include <functional>
#include <memory>
#include <optional>

#include "base/runtime.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/auto_detect.hpp"
#include "rdp/channels.hpp"
#include "rdp/clipboard.hpp"
#include "rdp/codec/wide_history.hpp"
#include "rdp/coming_back.hpp"
#include "rdp/credssp.hpp"
#include "rdp/graphics_service.hpp"
#include "rdp/mcs.hpp"
#include "rdp/pointer.hpp"
#include "rdp/redirection.hpp"
#include "rdp/share.hpp"
#include "rdp/sound.hpp"
#include "rdp/standard_security.hpp"
#include "wire/tls.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rdp {

/// How pictures go to visitors that have no pipeline, or are not offered it.
enum class PlainForm { Bitmaps, RemoteFx, NsCodec };

struct ServerOptions {
  std::string name = "machine";
  MadeCertificate certificate;
  bool network = true;  ///< offer network level authentication
  bool tls = false;     ///< offer TLS with a sign-in by the client info
  bool legacy = false;  ///< take clients of old RDP security
  bool fips = false;    ///< with the ciphers of FIPS
  /// The password of an account, or the status that it is refused with.
  AccountBook account;
  /// How a network sign-in is checked; null: NTLM with these accounts.
  std::function<std::unique_ptr<ProofCheck>()> check;
  bool allowResize = true;
  int mostMonitors = 1;
  PlainForm plain = PlainForm::Bitmaps;
  std::optional<PipelineForm> pipeline;     ///< for visitors that have it
  std::vector<SoundForm> sound;             ///< forms offered; none: no sound
  bool compress = false;                    ///< messages, for visitors that can
  std::shared_ptr<ComeBackBook> comeBacks;  ///< shared by the service's connections; null: none are kept
  /// Asked once a visitor has signed in: where it is to go instead.
  std::function<std::optional<Redirection>(const NtlmAccount&)> redirect;
};

class ServerEvents {
 public:
  virtual ~ServerEvents() = default;
  virtual void signedIn(const NtlmAccount&) {}
  /// What the visitor wants of a new session: program, folder, sound.
  virtual void informed(const ClientInfo&) {}
  /// In place of a sign-in: a session of before a cut goes on.
  virtual void cameBack(const NtlmAccount&) {}
  virtual void scanCode(std::uint32_t /*set 1, 0xe0xx*/, bool /*down*/) {}
  virtual void character(char32_t, bool /*down*/) {}
  /// Buttons as in session.hpp.
  virtual void pointer(Point, unsigned /*buttons*/) {}
  virtual void clipCame(std::shared_ptr<Clip>) {}
  /// True: the picture has the new size now (resized() was called). More than one: from the primary on.
  virtual bool layoutWanted(const std::vector<Rect>&) { return false; }
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
  void resized(std::vector<Rect> monitors = {});
  /// Samples in the form that was offered first.
  void playSound(ByteView samples);
  /// 2.2.16.1: a sign of life, promised every `period` seconds; silent for `missed` of them, we are gone.
  void heartbeat(unsigned period, unsigned missed);
  void setCursor(Cursor cursor);
  void offerClip(std::shared_ptr<Clip> clip);
  void bell();
  /// Ends the session with a reason of 2.2.5.1.1.
  void endWith(std::uint32_t errorInfo);
  [[nodiscard]] bool live() const { return live_; }

 private:
  static constexpr unsigned kUser = 1007, kIo = 1003, kMessages = 1004, kFirstChannel = 1008;  ///< T.125 ids
  Task<Bytes> readPacket();
  Task<Bytes> readPayload();
  Task<void> negotiate();
  Task<void> joinChannels();
  Task<void> readMessages();
  Task<void> writeMessages();
  void ioMessage(ByteView payload);
  void takeInfo(ByteView body);
  bool comesBack(ByteView proof);
  void tellComingBack();
  void dataMessage(const DataHead& head);
  void fastInput(unsigned count, ByteView body);
  void slowInput(ByteView body);
  void mouse(unsigned flags, Point at);
  void demandActive();
  void composeUpdate();
  void tile(const Rect& area);
  BulkWriter::Packed pack(ByteView data);
  void fast(unsigned code, ByteView body);
  void sendOn(unsigned channelId, ByteView body, unsigned securityFlags = 0);
  void sendChannel(const std::string& name, ByteView message);
  void openDynamic();
  [[nodiscard]] bool hasPictureToSend() const;
  void sendLine(ByteView body, unsigned flags);
  void layoutMessage(ByteView message);
  void lineMessage(ByteView payload);
  void surfaceTile(const Rect& area);
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
  DynamicChannels dynamic_;
  std::optional<GraphicsService> graphics_;
  std::vector<Rect> monitors_;
  unsigned messageChannel_ = 0;
  unsigned waves_ = 0;
  bool soundAgreed_ = false;
  std::uint32_t surfaceFrames_ = 0;
  std::optional<BulkWriter> bulk_;
  std::optional<WideWriter> wideBulk_;
  Bytes clientRandom_;  ///< of standard security
  bool cameBack_ = false, lostSession_ = false;
  std::chrono::steady_clock::time_point asked_;
  NtlmAccount account_;
  Signal work_;
  Bytes outgoing_;
  Region damage_;
  std::optional<Cursor> cursor_;
  Point at_;
  unsigned buttons_ = 0;
  std::uint32_t shareId_ = 0x103ea;
  bool informed_ = false, live_ = false, closed_ = false, suppressed_ = false, ending_ = false;
  bool reactivating_ = false;  ///< between the end of a share and the client's being ready for the next
};

}  // namespace kw::rdp

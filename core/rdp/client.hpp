// The client side of RDP: runs over any ByteStream, decodes into a shared Framebuffer, tells what happens
// through ClientEvents. Everything is called on one strand. MS-RDPBCGR 1.3.1.1 has the order of the
// connection.
#pragma once
#include <functional>
#include <map>
#include <memory>
#include <optional>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "credential/sign_in.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/auto_detect.hpp"
#include "rdp/channels.hpp"
#include "rdp/clipboard.hpp"
#include "rdp/codec/bulk.hpp"
#include "rdp/coming_back.hpp"
#include "rdp/graphics.hpp"
#include "rdp/input.hpp"
#include "rdp/licensing.hpp"
#include "rdp/mcs.hpp"
#include "rdp/orders.hpp"
#include "rdp/picture_updates.hpp"
#include "rdp/pointer.hpp"
#include "rdp/proof.hpp"
#include "rdp/redirection.hpp"
#include "rdp/share.hpp"
#include "rdp/sound.hpp"
#include "rdp/surface_commands.hpp"
#include "wire/tls.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rdp {

/// How pictures may come.
struct CodecOffer {
  bool pipeline = true;                    ///< the graphics pipeline, where the service has it
  bool video = true;                       ///< H.264 in it
  bool hardware = false;                   ///< decoded by the graphics processor where it can
  bool remoteFx = false, nsCodec = false;  ///< in surface commands
  bool orders = false;                     ///< drawing orders beside bitmaps
};

/// How a password is proved in a network sign-in.
enum class ProofKind {
  Fitting,   ///< Kerberos where the account's realm is known here and the service has a name, else NTLM
  Kerberos,  ///< nothing else
  Ntlm,
};

enum class SignInKind { Strongest, Network, Tls, Legacy };

struct ClientOptions {
  std::string host;  ///< checked against the certificate
  std::string user, domain;
  std::string clientName = "kettle";
  SignInKind signIn = SignInKind::Strongest;
  ProofKind proof = ProofKind::Fitting;
  bool sealedOnly = false;  ///< refuse standard RDP security
  std::string authorityFile;
  Size size{1280, 800};
  int colours = 32, scale = 100;
  std::uint32_t keyboardLayout = 0x409;
  std::uint32_t performanceFlags = 0;
  bool administrative = false, clipboard = true, positions = true, sound = false;
  bool soundThere = false;                       ///< the machine plays it for whoever sits before it
  std::string program, folder;                   ///< started instead of the desktop; empty: the desktop
  std::optional<unsigned> packing = bulk::k64K;  ///< of whole messages
  CodecOffer codecs;
  std::string machineId;                   ///< of a host's console, sent before anything else (MS-RDPEPS)
  std::string routingToken;                ///< load-balance info
  std::optional<ComeBackCookie> comeBack;  ///< to the session of before a cut
};

struct SignInRequest {
  SecretUse use = SecretUse::Unknown;
  std::string user;
  /// True: without an answer the service shows its own sign-in page. False: nothing goes on without one.
  bool canBeLeftOut = false;
};

/// What the negotiation came to.
struct Agreed {
  std::string security;  ///< "network level authentication (CredSSP 6)"
  bool sealed = false;
};

struct ClientFigures {
  std::uint64_t bytesIn = 0, bytesOut = 0, frames = 0;
  std::map<std::string, std::uint64_t> rectanglesByForm;
  std::chrono::nanoseconds keyToPicture{};
  std::uint64_t soundBytes = 0;
  LineFigures line;  ///< as the service measured it
};

class ClientEvents {
 public:
  virtual ~ClientEvents() = default;
  /// Nothing: left out.
  virtual Task<std::optional<SignIn>> signIn(SignInRequest request) = 0;
  virtual Task<bool> trust(PeerCertificate certificate) = 0;
  virtual Task<bool> plain(std::string method) = 0;
  /// The session is there; the picture follows.
  virtual void opened(const Agreed& agreed) = 0;
  /// `monitors` lie in the picture; the first is the primary one.
  virtual void pictureResized(Size size, const std::vector<Rect>& monitors) = 0;
  virtual void damaged(const Region& region) = 0;
  virtual void cursorChanged(const Cursor& cursor) = 0;
  virtual void pointerMoved(Point) {}
  virtual void bell() {}
  virtual void lockKeys(unsigned /*scroll 1, num 2, caps 4*/) {}
  virtual void clipCame(std::shared_ptr<Clip>) {}
  /// How many monitors the desktop can have and be resized to from here; 0: it stays as it is.
  virtual void resizable(int /*mostMonitors*/) {}
  virtual void soundBegins(SampleForm) {}
  virtual void sound(ByteView /*signed 16 bits*/) {}
  virtual void soundEnds() {}
  /// What options.comeBack may hold on the next connection to this service; a secret.
  virtual void canComeBack(const ComeBackCookie&) {}
  /// The service says something a person should know.
  virtual void told(const std::string& /*sentence*/) {}
};

class Client {
 public:
  Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
         ClientOptions options, ClientEvents& events);
  ~Client();

  /// Makes a connection to the service.
  using Dial = std::function<Task<StreamPtr>()>;
  /// Runs until the session ends; always ends with an Error (Cancelled after close(), SentElsewhere when the
  /// session goes on with another service).
  Task<void> run(Dial dial);
  void close();

  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down);
  void pointer(Point at, unsigned buttons);
  void offerClip(std::shared_ptr<Clip> clip);
  void requestSize(Size size);
  /// The primary monitor first.
  void requestLayout(std::vector<Rect> monitors);
  void refresh();
  void pauseUpdates(bool paused);
  void wantSound(bool on);

  [[nodiscard]] const ClientFigures& figures();

 private:
  // connecting (client_connect.cpp)
  Task<void> connect(Dial& dial);
  Task<void> negotiate(std::uint32_t protocols);
  Task<void> sealStream();
  Task<void> signIn();
  Task<void> proveAccount();
  Task<Bytes> beginProof(const NtlmAccount& account);
  Task<void> joinChannels();
  Task<Bytes> readPacket();
  Task<Bytes> readPayload();
  Task<void> exchangeKeys(const ServerCore& core);
  void sendClientInfo();

  // running (client.cpp)
  Task<void> readMessages();
  Task<void> writeMessages();
  void slowPath(ByteView packet);
  void ioMessage(ByteView payload);
  void lineMessage(ByteView payload);
  Task<void> watchHeartbeat();
  void shareMessage(ByteView bytes);
  void redirected(ByteView packet);
  void dataMessage(DataHead head);
  void slowUpdate(ByteView body);
  void slowPointer(ByteView body);
  void demandActive(ByteView body);
  void sessionInfo(ByteView body);
  void channelMessage(unsigned id, ByteView chunk);
  void fastPath(ByteView head, ByteView body);
  void fastUpdate(unsigned code, ByteView body);
  void pointerUpdate(unsigned code, ByteView body);
  void bitmapUpdate(ByteView body);
  ByteView withoutSecurity(ByteView payload, unsigned& flags);
  void surfaceCommands(ByteView body);
  void drawOrders(ByteView orders, unsigned count);
  void shown(const Region& damage);
  void openDisplayControl();
  void openGraphics();
  void tellSoftware();
  void openSound();
  void sendLayout();
  void monitorLayout(ByteView body);
  void pictureHas(Size size, std::vector<Rect> monitors);

  // sending
  void queue(Bytes packet);
  void sendOn(unsigned channelId, ByteView body, unsigned securityFlags = 0, bool always = false);
  void sendChannel(const std::string& name, ByteView message);
  void flushInput();

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  std::shared_ptr<Framebuffer> picture_;
  ClientOptions options_;
  ClientEvents& events_;
  StreamPtr stream_;
  std::unique_ptr<WireReader> in_;
  std::string peer_;

  std::uint32_t selected_ = protocol::kRdp;
  Bytes serverPublicKey_;
  Agreed agreed_;
  std::optional<SignIn> account_;
  StandardSecurity security_;
  bool legacy_ = false;  ///< security headers on everything
  Licensing licensing_;
  unsigned user_ = 0, ioChannel_ = 0, messageChannel_ = 0;
  std::vector<StaticChannel> channels_;
  std::map<unsigned, ChunkReader> chunks_;
  std::uint32_t shareId_ = 0;
  DemandActive server_;

  PictureUpdates updates_;
  Orders orders_;
  SurfaceCommands surfaces_;
  std::unique_ptr<Graphics> graphics_;
  bool toldSoftware_ = false;  ///< while its channel is open
  std::unique_ptr<SoundReader> sound_;
  std::map<std::string, std::uint64_t> formsBefore_;  ///< of pipelines that are closed
  std::map<unsigned, Cursor> cursors_;
  BulkReader bulk_;
  Bytes fragments_;
  unsigned fragmentCode_ = 0;
  bool inFragments_ = false;
  Clipboard clipboard_;
  DynamicChannels dynamic_;
  AutoDetect autoDetect_;
  /// How long the service may be silent after it promised signs of life; 0: it promised none.
  std::chrono::seconds mostSilence_{};
  InputEvents input_;
  PointerButtons buttons_;
  std::optional<TimePoint> keySent_;
  ClientFigures figures_;
  Bytes outgoing_;
  Signal outgoingSignal_;
  std::vector<Rect> wantedLayout_;  ///< empty: none is wanted
  std::vector<Rect> monitors_;
  std::uint32_t errorInfo_ = 0;
  std::shared_ptr<Proof> proof_;  ///< while an account is proved
  Bytes clientRandom_;            ///< of standard security
  bool live_ = false, closed_ = false, paused_ = false, displayControl_ = false, finalized_ = false;
};

}  // namespace kw::rdp

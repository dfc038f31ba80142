// The client side of RFB: runs over any ByteStream, decodes into a shared Framebuffer, tells what happens
// through ClientEvents. Everything is called on one strand.
#pragma once
#include <chrono>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rfb/handshake.hpp"
#include "rfb/rect_decoder.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

/// A pointer picture; pixels are 0xAARRGGBB, premultiplied.
struct Cursor {
  Size size;
  Point hotspot;
  std::vector<Pixel> pixels;
};

enum class PowerAction : std::uint8_t { ShutDown = 2, Reboot = 3, Reset = 4 };  // xvp, registry

/// The sample forms of the audio extension; we always ask for signed 16-bit, two channels, 44100 Hz.
struct AudioForm {
  int channels = 2;
  int rate = 44100;
};

struct ClientOptions {
  std::string host;  ///< for certificates
  SecurityPolicy security;
  bool shared = true;
  PixelFormat format = PixelFormat::native();
  std::vector<std::int32_t> encodings;  ///< in order of preference; empty: the usual order
  int quality = 8;                      ///< 0..9, or -1 for none announced (lossless Tight)
  int compression = 2;                  ///< 0..9
  bool audio = false;
  bool clipboard = true;
  bool continuousUpdates = true;
};

/// What the peer has shown it can do.
struct PeerAbilities {
  bool resize = false, fence = false, continuousUpdates = false, extendedKeys = false,
       extendedClipboard = false, power = false, audio = false, relativePointer = false, ledState = false;
};

struct ClientFigures {
  std::uint64_t bytesIn = 0, bytesOut = 0, frames = 0, rectangles = 0;
  std::map<std::int32_t, std::uint64_t> rectanglesByEncoding;
  std::chrono::nanoseconds keyToPicture{};  ///< of the last key that changed the picture; 0 when unknown
};

/// The pixel format for so many bits: 8, 15 or 16 (both as 5-6-5), 24 or 32 (both as the native form).
PixelFormat formatOfColours(int bits);

class ClientEvents : public HandshakeQuestions {
 public:
  virtual void opened(const std::string& name, const std::string& security, bool sealed) = 0;
  virtual void pictureResized(Size size, const std::vector<Screen>& screens) = 0;
  /// After every update of the picture, once all of its rectangles are in.
  virtual void damaged(const Region& region) = 0;
  virtual void cursorChanged(const Cursor&) {}
  virtual void pointerMoved(Point) {}
  virtual void pointerRelative(bool) {}
  virtual void bell() {}
  virtual void nameChanged(const std::string&) {}
  /// Bits: scroll lock 1, num lock 2, caps lock 4.
  virtual void ledState(unsigned) {}
  virtual void clipboardText(const std::string& /*utf8*/) {}
  virtual void audioBegins(AudioForm) {}
  virtual void audioEnds() {}
  virtual void audioData(ByteView) {}
  virtual void abilitiesChanged(const PeerAbilities&) {}
  /// The peer refused a new picture size; the sentence says why.
  virtual void resizeRefused(const std::string&) {}
  virtual void powerRefused() {}
};

class Client {
 public:
  Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
         ClientOptions options, ClientEvents& events);
  ~Client();

  /// Runs until the session ends; always ends with an Error (ErrorKind::Cancelled after close()).
  Task<void> run(StreamPtr stream);
  void close();

  // Input. `keysym` is an X11 keysym, `scanCode` a PC set-1 code (0xe0xx for extended keys), 0 when unknown.
  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down);
  /// `buttons`: bit 0 left, 1 middle, 2 right, 3 and 4 wheel up and down, 5 and 6 wheel left and right.
  void pointer(Point at, unsigned buttons);
  void pointerBy(int dx, int dy, unsigned buttons);
  void offerClipboard(std::string utf8);
  void requestSize(Size size, std::vector<Screen> screens = {});
  void power(PowerAction action);
  void setAudio(bool on);
  void setFormat(const PixelFormat& format);
  void setQuality(int quality, int compression);
  void setEncodings(std::vector<std::int32_t> encodings);
  /// Asks for the whole picture anew.
  void refresh();
  /// Stops asking for updates while nobody looks, and starts again.
  void pauseUpdates(bool paused);

  [[nodiscard]] const ClientFigures& figures();
  [[nodiscard]] const PeerAbilities& abilities() const { return abilities_; }
  [[nodiscard]] const std::vector<Screen>& screens() const { return screens_; }

 private:
  Task<void> readMessages();
  Task<void> writeMessages();
  Task<void> framebufferUpdate();
  Task<bool> rectangle(Region& damage);
  Task<bool> pseudoRectangle(std::int32_t encoding, Rect header);
  Task<void> colourMap();
  Task<void> serverCutText();
  void extendedClipboard(ByteView body);
  void sendClipboardCaps();
  void provideClipboard();
  void sendExtendedClipboard(std::uint32_t flags, ByteView body);
  Task<void> fenceMessage();
  Task<void> xvpMessage();
  Task<void> qemuMessage();
  Task<void> cursorRectangle(Rect header);
  Task<void> xCursorRectangle(Rect header);
  Task<void> alphaCursorRectangle(Rect header);
  Task<void> extendedDesktopSize(Rect header);
  void resizePicture(Size size, std::vector<Screen> screens);
  void sendEncodings();
  void sendPixelFormat(const PixelFormat& format);
  void requestUpdate(bool incremental);
  void askForNext();
  void enableContinuous(bool on);
  void applyPendingFormat();
  void sendFormatBehindFence(const PixelFormat& format);
  void takeFormat(const PixelFormat& format);
  void sendAudioFormat();
  void queue(ByteWriter message);
  void flushPointer();
  void noteKeySent();

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  std::shared_ptr<Framebuffer> picture_;
  ClientOptions options_;
  ClientEvents& events_;
  StreamPtr stream_;
  std::unique_ptr<WireReader> in_;
  RectDecoder decoder_;
  PeerAbilities abilities_;
  ClientFigures figures_;
  std::vector<Screen> screens_;
  std::optional<PixelFormat> pendingFormat_;
  std::deque<PixelFormat> fencedFormats_;  ///< sent behind a fence whose answer has not come yet
  std::optional<TimePoint> keySent_;
  Bytes outgoing_;
  Signal outgoingSignal_;
  struct PendingPointer {
    Point at;
    unsigned buttons;
  };
  std::optional<PendingPointer> pendingPointer_;
  unsigned lastButtons_ = 0;
  std::string clipboard_;
  std::uint32_t peerClipboardActions_ = 0;
  std::uint8_t xvpVersion_ = 1;
  bool live_ = false, closed_ = false, continuous_ = false, paused_ = false, updateAsked_ = false,
       relative_ = false;
  bool fullUpdateDue_ = false;
};

}  // namespace kw::rfb

// The server side of RFB for one visitor: shows a shared Framebuffer, hands keys and pointer up.
// Used by the lab and by tests. Everything runs on one strand.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "base/runtime.hpp"
#include "picture/region.hpp"
#include "rfb/client.hpp"
#include "rfb/encoders.hpp"
#include "wire/tls.hpp"
#include "wire/wire_reader.hpp"

namespace kw::rfb {

struct ServerOptions {
  std::string name = "machine";
  int minorVersion = 8;                        ///< 3, 7 or 8
  std::string password;                        ///< empty: no password
  std::string user;                            ///< with VeNCrypt Plain kinds or RSA-AES
  std::optional<MadeCertificate> certificate;  ///< VeNCrypt X509
  bool anonymousTls = false;                   ///< VeNCrypt TLS*
  bool plainSignIn = false;                    ///< the Plain sub-types instead of Vnc
  int rsaAesBits = 0;                          ///< 128 or 256: RSA-AES
  bool rsaAesSealAll = true;
  bool allowResize = true, continuousUpdates = true, extendedClipboard = true, power = false;
};

/// Screens of a picture; the picture's size is their common bounds.
struct ServerScreens {
  Size size;
  std::vector<Screen> screens;
};

class ServerEvents {
 public:
  virtual ~ServerEvents() = default;
  virtual void signedIn(bool /*shared*/) {}
  virtual void key(std::uint32_t /*keysym*/, std::uint32_t /*scanCode*/, bool /*down*/) {}
  virtual void pointer(Point, unsigned /*buttons*/) {}
  virtual void clipboard(const std::string& /*utf8*/) {}
  /// 0 takes the new layout (and must then show it), else a status of ExtendedDesktopSize (1 prohibited, …).
  virtual int layoutWanted(Size, const std::vector<Screen>&) { return 1; }
  virtual bool power(PowerAction) { return false; }
};

class Server {
 public:
  Server(const Executor& strand, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
         ServerOptions options, ServerEvents& events);
  ~Server();
  /// Runs until the visitor leaves; always ends with an Error.
  Task<void> run(StreamPtr stream);
  void close();

  void damaged(const Region& region);
  /// The shared picture has a new size or arrangement (already changed by the caller).
  void resized(std::vector<Screen> screens);
  void setCursor(Cursor cursor);
  void bell();
  void setName(const std::string& name);
  void setClipboard(const std::string& utf8);
  void setLeds(unsigned bits);
  [[nodiscard]] bool live() const { return live_; }
  /// To be called now and then: a viewer to whom nothing was shown since the last call costs less memory from
  /// now on.
  void restIfQuiet();

 private:
  Task<void> signInVisitor();
  Task<void> signInLegacy();
  Task<void> veNCrypt();
  Task<void> checkVncPassword();
  Task<void> checkPlain();
  Task<void> finishSecurity(bool good, const std::string& reason);
  Task<void> readMessages();
  Task<void> writeMessages();
  Task<void> cutText();
  Task<void> desktopSizeWanted();
  Task<void> qemuMessage();
  Task<void> fenceMessage();
  void setEncodings(const std::vector<std::int32_t>& list);
  void composeUpdate(ByteWriter& out);
  int composePseudo(ByteWriter& out);
  void extendedClipboard(ByteView body);
  void sendClipboard(std::uint32_t flags, ByteView body);
  void queue(ByteWriter message);
  [[nodiscard]] bool wants(std::int32_t pseudo) const;

  Executor strand_;
  std::shared_ptr<Framebuffer> picture_;
  std::vector<Screen> screens_;
  ServerOptions options_;
  ServerEvents& events_;
  StreamPtr stream_;
  std::unique_ptr<WireReader> in_;
  RectEncoder encoder_;
  Signal work_;
  Bytes outgoing_;
  std::vector<std::int32_t> encodings_;
  std::int32_t pixelEncoding_ = 0;
  Region damage_;
  std::optional<Cursor> cursor_;
  std::string clipboard_;
  std::optional<std::string> newName_;
  std::optional<unsigned> newLeds_;
  struct SizeAnswer {
    int reason = 0, status = 0;
  };
  std::optional<SizeAnswer> sizeAnswer_;
  bool shownSinceRest_ = false;
  bool updateWanted_ = false, continuous_ = false, live_ = false, closed_ = false;
  bool holdUpdates_ = false;  ///< between a SyncNext fence and the message it speaks of
  bool cursorDirty_ = false, sizeDirty_ = false, saidExtendedKeys_ = false, saidContinuous_ = false,
       saidFence_ = false;
  bool saidXvp_ = false, clipboardCapsSent_ = false;
};

}  // namespace kw::rfb

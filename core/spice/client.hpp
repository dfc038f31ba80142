// The client side of SPICE: links every channel, puts all screens into one shared Framebuffer (each display's
// picture beside the one before), hands input down. Everything is called on one strand. Held by shared_ptr
// while it runs.
#pragma once
#include <functional>
#include <memory>
#include <optional>

#include "base/clock.hpp"
#include "base/secret.hpp"
#include "picture/framebuffer.hpp"
#include "spice/agent.hpp"
#include "spice/cursor.hpp"
#include "spice/display.hpp"
#include "spice/playback.hpp"

namespace kw::spice {

struct ClientOptions {
  Secret password;
  std::string compression;  ///< preferred: "off", "auto_glz", "quic", …; empty: the host's own
  bool sound = false, clipboard = true;
};

struct ScreenState {
  std::uint32_t id = 0;
  Rect area;  ///< in the whole picture; empty: off
  bool operator==(const ScreenState&) const = default;
};

struct Abilities {
  bool agent = false, clipboard = false, screens = false, relativePointer = false, sound = false;
  std::string name, uuid;
  std::vector<std::string> channels;  ///< by name, as linked
};

struct ClientFigures {
  std::uint64_t bytesIn = 0, bytesOut = 0, frames = 0;
  std::map<std::string, std::uint64_t> imagesByForm;
  std::chrono::nanoseconds keyToPicture{};
};

class ClientEvents {
 public:
  virtual ~ClientEvents() = default;
  virtual void opened() = 0;
  /// Screens that are on, with their places in the whole picture; all there can be, off ones with an empty
  /// area.
  virtual void pictureResized(Size size, const std::vector<ScreenState>& screens) = 0;
  virtual void damaged(const Region& region) = 0;
  virtual void pointerChanged(const Pointer& pointer) = 0;
  virtual void lockKeys(unsigned /*scroll 1, num 2, caps 4*/) {}
  virtual void clipboardText(const std::string&) {}
  virtual void abilitiesChanged(const Abilities&) {}
  virtual void soundBegins(int /*channels*/, int /*rate*/) {}
  virtual void sound(ByteView) {}
  virtual void soundEnds() {}
  virtual void told(const std::string& /*sentence*/) {}
};

class Client : public std::enable_shared_from_this<Client> {
 public:
  Client(const Executor& strand, std::shared_ptr<Clock> clock, std::shared_ptr<Framebuffer> picture,
         ClientOptions options, ClientEvents& events);
  ~Client();

  /// Makes one more connection to the host, sealed where that is wanted.
  using Dial = std::function<Task<StreamPtr>()>;
  /// Runs until the session ends; always ends with an Error (Cancelled after close()). `events` are not
  /// called any more afterwards.
  Task<void> run(Dial dial);
  void close();

  void key(std::uint32_t scanCode, bool down);
  /// In the whole picture; buttons as in session.hpp.
  void pointer(Point at, unsigned buttons);
  void pointerBy(int dx, int dy, unsigned buttons);
  void offerClipboard(const std::string& utf8);
  /// Every screen's place; those with an empty area are switched off.
  void arrange(const std::vector<ScreenState>& screens);
  void wantSound(bool on);
  [[nodiscard]] const std::vector<ScreenState>& screens() const { return screens_; }
  void refresh();
  [[nodiscard]] const Abilities& abilities() const { return abilities_; }
  [[nodiscard]] ClientFigures figures() const;

 private:
  struct DisplayLink;
  void mainMessage(unsigned type, ByteView body);
  void openChannels(LittleReader& in);
  Task<void> openChannel(ChannelKind kind, unsigned id);
  void inputsMessage(unsigned type, ByteView body);
  void cursorMessage(unsigned type, ByteView body);
  void failed(std::exception_ptr failure);
  void closeChannels();
  void layOut();
  void copyDamage(const DisplayLink& from, const Region& damage);
  void agentConnected(std::uint32_t tokens);
  void mouseMode(unsigned supported, unsigned now);
  void tellAbilities();
  void sendMotion();
  void sendButtons(unsigned buttons);

  Executor strand_;
  std::shared_ptr<Clock> clock_;
  std::shared_ptr<Framebuffer> picture_;
  ClientOptions options_;
  ClientEvents* events_;
  Dial dial_;
  std::shared_ptr<Channel> main_, inputs_, cursor_;
  std::vector<std::shared_ptr<Channel>> others_;
  std::map<unsigned, std::shared_ptr<DisplayLink>> displays_;
  Agent agent_;
  Playback playback_;
  Pointers pointers_;
  Abilities abilities_;
  std::vector<ScreenState> screens_;
  std::uint32_t sessionId_ = 0;
  Signal over_;
  std::exception_ptr failure_;
  unsigned mouseMode_ = kServerMouse, buttons_ = 0, unacknowledged_ = 0;
  std::optional<Point> motion_;
  int motionX_ = 0, motionY_ = 0;
  std::optional<TimePoint> keySent_;
  std::chrono::nanoseconds keyToPicture_{};
  std::uint64_t frames_ = 0;
  bool opened_ = false, closed_ = false;
};

}  // namespace kw::spice

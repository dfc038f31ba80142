// One shape for every engine. Commands may come from any thread and are run on the session's strand; events
// come out through SessionObserver, called on that strand. What a session cannot do, it says in Capabilities,
// with the reason, so that nobody asks which protocol this is.
#pragma once
#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clip.hpp"
#include "base/error.hpp"
#include "base/secret.hpp"
#include "base/task.hpp"
#include "line/line.hpp"
#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "session/policy.hpp"
#include "wire/tls.hpp"

namespace kw {

enum class SessionStage {
  Idle,        ///< not started
  Connecting,  ///< on the way to the peer
  SigningIn,   ///< the peer answers; security and sign-in
  Live,        ///< picture or text flows
  Waiting,     ///< lost or failed; tries again by itself
  Ended,       ///< over
};

struct SessionStatus {
  SessionStage stage = SessionStage::Idle;
  std::string sentence;                ///< what is going on, for the pane: "connecting to fernery port 5907"
  std::optional<ErrorKind> problem;    ///< set while Waiting or Ended after a failure
  std::string cure;                    ///< what a person can do
  int attempt = 0;                     ///< counts from 1
  std::chrono::nanoseconds nextTry{};  ///< while Waiting: the delay before the next attempt
};

struct Ability {
  bool can = false;
  std::string why;  ///< the reason when it cannot; a whole sentence
};

struct Capabilities {
  Ability pointer, keys, resize, clipboard, power, sound, screens, quality, colours, savePicture, files;
  Ability breakSignal, lineSettings, transfer;  ///< of text lines
};

struct Figures {
  double framesPerSecond = 0;
  double bytesInPerSecond = 0, bytesOutPerSecond = 0;
  std::uint64_t bytesIn = 0, bytesOut = 0, frames = 0;
  std::string encodings;  ///< what came in the last second, most used first: "Tight + CopyRect"
  std::chrono::nanoseconds keyToPicture{};  ///< 0 when unknown
  std::chrono::nanoseconds roundTrip{};     ///< as the peer measured it; 0 when unknown
  double lineBitsPerSecond = 0;             ///< the same
  std::uint64_t soundBytes = 0;             ///< decoded, in all
};

/// One jump on the way, as found.
struct HopFacts {
  std::string name;  ///< "duty@gatehouse"
  bool reached = false;
  std::string found;  ///< "signed in with the agent's key", "refused: nothing listens there"
};

/// The stretch from this desk to the peer, as found; the side shows it.
struct RouteFacts {
  std::string host, address;  ///< as written, and the numeric address that answered
  int port = 0;
  std::chrono::nanoseconds answersIn{};
  bool reached = false;
  bool sealed = false;
  std::string security;        ///< "VeNCrypt X509Vnc"
  std::string machineName;     ///< what the peer calls itself
  std::vector<HopFacts> hops;  ///< between this desk and the peer, nearest first
};

struct PointerShape {
  Size size;
  Point hotspot;
  std::vector<Pixel> pixels;  ///< 0xAARRGGBB premultiplied
};

struct Question {
  /// Text: an answer that may be seen. Unsealed: whether to go on over a plain line that was sealed before.
  enum class Kind { Password, UserAndPassword, Trust, Text, Unsealed };
  Kind kind = Kind::Password;
  std::string text;        ///< one sentence, says whom it concerns
  std::string hint;        ///< "only the first eight characters count"; may be empty
  std::string user;        ///< the name, when it is known already
  std::string account;     ///< whose account is meant: "An account of the host."; may be empty
  std::string credential;  ///< the named credential that a kept answer goes into; empty: the way in's own
  bool again = false;      ///< the last answer was wrong
  std::string refused;     ///< what the peer said to it: "the password has expired"
  PeerCertificate certificate;  ///< for Trust
  std::string pinned;           ///< for Trust: the fingerprint trusted before; empty when new
};
struct Answer {
  bool accepted = false;
  std::string user;
  Secret password;
  bool remember = false;
};

/// Whoever answers questions: a session asks the person in front of its pane.
class Asker {
 public:
  virtual ~Asker() = default;
  virtual Task<Answer> ask(Question question) = 0;
  /// Says what goes on, in a few words: "signing in on gatehouse".
  virtual void doing(const std::string& what) = 0;
};

struct SoundForm {
  int channels = 2, rate = 44100;  ///< signed 16-bit samples, little endian
};

/// What a serial line looks like now.
struct LineFacts {
  std::string kind;      ///< "serial", "telnet"
  std::string settings;  ///< "9600 8N1"; empty when the line has none
  bool hasLamps = false;
  bool rts = false, dtr = false, cts = false, dsr = false, dcd = false, ri = false;
  /// What was received wrong since the line was opened; empty when the line does not count it.
  std::optional<LineErrors> errors;
  bool operator==(const LineFacts&) const = default;
};

/// A file on its way over a line of text, or a paced paste.
struct TransferFacts {
  std::string what;  ///< "sending valve.bin"; empty: none
  std::uint64_t done = 0, total = 0;
  bool finished = false;
  std::string outcome;  ///< when finished: "sent, 3 blocks twice", or what went wrong
  bool failed = false;
};

enum class PowerWish { ShutDown, Reboot, Reset };

/// A screen that a machine can show, on or off.
struct ScreenOffer {
  std::uint32_t id = 0;
  bool on = false;
  Rect area;  ///< where it lies in the picture, while on
  bool operator==(const ScreenOffer&) const = default;
};

/// Everything that may be told of a session; all on its strand.
class SessionObserver {
 public:
  virtual ~SessionObserver() = default;
  virtual void statusChanged(const SessionStatus&) {}
  virtual void routeChanged(const RouteFacts&) {}
  virtual void capabilitiesChanged(const Capabilities&) {}
  virtual void pictureResized(Size, const std::vector<Screen>&) {}
  /// Of sessions that can switch screens on and off: all there are.
  virtual void screensOffered(const std::vector<ScreenOffer>&) {}
  virtual void damaged(const Region&) {}
  virtual void pointerShapeChanged(const PointerShape&) {}
  virtual void pointerMoved(Point) {}
  virtual void pointerRelative(bool) {}
  virtual void lockKeysChanged(unsigned /*scroll 1, num 2, caps 4*/) {}
  virtual void bell() {}
  virtual void nameChanged(const std::string&) {}
  /// Text came, or the screen of text changed otherwise; at most once until textSeen() of the console is
  /// called.
  virtual void textChanged() {}
  /// The bytes themselves, as they came.
  virtual void textBytes(ByteView) {}
  virtual void lineChanged(const LineFacts&) {}
  virtual void transferChanged(const TransferFacts&) {}
  /// A watch word came up.
  virtual void watchWordSeen(const std::string& /*pattern*/, const std::string& /*line*/) {}
  virtual void clipboardText(const std::string& /*utf8*/) {}
  /// The same before anything of it was fetched, from engines that can wait. Whoever takes it so says false
  /// to wantsClipText(); for the others its text is fetched at once.
  virtual void clipOffered(std::shared_ptr<Clip>) {}
  [[nodiscard]] virtual bool wantsClipText() const { return true; }
  virtual void soundBegins(SoundForm) {}
  virtual void sound(ByteView) {}
  virtual void soundEnds() {}
  virtual void figuresChanged(const Figures&) {}
  /// A short remark that needs no answer: "the machine does not allow another size".
  virtual void remark(const std::string&) {}
  /// `reply` may be called once, from any thread. Not calling it leaves the session waiting.
  virtual void asked(const Question& question, std::function<void(Answer)> reply) {
    (void)question;
    reply({});
  }
};

class TextConsole;  // session/text_console.hpp

/// Commands come from any thread, never throw, and do nothing where the engine or the policy does not allow
/// them.
class Session {
 public:
  virtual ~Session() = default;
  /// Who comes while it runs is told how things stand.
  virtual void observe(std::shared_ptr<SessionObserver> observer) = 0;
  virtual void stopObserving(std::shared_ptr<SessionObserver> observer) = 0;
  virtual void start() = 0;
  /// Ends for good; SessionStage::Ended follows.
  virtual void end() = 0;
  /// While Waiting or Ended: tries again now.
  virtual void retry() = 0;
  virtual void setPolicy(Policy policy) = 0;
  /// Policy::onlyLook.
  virtual void setViewOnly(bool on) = 0;

  /// Null for a session of text.
  [[nodiscard]] virtual std::shared_ptr<Framebuffer> picture() const { return nullptr; }
  /// Null for a session of pictures.
  [[nodiscard]] virtual TextConsole* text() { return nullptr; }

  /// `keysym` is an X11 keysym, `scanCode` PC set 1 (0xe0xx for extended keys), 0 when unknown.
  virtual void key(std::uint32_t keysym, std::uint32_t scanCode, bool down) = 0;
  /// `buttons`: bit 0 left, 1 middle, 2 right, 3 and 4 wheel up and down, 5 and 6 wheel left and right, 7 and
  /// 8 the side buttons.
  virtual void pointer(Point at, unsigned buttons) = 0;
  virtual void pointerBy(int dx, int dy, unsigned buttons) = 0;
  /// What was copied here; an engine that can only have text fetches it at once.
  virtual void offerClip(std::shared_ptr<Clip> clip) = 0;
  void offerClipboard(std::string utf8) { offerClip(std::make_shared<TextClip>(std::move(utf8))); }
  virtual void requestSize(Size size) = 0;
  /// Switches a screen on (at the size, right of the others), or off when the size is empty.
  virtual void switchScreen(std::uint32_t id, Size size) = 0;
  /// Where the screens that are on shall lie.
  virtual void arrangeScreens(std::vector<ScreenOffer> plan) = 0;
  virtual void power(PowerWish wish) = 0;
  virtual void setSound(bool on) = 0;
  /// bits per pixel: 8, 16 or 32
  virtual void setColours(int bits) = 0;
  /// quality 0..9 or -1 for lossless, compression 0..9
  virtual void setQuality(int quality, int compression) = 0;
  virtual void refresh() = 0;
  /// Nobody looks: no updates are asked for.
  virtual void setPaused(bool paused) = 0;
};

/// Where fingerprints that somebody trusted are kept. Thread-safe.
class TrustStore {
 public:
  virtual ~TrustStore() = default;
  virtual std::optional<std::string> pinned(const std::string& peer) = 0;
  virtual void pin(const std::string& peer, const std::string& sha256) = 0;
};

/// Asks about a certificate that nobody vouches for, unless it is pinned; keeps the pin when told to.
Task<bool> trustCertificate(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer,
                            std::string label, PeerCertificate certificate);

/// What was sealed once is not continued in clear without a question: true when the line was never sealed, or
/// somebody says to go on. `method` is what the peer offers now: "VNC password".
Task<bool> goOnPlain(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer, std::string label,
                     std::string method);
/// The same for a line that is sealed while nobody proves who he is: asked when a certificate was pinned.
Task<bool> goOnUnproved(Asker& asker, std::shared_ptr<TrustStore> trust, std::string peer, std::string label,
                        std::string method);
/// Remembers that the line to this peer was sealed.
void noteSealed(const std::shared_ptr<TrustStore>& trust, const std::string& peer,
                const std::string& security);

/// Delays between attempts: the first, doubled each time, up to the longest.
struct ReconnectPolicy {
  bool enabled = true;
  std::chrono::nanoseconds first = std::chrono::seconds(1), longest = std::chrono::seconds(30);
  int mostAttempts = 0;  ///< 0: no limit
  [[nodiscard]] std::chrono::nanoseconds delay(int attempt) const;
};

}  // namespace kw

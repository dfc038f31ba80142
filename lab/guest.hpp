// One simulated machine: firmware, boot text, sign-in, a moving desktop; reacts to keys and pointer, reboots.
// Given a seed and a time it always shows the same.
#pragma once
#include <chrono>
#include <optional>
#include <string>
#include <vector>

#include "lab/canvas.hpp"
#include "picture/region.hpp"
#include "rfb/client.hpp"

namespace kw::lab {

enum class SceneKind {
  MistBench,
  TicketKiosk,
  AudioGuide,
  PropagationBench,
  SeedBank,
  HerbariumScan,
  BeeCamera
};
enum class Phase { Firmware, Boot, SignIn, Desktop };

struct GuestPlan {
  std::string name;
  SceneKind scene = SceneKind::PropagationBench;
  std::string guestUser = "duty", guestPassword;  ///< what its sign-in page takes
  std::uint32_t seed = 1;
  /// Passes the sign-in page by itself after this long; nothing: waits for a person.
  std::optional<std::chrono::milliseconds> signsInAlone = std::chrono::seconds(3);
  bool twoScreens = false;
  unsigned mostScreens = 1;  ///< that can be switched on
  int number = 1;            ///< of several alike
};

class Guest {
 public:
  using Time = std::chrono::milliseconds;  ///< since the lab's clock began

  Guest(GuestPlan plan, std::shared_ptr<Fonts> fonts);

  [[nodiscard]] const GuestPlan& plan() const { return plan_; }
  [[nodiscard]] std::shared_ptr<Framebuffer> picture() const { return picture_; }
  [[nodiscard]] const std::vector<Screen>& screens() const { return screens_; }
  [[nodiscard]] Phase phase() const { return phase_; }
  [[nodiscard]] static rfb::Cursor cursor();

  struct Change {
    Region damage;
    bool resized = false;
  };
  /// Moves the simulation to `now` and paints what changed.
  Change advance(Time now);
  /// Skips the wait: straight to the desktop (the lab's machines have been running for days).
  void alreadyRunning(Time now);

  void key(std::uint32_t keysym, bool down);
  void pointer(Point at, unsigned buttons);
  [[nodiscard]] Point pointerAt() const { return pointer_; }
  void reboot();
  /// Another desktop size; false when this guest cannot (text phases, several screens).
  bool resize(Size size);
  /// Other screens, side by side; off ones are empty. False when this guest has one only.
  bool arrange(const std::vector<Rect>& screens);
  void setClipboard(std::string text) { clipboard_ = std::move(text); }
  /// What its last copy put on its clipboard (Ctrl+C on the note field); empty when nothing is new.
  std::string takeCopied();

 private:
  void enter(Phase phase, Time now);
  [[nodiscard]] Size sizeFor(Phase phase) const;
  void paint(Canvas& canvas, Time now) const;
  void paintFirmware(Canvas& canvas, Time in) const;
  void paintBoot(Canvas& canvas, Time in) const;
  void paintSignIn(Canvas& canvas, Time now) const;
  void paintMistBench(Canvas& canvas, Time now) const;
  void paintHerbarium(Canvas& canvas, Time now) const;
  void paintBees(Canvas& canvas, Time now) const;
  void paintSeedBank(Canvas& canvas, Time now) const;
  void paintTicketKiosk(Canvas& canvas, Time now) const;
  void paintBench(Canvas& canvas, Time now) const;
  void paintNote(Canvas& canvas, const Rect& at, Time now) const;
  [[nodiscard]] int level(int zone, Time now) const;
  void typeInto(std::string& text, std::uint32_t keysym);

  GuestPlan plan_;
  std::shared_ptr<Fonts> fonts_;
  std::shared_ptr<Framebuffer> picture_;
  Framebuffer next_;
  std::vector<Screen> screens_;
  std::vector<Rect> arranged_;  ///< of guests whose screens can be switched
  Phase phase_ = Phase::Firmware;
  Time phaseSince_{0}, now_{0};
  Size desktopSize_{1280, 800};
  bool arrangementDirty_ = false;
  bool sizeDirty_ = true, rebootWanted_ = false;
  std::string user_, password_, note_, signInRemark_, clipboard_, copied_;
  bool inPassword_ = false, control_ = false, alt_ = false;
  Point pointer_;
  unsigned buttons_ = 0;
  std::vector<bool> valves_ = std::vector<bool>(3, true);
  int called_ = 0;
};

}  // namespace kw::lab

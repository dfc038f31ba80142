#include "lab/guest.hpp"

#include "rfb/constants.hpp"
#include "session/keys.hpp"

namespace kw::lab {

namespace {

constexpr auto kFirmwareFor = std::chrono::milliseconds(1500);
constexpr auto kBootFor = std::chrono::milliseconds(3000);
constexpr int kTile = 32;

/// The parts of `next` that differ from `shown`, in tiles; copies them over.
Region takeChanges(Framebuffer& shown, const Framebuffer& next) {
  Region damage;
  for (int y = 0; y < next.height(); y += kTile) {
    const int height = std::min(kTile, next.height() - y);
    Rect run;
    for (int x = 0; x < next.width(); x += kTile) {
      const int width = std::min(kTile, next.width() - x);
      bool differs = false;
      for (int i = 0; i < height && !differs; ++i)
        differs =
            std::memcmp(shown.row(y + i) + x, next.row(y + i) + x, static_cast<std::size_t>(width) * 4) != 0;
      if (differs) {
        for (int i = 0; i < height; ++i) std::copy_n(next.row(y + i) + x, width, shown.row(y + i) + x);
        run = run.united({x, y, width, height});
      } else if (!run.empty()) {
        damage.add(run);
        run = {};
      }
    }
    damage.add(run);
  }
  return damage;
}

}  // namespace

Guest::Guest(GuestPlan plan, std::shared_ptr<Fonts> fonts)
    : plan_(std::move(plan)),
      fonts_(std::move(fonts)),
      picture_(std::make_shared<Framebuffer>(Size{640, 400})) {
  if (plan_.scene == SceneKind::PropagationBench) desktopSize_ = {1024, 640};
  if (plan_.twoScreens) desktopSize_ = {2048, 768};
  if (plan_.scene == SceneKind::BeeCamera) desktopSize_ = {640, 480};
  if (plan_.mostScreens > 1) {
    if (plan_.scene == SceneKind::HerbariumScan) desktopSize_ = {1024, 768};
    arranged_ = {Rect{0, 0, desktopSize_.width, desktopSize_.height}};
  }
  screens_ = {{0, picture_->rect(), 0}};
}

rfb::Cursor Guest::cursor() {
  // A small leaf-shaped arrow, drawn here: outline dark, inside light.
  static constexpr const char* shape[] = {"#...........", "##..........", "#o#.........", "#oo#........",
                                          "#ooo#.......", "#oooo#......", "#ooooo#.....", "#oooooo#....",
                                          "#ooooooo#...", "#oooooooo#..", "#ooooo#####.", "#oo##oo#....",
                                          "#o#..#oo#...", "##...#oo#...", "......#oo#..", "......####.."};
  rfb::Cursor cursor;
  cursor.size = {12, 16};
  for (const char* row : shape)
    for (int x = 0; x < 12; ++x)
      cursor.pixels.push_back(row[x] == '#' ? 0xff1b1f23U : row[x] == 'o' ? 0xfff4f1eaU : 0U);
  return cursor;
}

Size Guest::sizeFor(Phase phase) const {
  switch (phase) {
    case Phase::Firmware: return {640, 400};
    case Phase::Boot: return {720, 400};
    default: return desktopSize_;
  }
}

void Guest::enter(Phase phase, Time now) {
  phase_ = phase;
  phaseSince_ = now;
  sizeDirty_ = true;
  user_.clear();
  password_.clear();
  inPassword_ = false;
}

void Guest::alreadyRunning(Time now) { enter(Phase::Desktop, now); }

void Guest::reboot() { rebootWanted_ = true; }

Guest::Change Guest::advance(Time now) {
  now_ = now;
  if (rebootWanted_) {
    rebootWanted_ = false;
    note_.clear();
    signInRemark_.clear();
    enter(Phase::Firmware, now);
  }
  const Time in = now - phaseSince_;
  if (phase_ == Phase::Firmware && in >= kFirmwareFor)
    enter(Phase::Boot, now);
  else if (phase_ == Phase::Boot && in >= kBootFor)
    enter(Phase::SignIn, now);
  else if (phase_ == Phase::SignIn && plan_.signsInAlone && in >= *plan_.signsInAlone && user_.empty())
    enter(Phase::Desktop, now);
  Change change;
  const Size wanted = sizeFor(phase_);
  if (sizeDirty_ && picture_->size() != wanted) {
    auto lock = picture_->lock();
    picture_->resize(wanted);
    change.resized = true;
  }
  if (std::exchange(arrangementDirty_, false)) change.resized = true;
  if (sizeDirty_) {
    sizeDirty_ = false;
    screens_ = {{0, picture_->rect(), 0}};
    if (plan_.twoScreens && (phase_ == Phase::Desktop || phase_ == Phase::SignIn)) {
      const int half = wanted.width / 2;
      screens_ = {{1, {0, 0, half, wanted.height}, 0}, {2, {half, 0, wanted.width - half, wanted.height}, 0}};
      change.resized = true;
    }
  }
  if (change.resized && !arranged_.empty() && phase_ == Phase::Desktop) {
    screens_.clear();
    for (std::size_t i = 0; i < arranged_.size(); ++i)
      if (!arranged_[i].empty()) screens_.push_back({static_cast<std::uint32_t>(i), arranged_[i], 0});
  }
  if (next_.size() != wanted) next_.resize(wanted);
  Canvas canvas(*fonts_, next_);
  paint(canvas, now);
  auto lock = picture_->lock();
  change.damage = takeChanges(*picture_, next_);
  return change;
}

bool Guest::resize(Size size) {
  if (phase_ != Phase::Desktop && phase_ != Phase::SignIn) return false;
  if (plan_.mostScreens > 1) return arrange({Rect{0, 0, size.width, size.height}});
  if (plan_.twoScreens || size.width < 320 || size.height < 200 || size.width > 4096 || size.height > 4096)
    return false;
  desktopSize_ = size;
  sizeDirty_ = true;
  return true;
}

bool Guest::arrange(const std::vector<Rect>& wanted) {
  if (plan_.mostScreens < 2 || phase_ != Phase::Desktop || wanted.size() > plan_.mostScreens) return false;
  Rect whole;
  for (const Rect& r : wanted)
    if (!r.empty()) whole = whole.united(r);
  if (whole.width < 320 || whole.height < 200 || whole.width > 6000 || whole.height > 3000) return false;
  arranged_ = wanted;
  for (Rect& r : arranged_)
    if (!r.empty()) r = r.moved(-whole.x, -whole.y);
  desktopSize_ = whole.size();
  arrangementDirty_ = sizeDirty_ = true;
  return true;
}

void Guest::typeInto(std::string& text, std::uint32_t symbol) {
  if (symbol == keysym::kBackspace) {
    while (!text.empty() && (text.back() & 0xc0) == 0x80) text.pop_back();
    if (!text.empty()) text.pop_back();
  } else if (text.size() < 60 && ((symbol >= 0x20 && symbol <= 0x7e) || (symbol >= 0xa0 && symbol <= 0xff))) {
    appendUtf8(text, symbol);
  } else if (text.size() < 60 && (symbol & 0xff000000U) == 0x01000000U) {
    appendUtf8(text, symbol & 0xffffffU);
  }
}

void Guest::key(std::uint32_t symbol, bool down) {
  if (symbol == keysym::kControlLeft || symbol == keysym::kControlRight) control_ = down;
  if (symbol == keysym::kAltLeft || symbol == keysym::kAltRight) alt_ = down;
  if (!down) return;
  if (control_ && alt_ && symbol == keysym::kDelete) {
    reboot();
    return;
  }
  if (phase_ == Phase::SignIn) {
    std::string& field = inPassword_ ? password_ : user_;
    if (symbol == keysym::kReturn || symbol == keysym::kTab) {
      if (!inPassword_) {
        inPassword_ = true;
      } else if (user_ == plan_.guestUser && password_ == plan_.guestPassword) {
        enter(Phase::Desktop, now_);
      } else {
        signInRemark_ = "That did not match. Try again.";
        user_.clear();
        password_.clear();
        inPassword_ = false;
      }
      return;
    }
    typeInto(field, symbol);
    return;
  }
  if (phase_ != Phase::Desktop) return;
  if (control_ && (symbol == 'v' || symbol == 'V')) {
    note_ = clipboard_.substr(0, 60);
  } else if (control_ && (symbol == 'c' || symbol == 'C')) {
    copied_ = note_;
  } else if (symbol == keysym::kReturn) {
    note_.clear();
    ++called_;
  } else if (!control_ && !alt_) {
    typeInto(note_, symbol);
  }
}

std::string Guest::takeCopied() {
  std::string out;
  out.swap(copied_);
  return out;
}

void Guest::pointer(Point at, unsigned buttons) {
  pointer_ = at;
  const bool pressed = (buttons & 1) != 0 && (buttons_ & 1) == 0;
  buttons_ = buttons;
  if (!pressed || phase_ != Phase::Desktop) return;
  // The zone rows of the mist panel are switches; elsewhere a click calls the next ticket.
  for (std::size_t zone = 0; zone < valves_.size(); ++zone)
    if (Rect{60, 150 + static_cast<int>(zone) * 44, 560, 40}.contains(at)) valves_[zone] = !valves_[zone];
  ++called_;
}

}  // namespace kw::lab

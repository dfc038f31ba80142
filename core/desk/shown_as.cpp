#include "desk/shown_as.hpp"

#include "record/setting.hpp"

namespace kw {

namespace {

ScreenWish screenWishOf(const SettingReader& setting) {
  const std::string screens = setting("screen.screens"), lie = setting("screen.lie");
  ScreenWish wish;
  wish.likeMonitors = screens == "monitors";
  if (!wish.likeMonitors && screens != "asis") wish.count = static_cast<std::size_t>(screens[0] - '0');
  wish.chosen = chosenMonitors(setting("screen.monitors"));
  if (lie == "left") wish.lie = ScreensLie::Left;
  if (lie == "below") wish.lie = ScreensLie::Below;
  return wish;
}

}  // namespace

ShownAs shownAs(const SettingReader& setting) {
  ShownAs out;
  const Policy policy = policyOf(setting);
  out.clipboardToMachine = policy.clipboardTo;
  out.clipboardFromMachine = policy.clipboardFrom;
  out.onlyLook = policy.onlyLook;
  out.takesShortcuts = isOn(setting, "keyboard.desktop");
  out.sendsPositions = isOn(setting, "keyboard.positions");
  out.releaseChord = setting("keyboard.release");
  out.ownKeys = setting("keyboard.own");
  const std::string size = setting("screen.size");
  out.followsPane = size == "follow";
  out.likeMonitor = size == "monitor";
  if (const auto measure = measureFrom(setting("screen.fixed")); measure && size == "fixed")
    out.ownSize = Size{measure->first, measure->second};
  out.screens = screenWishOf(setting);
  out.fit = setting("screen.fit");
  out.paintsPerSecond = wholeOf(setting, "screen.refresh");
  out.textScheme = setting("text.scheme");
  out.textInk = setting("text.ink");
  out.textGround = setting("text.ground");
  out.textFont = setting("text.font");
  out.textSize = wholeOf(setting, "text.size");
  out.warnsOfPaste = isOn(setting, "text.warn");
  out.breakLength = wholeOf(setting, "line.break");
  out.playsSound = setting("sound.play") == "on";
  return out;
}

}  // namespace kw

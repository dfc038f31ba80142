// How a session is shown and handled by whoever sits before it, as its settings say. Engines do not need it.
#pragma once
#include <optional>
#include <string>

#include "picture/geometry.hpp"
#include "route/opening.hpp"
#include "session/screen_wish.hpp"

namespace kw {

struct ShownAs {
  bool clipboardToMachine = true, clipboardFromMachine = true;
  bool takesShortcuts = true;  ///< all keys go to the machine while its picture has the keyboard
  bool sendsPositions = true;
  std::string releaseChord = "shifts", ownKeys;
  bool followsPane = false, likeMonitor = false;  ///< the machine's size: like the pane's, the monitor's
  std::optional<Size> ownSize;
  ScreenWish screens;
  std::string fit = "shrink";
  int paintsPerSecond = 60;
  std::string textScheme = "evening", textInk, textGround, textFont;
  int textSize = 11;      ///< points
  int breakLength = 300;  ///< ms
  bool warnsOfPaste = true, onlyLook = false, playsSound = false;
};

ShownAs shownAs(const SettingReader& setting);

}  // namespace kw

// What a visitor may do with a session. Checked once, in SessionBase and TextSession, so that every front
// (window, command line, gateway) has it.
#pragma once
#include "base/clip.hpp"

namespace kw {

struct Policy {
  bool input = true;          ///< keys, pointer, text, line settings, break, picture size
  bool clipboardTo = true;    ///< what is copied here can be pasted there
  bool clipboardFrom = true;  ///< and the other way
  bool clipFormatted = true;  ///< formatted text besides plain, either way
  bool clipPictures = true, clipFiles = true;
  bool files = true;  ///< transfers over lines
  bool power = true;
  bool onlyLook = false;  ///< looking changes nothing over there, whatever else is allowed

  [[nodiscard]] bool mayType() const { return input && !onlyLook; }
  [[nodiscard]] bool mayPaste() const { return clipboardTo && !onlyLook; }
  [[nodiscard]] bool mayCarry(ClipForm form) const {
    switch (form) {
      case ClipForm::Text: return true;
      case ClipForm::Picture: return clipPictures;
      case ClipForm::Files: return clipFiles && files;
      default: return clipFormatted;
    }
  }
  [[nodiscard]] bool mayTransfer() const { return files && !onlyLook; }
  [[nodiscard]] bool mayPower() const { return power && !onlyLook; }
};

}  // namespace kw

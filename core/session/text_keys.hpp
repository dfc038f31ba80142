// Keysyms, as picture sessions take them, turned into keys of a terminal; so that key sequences, the palette
// and the command line work on both.
#pragma once
#include <cstdint>

#include "text/terminal.hpp"

namespace kw {

class TextKeys {
 public:
  void key(std::uint32_t keysym, bool down, text::Terminal& terminal);
  [[nodiscard]] text::Modifiers held() const { return held_; }

 private:
  text::Modifiers held_;
};

}  // namespace kw

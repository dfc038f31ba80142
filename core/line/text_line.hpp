// A line that text runs over, however it was made: what a text session needs of it.
#pragma once
#include <functional>
#include <string>

#include "line/line.hpp"

namespace kw {

struct TextLine {
  StreamPtr stream;
  LineControl* control = nullptr;  ///< part of the stream; null when it has no speed, break or lamps
  /// Tells the other side the size of the screen; may be empty.
  std::function<Task<void>(int columns, int rows)> resize;
  /// True while the other side leaves showing what is typed to us; may be empty.
  std::function<bool()> echoesHere;
  bool hasSettings = false;  ///< speed and framing can be set through `control`
  std::string kind;          ///< "serial", "telnet", "ssh shell", for the side
};

}  // namespace kw

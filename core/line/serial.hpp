// A serial device (or any other terminal device, such as a pseudo-terminal) of this machine.
#pragma once
#include <memory>
#include <vector>

#include "line/line.hpp"

namespace kw {

/// The stream's LineControl, or null; valid as long as the stream.
struct SerialLine {
  StreamPtr stream;
  LineControl* control = nullptr;
};

/// Claims the device for itself alone. Throws Error: {Unreachable} when it is not there, {Local} when it may
/// not be opened (and says which group may), when it is no terminal device, or when another program holds it
/// (and says which).
Task<SerialLine> openSerial(std::string path, LineSettings settings);

/// Programs that hold a file open, as "screen-logger (process 812)"; needs the right to look into them.
std::vector<std::string> holdersOf(const std::string& path);

}  // namespace kw

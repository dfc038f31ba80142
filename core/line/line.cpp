#include "line/line.hpp"

#include "base/error.hpp"

namespace kw {

std::string LineSettings::frame() const {
  static constexpr char kParity[] = "NEOMS";
  const char* stops = stop == StopBits::One ? "1" : stop == StopBits::Two ? "2" : "1.5";
  return std::to_string(bits) + kParity[static_cast<int>(parity)] + stops;
}

std::string LineSettings::forPeople() const {
  const char* words[] = {"", " RTS/CTS", " DTR/DSR", " XON/XOFF"};
  return std::to_string(speed) + " " + frame() + words[static_cast<int>(flow)];
}

void setFrame(LineSettings& settings, const std::string& frame) {
  const auto wrong = [&] {
    return Error(ErrorKind::Local, "a frame is data bits, parity letter, stop bits, as in 8N1 or 7E2", frame);
  };
  if (frame.size() < 3 || frame[0] < '5' || frame[0] > '8') throw wrong();
  const auto parity =
      std::string("NEOMS").find(static_cast<char>(std::toupper(static_cast<unsigned char>(frame[1]))));
  const std::string stops = frame.substr(2);
  if (parity == std::string::npos || (stops != "1" && stops != "2" && stops != "1.5")) throw wrong();
  settings.bits = frame[0] - '0';
  settings.parity = static_cast<Parity>(parity);
  settings.stop = stops == "1" ? StopBits::One : stops == "2" ? StopBits::Two : StopBits::OneAndHalf;
}

namespace {
constexpr const char* kFlowWords[] = {"none", "rtscts", "dtrdsr", "xonxoff"};
}

FlowControl flowFromWord(const std::string& word) {
  for (int i = 0; i < 4; ++i)
    if (word == kFlowWords[i]) return static_cast<FlowControl>(i);
  throw Error(ErrorKind::Local, "flow control is one of none, rtscts, dtrdsr, xonxoff", word);
}

std::string wordOf(FlowControl flow) { return kFlowWords[static_cast<int>(flow)]; }

}  // namespace kw

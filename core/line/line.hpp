// What a serial line has beyond its bytes: speed and framing, flow control, break, modem lines. A stream that
// has them is made by openSerial (a device of this machine) or by telnet with RFC 2217 (a terminal server's
// port).
#pragma once
#include <chrono>
#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "wire/stream.hpp"

namespace kw {

enum class Parity { None, Even, Odd, Mark, Space };
enum class StopBits { One, OneAndHalf, Two };
enum class FlowControl { None, RtsCts, DtrDsr, XonXoff };

struct LineSettings {
  int speed = 9600;  ///< bits a second
  int bits = 8;      ///< 5 to 8
  Parity parity = Parity::None;
  StopBits stop = StopBits::One;
  FlowControl flow = FlowControl::None;
  bool operator==(const LineSettings&) const = default;
  /// "8N1"; one and a half stop bits: "5N1.5"
  [[nodiscard]] std::string frame() const;
  /// "9600 8N1", with the flow control when there is any
  [[nodiscard]] std::string forPeople() const;
};

/// Reads "8N1", "7E2", "5N1.5"; throws Error{Local} that says what is wrong.
void setFrame(LineSettings& settings, const std::string& frame);
/// "none", "rtscts", "dtrdsr", "xonxoff"; throws Error{Local}.
FlowControl flowFromWord(const std::string& word);
std::string wordOf(FlowControl flow);

/// The lamps of a line.
struct ModemLines {
  bool rts = false, dtr = false;  ///< what we set
  bool cts = false, dsr = false, dcd = false, ri = false;
  bool operator==(const ModemLines&) const = default;
};

/// What the receiver of a line found wrong since it was opened.
struct LineErrors {
  std::uint64_t framing = 0, parity = 0, overrun = 0, breaks = 0;
  bool operator==(const LineErrors&) const = default;
};

class LineControl {
 public:
  virtual ~LineControl() = default;
  [[nodiscard]] virtual LineSettings settings() const = 0;
  /// Throws Error{Local} or {Unsupported} when the line cannot do this; then it stays as it was.
  virtual Task<void> change(LineSettings settings) = 0;
  virtual Task<void> sendBreak(std::chrono::milliseconds length) = 0;
  virtual Task<void> setRts(bool on) = 0;
  virtual Task<void> setDtr(bool on) = 0;
  /// What is known of the lamps now; empty when the line does not say.
  [[nodiscard]] virtual std::optional<ModemLines> lines() = 0;
  /// Empty when the line does not count them (a pseudo-terminal, plain telnet).
  [[nodiscard]] virtual std::optional<LineErrors> errors() { return std::nullopt; }
};

}  // namespace kw

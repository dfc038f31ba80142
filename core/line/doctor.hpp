// Finds the speed and framing of a line whose text is garbage: listens with the usual settings and says which
// of them give readable text. Text with eight data bits and a parity bit reads well without the parity, too;
// there the line's own count of broken frames tells. Two stop bits cannot be told from one by listening, and
// need not be: a receiver of one hears both.
#pragma once
#include "base/clock.hpp"
#include "line/line.hpp"

namespace kw {

/// 0 (noise) to 1 (text). At least a few bytes are needed to say anything.
double readability(ByteView bytes);

/// Text of seven data bits that is listened to with eight carries its parity in the highest bit; this tells
/// which. Empty when the bytes are not such text.
std::optional<Parity> parityInTopBit(ByteView bytes);

struct DoctorOptions {
  std::vector<int> speeds = {9600, 115200, 38400, 19200, 57600, 4800, 2400, 1200, 230400, 300};
  std::chrono::nanoseconds listen =
      std::chrono::milliseconds(2200);  ///< per setting; many devices speak once a second
  /// What comes this soon after a change may still be from before it, and is dropped.
  std::chrono::nanoseconds settle = std::chrono::milliseconds(150);
  bool mayType = false;  ///< a return is sent each time, to make a silent line speak
};
struct DoctorFinding {
  LineSettings settings;
  double readable = 0;
  std::size_t bytes = 0;
  std::string sample;  ///< what it looks like, printable
  /// Frames and parities that were wrong, of the bytes; empty when the line does not count them.
  std::optional<std::uint64_t> wrongFrames;
};
struct DoctorReport {
  std::vector<DoctorFinding> tried;  ///< best first
  /// The proposal; empty when nothing was readable. `silent` when nothing came at all.
  std::optional<LineSettings> proposal;
  bool silent = true;
  [[nodiscard]] std::string sentence() const;
};

/// Puts the settings back that were there before. Nothing else may read from the line meanwhile.
Task<DoctorReport> tryUsualSettings(ByteStream& line, LineControl& control, std::shared_ptr<Clock> clock,
                                    DoctorOptions options, std::function<void(const LineSettings&)> trying);

}  // namespace kw

// What the lab's text machines say, without any line: bytes in, bytes out, moved by a clock.
#pragma once
#include <chrono>
#include <memory>
#include <string>

namespace kw::lab {

class Appliance {
 public:
  using Time = std::chrono::milliseconds;  ///< since the lab's clock began
  virtual ~Appliance() = default;
  /// Somebody looks at the line for the first time.
  virtual std::string greet(Time) { return {}; }
  /// What it says to these bytes.
  virtual std::string take(const std::string& bytes, Time now) = 0;
  /// What it says by itself up to `now`.
  virtual std::string advance(Time now) = 0;
  virtual void breakSeen(Time) {}
};

/// mist-bench's serial line: boot text, sign-in, a small shell (help, zones, valve, log, uptime, reboot,
/// exit).
std::unique_ptr<Appliance> mistBenchLine(std::string user, std::string password);
/// weather-mast: a line of telemetry every second.
std::unique_ptr<Appliance> weatherMast(unsigned seed);
/// irrigation-plc: a menu of circuits.
std::unique_ptr<Appliance> irrigationMenu();

}  // namespace kw::lab

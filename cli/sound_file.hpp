// A machine's sound in a file: RIFF WAVE with signed 16-bit samples.
#pragma once
#include <fstream>
#include <optional>

#include "session/session.hpp"

namespace kw::cli {

/// Thread-safe. The first form decides; samples of another form after it are left out.
class SoundFile : public SessionObserver {
 public:
  /// Throws Error{Local} when the file cannot be written.
  explicit SoundFile(const std::string& file);
  ~SoundFile() override;
  void soundBegins(SoundForm form) override;
  void sound(ByteView samples) override;
  /// Throws Error{Local} once something could not be written.
  void check();

 private:
  void writeHead();
  std::mutex mutex_;
  std::string file_;
  std::ofstream out_;
  std::optional<SoundForm> form_;
  bool sameForm_ = true;
  std::uint32_t bytes_ = 0;
};

}  // namespace kw::cli

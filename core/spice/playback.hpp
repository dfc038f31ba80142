// Sound of a machine (SPICE playback channel): samples as they are, or packed as Opus.
#pragma once
#include <functional>
#include <optional>

#include "base/little.hpp"
#include "codec/packed_sound.hpp"

namespace kw::spice {

class Playback {
 public:
  struct Events {
    std::function<void(int channels, int rate)> begins;
    std::function<void(ByteView)> samples;  ///< signed 16 bits, little endian
    std::function<void()> ends;
  };
  Playback(Events events, bool wanted) : events_(std::move(events)), wanted_(wanted) {}
  /// Capability words of the channel: packed sound only where one takes pictures packed too.
  static std::uint32_t capabilities(bool packed);
  /// What plays already is heard from now on, or no more.
  void setWanted(bool on);
  /// Throws Error{ProtocolBroken}.
  void take(unsigned type, ByteView body);
  [[nodiscard]] bool packed() const { return mode_ != 1; }

 private:
  struct Form {
    int channels, rate;
  };
  void mode(unsigned mode);
  void start(LittleReader& in);
  Events events_;
  bool wanted_;
  unsigned mode_ = 1;  ///< samples as they are
  std::optional<Form> playing_;
  std::optional<PackedSound> opus_;
};

}  // namespace kw::spice

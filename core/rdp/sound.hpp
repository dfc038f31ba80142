// Sound from the service (MS-RDPEA), over its static channel or a dynamic one: plain samples only, which
// every service has.
#pragma once
#include <functional>
#include <vector>

#include "base/little.hpp"

namespace kw::rdp {

constexpr const char* kSoundChannel = "rdpsnd";
constexpr const char* kSoundDynamic = "AUDIO_PLAYBACK_DVC";
constexpr const char* kSoundDynamicLossy = "AUDIO_PLAYBACK_LOSSY_DVC";

struct SampleForm {
  int channels = 2, rate = 44100, bits = 16;
  bool operator==(const SampleForm&) const = default;
};

class SoundReader {
 public:
  struct Events {
    std::function<void(Bytes)> send;
    std::function<void(SampleForm)> begins;
    std::function<void(ByteView)> samples;  ///< signed 16 bits, little endian
    std::function<void()> ends;
  };
  /// Not wanted, the service's offer stays unanswered until it is, and what comes all the same is dropped.
  SoundReader(Events events, bool wanted) : events_(std::move(events)), wanted_(wanted) {}
  void setWanted(bool on);
  /// A whole message. Throws Error{ProtocolBroken}.
  void take(ByteView message);
  [[nodiscard]] std::uint64_t bytes() const { return bytes_; }

 private:
  void formats(LittleReader& in);
  void answer();
  void play(unsigned format, ByteView samples);
  void confirm(unsigned block, unsigned stamp);
  void stop();

  Events events_;
  bool wanted_, offered_ = false, answered_ = false;
  unsigned version_ = 0;
  std::vector<SampleForm> agreed_;
  int playing_ = -1;
  // A wave in two messages: its beginning, until the rest comes.
  Bytes first_;
  bool waiting_ = false;
  unsigned format_ = 0, block_ = 0, stamp_ = 0;
  std::uint64_t bytes_ = 0;
};

/// 2.2.2.1, 2.2.3.10: how a server offers formats and sends samples.
Bytes writeSoundFormats(const std::vector<SampleForm>& formats);
Bytes writeWave2(unsigned format, unsigned block, ByteView samples);

}  // namespace kw::rdp

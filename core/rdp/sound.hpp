// Sound from the service (MS-RDPEA), over its static channel or a dynamic one: plain samples, which every
// service has, and those packings that FFmpeg opens.
#pragma once
#include <functional>
#include <optional>
#include <vector>

#include "base/little.hpp"
#include "codec/packed_sound.hpp"

namespace kw::rdp {

constexpr const char* kSoundChannel = "rdpsnd";
constexpr const char* kSoundDynamic = "AUDIO_PLAYBACK_DVC";
constexpr const char* kSoundDynamicLossy = "AUDIO_PLAYBACK_LOSSY_DVC";

struct SampleForm {
  int channels = 2, rate = 44100, bits = 16;
  bool operator==(const SampleForm&) const = default;
};

/// 2.2.2.1.1 AUDIO_FORMAT
struct SoundForm {
  static constexpr unsigned kPlain = 0x01, kMsAdpcm = 0x02, kALaw = 0x06, kMuLaw = 0x07, kImaAdpcm = 0x11,
                            kMp3 = 0x55, kAac = 0xa106, kOpus = 0x704f;
  unsigned tag = kPlain;
  SampleForm samples;
  std::uint32_t bytesPerSecond = 0;
  unsigned block = 0;  ///< bytes
  Bytes extra;         ///< what the tag needs besides
};
SoundForm plainForm(const SampleForm& samples);

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
  void play(unsigned format, ByteView data);
  void heard(unsigned format, const SampleForm& form, ByteView samples);
  void confirm(unsigned block, unsigned stamp);
  void stop();

  Events events_;
  bool wanted_, offered_ = false, answered_ = false;
  unsigned version_ = 0;
  std::vector<SoundForm> agreed_;
  int playing_ = -1;
  SampleForm playingAs_;
  std::optional<PackedSound> packed_;
  unsigned packedFormat_ = 0;
  // A wave in two messages: its beginning, until the rest comes.
  Bytes first_;
  bool waiting_ = false;
  unsigned format_ = 0, block_ = 0, stamp_ = 0;
  std::uint64_t bytes_ = 0;
};

/// 2.2.2.1, 2.2.3.10: how a server offers formats and sends samples.
Bytes writeSoundFormats(const std::vector<SoundForm>& formats);
Bytes writeWave2(unsigned format, unsigned block, ByteView samples);

}  // namespace kw::rdp

// Sound that was packed to travel, made samples again through FFmpeg, one context per stream.
#pragma once
#include <memory>

#include "base/bytes.hpp"

namespace kw {

enum class SoundPacking { ALaw, MuLaw, MsAdpcm, ImaAdpcm, Mp3, Aac, Opus };

struct PackedSoundForm {
  SoundPacking packing = SoundPacking::Opus;
  int channels = 2, rate = 48000;
  int blockBytes = 0;     ///< of one packed block, where the packing has blocks of one size
  int bitsPerSample = 0;  ///< packed; where the packing has several
  Bytes
      configuration;  ///< what the packing's decoder must know besides; AAC: ISO 14496-3 AudioSpecificConfig
};

class PackedSound {
 public:
  /// Throws Error{Unsupported} when this machine cannot open that packing.
  explicit PackedSound(const PackedSoundForm& form);
  ~PackedSound();
  PackedSound(PackedSound&&) noexcept;
  PackedSound& operator=(PackedSound&&) noexcept;

  /// Signed 16 bits, little endian, channels in turn; the form's channels, whatever the stream has. A broken
  /// packet is silent: sound goes on with the next one.
  Bytes take(ByteView packed);
  /// Samples a second, as the stream has them; the form's until the first samples came.
  [[nodiscard]] int rate() const;
  static bool canOpen(SoundPacking packing);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kw

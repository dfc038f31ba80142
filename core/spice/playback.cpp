#include "spice/playback.hpp"

#include <utility>

#include "spice/constants.hpp"

namespace kw::spice {

namespace {

constexpr const char* kWhat = "SPICE sound";
constexpr unsigned kRaw = 1, kOpus = 3;  // modes of data

}  // namespace

std::uint32_t Playback::capabilities(bool packed) {
  return packed && PackedSound::canOpen(SoundPacking::Opus) ? 1U << cap::kOpus : 0U;
}

void Playback::setWanted(bool on) {
  if (std::exchange(wanted_, on) == on || !playing_) return;
  on ? events_.begins(playing_->channels, playing_->rate) : events_.ends();
}

void Playback::take(unsigned type, ByteView body) {
  LittleReader in(body, kWhat);
  switch (type) {
    case msg::kPlaybackMode: in.u32(); return mode(in.u16());
    case msg::kPlaybackStart: return start(in);
    case msg::kPlaybackData:
      in.u32();
      if (wanted_ && playing_) events_.samples(opus_ ? opus_->take(in.rest()) : in.rest());
      return;
    case msg::kPlaybackStop:
      if (std::exchange(playing_, std::nullopt) && wanted_) events_.ends();
      return;
    default: return;
  }
}

/// Opus is always of two channels and 48000 samples a second; the mode may come before or after the start.
void Playback::mode(unsigned mode) {
  if (mode != kRaw && mode != kOpus) protocolBroken(kWhat, "in a packing that was not offered");
  mode_ = mode;
  opus_.reset();
  if (mode == kOpus && playing_)
    opus_.emplace(PackedSoundForm{SoundPacking::Opus, playing_->channels, playing_->rate, 0, 0, {}});
}

void Playback::start(LittleReader& in) {
  const std::uint32_t channels = in.u32();
  in.u16();
  const std::uint32_t rate = in.u32();
  if (channels == 0 || channels > 8 || rate < 4000 || rate > 192000)
    protocolBroken(kWhat, "an impossible form");
  playing_ = {static_cast<int>(channels), static_cast<int>(rate)};
  mode(mode_);
  if (wanted_) events_.begins(playing_->channels, playing_->rate);
}

}  // namespace kw::spice

#include "rdp/sound.hpp"

#include <algorithm>
#include <utility>

#include "base/error.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "sound";
// 2.2.1 msgType
constexpr unsigned kClose = 0x01, kWave = 0x02, kTraining = 0x06, kFormats = 0x07, kQualityMode = 0x0c,
                   kWave2 = 0x0d, kWaveConfirm = 0x05;
constexpr unsigned kVersion = 8;

Bytes message(unsigned type, ByteView body) {
  LittleWriter out;
  out.u8(type).u8(0).u16(static_cast<unsigned>(body.size())).bytes(body);
  return out.take();
}

void writeForm(LittleWriter& out, const SoundForm& f) {
  out.u16(f.tag)
      .u16(static_cast<unsigned>(f.samples.channels))
      .u32(static_cast<std::uint32_t>(f.samples.rate));
  out.u32(f.bytesPerSecond).u16(f.block).u16(static_cast<unsigned>(f.samples.bits));
  out.u16(static_cast<unsigned>(f.extra.size())).bytes(f.extra);
}
SoundForm readForm(LittleReader& in) {
  SoundForm f;
  f.tag = in.u16();
  f.samples.channels = in.u16();
  f.samples.rate = static_cast<int>(std::min(in.u32(), std::uint32_t{1} << 30));
  f.bytesPerSecond = in.u32();
  f.block = in.u16();
  f.samples.bits = in.u16();
  const ByteView extra = in.bytes(in.u16());
  f.extra.assign(extra.begin(), extra.end());
  return f;
}

std::optional<SoundPacking> packingOf(unsigned tag) {
  switch (tag) {
    case SoundForm::kMsAdpcm: return SoundPacking::MsAdpcm;
    case SoundForm::kALaw: return SoundPacking::ALaw;
    case SoundForm::kMuLaw: return SoundPacking::MuLaw;
    case SoundForm::kImaAdpcm: return SoundPacking::ImaAdpcm;
    case SoundForm::kMp3: return SoundPacking::Mp3;
    case SoundForm::kAac: return SoundPacking::Aac;
    case SoundForm::kOpus: return SoundPacking::Opus;
    default: return std::nullopt;
  }
}

bool canPlay(const SoundForm& f) {
  const SampleForm& s = f.samples;
  if (s.channels < 1 || s.channels > 2 || s.rate < 4000 || s.rate > 192000) return false;
  if (f.tag == SoundForm::kPlain) return s.bits == 8 || s.bits == 16;
  const auto packing = packingOf(f.tag);
  return packing && PackedSound::canOpen(*packing);
}

/// ISO 14496-3 1.6.2.1: low complexity, for a service that says nothing of it.
Bytes aacConfiguration(const SampleForm& s) {
  constexpr int kRates[] = {96000, 88200, 64000, 48000, 44100, 32000,
                            24000, 22050, 16000, 12000, 11025, 8000};
  unsigned index = 0;
  while (index + 1 < std::size(kRates) && kRates[index] > s.rate) ++index;
  const unsigned bits = 2U << 11 | index << 7 | static_cast<unsigned>(s.channels) << 3;
  return {static_cast<Byte>(bits >> 8), static_cast<Byte>(bits & 0xff)};
}

PackedSound packedSoundOf(const SoundForm& f) {
  const auto packing = packingOf(f.tag);
  if (!packing) protocolBroken(kWhat, "in a form that was not agreed");
  const auto block = static_cast<int>(f.block);
  PackedSoundForm form{*packing, f.samples.channels, f.samples.rate, block, f.samples.bits, {}};
  if (form.packing == SoundPacking::Aac) {
    // HEAACWAVEINFO: twelve bytes, of which the first two say how frames are wrapped, then the configuration.
    constexpr std::size_t kInfo = 12;
    const bool wrapped = f.extra.size() >= 2 && loadLe16(f.extra.data()) != 0;
    if (f.extra.size() > kInfo)
      form.configuration.assign(f.extra.begin() + kInfo, f.extra.end());
    else if (!wrapped)
      form.configuration = aacConfiguration(f.samples);
  } else if (form.packing == SoundPacking::MsAdpcm || form.packing == SoundPacking::ImaAdpcm) {
    form.configuration = f.extra;
  }
  return PackedSound(form);
}

/// 8-bit samples are unsigned.
Bytes widened(ByteView eight) {
  Bytes out(eight.size() * 2);
  for (std::size_t i = 0; i < eight.size(); ++i)
    storeLe16(&out[2 * i], static_cast<std::uint16_t>((eight[i] - 128) * 256));
  return out;
}

}  // namespace

void SoundReader::take(ByteView bytes) {
  LittleReader in(bytes, kWhat);
  // 2.2.3.4: the second half of a wave has no head; its first four bytes came with the first.
  if (waiting_) {
    waiting_ = false;
    in.skip(4);
    const ByteView rest = in.rest();
    first_.insert(first_.end(), rest.begin(), rest.end());
    play(format_, first_);
    return confirm(block_, stamp_);
  }
  const unsigned type = in.u8();
  in.skip(1);
  const std::size_t size = in.u16();
  switch (type) {
    case kFormats: return formats(in);
    case kTraining: {  // 2.2.3.1: answered as it came, without its load
      const unsigned stamp = in.u16(), pack = in.u16();
      LittleWriter out;
      return events_.send(message(kTraining, out.u16(stamp).u16(pack).view()));
    }
    case kWave: {  // 2.2.3.3
      stamp_ = in.u16();
      format_ = in.u16();
      block_ = in.u8();
      in.skip(3);
      const ByteView begin = in.bytes(4);
      first_.assign(begin.begin(), begin.end());
      waiting_ = size > 12;
      return;
    }
    case kWave2: {  // 2.2.3.10
      const unsigned stamp = in.u16(), format = in.u16(), block = in.u8();
      in.skip(3 + 4);
      play(format, in.rest());
      return confirm(block, stamp);
    }
    case kClose: return stop();
    default: return;
  }
}

/// 2.2.2.1 answered by 2.2.2.2: of what is offered, what can be played, in the service's order.
void SoundReader::formats(LittleReader& in) {
  in.skip(4 + 4 + 4 + 2);
  const unsigned count = in.u16();
  in.skip(1);
  version_ = in.u16();
  in.skip(1);
  stop();
  agreed_.clear();
  packed_.reset();
  for (unsigned i = 0; i < count; ++i) {
    SoundForm f = readForm(in);
    if (canPlay(f)) agreed_.push_back(std::move(f));
  }
  offered_ = true;
  answered_ = false;
  if (wanted_) answer();
}

void SoundReader::setWanted(bool on) {
  wanted_ = on;
  if (!on) stop();
  if (on && offered_ && !answered_) answer();
}

void SoundReader::answer() {
  answered_ = true;
  LittleWriter out;
  out.u32(0x1)
      .u32(0xffffffff)
      .u32(0)
      .u16(0)
      .u16(static_cast<unsigned>(agreed_.size()))
      .u8(0)
      .u16(kVersion)
      .u8(0);
  for (const SoundForm& f : agreed_) writeForm(out, f);
  events_.send(message(kFormats, out.view()));
  if (version_ < 6) return;
  LittleWriter quality;  // 2.2.2.3: as good as it goes
  events_.send(message(kQualityMode, quality.u16(2).u16(0).view()));
}

void SoundReader::play(unsigned format, ByteView data) {
  if (format >= agreed_.size()) protocolBroken(kWhat, "in a form that was not agreed");
  const SoundForm& form = agreed_[format];
  bytes_ += data.size();
  if (!wanted_) return;
  if (form.tag == SoundForm::kPlain)
    return form.samples.bits == 8 ? heard(format, form.samples, widened(data))
                                  : heard(format, form.samples, data);
  if (!packed_ || packedFormat_ != format) packed_ = packedSoundOf(form), packedFormat_ = format;
  const Bytes samples = packed_->take(data);
  if (!samples.empty()) heard(format, {form.samples.channels, packed_->rate(), 16}, samples);
}

void SoundReader::heard(unsigned format, const SampleForm& form, ByteView samples) {
  if (playing_ != static_cast<int>(format) || !(playingAs_ == form)) {
    stop();
    playing_ = static_cast<int>(format);
    playingAs_ = form;
    events_.begins(form);
  }
  events_.samples(samples);
}

/// 2.2.3.8
void SoundReader::confirm(unsigned block, unsigned stamp) {
  LittleWriter out;
  events_.send(message(kWaveConfirm, out.u16(stamp).u8(block).u8(0).view()));
}

void SoundReader::stop() {
  if (std::exchange(playing_, -1) >= 0) events_.ends();
}

SoundForm plainForm(const SampleForm& s) {
  const auto block = static_cast<unsigned>(s.channels * s.bits / 8);
  return {SoundForm::kPlain, s, static_cast<std::uint32_t>(s.rate) * block, block, {}};
}

Bytes writeSoundFormats(const std::vector<SoundForm>& formats) {
  LittleWriter out;
  out.u32(0).u32(0).u32(0).u16(0).u16(static_cast<unsigned>(formats.size())).u8(0).u16(kVersion).u8(0);
  for (const SoundForm& f : formats) writeForm(out, f);
  return message(kFormats, out.view());
}

Bytes writeWave2(unsigned format, unsigned block, ByteView samples) {
  LittleWriter out;
  out.u16(0).u16(format).u8(block).zeros(3).u32(0).bytes(samples);
  return message(kWave2, out.view());
}

}  // namespace kw::rdp

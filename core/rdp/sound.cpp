#include "rdp/sound.hpp"

#include <algorithm>

#include "base/error.hpp"

namespace kw::rdp {

namespace {

constexpr const char* kWhat = "sound";
// 2.2.1 msgType
constexpr unsigned kClose = 0x01, kWave = 0x02, kTraining = 0x06, kFormats = 0x07, kQualityMode = 0x0c,
                   kWave2 = 0x0d, kWaveConfirm = 0x05;
constexpr unsigned kPcm = 1;
constexpr unsigned kVersion = 8;

Bytes message(unsigned type, ByteView body) {
  LittleWriter out;
  out.u8(type).u8(0).u16(static_cast<unsigned>(body.size())).bytes(body);
  return out.take();
}

void writeForm(LittleWriter& out, const SampleForm& f) {  // 2.2.2.1.1 AUDIO_FORMAT
  const unsigned block = static_cast<unsigned>(f.channels * f.bits / 8);
  out.u16(kPcm).u16(static_cast<unsigned>(f.channels)).u32(static_cast<std::uint32_t>(f.rate));
  out.u32(static_cast<std::uint32_t>(f.rate) * block).u16(block).u16(static_cast<unsigned>(f.bits)).u16(0);
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

/// 2.2.2.1 answered by 2.2.2.2: of what is offered, the plain samples.
void SoundReader::formats(LittleReader& in) {
  in.skip(4 + 4 + 4 + 2);
  const unsigned count = in.u16();
  in.skip(1);
  version_ = in.u16();
  in.skip(1);
  stop();
  agreed_.clear();
  for (unsigned i = 0; i < count; ++i) {
    const unsigned tag = in.u16();
    SampleForm f;
    f.channels = in.u16();
    const std::uint32_t rate = in.u32();
    in.skip(4 + 2);
    f.bits = in.u16();
    in.skip(in.u16());
    if (tag != kPcm || f.channels < 1 || f.channels > 2 || rate < 4000 || rate > 192000) continue;
    f.rate = static_cast<int>(rate);
    if (f.bits == 8 || f.bits == 16) agreed_.push_back(f);
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
  for (const SampleForm& f : agreed_) writeForm(out, f);
  events_.send(message(kFormats, out.view()));
  if (version_ < 6) return;
  LittleWriter quality;  // 2.2.2.3: as good as it goes
  events_.send(message(kQualityMode, quality.u16(2).u16(0).view()));
}

void SoundReader::play(unsigned format, ByteView samples) {
  if (format >= agreed_.size()) protocolBroken(kWhat, "in a form that was not agreed");
  const SampleForm& form = agreed_[format];
  bytes_ += samples.size();
  if (!wanted_) return;
  if (playing_ != static_cast<int>(format)) {
    stop();
    playing_ = static_cast<int>(format);
    events_.begins(form);
  }
  if (form.bits == 8)
    events_.samples(widened(samples));
  else
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

Bytes writeSoundFormats(const std::vector<SampleForm>& formats) {
  LittleWriter out;
  out.u32(0).u32(0).u32(0).u16(0).u16(static_cast<unsigned>(formats.size())).u8(0).u16(kVersion).u8(0);
  for (const SampleForm& f : formats) writeForm(out, f);
  return message(kFormats, out.view());
}

Bytes writeWave2(unsigned format, unsigned block, ByteView samples) {
  LittleWriter out;
  out.u16(0).u16(format).u8(block).zeros(3).u32(0).bytes(samples);
  return message(kWave2, out.view());
}

}  // namespace kw::rdp

// Sound in each packing: a tone goes in, and the same tone is heard, over RDP, SPICE and by itself.
#include "codec/packed_sound.hpp"
#include "rdp/sound.hpp"
#include "spice/constants.hpp"
#include "spice/playback.hpp"
#include "tests/core/spice_bench.hpp"
#include "tests/tone_maker.hpp"

using namespace kw;
using namespace kw::test;

namespace {

struct PackingCase {
  const char* name;
  AVCodecID codec;
  SoundPacking packing;
  unsigned tag;
  int channels, rate;
};
const PackingCase kCases[] = {
    {"A-law", AV_CODEC_ID_PCM_ALAW, SoundPacking::ALaw, rdp::SoundForm::kALaw, 1, 8000},
    {"mu-law", AV_CODEC_ID_PCM_MULAW, SoundPacking::MuLaw, rdp::SoundForm::kMuLaw, 2, 22050},
    {"MS ADPCM", AV_CODEC_ID_ADPCM_MS, SoundPacking::MsAdpcm, rdp::SoundForm::kMsAdpcm, 2, 22050},
    {"IMA ADPCM", AV_CODEC_ID_ADPCM_IMA_WAV, SoundPacking::ImaAdpcm, rdp::SoundForm::kImaAdpcm, 2, 44100},
    {"MP3", AV_CODEC_ID_MP3, SoundPacking::Mp3, rdp::SoundForm::kMp3, 2, 44100},
    {"AAC", AV_CODEC_ID_AAC, SoundPacking::Aac, rdp::SoundForm::kAac, 2, 44100},
    {"Opus", AV_CODEC_ID_OPUS, SoundPacking::Opus, rdp::SoundForm::kOpus, 2, 48000},
};

rdp::SoundForm formOf(const PackingCase& c, const PackedTone& tone) {
  rdp::SoundForm f;
  f.tag = c.tag;
  f.samples = {c.channels, c.rate, tone.bits};
  f.bytesPerSecond = static_cast<std::uint32_t>(tone.bitRate / 8);
  f.block = static_cast<unsigned>(tone.block);
  return f;
}

/// What a service hears and says while one visits it.
struct SoundVisitor {
  std::vector<Bytes> sent;
  std::vector<rdp::SampleForm> begun;
  Bytes heard;
  rdp::SoundReader reader{
      {[this](Bytes m) { sent.push_back(std::move(m)); }, [this](rdp::SampleForm f) { begun.push_back(f); },
       [this](ByteView s) { heard.insert(heard.end(), s.begin(), s.end()); }, [] {}},
      true};
};

}  // namespace

TEST_CASE("Packed sound: each packing's tone is heard, packets whole and in pairs", "[rdp][sound]") {
  for (const PackingCase& c : kCases) {
    INFO(c.name);
    const PackedTone tone = packTone(c.codec, c.channels, c.rate, 1);
    const bool pairs = c.packing != SoundPacking::Opus && c.packing != SoundPacking::Aac;
    SoundVisitor listener;
    rdp::SoundForm form = formOf(c, tone);
    listener.reader.take(rdp::writeSoundFormats({form}));
    REQUIRE(listener.sent.size() == 2);
    CHECK(loadLe16(&listener.sent[0][4 + 14]) == 1);
    for (std::size_t i = 0; i < tone.packets.size(); i += pairs ? 2 : 1) {
      Bytes packet = tone.packets[i];
      if (pairs && i + 1 < tone.packets.size())
        packet.insert(packet.end(), tone.packets[i + 1].begin(), tone.packets[i + 1].end());
      listener.reader.take(rdp::writeWave2(0, static_cast<unsigned>(i & 255), packet));
    }
    REQUIRE(listener.begun == std::vector<rdp::SampleForm>{{c.channels, c.rate, 16}});
    const double seconds = static_cast<double>(listener.heard.size()) / 2 / c.channels / c.rate;
    CHECK(seconds > 0.9);
    CHECK(seconds < 1.2);
    for (int channel = 0; channel < c.channels; ++channel)
      CHECK(toneShare(listener.heard, c.channels, channel, c.rate) > 0.98);
  }
}

TEST_CASE("Packed sound: an AAC configuration may come with the form or be left out", "[rdp][sound]") {
  const PackedTone tone = packTone(AV_CODEC_ID_AAC, 1, 32000, 1);
  const bool told = GENERATE(true, false);
  rdp::SoundForm form{rdp::SoundForm::kAac, {1, 32000, 16}, 12000, 1, {}};
  if (told) {
    form.extra = Bytes(12);
    form.extra.insert(form.extra.end(), tone.configuration.begin(), tone.configuration.end());
  }
  SoundVisitor listener;
  // Beside plain samples: both are agreed, in the service's order.
  listener.reader.take(rdp::writeSoundFormats({rdp::plainForm({2, 44100, 16}), form}));
  CHECK(loadLe16(&listener.sent[0][4 + 14]) == 2);
  for (const Bytes& packet : tone.packets) listener.reader.take(rdp::writeWave2(1, 1, packet));
  CHECK(toneShare(listener.heard, 1, 0, 32000) > 0.98);
  // To plain samples and back.
  listener.heard.clear();
  listener.reader.take(rdp::writeWave2(0, 2, Bytes{1, 2, 3, 4}));
  CHECK(listener.heard == Bytes{1, 2, 3, 4});
  CHECK(listener.begun.back() == rdp::SampleForm{2, 44100, 16});
  listener.reader.take(rdp::writeWave2(1, 3, tone.packets[9]));
  CHECK(listener.begun.back() == rdp::SampleForm{1, 32000, 16});
}

TEST_CASE("Packed sound: a service changes from one packing to another and back", "[rdp][sound]") {
  SoundVisitor visitor;
  std::vector<PackedTone> tones;
  std::vector<rdp::SoundForm> forms;
  for (const PackingCase& c : {kCases[0], kCases[1]}) {
    tones.push_back(packTone(c.codec, c.channels, c.rate, 0.5));
    forms.push_back(formOf(c, tones.back()));
  }
  visitor.reader.take(rdp::writeSoundFormats(forms));
  for (const unsigned format : {0U, 1U, 0U}) {
    visitor.heard.clear();
    for (const Bytes& packet : tones[format].packets) visitor.reader.take(rdp::writeWave2(format, 1, packet));
    const PackingCase& c = kCases[format];
    CHECK(visitor.begun.back() == rdp::SampleForm{c.channels, c.rate, 16});
    CHECK(toneShare(visitor.heard, c.channels, 0, c.rate) > 0.98);
  }
  CHECK(visitor.begun.size() == 3);
}

TEST_CASE("Packed sound: noise is silence or a click, never an error or a flood", "[rdp][sound]") {
  std::mt19937 dice(4);
  for (const PackingCase& c : kCases) {
    INFO(c.name);
    const PackedTone tone = packTone(c.codec, c.channels, c.rate, 0.3);
    PackedSound sound({c.packing, c.channels, c.rate, tone.block, tone.bits,
                       c.packing == SoundPacking::Aac ? tone.configuration : Bytes()});
    for (int round = 0; round < 60; ++round) {
      Bytes packet = tone.packets[dice() % tone.packets.size()];
      if (round % 2 == 0)
        packet.resize(dice() % (packet.size() + 1));
      else
        for (int i = 0; i < 8; ++i) packet[dice() % packet.size()] = static_cast<Byte>(dice());
      CHECK(sound.take(packet).size() <= std::size_t{48000} * 4 * 2 * 2);
    }
    // It still plays.
    Bytes heard;
    for (const Bytes& packet : tone.packets) {
      const Bytes samples = sound.take(packet);
      heard.insert(heard.end(), samples.begin(), samples.end());
    }
    CHECK(toneShare(heard, c.channels, 0, c.rate) > 0.8);
  }
}

TEST_CASE("SPICE: packed sound is opened, switched to while it plays, too", "[spice][sound]") {
  SpiceBench bench;
  bench.server.sound = true;
  bench.client.sound = true;
  bench.open();
  REQUIRE(bench.until([&] { return bench.seen.peer.sound; }));
  const PackedTone tone = packTone(AV_CODEC_ID_OPUS, 2, 48000, 1);
  const bool before = GENERATE(true, false);
  bench.each([&](spice::ServerChannel& c) {
    if (before) c.packSound(true);
    c.beginSound(2, 48000);
    if (!before) c.packSound(true);
    for (const Bytes& packet : tone.packets) c.sound(packet);
  });
  REQUIRE(bench.until([&] { return bench.seen.samples.size() > 48000 * 4 * 9 / 10; }));
  CHECK(bench.on([&] { return toneShare(bench.seen.samples, 2, 1, 48000) > 0.98; }));
  // And samples as they are again.
  bench.on([&] { return bench.seen.samples.clear(), 0; });
  bench.each([&](spice::ServerChannel& c) {
    c.packSound(false);
    c.sound(Bytes{9, 8, 7, 6});
  });
  const Bytes last{9, 8, 7, 6};
  CHECK(bench.until([&] {
    const Bytes& heard = bench.seen.samples;
    return heard.size() >= 4 && std::equal(last.begin(), last.end(), heard.end() - 4);
  }));
}

TEST_CASE("SPICE: Opus is offered where packed pictures are, and no other packing is taken",
          "[spice][sound]") {
  CHECK(spice::Playback::capabilities(true) == 1U << 3);
  CHECK(spice::Playback::capabilities(false) == 0);
  spice::Playback playback({[](int, int) {}, [](ByteView) {}, [] {}}, true);
  LittleWriter celt;
  CHECK_THROWS_AS(playback.take(spice::msg::kPlaybackMode, celt.u32(0).u16(2).view()), Error);
}

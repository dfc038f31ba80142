#include "codec/packed_sound.hpp"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/log.h>
}

#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/error.hpp"
#include "base/little.hpp"

namespace kw {

namespace {

constexpr int kMostSamples = 48000 * 4;  ///< of one packet: more than four seconds are a bomb

AVCodecID codecOf(SoundPacking packing) {
  switch (packing) {
    case SoundPacking::ALaw: return AV_CODEC_ID_PCM_ALAW;
    case SoundPacking::MuLaw: return AV_CODEC_ID_PCM_MULAW;
    case SoundPacking::MsAdpcm: return AV_CODEC_ID_ADPCM_MS;
    case SoundPacking::ImaAdpcm: return AV_CODEC_ID_ADPCM_IMA_WAV;
    case SoundPacking::Mp3: return AV_CODEC_ID_MP3;
    case SoundPacking::Aac: return AV_CODEC_ID_AAC;
    case SoundPacking::Opus: return AV_CODEC_ID_OPUS;
  }
  return AV_CODEC_ID_NONE;
}

std::int16_t sampleOf(float v) {
  return static_cast<std::int16_t>(std::lround(std::clamp(v, -1.F, 1.F) * 32767));
}

/// One sample of a channel, in whichever of FFmpeg's forms the decoder gives.
std::int16_t sampleAt(const AVFrame& f, int channel, int index) {
  const bool planar = av_sample_fmt_is_planar(static_cast<AVSampleFormat>(f.format)) != 0;
  const Byte* plane = f.extended_data[planar ? channel : 0];
  const int at = planar ? index : index * f.ch_layout.nb_channels + channel;
  switch (f.format) {
    case AV_SAMPLE_FMT_S16:
    case AV_SAMPLE_FMT_S16P: {
      std::int16_t v = 0;
      std::memcpy(&v, plane + static_cast<std::ptrdiff_t>(at) * 2, 2);
      return v;
    }
    case AV_SAMPLE_FMT_FLT:
    case AV_SAMPLE_FMT_FLTP: {
      float v = 0;
      std::memcpy(&v, plane + static_cast<std::ptrdiff_t>(at) * 4, 4);
      return sampleOf(v);
    }
    default: return 0;
  }
}

}  // namespace

struct PackedSound::State {
  AVCodecContext* context = nullptr;
  AVCodecParserContext* parser = nullptr;
  AVFrame* frame = av_frame_alloc();
  AVPacket* packet = av_packet_alloc();
  int channels = 0, rate = 0;
  State() = default;
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() {
    if (parser != nullptr) av_parser_close(parser);
    av_packet_free(&packet);
    av_frame_free(&frame);
    avcodec_free_context(&context);
  }
  void open(Byte* data, int size, Bytes& out);
};

bool PackedSound::canOpen(SoundPacking packing) { return avcodec_find_decoder(codecOf(packing)) != nullptr; }

PackedSound::PackedSound(const PackedSoundForm& form) : state_(std::make_unique<State>()) {
  av_log_set_level(AV_LOG_QUIET);
  const AVCodec* codec = avcodec_find_decoder(codecOf(form.packing));
  if (codec == nullptr)
    throw Error(ErrorKind::Unsupported, "this machine's libavcodec cannot open this sound");
  state_->channels = form.channels;
  state_->rate = form.rate;
  AVCodecContext* context = avcodec_alloc_context3(codec);
  state_->context = context;
  context->thread_count = 1;
  context->sample_rate = form.rate;
  context->block_align = form.blockBytes;
  context->bits_per_coded_sample = form.bitsPerSample;
  context->max_samples = kMostSamples;
  av_channel_layout_default(&context->ch_layout, form.channels);
  if (!form.configuration.empty()) {
    const std::size_t size = form.configuration.size();
    context->extradata = static_cast<Byte*>(av_mallocz(size + AV_INPUT_BUFFER_PADDING_SIZE));
    std::memcpy(context->extradata, form.configuration.data(), size);
    context->extradata_size = static_cast<int>(size);
  }
  if (avcodec_open2(context, codec, nullptr) < 0)
    throw Error(ErrorKind::Unsupported, "this sound's decoder does not start");
  // Its frames do not end where messages do.
  if (form.packing == SoundPacking::Mp3) state_->parser = av_parser_init(AV_CODEC_ID_MP3);
}
PackedSound::~PackedSound() = default;
PackedSound::PackedSound(PackedSound&&) noexcept = default;
PackedSound& PackedSound::operator=(PackedSound&&) noexcept = default;

int PackedSound::rate() const { return state_->rate; }

void PackedSound::State::open(Byte* data, int size, Bytes& out) {
  packet->data = data;
  packet->size = size;
  if (avcodec_send_packet(context, packet) < 0) return;
  while (avcodec_receive_frame(context, frame) == 0) {
    const int have = frame->ch_layout.nb_channels;
    if (have < 1 || frame->nb_samples > kMostSamples) continue;
    if (frame->sample_rate > 0) rate = frame->sample_rate;
    for (int i = 0; i < frame->nb_samples; ++i)
      for (int c = 0; c < channels; ++c) {
        const auto v = static_cast<std::uint16_t>(sampleAt(*frame, std::min(c, have - 1), i));
        out.push_back(static_cast<Byte>(v & 0xff));
        out.push_back(static_cast<Byte>(v >> 8));
      }
  }
}

Bytes PackedSound::take(ByteView packed) {
  State& s = *state_;
  Bytes padded(packed.begin(), packed.end());
  padded.resize(packed.size() + AV_INPUT_BUFFER_PADDING_SIZE);
  Bytes out;
  if (s.parser == nullptr) {
    s.open(padded.data(), static_cast<int>(packed.size()), out);
    return out;
  }
  Byte* at = padded.data();
  int left = static_cast<int>(packed.size());
  while (left > 0) {
    Byte* frame = nullptr;
    int size = 0;
    const int used =
        av_parser_parse2(s.parser, s.context, &frame, &size, at, left, AV_NOPTS_VALUE, AV_NOPTS_VALUE, 0);
    if (used < 0 || (used == 0 && size == 0)) break;
    at += used;
    left -= used;
    if (size > 0) s.open(frame, size, out);
  }
  return out;
}

}  // namespace kw

// A tone, packed by FFmpeg's encoders, and how much of some samples is that tone.
#pragma once
extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/log.h>
}

#include <cmath>
#include <cstring>
#include <numbers>
#include <stdexcept>
#include <vector>

#include "base/bytes.hpp"
#include "base/little.hpp"

namespace kw::test {

constexpr double kToneHertz = 440;

struct PackedTone {
  std::vector<Bytes> packets;
  Bytes configuration;
  int block = 0, bits = 0, bitRate = 0;
};

/// Both channels carry the tone. Throws when this machine cannot encode it.
inline PackedTone packTone(AVCodecID id, int channels, int rate, double seconds) {
  av_log_set_level(AV_LOG_QUIET);
  const AVCodec* codec = avcodec_find_encoder(id);
  if (id == AV_CODEC_ID_OPUS) codec = avcodec_find_encoder_by_name("libopus");
  if (codec == nullptr) throw std::runtime_error("no encoder for this sound");
  AVCodecContext* c = avcodec_alloc_context3(codec);
  const auto* form = codec->sample_fmts;
  while (*form == AV_SAMPLE_FMT_S32 || *form == AV_SAMPLE_FMT_S32P) ++form;
  c->sample_fmt = *form;
  c->sample_rate = rate;
  c->bit_rate = 96000;
  av_channel_layout_default(&c->ch_layout, channels);
  if (avcodec_open2(c, codec, nullptr) < 0) throw std::runtime_error("the encoder does not start");
  PackedTone out;
  out.configuration.assign(c->extradata, c->extradata + c->extradata_size);
  out.block = c->block_align;
  out.bits = c->bits_per_coded_sample;
  out.bitRate = static_cast<int>(c->bit_rate);
  AVFrame* frame = av_frame_alloc();
  AVPacket* packet = av_packet_alloc();
  const int perFrame = c->frame_size > 0 ? c->frame_size : 1024;
  const bool planar = av_sample_fmt_is_planar(c->sample_fmt) != 0;
  const bool floats = c->sample_fmt == AV_SAMPLE_FMT_FLT || c->sample_fmt == AV_SAMPLE_FMT_FLTP;
  const auto drain = [&] {
    while (avcodec_receive_packet(c, packet) == 0) {
      out.packets.emplace_back(packet->data, packet->data + packet->size);
      av_packet_unref(packet);
    }
  };
  for (int first = 0; first < seconds * rate; first += perFrame) {
    av_frame_unref(frame);
    frame->nb_samples = perFrame;
    frame->format = c->sample_fmt;
    frame->sample_rate = rate;
    frame->pts = first;
    av_channel_layout_copy(&frame->ch_layout, &c->ch_layout);
    if (av_frame_get_buffer(frame, 0) < 0) throw std::runtime_error("no memory for samples");
    for (int i = 0; i < perFrame; ++i)
      for (int ch = 0; ch < channels; ++ch) {
        const double v = 0.4 * std::sin((first + i) * 2 * std::numbers::pi * kToneHertz / rate);
        Byte* plane = frame->extended_data[planar ? ch : 0];
        const auto at = static_cast<std::size_t>(planar ? i : i * channels + ch);
        const auto whole = static_cast<std::int16_t>(v * 32767);
        const auto part = static_cast<float>(v);
        if (floats)
          std::memcpy(plane + at * 4, &part, 4);
        else
          std::memcpy(plane + at * 2, &whole, 2);
      }
    avcodec_send_frame(c, frame);
    drain();
  }
  avcodec_send_frame(c, nullptr);
  drain();
  av_packet_free(&packet);
  av_frame_free(&frame);
  avcodec_free_context(&c);
  return out;
}

/// The part of the samples' power (signed 16 bits, little endian) that lies at the tone, from 0 to 1, in one
/// channel. What encoders put before the sound is left out.
inline double toneShare(ByteView samples, int channels, int channel, int rate) {
  const std::size_t step = static_cast<std::size_t>(channels) * 2;
  const std::size_t count = samples.size() / step, skipped = count / 4;
  double sine = 0, cosine = 0, power = 0;
  // Whole periods only.
  const double period = rate / kToneHertz;
  const auto used =
      static_cast<std::size_t>(std::floor(static_cast<double>(count - skipped) * 0.8 / period) * period);
  for (std::size_t i = 0; i < used; ++i) {
    const Byte* at = samples.data() + (skipped + i) * step + static_cast<std::size_t>(channel) * 2;
    const double v = static_cast<std::int16_t>(loadLe16(at));
    const double angle = static_cast<double>(i) * 2 * std::numbers::pi * kToneHertz / rate;
    sine += v * std::sin(angle);
    cosine += v * std::cos(angle);
    power += v * v;
  }
  if (power == 0) return 0;
  return 2 * (sine * sine + cosine * cosine) / (static_cast<double>(used) * power);
}

}  // namespace kw::test

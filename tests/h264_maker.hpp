// H.264 as libx264 makes it out of our pictures, in the pipeline's own colours.
#pragma once
extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/log.h>
#include <libavutil/opt.h>
}

#include <array>
#include <cmath>

#include <cstring>
#include <stdexcept>

#include "picture/framebuffer.hpp"

namespace kw::test {

/// The bench has no test around it.
inline void need(bool holds) {
  if (!holds) throw std::runtime_error("libx264 does not encode");
}

inline void clip(int& v) { v = std::clamp(v, 0, 255); }

/// Luma and colours of a picture in the pipeline's own matrix (BT.709, full range), each whole.
struct Planes {
  Size size;
  std::array<Bytes, 3> planes;
  [[nodiscard]] Byte at(int plane, int x, int y) const {
    return planes[static_cast<std::size_t>(plane)]
                 [static_cast<std::size_t>(y) * static_cast<std::size_t>(size.width) +
                  static_cast<std::size_t>(x)];
  }
};

inline Planes planesOf(const Framebuffer& f) {
  Planes out{f.size(), {}};
  for (int y = 0; y < f.height(); ++y)
    for (int x = 0; x < f.width(); ++x) {
      const double r = f.pixel(x, y) >> 16 & 255, g = f.pixel(x, y) >> 8 & 255, b = f.pixel(x, y) & 255;
      const double luma = 0.2126 * r + 0.7152 * g + 0.0722 * b;
      int v[3] = {static_cast<int>(std::lround(luma)),
                  static_cast<int>(std::lround((b - luma) / 1.8556 + 128)),
                  static_cast<int>(std::lround((r - luma) / 1.5748 + 128))};
      for (int i = 0; i < 3; ++i)
        clip(v[i]), out.planes[static_cast<std::size_t>(i)].push_back(static_cast<Byte>(v[i]));
    }
  return out;
}

/// 4:2:0 from whole planes; colours as the mean of four.
struct Frame420 {
  Size size;
  std::array<Bytes, 3> planes;
};

inline Frame420 mainFrame(const Planes& p) {
  Frame420 out{p.size, {p.planes[0], {}, {}}};
  for (int c = 1; c < 3; ++c)
    for (int y = 0; y < p.size.height; y += 2)
      for (int x = 0; x < p.size.width; x += 2)
        out.planes[static_cast<std::size_t>(c)].push_back(static_cast<Byte>(
            (p.at(c, x, y) + p.at(c, x + 1, y) + p.at(c, x, y + 1) + p.at(c, x + 1, y + 1) + 2) / 4));
  return out;
}

class H264Maker {
 public:
  /// `quality`: libx264's constant rate factor, 0 loses nothing.
  explicit H264Maker(Size size, const char* quality = "0") : size_(size) {
    av_log_set_level(AV_LOG_QUIET);
    const AVCodec* codec = avcodec_find_encoder(AV_CODEC_ID_H264);
    need(codec != nullptr);
    context_ = avcodec_alloc_context3(codec);
    context_->width = size.width, context_->height = size.height;
    context_->time_base = {1, 25};
    context_->pix_fmt = AV_PIX_FMT_YUV420P;
    context_->max_b_frames = 0;
    av_opt_set(context_->priv_data, "tune", "zerolatency", 0);
    av_opt_set(context_->priv_data, "crf", quality, 0);
    need(avcodec_open2(context_, codec, nullptr) == 0);
  }
  ~H264Maker() { avcodec_free_context(&context_); }

  Bytes encode(const Frame420& in) {
    AVFrame* frame = av_frame_alloc();
    frame->format = AV_PIX_FMT_YUV420P, frame->width = size_.width, frame->height = size_.height;
    need(av_frame_get_buffer(frame, 0) == 0);
    for (int p = 0; p < 3; ++p) {
      const int w = p == 0 ? size_.width : size_.width / 2, h = p == 0 ? size_.height : size_.height / 2;
      for (int y = 0; y < h; ++y)
        std::memcpy(frame->data[p] + y * frame->linesize[p],
                    in.planes[static_cast<std::size_t>(p)].data() + y * w, static_cast<std::size_t>(w));
    }
    frame->pts = next_++;
    need(avcodec_send_frame(context_, frame) == 0);
    AVPacket* packet = av_packet_alloc();
    need(avcodec_receive_packet(context_, packet) == 0);
    Bytes out(packet->data, packet->data + packet->size);
    av_packet_free(&packet);
    av_frame_free(&frame);
    return out;
  }

 private:
  Size size_;
  AVCodecContext* context_ = nullptr;
  std::int64_t next_ = 0;
};

}  // namespace kw::test

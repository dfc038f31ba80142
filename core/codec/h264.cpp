#include "codec/h264.hpp"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/log.h>
#include <libswscale/swscale.h>
}

#include "base/error.hpp"

namespace kw {

struct H264Decoder::State {
  AVCodecContext* context = nullptr;
  AVFrame* frame = av_frame_alloc();
  AVFrame* spare = av_frame_alloc();
  AVPacket* packet = av_packet_alloc();
  SwsContext* scaler = nullptr;
  ~State() {
    sws_freeContext(scaler);
    av_packet_free(&packet);
    av_frame_free(&frame);
    av_frame_free(&spare);
    avcodec_free_context(&context);
  }
};

H264Decoder::H264Decoder() : state_(std::make_unique<State>()) {
  av_log_set_level(AV_LOG_QUIET);
  const AVCodec* codec = avcodec_find_decoder(AV_CODEC_ID_H264);
  if (codec == nullptr) throw Error(ErrorKind::Unsupported, "this machine's libavcodec has no H.264 decoder");
  state_->context = avcodec_alloc_context3(codec);
  state_->context->thread_count = 1;
  state_->context->flags |= AV_CODEC_FLAG_LOW_DELAY;
  state_->context->max_pixels = kMostPictureArea;
  if (avcodec_open2(state_->context, codec, nullptr) < 0)
    throw Error(ErrorKind::Unsupported, "the H.264 decoder does not start");
}
H264Decoder::~H264Decoder() = default;

void H264Decoder::feed(ByteView unit) {
  State& s = *state_;
  Bytes padded(unit.begin(), unit.end());
  padded.resize(unit.size() + AV_INPUT_BUFFER_PADDING_SIZE);
  s.packet->data = padded.data();
  s.packet->size = static_cast<int>(unit.size());
  if (avcodec_send_packet(s.context, s.packet) < 0) protocolBroken("H.264 rectangle", "cannot be decoded");
}

std::optional<Yuv420> H264Decoder::decodePlanes(ByteView unit) {
  feed(unit);
  State& s = *state_;
  bool any = false;
  // receive_frame() lets go of the frame before, also when there is no other: it goes into a spare one first.
  while (avcodec_receive_frame(s.context, s.spare) == 0) {
    std::swap(s.frame, s.spare);
    any = true;
  }
  if (!any) return std::nullopt;
  if (s.frame->format != AV_PIX_FMT_YUV420P && s.frame->format != AV_PIX_FMT_YUVJ420P)
    protocolBroken("H.264 picture", "is not in 4:2:0");
  Yuv420 out;
  for (int i = 0; i < 3; ++i) {
    out.planes[i] = s.frame->data[i];
    out.strides[i] = s.frame->linesize[i];
  }
  out.size = {s.frame->width, s.frame->height};
  return out;
}

bool H264Decoder::decode(ByteView unit, Framebuffer& picture, const Rect& target) {
  feed(unit);
  State& s = *state_;
  bool any = false;
  while (avcodec_receive_frame(s.context, s.frame) == 0) {
    const Rect shown = Rect{target.x, target.y, std::min(target.width, s.frame->width),
                            std::min(target.height, s.frame->height)}
                           .intersected(picture.rect());
    if (shown.empty()) continue;
    s.scaler = sws_getCachedContext(s.scaler, shown.width, shown.height,
                                    static_cast<AVPixelFormat>(s.frame->format), shown.width, shown.height,
                                    AV_PIX_FMT_BGRA, SWS_POINT, nullptr, nullptr, nullptr);
    if (s.scaler == nullptr) protocolBroken("H.264 rectangle", "has an unknown pixel format");
    Byte* planes[1] = {reinterpret_cast<Byte*>(picture.at(shown.x, shown.y))};
    const int strides[1] = {static_cast<int>(picture.stride() * sizeof(Pixel))};
    sws_scale(s.scaler, s.frame->data, s.frame->linesize, 0, shown.height, planes, strides);
    any = true;
  }
  return any;
}

}  // namespace kw

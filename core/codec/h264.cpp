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
  AVPacket* packet = av_packet_alloc();
  SwsContext* scaler = nullptr;
  ~State() {
    sws_freeContext(scaler);
    av_packet_free(&packet);
    av_frame_free(&frame);
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

bool H264Decoder::decode(ByteView unit, Framebuffer& picture, const Rect& target) {
  State& s = *state_;
  Bytes padded(unit.begin(), unit.end());
  padded.resize(unit.size() + AV_INPUT_BUFFER_PADDING_SIZE);
  s.packet->data = padded.data();
  s.packet->size = static_cast<int>(unit.size());
  if (avcodec_send_packet(s.context, s.packet) < 0) protocolBroken("H.264 rectangle", "cannot be decoded");
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

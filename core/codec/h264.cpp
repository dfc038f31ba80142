#include "codec/h264.hpp"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/hwcontext.h>
#include <libavutil/log.h>
#include <libswscale/swscale.h>
}

#include <algorithm>

#include "base/error.hpp"

namespace kw {

struct H264Decoder::State {
  AVCodecContext* context = nullptr;
  AVFrame* frame = av_frame_alloc();
  AVFrame* spare = av_frame_alloc();
  AVPacket* packet = av_packet_alloc();
  AVFrame* broughtDown = av_frame_alloc();  ///< from the graphics processor's memory
  SwsContext* scaler = nullptr;
  Bytes colours[2];
  bool byHardware = false;
  State() = default;
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  void useHardware();
  /// The picture in this program's memory.
  const AVFrame& here(AVFrame* decoded);
  ~State() {
    sws_freeContext(scaler);
    av_packet_free(&packet);
    av_frame_free(&frame);
    av_frame_free(&spare);
    av_frame_free(&broughtDown);
    avcodec_free_context(&context);
  }
};

namespace {

AVPixelFormat chosenFormat(AVCodecContext* context, const AVPixelFormat* offered) {
  for (const AVPixelFormat* f = offered; *f != AV_PIX_FMT_NONE; ++f)
    if (*f == AV_PIX_FMT_VAAPI) return *f;
  // A processor without this profile: its device was there, its decoder is not.
  *static_cast<bool*>(context->opaque) = false;
  return avcodec_default_get_format(context, offered);
}

}  // namespace

void splitColours(const Byte* pairs, std::ptrdiff_t stride, int width, int height, Bytes& first,
                  Bytes& second) {
  const auto size = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  first.resize(size);
  second.resize(size);
  std::size_t at = 0;
  for (int y = 0; y < height; ++y, pairs += stride)
    for (int x = 0; x < width; ++x, ++at) first[at] = pairs[2 * x], second[at] = pairs[2 * x + 1];
}

void H264Decoder::State::useHardware() {
  AVBufferRef* device = nullptr;
  if (av_hwdevice_ctx_create(&device, AV_HWDEVICE_TYPE_VAAPI, nullptr, nullptr, 0) < 0) return;
  context->hw_device_ctx = device;
  context->get_format = chosenFormat;
  context->opaque = &byHardware;
  byHardware = true;
}

const AVFrame& H264Decoder::State::here(AVFrame* decoded) {
  if (decoded->format != AV_PIX_FMT_VAAPI) return *decoded;
  av_frame_unref(broughtDown);
  if (av_hwframe_transfer_data(broughtDown, decoded, 0) < 0)
    throw Error(ErrorKind::Unsupported, "the graphics processor does not give its picture back",
                "choose decoding in software on the record's sheet");
  return *broughtDown;
}

bool H264Decoder::byHardware() const { return state_->byHardware; }

H264Decoder::H264Decoder(bool hardware) : state_(std::make_unique<State>()) {
  av_log_set_level(AV_LOG_QUIET);
  const AVCodec* codec = avcodec_find_decoder(AV_CODEC_ID_H264);
  if (codec == nullptr) throw Error(ErrorKind::Unsupported, "this machine's libavcodec has no H.264 decoder");
  state_->context = avcodec_alloc_context3(codec);
  state_->context->thread_count = 1;
  state_->context->flags |= AV_CODEC_FLAG_LOW_DELAY;
  state_->context->max_pixels = kMostPictureArea;
  if (hardware) state_->useHardware();
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
  const AVFrame& f = s.here(s.frame);
  const bool paired = f.format == AV_PIX_FMT_NV12;
  if (f.format != AV_PIX_FMT_YUV420P && f.format != AV_PIX_FMT_YUVJ420P && !paired)
    protocolBroken("H.264 picture", "is not in 4:2:0");
  Yuv420 out;
  for (int i = 0; i < 3; ++i) {
    out.planes[i] = f.data[i];
    out.strides[i] = f.linesize[i];
  }
  if (paired) {
    const int width = (f.width + 1) / 2;
    splitColours(f.data[1], f.linesize[1], width, (f.height + 1) / 2, s.colours[0], s.colours[1]);
    for (int i = 1; i < 3; ++i) out.planes[i] = s.colours[i - 1].data(), out.strides[i] = width;
  }
  out.size = {f.width, f.height};
  return out;
}

bool H264Decoder::decode(ByteView unit, Framebuffer& picture, const Rect& target) {
  feed(unit);
  State& s = *state_;
  bool any = false;
  while (avcodec_receive_frame(s.context, s.frame) == 0) {
    const AVFrame& f = s.here(s.frame);
    const Rect shown =
        Rect{target.x, target.y, std::min(target.width, f.width), std::min(target.height, f.height)}
            .intersected(picture.rect());
    if (shown.empty()) continue;
    s.scaler = sws_getCachedContext(s.scaler, shown.width, shown.height, static_cast<AVPixelFormat>(f.format),
                                    shown.width, shown.height, AV_PIX_FMT_BGRA, SWS_POINT, nullptr, nullptr,
                                    nullptr);
    if (s.scaler == nullptr) protocolBroken("H.264 rectangle", "has an unknown pixel format");
    Byte* planes[1] = {reinterpret_cast<Byte*>(picture.at(shown.x, shown.y))};
    const int strides[1] = {static_cast<int>(picture.stride() * sizeof(Pixel))};
    sws_scale(s.scaler, f.data, f.linesize, 0, shown.height, planes, strides);
    any = true;
  }
  return any;
}

}  // namespace kw

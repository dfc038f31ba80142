#include "codec/jpeg.hpp"

#include <turbojpeg.h>

#include "base/error.hpp"

namespace kw {

JpegDecoder::JpegDecoder() : handle_(tjInitDecompress()) {
  if (handle_ == nullptr) throw Error(ErrorKind::Local, "no memory for JPEG");
}
JpegDecoder::~JpegDecoder() { tjDestroy(handle_); }

Size JpegDecoder::sizeOf(ByteView jpeg) {
  int width = 0, height = 0, sampling = 0, space = 0;
  if (tjDecompressHeader3(handle_, jpeg.data(), jpeg.size(), &width, &height, &sampling, &space) != 0)
    protocolBroken("JPEG", tjGetErrorStr2(handle_));
  return {width, height};
}

void JpegDecoder::decode(ByteView jpeg, Size size, Pixel* out, std::size_t stride) {
  if (!(sizeOf(jpeg) == size)) protocolBroken("JPEG", "has another size than was said");
  const int pitch = stride == 0 ? size.width * 4 : static_cast<int>(stride * sizeof(Pixel));
  if (tjDecompress2(handle_, jpeg.data(), jpeg.size(), reinterpret_cast<Byte*>(out), size.width, pitch,
                    size.height, TJPF_BGRA, 0) != 0 &&
      tjGetErrorCode(handle_) == TJERR_FATAL)
    protocolBroken("JPEG", tjGetErrorStr2(handle_));
}

void JpegDecoder::decode(ByteView jpeg, Framebuffer& picture, const Rect& target) {
  int width = 0, height = 0, sampling = 0, space = 0;
  if (tjDecompressHeader3(handle_, jpeg.data(), jpeg.size(), &width, &height, &sampling, &space) != 0)
    protocolBroken("JPEG rectangle", tjGetErrorStr2(handle_));
  if (width != target.width || height != target.height)
    protocolBroken("JPEG rectangle", "holds " + std::to_string(width) + "x" + std::to_string(height) +
                                         " instead of " + std::to_string(target.width) + "x" +
                                         std::to_string(target.height));
  const int pitch = static_cast<int>(picture.stride() * sizeof(Pixel));
  auto* out = reinterpret_cast<Byte*>(picture.at(target.x, target.y));
  if (tjDecompress2(handle_, jpeg.data(), jpeg.size(), out, width, pitch, height, TJPF_BGRA, 0) != 0 &&
      tjGetErrorCode(handle_) == TJERR_FATAL)
    protocolBroken("JPEG rectangle", tjGetErrorStr2(handle_));
}

JpegEncoder::JpegEncoder() : handle_(tjInitCompress()) {
  if (handle_ == nullptr) throw Error(ErrorKind::Local, "no memory for JPEG");
}
JpegEncoder::~JpegEncoder() { tjDestroy(handle_); }

Bytes JpegEncoder::encode(const Framebuffer& picture, const Rect& area, int quality, bool fullColour) {
  Byte* data = nullptr;
  unsigned long size = 0;
  const auto* in = reinterpret_cast<const Byte*>(picture.row(area.y) + area.x);
  const int result =
      tjCompress2(handle_, in, area.width, static_cast<int>(picture.stride() * sizeof(Pixel)), area.height,
                  TJPF_BGRX, &data, &size, fullColour ? TJSAMP_444 : TJSAMP_420, quality, TJFLAG_FASTDCT);
  Bytes out;
  if (result == 0) out.assign(data, data + size);
  tjFree(data);
  if (result != 0) throw Error(ErrorKind::Local, tjGetErrorStr2(handle_));
  return out;
}

}  // namespace kw

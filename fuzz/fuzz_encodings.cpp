// One rectangle after another, each of an encoding and size that the input chooses.
#include "fuzz/support.hpp"
#include "rfb/constants.hpp"
#include "rfb/rect_decoder.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace kw;
  using namespace kw::rfb;
  static constexpr std::int32_t kinds[] = {encoding::kRaw,   encoding::kCopyRect, encoding::kRre,
                                           encoding::kCoRre, encoding::kHextile,  encoding::kZlib,
                                           encoding::kTight, encoding::kTrle,     encoding::kZrle,
                                           encoding::kJpeg,  encoding::kTightPng, encoding::kOpenH264};
  if (size < 6) return 0;
  const PixelFormat formats[] = {PixelFormat::native(), PixelFormat::rgb565(), PixelFormat::rgb332(),
                                 PixelFormat::colourMapped()};
  const PixelFormat format = formats[data[1] % 4];
  Framebuffer picture({96, 80});
  try {
    runToEnd([&]() -> Task<void> {
      auto stream = replayStream(Bytes(data + 2, data + size), data[1] % 16 == 15 ? 1 : SIZE_MAX);
      WireReader in(*stream);
      RectDecoder decoder(format);
      for (;;) {
        const unsigned kind = co_await in.readU8();
        const unsigned place = co_await in.readU8();
        const Rect rect{static_cast<int>(place % 8), static_cast<int>(place / 8 % 8),
                        static_cast<int>(1 + place % 89), static_cast<int>(1 + place % 71)};
        co_await decoder.decode(kinds[(kind + data[0]) % std::size(kinds)], rect, in, picture);
      }
    });
  } catch (const Error&) {
  }
  return 0;
}

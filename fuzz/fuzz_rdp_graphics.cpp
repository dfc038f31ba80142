// What an RDP service may send in its later forms: each codec, the pipeline's messages, surface commands,
// sound, the clipboard. The first byte chooses.
#include "fuzz/support.hpp"
#include "rdp/auto_detect.hpp"
#include "rdp/clip_forms.hpp"
#include "rdp/codec/bulk.hpp"
#include "rdp/codec/nscodec.hpp"
#include "rdp/graphics.hpp"
#include "rdp/orders.hpp"
#include "rdp/share.hpp"
#include "rdp/sound.hpp"
#include "rdp/surface_commands.hpp"

namespace {

using namespace kw;
using namespace kw::rdp;

void pipeline(ByteView input) {
  auto picture = std::make_shared<Framebuffer>(Size{128, 96});
  Graphics graphics(picture, {[](Bytes) {},
                              [](Size size, std::vector<Rect>) {
                                if (size.area() > 512 * 512)
                                  throw Error(ErrorKind::Local, "too large to fuzz");
                              },
                              [](const Region&) {}});
  graphics.opened();
  LittleWriter make, map;
  make.u16(1).u16(128).u16(96).u8(0x20);
  map.u16(1).u16(0).u32(0).u32(0);
  graphics.take(writeZgfx(writeGraphics(graphics::kCreateSurface, make.view())));
  graphics.take(writeZgfx(writeGraphics(graphics::kMapToOutput, map.view())));
  // Messages as they come: two bytes of length, a command, a body.
  LittleReader in(input);
  while (in.left() >= 4) {
    const std::size_t length = in.u16();
    const unsigned command = in.u16() % 0x18;
    const ByteView body = in.bytes(std::min(length, in.left()));
    // Surfaces as large as a screen are slow to fuzz.
    if (command == graphics::kCreateSurface && body.size() >= 6 &&
        std::int64_t{loadLe16(body.data() + 2)} * loadLe16(body.data() + 4) > 512 * 512)
      continue;
    graphics.take(writeZgfx(writeGraphics(command, body)));
  }
}

/// What holds of every decoder: its output has its size, and it ends.
void codec(unsigned which, ByteView input) {
  static ZgfxReader zgfx;
  Framebuffer picture({130, 70});
  std::vector<Pixel> pixels;
  std::int16_t values[4096];
  switch (which) {
    case 0: decodeRlgr(RlgrMode::One, input, values); break;
    case 1: decodeRlgr(RlgrMode::Three, input, values); break;
    case 2: RemoteFxDecoder().decode(input, picture, {3, 5}); break;
    case 3: {
      ProgressiveDecoder decoder;
      const std::size_t half = input.size() / 2;
      try {
        decoder.decode(input.first(half), picture);
      } catch (const Error&) {
      }
      decoder.decode(input.subspan(half), picture);
      break;
    }
    case 4: zgfx.open(input); break;
    case 5: decodeNsCodec(input, {37, 21}, pixels); break;
    case 6: {
      ClearDecoder decoder;
      const std::size_t half = input.size() / 2;
      try {
        decoder.decode(input.first(half), {31, 29}, pixels);
      } catch (const Error&) {
      }
      decoder.decode(input.subspan(half), {31, 29}, pixels);
      break;
    }
    case 7: AvcDecoder().decode420(input, picture, {0, 0}); break;
    case 8: AvcDecoder().decode444(input, FullColour::First, picture, {0, 0}); break;
    default: AvcDecoder().decode444(input, FullColour::Second, picture, {0, 0}); break;
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const ByteView input(data + 1, size - 1);
  try {
    switch (fuzz::part(data[0], 18)) {
      case 16: {
        Orders orders(std::make_shared<Framebuffer>(Size{100, 80}));
        orders.take(input, 40, data[1] % 2 == 0 ? 32 : 16, defaultColourMap());
        break;
      }
      case 17: BulkReader().open(bulk::kCompressed | data[1] % 4, input); break;
      case 10:
      case 11: pipeline(input); break;
      case 12: {
        SurfaceCommands commands(std::make_shared<Framebuffer>(Size{100, 80}), [](std::uint32_t) {});
        commands.take(input);
        break;
      }
      case 13: {
        SoundReader sound({[](Bytes) {}, [](SampleForm) {}, [](ByteView) {}, [] {}}, true);
        const std::size_t half = input.size() / 2;
        sound.take(input.first(half));
        sound.take(input.subspan(half));
        break;
      }
      case 14: {
        formsIn(readFormatList(input, data[1] % 2 == 0, data[1] % 3 == 0));
        for (const ClipFormat& f : formatsFor({ClipForm::Text, ClipForm::Html, ClipForm::Rtf}))
          fromWire(f, input);
        fromWire({kBitmap, ""}, input);
        break;
      }
      case 15: {
        AutoDetect().take(input, 1000, std::chrono::nanoseconds(5));
        LittleReader in(input);
        readMonitors(in, in.u32());
        break;
      }
      default: codec(fuzz::part(data[0], 18), input); break;
    }
  } catch (const Error&) {
  }
  return 0;
}

// What a SPICE host may send: every image kind, display messages on a surface, links, the agent's talk,
// pointers.
#include "fuzz/support.hpp"
#include "spice/agent.hpp"
#include "spice/channel.hpp"
#include "spice/cursor.hpp"
#include "spice/display.hpp"

namespace {

using namespace kw;
using namespace kw::spice;

struct Events : DisplayEvents {
  void primaryResized() override {}
  void primaryDamaged(const Region&) override {}
  void headsChanged() override {}
  void primaryWhole() override {}
};

/// A display whose one surface has this size.
struct OneSurface {
  OneSurface(std::uint32_t width, std::uint32_t height) {
    LittleWriter create;
    create.u32(0).u32(width).u32(height).u32(32).u32(1);
    display.take(msg::kSurfaceCreate, create.view());
  }
  Events events;
  Display display{events};
};

/// Messages one after the other: type (two bytes), length (two bytes), body.
void display(ByteView input) {
  OneSurface one(96, 80);
  LittleReader in(input);
  while (in.left() > 4) {
    const unsigned type = 100 + in.u16() % 220;
    const ByteView body = in.bytes(std::min<std::size_t>(in.u16(), in.left()));
    if (type == msg::kSurfaceCreate && body.size() >= 12 &&
        (body[5] > 2 || body[6] != 0 || body[9] > 2 || body[10] != 0))
      continue;  // large surfaces are allowed, but slow to fuzz
    one.display.take(type, body);
  }
}

/// One image of the kind drawn onto a surface of its size.
void drawn(unsigned kind, ByteView data) {
  OneSurface one(48, 40);
  LittleWriter out;
  out.u32(0).u32(0).u32(0).u32(40).u32(48).u8(0);
  out.u32(static_cast<std::uint32_t>(out.size()) + 4 + 16 + 2 + 1 + 13);
  out.u32(0).u32(0).u32(40).u32(48).u16(8).u8(0);
  out.u8(0).u32(0).u32(0).u32(0);  // no mask
  out.u64(1).u8(kind).u8(0).u32(48).u32(40).bytes(data);
  one.display.take(msg::kDrawCopy, out.view());
}

/// A sized piece of data, as JPEG and packed dictionaries have it.
void drawnSized(unsigned kind, ByteView data) {
  LittleWriter out;
  if (kind == image::kJpegAlpha)
    out.u8(1).u32(static_cast<std::uint32_t>(data.empty() ? 0 : std::size_t{data[0]} * data.size() / 255));
  if (kind == image::kZlibGlz) out.u32(60000);
  out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
  drawn(kind, out.view());
}

/// The same data as two frames of a stream.
void stream(ByteView data) {
  OneSurface one(48, 40);
  LittleWriter begin;
  begin.u32(0).u32(7).u8(data.empty() ? 0 : data[0] & 1).u8(1).u64(0);
  begin.u32(48).u32(40).u32(48).u32(40).u32(0).u32(0).u32(40).u32(48).u8(0);
  one.display.take(msg::kStreamCreate, begin.view());
  for (int frame = 0; frame < 2; ++frame) {
    LittleWriter out;
    out.u32(7).u32(0).u32(static_cast<std::uint32_t>(data.size())).bytes(data);
    one.display.take(msg::kStreamData, out.view());
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const ByteView input(data + 1, size - 1);
  const Size picture{48, 40};
  try {
    switch (fuzz::part(data[0], 13)) {
      case 0: display(input); break;
      case 1: decodeQuic(input, picture); break;
      case 2: decodeLz(input, picture, {rgb(1, 2, 3), rgb(4, 5, 6)}); break;
      case 3: {
        GlzWindow window;
        window.decode(input.first(input.size() / 2), picture);
        window.decode(input.subspan(input.size() / 2), picture);
        break;
      }
      case 4: decodeLz4(input, picture); break;
      case 5: {
        Pointers pointers;
        LittleReader in(input);
        while (in.left() > 2) pointers.read(in);
        break;
      }
      case 6: {
        Agent agent({[](Bytes) {}, [](std::uint32_t) {}, [](const std::string&) {}, [] {}});
        agent.connected(10);
        for (std::size_t at = 0; at < input.size(); at += 200)
          agent.take(input.subspan(at, std::min<std::size_t>(200, input.size() - at)));
        break;
      }
      case 7:
        runToEnd([&]() -> Task<void> {
          auto stream = replayStream(Bytes(input.begin(), input.end()));
          LinkWish wish;
          co_await link(*stream, wish);
        });
        break;
      case 8: drawn(image::kBitmap, input); break;
      case 9: drawnSized(image::kJpeg, input); break;
      case 10: drawnSized(image::kJpegAlpha, input); break;
      case 11: drawnSized(image::kZlibGlz, input); break;
      default: stream(input); break;
    }
  } catch (const Error&) {
  }
  return 0;
}

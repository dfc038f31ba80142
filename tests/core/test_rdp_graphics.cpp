// The graphics pipeline, sound, several monitors and signs of life, between our own two sides; pipeline
// messages from the specification; H.264 as libx264 makes it.
#include <cmath>

#include "rdp/codec/avc.hpp"
#include "rdp/codec/yuv_rows.hpp"
#include "tests/core/rdp_bench.hpp"
#include "tests/h264_maker.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

/// MS-RDPEGFX 3.3.8.3.2: the rest of the colours in the first arrangement.
Frame420 restFirst(const Planes& p) {
  Frame420 out{p.size, {Bytes(static_cast<std::size_t>(p.size.area()), 128), {}, {}}};
  for (int y = 1; y < p.size.height; y += 2)
    for (int c = 1; c < 3; ++c) {
      const int row = y / 2 / 8 * 16 + y / 2 % 8 + (c - 1) * 8;
      for (int x = 0; x < p.size.width; ++x)
        out.planes[0][static_cast<std::size_t>(row * p.size.width + x)] = p.at(c, x, y);
    }
  for (int c = 1; c < 3; ++c)
    for (int y = 0; y < p.size.height; y += 2)
      for (int x = 1; x < p.size.width; x += 2)
        out.planes[static_cast<std::size_t>(c)].push_back(p.at(c, x, y));
  return out;
}

/// MS-RDPEGFX 3.3.8.3.3: in the second.
Frame420 restSecond(const Planes& p) {
  const int w = p.size.width, h = p.size.height;
  Frame420 out{p.size,
               {Bytes(static_cast<std::size_t>(w * h)), Bytes(static_cast<std::size_t>(w * h / 4)),
                Bytes(static_cast<std::size_t>(w * h / 4))}};
  for (int c = 1; c < 3; ++c) {
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w / 2; ++x)
        out.planes[0][static_cast<std::size_t>(y * w + (c - 1) * (w / 2) + x)] = p.at(c, 2 * x + 1, y);
    for (int y = 0; y < h / 2; ++y)
      for (int x = 0; x < w / 4; ++x) {
        const auto at = static_cast<std::size_t>(y * (w / 2) + (c - 1) * (w / 4) + x);
        out.planes[1][at] = p.at(c, 4 * x, 2 * y + 1);
        out.planes[2][at] = p.at(c, 4 * x + 2, 2 * y + 1);
      }
  }
  return out;
}

/// 2.2.4.4 for the whole picture.
Bytes withRect(Size size, ByteView coded) {
  LittleWriter out;
  out.u32(1).u16(0).u16(0).u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
  return out.u8(20).u8(100).bytes(coded).take();
}

/// Smooth, with colours that change from pixel to pixel only a little.
Framebuffer smooth(Size size) {
  Framebuffer out(size);
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x)
      *out.at(x, y) =
          rgb(static_cast<unsigned>(x * 255 / size.width), static_cast<unsigned>(y * 255 / size.height),
              static_cast<unsigned>((x + y) * 255 / (size.width + size.height)));
  return out;
}

/// Single columns of red and blue, far enough apart to be no noise, which 4:2:0 alone cannot show.
Framebuffer striped(Size size) {
  Framebuffer out(size);
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x) *out.at(x, y) = x % 2 == 0 ? rgb(200, 60, 60) : rgb(60, 60, 200);
  return out;
}

/// A pipeline that is fed by hand.
struct Fed {
  explicit Fed(Graphics::Video wished = Graphics::Video::Software) : video(wished) {}
  Graphics::Video video;
  int inSoftware = 0;  ///< told, although hardware was wished
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>(Size{320, 200});
  std::vector<Bytes> sent;
  std::vector<Rect> monitors;
  Region damage = Region::exact();
  Graphics graphics{picture,
                    {[this](Bytes m) { sent.push_back(std::move(m)); },
                     [this](Size, std::vector<Rect> m) { monitors = std::move(m); },
                     [this](const Region& r) { damage.add(r); }, [this] { ++inSoftware; }},
                    video};
  void say(unsigned command, const LittleWriter& body) {
    graphics.take(compressZgfx(writeGraphics(command, body.view())));
  }
  void surface(unsigned id, Size size, Point at, bool shown = true) {
    LittleWriter make, map;
    say(graphics::kCreateSurface,
        make.u16(id).u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height)).u8(0x20));
    if (shown)
      say(graphics::kMapToOutput,
          map.u16(id).u16(0).u32(static_cast<std::uint32_t>(at.x)).u32(static_cast<std::uint32_t>(at.y)));
  }
  void fill(unsigned id, Pixel colour, const Rect& r) {
    LittleWriter out;
    out.u16(id).u32(colour).u16(1);
    for (int v : {r.x, r.y, r.right(), r.bottom()}) out.u16(static_cast<unsigned>(v));
    say(graphics::kSolidFill, out);
  }
  void endFrame(std::uint32_t frame) {
    LittleWriter start, end;
    say(graphics::kStartFrame, start.u32(0).u32(frame));
    say(graphics::kEndFrame, end.u32(frame));
  }
};

void put(LittleWriter& out, const Rect& r) {
  for (int v : {r.x, r.y, r.right(), r.bottom()}) out.u16(static_cast<unsigned>(v));
}

}  // namespace

TEST_CASE("Pipeline: every codec of our own service shows its desktop", "[rdp][graphics]") {
  const PipelineForm form = GENERATE(PipelineForm::Raw, PipelineForm::Planar, PipelineForm::Progressive,
                                     PipelineForm::Clear, PipelineForm::RemoteFx);
  const bool trickle = form == PipelineForm::Planar;
  Bench bench(trickle);
  bench.server.pipeline = form;
  bench.open();
  REQUIRE(bench.live());
  const bool lossy = form == PipelineForm::Progressive || form == PipelineForm::RemoteFx;
  REQUIRE(bench.until([&] {
    const auto lock = bench.seen_->lock();
    return largestDifference(*bench.seen_, *bench.shown) <= (lossy ? 10 : 0);
  }));
  // What changes later comes too.
  bench.on([&] {
    bench.shown->fill({40, 30, 100, 90}, rgb(10, 120, 60));
    bench.host->damaged(Region({40, 30, 100, 90}));
    return 0;
  });
  CHECK(bench.until([&] {
    const auto lock = bench.seen_->lock();
    return largestDifference(*bench.seen_, *bench.shown) <= (lossy ? 10 : 0);
  }));
  // Before the pipeline is there, bitmaps may have shown the same.
  const char* name = form == PipelineForm::Raw           ? "raw"
                     : form == PipelineForm::Planar      ? "planar"
                     : form == PipelineForm::Progressive ? "progressive"
                     : form == PipelineForm::Clear       ? "ClearCodec"
                                                         : "RemoteFX";
  CHECK(bench.until([&] { return bench.visitor->figures().rectanglesByForm.contains(name); }));
  CHECK(bench.until([&] {
    const auto lock = bench.seen_->lock();
    return largestDifference(*bench.seen_, *bench.shown) <= (lossy ? 10 : 0);
  }));
}

TEST_CASE("Pipeline: not asked for, bitmaps come; the size follows inside of it", "[rdp][graphics]") {
  Bench bench;
  bench.server.pipeline = PipelineForm::Planar;
  SECTION("not asked for") {
    bench.client.codecs.pipeline = false;
    bench.open();
    REQUIRE(bench.live());
    CHECK(samePixels(*bench.seen_, *bench.shown));
    CHECK(bench.on([&] { return bench.visitor->figures().rectanglesByForm.contains("planar"); }));
  }
  SECTION("another size") {
    bench.open();
    REQUIRE(bench.live());
    REQUIRE(bench.until([&] { return bench.seen.canResize > 0; }));
    bench.on([&] { return bench.visitor->requestSize({501, 300}), 0; });
    CHECK(bench.until([&] {
      const auto lock = bench.seen_->lock();
      return bench.seen_->size() == Size{500, 300} && samePixels(*bench.seen_, *bench.shown);
    }));
  }
}

TEST_CASE("Messages are packed where both sides can, and the picture is the same", "[rdp][graphics]") {
  Bench bench;
  bench.server.compress = true;
  bench.client.packing = GENERATE(std::optional<unsigned>(), bulk::k8K, bulk::k64K, bulk::kRdp61);
  bench.client.codecs.pipeline = false;
  bench.open();
  REQUIRE(bench.live());
  CHECK(samePixels(*bench.seen_, *bench.shown));
  // A flat desktop, several times over: its bitmaps repeat.
  for (int i = 0; i < 3; ++i) {
    bench.on([&] {
      bench.shown->fill(bench.shown->rect(), rgb(40u + static_cast<unsigned>(i), 90, 60));
      bench.host->damaged(Region(bench.shown->rect()));
      return 0;
    });
    CHECK(bench.until([&] {
      const auto lock = bench.seen_->lock();
      return samePixels(*bench.seen_, *bench.shown);
    }));
  }
}

TEST_CASE("Surface commands: RemoteFX and NSCodec from our own service", "[rdp][graphics]") {
  const PlainForm form = GENERATE(PlainForm::RemoteFx, PlainForm::NsCodec);
  Bench bench;
  bench.client.codecs = {false, false, form == PlainForm::RemoteFx, form == PlainForm::NsCodec};
  bench.server.plain = form;
  bench.open();
  REQUIRE(bench.live());
  CHECK(bench.until([&] {
    const auto lock = bench.seen_->lock();
    return largestDifference(*bench.seen_, *bench.shown) <= 10;
  }));
  CHECK(bench.on([&] {
    return bench.visitor->figures().rectanglesByForm.contains(form == PlainForm::RemoteFx ? "RemoteFX"
                                                                                          : "NSCodec");
  }));
}

TEST_CASE("Pipeline: fills, copies, kept pictures and mapping", "[rdp][graphics]") {
  Fed fed;
  LittleWriter reset;
  reset.u32(300).u32(150).u32(2);
  writeMonitors(reset, {{0, 0, 200, 150}, {200, 0, 100, 150}});
  fed.say(graphics::kReset, reset);
  CHECK(fed.picture->size() == Size{300, 150});
  CHECK(fed.monitors.size() == 2);
  fed.surface(1, {100, 80}, {10, 20});
  fed.surface(2, {50, 50}, {0, 0}, false);
  fed.fill(1, 0x00102030, {0, 0, 100, 80});
  fed.fill(2, 0x00ff0000, {0, 0, 50, 50});
  LittleWriter copy, keep, show;
  copy.u16(2).u16(1);
  put(copy, {0, 0, 20, 10});
  fed.say(graphics::kSurfaceToSurface, copy.u16(2).u16(5).u16(6).u16(95).u16(75));
  keep.u16(2).u64(1).u16(7);
  put(keep, {0, 0, 8, 8});
  fed.say(graphics::kSurfaceToCache, keep);
  fed.say(graphics::kCacheToSurface, show.u16(7).u16(1).u16(1).u16(50).u16(50));
  CHECK(fed.damage.empty());  // nothing is shown before its frame ends
  fed.endFrame(31);
  const Pixel ground = rgb(0x10, 0x20, 0x30), red = rgb(255, 0, 0);
  CHECK(fed.picture->pixel(10, 20) == ground);
  CHECK(fed.picture->pixel(15, 26) == red);
  CHECK(fed.picture->pixel(34, 35) == red);
  CHECK(fed.picture->pixel(35, 26) == ground);
  CHECK(fed.picture->pixel(109, 99) == red);  // cut at the surface's edge
  CHECK(fed.picture->pixel(110, 100) == kOpaque);
  CHECK(fed.picture->pixel(60, 70) == red);
  CHECK(fed.damage.covers({10, 20, 100, 80}));
  // 2.2.2.13: nothing queued, the frame's number, one in all
  LittleReader ack(fed.sent.back());
  CHECK(ack.u16() == graphics::kAcknowledge);
  ack.skip(6);
  CHECK(ack.u32() == 0);
  CHECK(ack.u32() == 31);
  CHECK(ack.u32() == 1);
  // Over the upper left edge, what hangs over is cut from the source too.
  LittleWriter over, mark;
  fed.fill(2, 0x0000ff00, {6, 4, 20, 10});
  over.u16(2).u16(1);
  put(over, {0, 0, 20, 10});
  fed.say(graphics::kSurfaceToSurface, over.u16(1).u16(0xfffb).u16(0xfffd));  // -5, -3
  fed.endFrame(33);
  CHECK(fed.picture->pixel(10, 20) == red);
  CHECK(fed.picture->pixel(11, 21) == rgb(0, 255, 0));
  // Mapped to another size, it is drawn at that size.
  LittleWriter scaled;
  scaled.u16(1).u16(0).u32(0).u32(0).u32(200).u32(150);
  fed.say(graphics::kMapToScaled, scaled);
  fed.endFrame(32);
  CHECK(fed.picture->pixel(199, 70) == ground);
  // Gone is gone.
  LittleWriter gone;
  fed.say(graphics::kDeleteSurface, gone.u16(1));
  CHECK_THROWS_AS(fed.fill(1, 0, {0, 0, 1, 1}), Error);
}

TEST_CASE("Pipeline: a hostile service gets a clear error and little memory", "[rdp][graphics]") {
  Fed fed;
  LittleWriter huge, far, beyond, unknown, evict;
  LittleWriter body;
  CHECK_THROWS_AS(fed.say(graphics::kCreateSurface, huge.u16(1).u16(65535).u16(65535).u8(0x20)), Error);
  fed.surface(3, {64, 64}, {0, 0});
  beyond.u16(3).u64(0).u16(1);
  put(beyond, {10, 10, 64, 64});
  CHECK_THROWS_AS(fed.say(graphics::kSurfaceToCache, beyond), Error);
  far.u16(3).u16(graphics::kRaw).u8(0x20);
  put(far, {0, 0, 65, 64});
  CHECK_THROWS_AS(fed.say(graphics::kWireToSurface1, far.u32(0)), Error);
  unknown.u16(3).u16(0x77).u8(0x20);
  put(unknown, {0, 0, 4, 4});
  CHECK_THROWS_AS(fed.say(graphics::kWireToSurface1, unknown.u32(0)), Error);
  CHECK_THROWS_AS(fed.say(graphics::kCacheToSurface, LittleWriter().u16(9).u16(3).u16(0)), Error);
  CHECK_NOTHROW(fed.say(graphics::kEvict, evict.u16(9)));
  CHECK_THROWS_AS(fed.say(graphics::kReset, LittleWriter().u32(100000).u32(100000).u32(0)), Error);
  CHECK_THROWS_AS(fed.say(graphics::kReset, LittleWriter().u32(640).u32(480).u32(1000)), Error);
  // Surfaces and kept pictures have a sum that is not passed.
  int made = 0;
  try {
    for (unsigned id = 10; id < 200; ++id, ++made) fed.surface(id, {8000, 8000}, {0, 0}, false);
  } catch (const Error& e) {
    CHECK(e.kind() == ErrorKind::ProtocolBroken);
  }
  CHECK(made <= 2);
}

namespace {

/// One picture in 4:2:0 on the first surface.
void showVideo(Fed& fed, Size size, const Bytes& unit) {
  LittleWriter wire;
  wire.u16(1).u16(graphics::kAvc420).u8(0x20);
  put(wire, {0, 0, size.width, size.height});
  fed.say(graphics::kWireToSurface1, wire.u32(static_cast<std::uint32_t>(unit.size())).bytes(unit));
  fed.endFrame(1);
}

}  // namespace

TEST_CASE("Pipeline: H.264 in 4:2:0 shows what was encoded", "[rdp][graphics][h264]") {
  const Size size{96, 64};
  const Framebuffer source = smooth(size);
  H264Maker maker(size);
  Fed fed;
  fed.surface(1, size, {0, 0});
  const Bytes unit = withRect(size, maker.encode(mainFrame(planesOf(source))));
  showVideo(fed, size, unit);
  CHECK(largestDifference(fed.picture->cropped({0, 0, size.width, size.height}), source) <= 8);
}

TEST_CASE("Pipeline: H.264 by the graphics processor, or in software where it cannot, which is said",
          "[rdp][graphics][h264]") {
  const Size size{96, 64};
  const Framebuffer source = smooth(size);
  H264Maker maker(size);
  const Bytes unit = withRect(size, maker.encode(mainFrame(planesOf(source))));
  Fed fed(Graphics::Video::Hardware);
  fed.surface(1, size, {0, 0});
  showVideo(fed, size, unit);
  CHECK(largestDifference(fed.picture->cropped({0, 0, size.width, size.height}), source) <= 8);
  CHECK(fed.inSoftware == (H264Decoder(true).byHardware() ? 0 : 1));
  CHECK_FALSE(H264Decoder().byHardware());
}

TEST_CASE("H.264: rows of luma and colours become the same pixels by every loop of this machine",
          "[rdp][codec][h264]") {
  std::mt19937 dice(3);
  std::array<Byte, 400> y{}, u{}, v{};
  std::vector<const YuvRows*> loops{&plainYuvRows(), &yuvRows()};
  if (wideYuvRows() != nullptr) loops.push_back(wideYuvRows());
  for (const YuvRows* loop : loops)
    for (int first = 0; first < 5; ++first)
      for (int count = 0; count < 150; ++count) {
        for (auto* bytes : {&y, &u, &v})
          for (Byte& b : *bytes) b = static_cast<Byte>(dice() % 3 == 0 ? (dice() % 2) * 255 : dice());
        std::vector<Pixel> thin(static_cast<std::size_t>(count) + 1, 7), full = thin;
        loop->row420(y.data(), u.data(), v.data(), thin.data(), first, count);
        loop->row444(y.data(), u.data(), v.data(), full.data(), count);
        int wrong = 0;
        for (int i = 0; i < count; ++i) {
          const auto at = static_cast<std::size_t>(i), x = static_cast<std::size_t>(first + i);
          wrong += thin[at] != pixelOfYuv(y[x], u[x / 2], v[x / 2]) ? 1 : 0;
          wrong += full[at] != pixelOfYuv(y[at], u[at], v[at]) ? 1 : 0;
        }
        REQUIRE(wrong == 0);
        REQUIRE(thin.back() == 7);
        REQUIRE(full.back() == 7);
      }
  // 3.3.8.3.1: white, black, and what lies beyond both.
  CHECK(pixelOfYuv(255, 128, 128) == rgb(255, 255, 255));
  CHECK(pixelOfYuv(0, 128, 128) == rgb(0, 0, 0));
  CHECK(pixelOfYuv(255, 255, 255) == rgb(255, 172, 255));
}

TEST_CASE("H.264: colours in pairs become two planes, whatever the rows' distance", "[codec][h264]") {
  const Bytes pairs{1, 2, 3, 4, 5, 6, 99, 99, 7, 8, 9, 10, 11, 12, 99, 99};
  Bytes first, second;
  splitColours(pairs.data(), 8, 3, 2, first, second);
  CHECK(first == Bytes{1, 3, 5, 7, 9, 11});
  CHECK(second == Bytes{2, 4, 6, 8, 10, 12});
}

TEST_CASE("Pipeline: H.264 gives the same pixels in whole rows and in strips", "[rdp][graphics][h264]") {
  const Size size{96, 64};
  Framebuffer source(size);
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x)
      source.fill({x, y, 1, 1}, rgb(x * 37 % 256, (x * y) % 256, (255 - x * 5 + y * 11) & 255));
  H264Maker maker(size);
  const Bytes unit = maker.encode(mainFrame(planesOf(source)));
  const auto shownIn = [&](int width, int from) {
    LittleWriter out;
    std::vector<Rect> rects;
    for (int x = from; x < size.width; x += width)
      rects.push_back({x, 0, std::min(width, size.width - x), 64});
    out.u32(static_cast<std::uint32_t>(rects.size()));
    for (const Rect& r : rects)
      out.u16(static_cast<unsigned>(r.x)).u16(0).u16(static_cast<unsigned>(r.right())).u16(64);
    for (std::size_t i = 0; i < rects.size(); ++i) out.u8(22).u8(100);
    AvcDecoder decoder;
    Framebuffer seen(size);
    decoder.decode420(out.bytes(unit).view(), seen, {0, 0});
    return seen;
  };
  const Framebuffer strips = shownIn(5, 0);  // narrower than what is worked on at once
  CHECK(samePixels(shownIn(size.width, 0), strips));
  CHECK(samePixels(shownIn(31, 0), strips));
  const Framebuffer odd = shownIn(size.width, 1);  // begins between two columns of colours
  CHECK(samePixels(odd.cropped({1, 0, 95, 64}), strips.cropped({1, 0, 95, 64})));
}

TEST_CASE("Pipeline: H.264 in 4:4:4 keeps single coloured columns, in both arrangements",
          "[rdp][graphics][h264]") {
  const bool second = GENERATE(false, true);
  const Size size{96, 64};
  const Framebuffer source = striped(size);
  const Planes planes = planesOf(source);
  H264Maker maker(size);
  AvcDecoder decoder;
  Framebuffer seen(size);
  const FullColour arrangement = second ? FullColour::Second : FullColour::First;
  const Bytes main = withRect(size, maker.encode(mainFrame(planes)));
  const Bytes rest = withRect(size, maker.encode(second ? restSecond(planes) : restFirst(planes)));
  SECTION("both at once") {
    LittleWriter both;
    both.u32(static_cast<std::uint32_t>(main.size())).bytes(main).bytes(rest);
    decoder.decode444(both.view(), arrangement, seen, {0, 0});
  }
  SECTION("one after the other") {
    LittleWriter first, then;
    decoder.decode444(first.u32(1U << 30 | static_cast<std::uint32_t>(main.size())).bytes(main).view(),
                      arrangement, seen, {0, 0});
    CHECK(largestDifference(seen, source) > 40);  // colours are mixed until the rest comes
    decoder.decode444(then.u32(2U << 30).bytes(rest).view(), arrangement, seen, {0, 0});
  }
  CHECK(largestDifference(seen, source) <= 6);
}

TEST_CASE("Pipeline: broken H.264 is an error, not a crash", "[rdp][graphics][h264]") {
  AvcDecoder decoder;
  Framebuffer seen({64, 64});
  CHECK_THROWS_AS(decoder.decode420(Bytes{1, 0, 0}, seen, {0, 0}), Error);
  CHECK_THROWS_AS(decoder.decode420(Bytes{0xff, 0xff, 0xff, 0x7f}, seen, {0, 0}), Error);
  CHECK_THROWS_AS(decoder.decode444(Bytes{0, 0, 0, 0xc0}, FullColour::First, seen, {0, 0}), Error);
}

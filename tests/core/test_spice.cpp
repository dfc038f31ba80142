// SPICE: its image codecs, client and server joined in memory, and hosts that send what they must not.
#include "tests/core/spice_bench.hpp"

using namespace kw;
using namespace kw::spice;
using namespace kw::test;

TEST_CASE("SPICE: the whole picture, also byte by byte; a ticket opens or not", "[spice]") {
  const bool trickle = GENERATE(false, true);
  SpiceBench bench(trickle);
  bench.server.password = bench.client.password = "fern";
  bench.open();
  REQUIRE(bench.live());
  CHECK(samePixels(*bench.picture, *bench.shown));
  CHECK(bench.until(
      [&] { return bench.seen.peer.agent && bench.seen.peer.screens && bench.seen.peer.clipboard; }));
  CHECK(bench.seen.peer.name == "machine");
  bench.on([&] { return bench.visitor->close(), 0; });
  CHECK(bench.ended()->kind() == ErrorKind::Cancelled);
}

TEST_CASE("SPICE: a wrong ticket is a sign-in that failed", "[spice]") {
  SpiceBench bench;
  bench.server.password = "fern";
  bench.client.password = GENERATE("", "moss");
  bench.open();
  CHECK(bench.ended()->kind() == ErrorKind::SignInFailed);
  CHECK_FALSE(bench.seen.isOpen);
}

TEST_CASE("SPICE: keys, pointer, clipboard, pointer shape, screens", "[spice]") {
  SpiceBench bench;
  bench.open();
  REQUIRE(bench.live());
  REQUIRE(bench.until([&] { return bench.channels.size() == 4 && bench.seen.peer.screens; }));
  bench.on([&] {
    bench.visitor->key(0x1e, true);
    bench.visitor->key(0x1e, false);
    bench.visitor->key(0xe04b, true);
    bench.visitor->key(0xe04b, false);
    for (int i = 0; i < 30; ++i) bench.visitor->pointer({i, 2 * i}, 0);
    bench.visitor->pointer({29, 58}, 4);
    return 0;
  });
  CHECK(bench.until(
      [&] { return !bench.machine.pointers.empty() && bench.machine.pointers.back().second == 4; }));
  CHECK(bench.machine.pointers.back().first == Point{29, 58});
  CHECK(bench.machine.keys == std::vector<std::pair<std::uint32_t, bool>>{
                                  {0x1e, true}, {0x1e, false}, {0xe04b, true}, {0xe04b, false}});
  bench.on([&] { return bench.visitor->offerClipboard("from the desk"), 0; });
  CHECK(bench.until([&] { return bench.machine.text == "from the desk"; }));
  const std::string longText(9000, 'x');
  bench.each([&](ServerChannel& c) { c.setClipboard(longText); });
  CHECK(bench.until([&] { return bench.seen.text == longText; }));
  bench.each([](ServerChannel& c) { c.setPointer({{1, 2}, {0, 1}, {rgb(1, 2, 3), 0}}); });
  CHECK(bench.until([&] { return bench.seen.shape.size == Size{1, 2}; }));
  // The second screen is asked for, and comes.
  bench.on([&] { return bench.visitor->arrange({{0, {0, 0, 320, 200}}, {1, {320, 0, 100, 200}}}), 0; });
  CHECK(bench.until([&] { return bench.machine.screens.size() == 2; }));
  CHECK(bench.machine.screens[1] == Rect{320, 0, 100, 200});
  bench.each([&, first = true](ServerChannel& c) mutable {
    if (std::exchange(first, false)) {
      const Framebuffer next = colourfulPicture({420, 200}, 4);
      const auto lock = bench.shown->lock();
      bench.shown->resize({420, 200});
      bench.shown->put(bench.shown->rect(), next.row(0));
    }
    c.resized({{0, {0, 0, 320, 200}, 0}, {1, {320, 0, 100, 200}, 0}});
  });
  CHECK(bench.until([&] {
    return bench.seen.size == Size{420, 200} && bench.seen.region.covers(bench.picture->rect());
  }));
  CHECK(bench.seen.screens == std::vector<ScreenState>{{0, {0, 0, 320, 200}}, {1, {320, 0, 100, 200}}});
  CHECK(samePixels(*bench.picture, *bench.shown));
}

TEST_CASE("SPICE: sound that is switched on while it plays is heard from then on, and not after it is off",
          "[spice]") {
  SpiceBench bench;
  bench.server.sound = true;
  bench.client.sound = false;
  bench.open();
  REQUIRE(bench.live());
  REQUIRE(bench.until([&] { return bench.seen.peer.sound; }));
  const auto play = [&](Byte value) { bench.each([&](ServerChannel& c) { c.sound(Bytes(8, value)); }); };
  bench.each([](ServerChannel& c) { c.beginSound(2, 48000); });
  play(1);
  // What was sent before this has arrived when the pointer has: all lies on one strand.
  bench.each([](ServerChannel& c) { c.setPointer({{1, 1}, {0, 0}, {0xff00ff00}}); });
  REQUIRE(bench.until([&] { return !bench.seen.shape.pixels.empty(); }));
  CHECK(bench.on([&] { return bench.seen.sounds.empty() && bench.seen.samples.empty(); }));
  bench.on([&] { return bench.visitor->wantSound(true), 0; });
  REQUIRE(bench.until([&] { return bench.seen.sounds == std::vector<std::pair<int, int>>{{2, 48000}}; }));
  play(2);
  REQUIRE(bench.until([&] { return bench.seen.samples == Bytes(8, 2); }));
  bench.on([&] { return bench.visitor->wantSound(false), 0; });
  CHECK(bench.until([&] { return bench.seen.soundEnd == 1; }));
  play(3);
  bench.each([](ServerChannel& c) { c.setPointer({{2, 2}, {0, 0}, std::vector<Pixel>(4, 0xff0000ff)}); });
  REQUIRE(bench.until([&] { return bench.seen.shape.pixels.size() == 4; }));
  bench.each([](ServerChannel& c) { c.endSound(); });
  bench.each([](ServerChannel& c) { c.beginSound(1, 44100); });
  bench.on([&] { return bench.visitor->wantSound(true), 0; });
  REQUIRE(bench.until([&] { return bench.seen.sounds.back() == std::pair<int, int>(1, 44100); }));
  CHECK(bench.on([&] { return bench.seen.samples; }) == Bytes(8, 2));
}

TEST_CASE("SPICE: a stream of pictures is shown nearly as it was", "[spice]") {
  SpiceBench bench;
  bench.server.stream = true;
  bench.open();
  REQUIRE(bench.live());
  CHECK(bench.on([&] { return bench.visitor->figures().imagesByForm.contains("MJPEG"); }));
  // Photographs lose a little; a flat area must not lose much.
  CHECK(std::abs(static_cast<int>(bench.picture->pixel(20, 16) >> 8 & 0xff) -
                 static_cast<int>(bench.shown->pixel(20, 16) >> 8 & 0xff)) < 24);
}

TEST_CASE("SPICE: every packing shows the same picture", "[spice]") {
  using P = ImagePacking;
  for (const auto& [packing, form] : {std::pair{P::Lz, "LZ"},
                                      {P::Glz, "GLZ"},
                                      {P::ZlibGlz, "zlib + GLZ"},
                                      {P::Quic, "QUIC"},
                                      {P::Jpeg, "JPEG"}}) {
    INFO(form);
    SpiceBench bench;
    bench.server.packing = packing;
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.on(
        [&, name = std::string(form)] { return bench.visitor->figures().imagesByForm.contains(name); }));
    if (packing == P::Jpeg) {  // loses a little
      CHECK(std::abs(static_cast<int>(bench.picture->pixel(20, 16) >> 8 & 0xff) -
                     static_cast<int>(bench.shown->pixel(20, 16) >> 8 & 0xff)) < 24);
      continue;
    }
    for (int y = 0; y < 200; ++y)
      for (int x = 0; x < 320; ++x)
        if (bench.picture->pixel(x, y) != bench.shown->pixel(x, y)) FAIL(x << "," << y);
  }
}

TEST_CASE("SPICE: a JPEG brings its alpha along", "[spice]") {
  OneScreen s;
  s.surface(0, 8, 4);
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 8, 4}, 0xffffff));
  Framebuffer black({8, 4});
  for (int y = 0; y < 4; ++y)
    for (int x = 0; x < 8; ++x) *black.at(x, y) = kOpaque;
  JpegEncoder encoder;
  const Bytes jpeg = encoder.encode(black, black.rect(), 90);
  ByteWriter alpha = lzHead(10, 8, 4);
  alpha.u8(31);
  for (unsigned i = 0; i < 32; ++i) alpha.u8(i < 16 ? 255 : 0);
  const auto drawn = [&](std::size_t jpegSize) {
    LittleWriter out;
    base(out, {0, 0, 8, 4});
    out.u8(0).u8(255).u32(static_cast<std::uint32_t>(out.size() + 4 + 16));
    for (std::uint32_t v : {0U, 0U, 4U, 8U}) out.u32(v);
    out.u64(0).u8(image::kJpegAlpha).u8(0).u32(8).u32(4).u8(1).u32(static_cast<std::uint32_t>(jpegSize));
    out.u32(static_cast<std::uint32_t>(jpeg.size() + alpha.size())).bytes(jpeg).bytes(alpha.view());
    return out.take();
  };
  s.display.take(msg::kDrawAlphaBlend, drawn(jpeg.size()));
  CHECK((s.at(3, 1) & 0xff) < 8);
  CHECK(s.at(3, 3) == rgb(255, 255, 255));
  CHECK(breaks([&] { s.display.take(msg::kDrawAlphaBlend, drawn(jpeg.size() + alpha.size() + 1)); }));
}

TEST_CASE("SPICE: a hostile host ends in a clear error, without memory", "[spice]") {
  OneScreen s;
  CHECK(breaks([&] { s.display.take(msg::kDrawFill, fillMessage({0, 0, 2, 2}, 0)); }));  // no surface
  CHECK(breaks([&] { s.surface(0, 100000, 100000); }));
  CHECK(breaks([&] { s.surface(0, 16000, 16000); }));
  s.surface(0, 4, 4);
  CHECK(breaks([&] {
    for (std::uint32_t i = 1; i < 6000; ++i) s.surface(i, 1, 1);
  }));
  OneScreen t;
  t.surface(0, 4, 4);
  LittleWriter clip;
  clip.u32(0);
  for (int i = 0; i < 4; ++i) clip.u32(1);
  clip.u8(1).u32(0x7fffffff);
  CHECK(breaks([&] { t.display.take(msg::kDrawFill, clip.view()); }));
  const Bytes good = fillMessage({0, 0, 2, 2}, 0);
  for (std::size_t n = 0; n < good.size(); ++n)
    CHECK(breaks([&] { t.display.take(msg::kDrawFill, ByteView(good).first(n)); }));
  LittleWriter stream;
  for (std::uint32_t id = 0; id < 64; ++id) {
    LittleWriter create;
    create.u32(0).u32(id).u8(1).u8(1).u64(0).zeros(16).zeros(16).u8(0);
    t.display.take(msg::kStreamCreate, create.view());
  }
  stream.u32(0).u32(99).u8(1).u8(1).u64(0).zeros(16).zeros(16).u8(0);
  CHECK(breaks([&] { t.display.take(msg::kStreamCreate, stream.view()); }));
  // A message that announces more than there may be.
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  Bytes endless{101, 0, 0xff, 0xff, 0xff, 0x7f};
  std::optional<ErrorKind> kind;
  runToEnd([&]() -> Task<void> {
    const Executor here = co_await asio::this_coro::executor;
    Channel channel(here, replayStream(endless), ChannelKind::Display, 0);
    Channel::Handler nothing = [](unsigned, ByteView) {};
    try {
      co_await channel.run(std::move(nothing));
    } catch (const Error& e) {
      kind = e.kind();
    }
  });
  CHECK(kind == ErrorKind::ProtocolBroken);
}

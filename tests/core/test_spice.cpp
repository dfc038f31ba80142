// SPICE: its image codecs, client and server joined in memory, and hosts that send what they must not.
#include "base/little.hpp"
#include "spice/client.hpp"
#include "spice/server.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::spice;
using namespace kw::test;

namespace {

template <typename F>
bool breaks(F what) {
  try {
    what();
  } catch (const Error& e) {
    return e.kind() == ErrorKind::ProtocolBroken;
  }
  return false;
}

ByteWriter lzHead(unsigned type, int width, int height, bool topDown = true) {
  ByteWriter out;
  out.u32(0x20205a4c).u32(0x00010001).u32(type).u32(static_cast<std::uint32_t>(width));
  out.u32(static_cast<std::uint32_t>(height)).u32(0).u32(topDown ? 1 : 0);
  return out;
}

struct Seen : spice::ClientEvents {
  bool isOpen = false;
  Size size;
  std::vector<ScreenState> screens;
  Region region = Region::exact();
  Pointer shape;
  std::string text;
  Abilities peer;
  void opened() override { isOpen = true; }
  void pictureResized(Size s, const std::vector<ScreenState>& list) override {
    size = s, screens = list, region.clear();
  }
  void damaged(const Region& r) override { region.add(r); }
  void pointerChanged(const Pointer& p) override { shape = p; }
  void clipboardText(const std::string& t) override { text = t; }
  void abilitiesChanged(const Abilities& a) override { peer = a; }
  std::vector<std::pair<int, int>> sounds;
  Bytes samples;
  int soundEnd = 0;
  void soundBegins(int channels, int rate) override { sounds.emplace_back(channels, rate); }
  void sound(ByteView s) override { samples.insert(samples.end(), s.begin(), s.end()); }
  void soundEnds() override { ++soundEnd; }
};

struct Machine : spice::ServerEvents {
  std::vector<std::pair<std::uint32_t, bool>> keys;
  std::vector<std::pair<Point, unsigned>> pointers;
  std::string text;
  std::vector<Rect> screens;
  void scanCode(std::uint32_t code, bool down) override { keys.emplace_back(code, down); }
  void pointer(Point at, unsigned buttons) override { pointers.emplace_back(at, buttons); }
  void clipboard(const std::string& t) override { text = t; }
  void screensWanted(const std::vector<Rect>& list) override { screens = list; }
};

class Bench {
 public:
  explicit Bench(bool trickle = false) : trickle_(trickle) { server.mostScreens = 2; }
  ~Bench() { runtime.stop(); }
  void open() {
    *shown = colourfulPicture({320, 200});
    screens = {{0, {0, 0, 320, 200}, 0}};
    visitor = std::make_shared<Client>(strand, systemClock(), picture, client, seen);
    spawn(
        strand,
        [this]() -> Task<void> {
          Client::Dial dialling = [this]() -> Task<StreamPtr> { co_return dial(); };
          co_await visitor->run(std::move(dialling));
        },
        [this](std::exception_ptr e) {
          const std::lock_guard held(mutex);
          try {
            std::rethrow_exception(e);
          } catch (const Error& error) {
            end = error;
          }
        });
  }
  bool live() {
    return until([this] { return seen.isOpen && seen.region.covers(picture->rect()); });
  }
  std::optional<Error> ended() {
    eventually([this] {
      const std::lock_guard held(mutex);
      return end.has_value();
    });
    const std::lock_guard held(mutex);
    return end;
  }
  template <typename F>
  std::invoke_result_t<F> on(F what) {
    std::promise<decltype(what())> done;
    post(strand, [&] { done.set_value(what()); });
    return done.get_future().get();
  }
  template <typename F>
  bool until(F what) {
    return eventually([&] { return on(what); });
  }
  template <typename F>
  void each(F what) {
    on([&] {
      for (const auto& c : channels) what(*c);
      return 0;
    });
  }

  spice::ClientOptions client;
  spice::ServerOptions server;
  Seen seen;
  Machine machine;
  std::shared_ptr<Framebuffer> picture = std::make_shared<Framebuffer>();
  std::shared_ptr<Framebuffer> shown = std::make_shared<Framebuffer>(Size{10, 10});
  std::vector<Screen> screens;
  std::shared_ptr<Client> visitor;
  std::vector<std::shared_ptr<ServerChannel>> channels;
  Runtime runtime{1};
  Executor strand = runtime.strand();

 private:
  StreamPtr dial() {
    auto [a, b] = memoryPair(strand);
    auto channel = std::make_shared<ServerChannel>(strand, shown, screens, server, machine);
    channels.push_back(channel);
    spawn(strand, [channel, other = std::make_shared<StreamPtr>(std::move(b))]() -> Task<void> {
      co_await channel->run(std::move(*other));
    });
    if (trickle_) return std::make_unique<Trickle>(std::move(a));
    return std::move(a);
  }
  bool trickle_;
  std::mutex mutex;
  std::optional<Error> end;
};

/// Takes display messages without a network.
struct Screen1 : DisplayEvents {
  Display display{*this};
  Region damage;
  int resizes = 0;
  void primaryResized() override { ++resizes; }
  void primaryDamaged(const Region& r) override { damage.add(r); }
  void headsChanged() override {}
  void primaryWhole() override {}
  void surface(std::uint32_t id, std::uint32_t width, std::uint32_t height) {
    LittleWriter out;
    out.u32(id).u32(width).u32(height).u32(32).u32(id == 0 ? 1 : 0);
    display.take(msg::kSurfaceCreate, out.view());
  }
  [[nodiscard]] Pixel at(int x, int y) const { return display.primary()->row(y)[x]; }
};

void base(LittleWriter& out, const Rect& box, std::uint32_t surface = 0) {
  out.u32(surface);
  for (int v : {box.y, box.x, box.bottom(), box.right()}) out.u32(static_cast<std::uint32_t>(v));
  out.u8(0);
}
void noMask(LittleWriter& out) { out.u8(0).u32(0).u32(0).u32(0); }

Bytes fillMessage(const Rect& box, Pixel colour, unsigned rop = 8) {
  LittleWriter out;
  base(out, box);
  out.u8(1).u32(colour).u16(rop);
  noMask(out);
  return out.take();
}

}  // namespace

TEST_CASE("SPICE LZ: what is packed comes back; runs, matches and directions as the format has them",
          "[spice]") {
  const Framebuffer picture = colourfulPicture({97, 53});
  const Bytes packed = encodeLz(picture.row(0), picture.stride(), picture.size());
  const spice::Image image = decodeLz(packed, picture.size(), {});
  for (int y = 0; y < 53; ++y)
    for (int x = 0; x < 97; ++x)
      if (image.row(y)[x] != picture.pixel(x, y)) FAIL(x << "," << y);
  for (std::size_t n = 0; n < packed.size(); n += 31)
    CHECK(breaks([&] { decodeLz(ByteView(packed).first(n), picture.size(), {}); }));
  // Two plain pixels, then the second one twice more; bottom row first.
  ByteWriter small = lzHead(8, 2, 2, false);
  small.u8(1).bytes(Bytes{1, 2, 3, 4, 5, 6}).u8(0x40).u8(0);
  const spice::Image turned = decodeLz(small.view(), {2, 2}, {});
  CHECK(turned.pixels == std::vector<Pixel>{rgb(6, 5, 4), rgb(6, 5, 4), rgb(3, 2, 1), rgb(6, 5, 4)});
  // Four bits a pixel, the upper ones first.
  ByteWriter palette = lzHead(4, 3, 1);
  palette.u8(1).u8(0x12).u8(0x30);
  const std::vector<Pixel> colours{rgb(0, 0, 0), rgb(1, 1, 1), rgb(2, 2, 2), rgb(3, 3, 3)};
  CHECK(decodeLz(palette.view(), {3, 1}, colours).pixels ==
        std::vector<Pixel>{colours[1], colours[2], colours[3]});
  CHECK(breaks([&] { decodeLz(small.view(), {3, 2}, {}); }));
  ByteWriter before = lzHead(8, 2, 2);
  before.u8(0).bytes(Bytes{1, 2, 3}).u8(0x40).u8(9);
  CHECK(breaks([&] { decodeLz(before.view(), {2, 2}, {}); }));
}

TEST_CASE("SPICE GLZ: an image may refer to an earlier one, and to nothing that is not kept", "[spice]") {
  const auto head = [](std::uint64_t id, std::uint32_t distance) {
    ByteWriter out;
    out.u32(0x20205a4c)
        .u32(0x00010001)
        .u8(8 | 16)
        .u32(4)
        .u32(1)
        .u32(16)
        .u32(0)
        .u32(static_cast<std::uint32_t>(id))
        .u32(distance);
    return out;
  };
  GlzWindow window;
  ByteWriter first = head(1, 0);
  first.u8(3).bytes(Bytes{1, 1, 1, 2, 2, 2, 3, 3, 3, 4, 4, 4});
  window.decode(first.view(), {4, 1});
  // Three pixels from the image before, from its second on; then one of its own.
  ByteWriter second = head(2, 1);
  second.u8(0x60 | 1).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(window.decode(second.view(), {4, 1})->pixels ==
        std::vector<Pixel>{rgb(2, 2, 2), rgb(3, 3, 3), rgb(4, 4, 4), rgb(9, 9, 9)});
  ByteWriter unknown = head(5, 1);
  unknown.u8(0x60).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(breaks([&] { window.decode(unknown.view(), {4, 1}); }));
  ByteWriter past = head(3, 2);
  past.u8(0x60 | 3).u8(0).u8(1).u8(0).bytes(Bytes{9, 9, 9});
  CHECK(breaks([&] { window.decode(past.view(), {4, 1}); }));
}

TEST_CASE("SPICE QUIC: what is written is read again, with alpha too, whatever the width", "[spice]") {
  for (const Size size : {Size{97, 53}, Size{1, 1}, Size{3, 40}, Size{2100, 9}}) {
    Framebuffer picture = colourfulPicture(size);
    for (int y = 0; y < size.height; ++y)
      for (int x = 0; x < size.width; ++x)
        if ((x / 40 + y / 7) % 2 == 0) *picture.at(x, y) = rgb(200, 210, 220);  // flat stretches: runs
    for (const bool alpha : {false, true}) {
      if (alpha) *picture.at(0, size.height / 2) = 0x33445566;
      const Bytes packed = encodeQuic(picture.row(0), picture.stride(), size, alpha);
      const spice::Image image = decodeQuic(packed, size);
      CHECK(image.hasAlpha == alpha);
      for (int y = 0; y < size.height; ++y)
        for (int x = 0; x < size.width; ++x)
          if (image.row(y)[x] != picture.pixel(x, y)) FAIL(size.width << " wide: " << x << "," << y);
      if (size.width > 1) CHECK(breaks([&] { decodeQuic(ByteView(packed).first(packed.size() / 2), size); }));
    }
  }
}

TEST_CASE("SPICE GLZ: what is written is read again, also by the images before it", "[spice]") {
  GlzWriter writer;
  GlzWindow window;
  Framebuffer picture = colourfulPicture({640, 480});
  std::size_t first = 0;
  for (int n = 0; n < 6; ++n) {
    *picture.at(100 + n, 200) = rgb(static_cast<unsigned>(n), 1, 2);
    const Bytes packed = writer.encode(picture.row(0), picture.stride(), picture.size());
    if (n == 0)
      first = packed.size();
    else
      CHECK(packed.size() < first / 20);
    const ImagePtr image = window.decode(packed, picture.size());
    for (int y = 0; y < 480; ++y)
      for (int x = 0; x < 640; ++x)
        if (image->row(y)[x] != picture.pixel(x, y)) FAIL(n << ": " << x << "," << y);
  }
}

TEST_CASE("SPICE QUIC: broken data ends in an error, whatever it is", "[spice]") {
  LittleWriter head;
  head.u32(0x43495551).u32(0).u32(4).u32(64).u32(48);
  std::uint32_t noise = 77;
  for (int i = 0; i < 40; ++i) {
    LittleWriter data;
    data.bytes(head.view());
    for (int k = 0; k < i * 40; ++k) {
      noise = noise * 1664525U + 1013904223U;
      data.u8(noise >> 24);
    }
    std::optional<ErrorKind> kind;
    std::size_t pixels = 0;
    try {
      pixels = decodeQuic(data.view(), {64, 48}).pixels.size();
    } catch (const Error& e) {
      kind = e.kind();
    }
    CHECK((pixels == 64 * 48 || kind == ErrorKind::ProtocolBroken));
  }
  CHECK(breaks([&] { decodeQuic(head.view(), {64, 49}); }));
}

TEST_CASE("SPICE: the whole picture, also byte by byte; a ticket opens or not", "[spice]") {
  const bool trickle = GENERATE(false, true);
  Bench bench(trickle);
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
  Bench bench;
  bench.server.password = "fern";
  bench.client.password = GENERATE("", "moss");
  bench.open();
  CHECK(bench.ended()->kind() == ErrorKind::SignInFailed);
  CHECK_FALSE(bench.seen.isOpen);
}

TEST_CASE("SPICE: keys, pointer, clipboard, pointer shape, screens", "[spice]") {
  Bench bench;
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
  Bench bench;
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
  Bench bench;
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
    Bench bench;
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
  Screen1 s;
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

TEST_CASE("SPICE drawing: fills, raster operations, clips, copies, brushes and masks", "[spice]") {
  Screen1 s;
  s.surface(0, 8, 4);
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 8, 4}, 0x102030));
  CHECK(s.at(7, 3) == rgb(0x10, 0x20, 0x30));
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 2, 2}, 0x00ff00, ropd::kXor));
  CHECK(s.at(1, 1) == rgb(0x10, 0xdf, 0x30));
  CHECK(s.at(2, 2) == rgb(0x10, 0x20, 0x30));
  LittleWriter copy;
  base(copy, {4, 2, 2, 2});
  copy.u32(0).u32(0);
  s.display.take(msg::kCopyBits, copy.view());
  CHECK(s.at(5, 3) == rgb(0x10, 0xdf, 0x30));
  // A clip of one pixel.
  LittleWriter clipped;
  clipped.u32(0);
  for (std::uint32_t v : {0U, 0U, 4U, 8U}) clipped.u32(v);
  clipped.u8(1).u32(1);
  for (std::uint32_t v : {3U, 7U, 4U, 8U}) clipped.u32(v);
  clipped.u8(1).u32(0xffffff).u16(8);
  noMask(clipped);
  s.damage.clear();
  s.display.take(msg::kDrawFill, clipped.view());
  CHECK(s.at(7, 3) == rgb(255, 255, 255));
  CHECK(s.at(6, 3) == rgb(0x10, 0x20, 0x30));
  CHECK(s.damage.bounds() == Rect{7, 3, 1, 1});
  LittleWriter black;
  base(black, {0, 0, 1, 1});
  noMask(black);
  s.display.take(msg::kDrawBlackness, black.view());
  CHECK(s.at(0, 0) == kOpaque);
  s.display.take(msg::kDrawInvers, black.view());
  CHECK(s.at(0, 0) == rgb(255, 255, 255));
  // A bitmap of one bit with a palette, drawn from; remembered, and drawn from memory.
  const auto bitmap = [](unsigned type) {
    LittleWriter out;
    base(out, {0, 0, 2, 1});
    const std::size_t at = out.size() + 4 + 16 + 2 + 1 + 13;
    out.u32(static_cast<std::uint32_t>(at));
    for (std::uint32_t v : {0U, 0U, 1U, 2U}) out.u32(v);
    out.u16(8).u8(0);
    noMask(out);
    out.u64(77).u8(type).u8(type == image::kBitmap ? 1 : 0).u32(2).u32(1);
    if (type != image::kBitmap) return out.take();
    out.u8(2).u8(4).u32(2).u32(1).u32(1);
    out.u32(static_cast<std::uint32_t>(out.size() + 4 + 1)).u8(0x40);
    out.u64(5).u16(2).u32(0x0000aa).u32(0xbb0000);
    return out.take();
  };
  s.display.take(msg::kDrawCopy, bitmap(image::kBitmap));
  CHECK(s.at(0, 0) == rgb(0, 0, 0xaa));
  CHECK(s.at(1, 0) == rgb(0xbb, 0, 0));
  s.display.take(msg::kDrawFill, fillMessage({0, 0, 8, 4}, 0));
  s.display.take(msg::kDrawCopy, bitmap(image::kFromCache));
  CHECK(s.at(1, 0) == rgb(0xbb, 0, 0));
  s.display.take(msg::kInvalAllPixmaps, {});
  CHECK(breaks([&] { s.display.take(msg::kDrawCopy, bitmap(image::kFromCache)); }));
}

TEST_CASE("SPICE strokes: dashes go on around corners, and may begin with a gap", "[spice]") {
  const auto stroke = [](unsigned flags, const std::vector<int>& style) {
    LittleWriter out;
    base(out, {0, 0, 8, 4});
    const std::size_t pathAt = out.size() + 4 + 1 + ((flags & 8) != 0 ? 5 : 0) + 5 + 4;
    const std::size_t pathSize = 4 + 1 + 4 + 3 * 8;
    out.u32(static_cast<std::uint32_t>(pathAt)).u8(flags);
    if ((flags & 8) != 0)
      out.u8(static_cast<unsigned>(style.size())).u32(static_cast<std::uint32_t>(pathAt + pathSize));
    out.u8(1).u32(0xffffff).u16(8).u16(8);
    out.u32(1).u8(1).u32(3);
    for (int v : {0, 0, 7, 0, 7, 3}) out.u32(static_cast<std::uint32_t>(v * 16));
    for (int v : style) out.u32(static_cast<std::uint32_t>(v * 16));
    return out.take();
  };
  const auto shown = [&](unsigned flags, const std::vector<int>& style) {
    Screen1 s;
    s.surface(0, 8, 4);
    s.display.take(msg::kDrawStroke, stroke(flags, style));
    std::string row, column;
    for (int x = 0; x < 8; ++x) row += s.at(x, 0) == rgb(255, 255, 255) ? '#' : '.';
    for (int y = 1; y < 4; ++y) column += s.at(7, y) == rgb(255, 255, 255) ? '#' : '.';
    return row + " " + column;
  };
  CHECK(shown(0, {}) == "######## ###");
  CHECK(shown(8, {3, 2}) == "###..### ..#");
  CHECK(shown(8 | 4, {3, 2}) == "...##... ##.");
  CHECK(shown(8, {2}) == "##..##.. ##.");
  CHECK(shown(8, {0, 0}) == "######## ###");
  CHECK(breaks([&] { shown(8, {-1, 2}); }));
  CHECK(breaks([&] { shown(8, {0x7ffffff, 2}); }));
}

TEST_CASE("SPICE compositions: operators, masks, repeats and transforms", "[spice]") {
  struct Wish {
    unsigned flags = 3;  // over
    bool mask = false;
    std::optional<std::array<int, 6>> transform;
    Point origin;
  };
  // A source of 2 x 1: half red, opaque blue; a mask that lets through the left column only.
  const auto message = [](const Wish& wish) {
    LittleWriter out;
    base(out, {0, 0, 4, 2});
    const std::size_t sourceAt = out.size() + 4 + 4 + (wish.mask ? 4 : 0) + (wish.transform ? 24 : 0) + 8;
    const std::size_t imageSize = 8 + 1 + 1 + 8 + 1 + 1 + 12 + 4 + 8;
    out.u32(wish.flags).u32(static_cast<std::uint32_t>(sourceAt));
    if (wish.mask) out.u32(static_cast<std::uint32_t>(sourceAt + imageSize));
    if (wish.transform)
      for (int v : *wish.transform) out.u32(static_cast<std::uint32_t>(v));
    out.u16(static_cast<unsigned>(wish.origin.x)).u16(static_cast<unsigned>(wish.origin.y)).u16(0).u16(0);
    for (const auto& [left, right] : {std::pair{0x80800000U, 0xff0000ffU}, {0xff000000U, 0U}}) {
      out.u64(0).u8(image::kBitmap).u8(0).u32(2).u32(1);
      out.u8(9).u8(4).u32(2).u32(1).u32(8).u32(0).u32(left).u32(right);
    }
    return out.take();
  };
  const auto drawn = [&](const Wish& wish) {
    Screen1 s;
    s.surface(0, 4, 2);
    s.display.take(msg::kDrawFill, fillMessage({0, 0, 4, 2}, 0xffffff));
    s.display.take(msg::kDrawComposite, message(wish));
    return std::vector<Pixel>{s.at(0, 0), s.at(1, 0), s.at(2, 0), s.at(0, 1)};
  };
  const Pixel white = rgb(255, 255, 255), pink = rgb(255, 127, 127), blue = rgb(0, 0, 255);
  CHECK(drawn({}) == std::vector<Pixel>{pink, blue, white, white});
  CHECK(drawn({3 | 1U << 14, false, {}, {}}) == std::vector<Pixel>{pink, blue, pink, pink});  // repeated
  CHECK(drawn({3 | 1U << 19, true, {}, {}}) == std::vector<Pixel>{pink, white, white, white});
  CHECK(drawn({3, false, {}, {1, 0}})[0] == blue);
  // Stretched to twice its width, the nearest pixel each.
  CHECK(drawn({3 | 3U << 8 | 1U << 20, false, std::array{0x8000, 0, 0, 0, 0x10000, 0}, {}}) ==
        std::vector<Pixel>{pink, pink, blue, white});
  CHECK(drawn({0, false, {}, {}})[0] == kOpaque);  // cleared
  CHECK(breaks([&] { drawn({0x0f, false, {}, {}}); }));
  CHECK(breaks([&] { drawn({3 | 7U << 8, false, {}, {}}); }));
  CHECK(breaks([&] { drawn({3 | 1U << 19, false, {}, {}}); }));  // its mask is missing
}

TEST_CASE("SPICE: the 256 raster operations follow their code", "[spice]") {
  Surface s{{1, 1}, {0xff00ff0fU}, false};
  const spice::Image source{{1, 1}, {0xff0f0ff0U}, false};
  Brush brush;
  brush.kind = Brush::Kind::Solid;
  brush.colour = 0xff333333U;
  const Target all{{0, 0, 1, 1}, {{0, 0, 1, 1}}};
  const auto with = [&](unsigned code) {
    s.pixels[0] = 0xff00ff0fU;
    rop3(s, all, source, {0, 0, 1, 1}, brush, code, {});
    return s.pixels[0] & 0xffffff;
  };
  CHECK(with(0xcc) == 0x0f0ff0);               // the source
  CHECK(with(0xf0) == 0x333333);               // the pattern
  CHECK(with(0xaa) == 0x00ff0f);               // the destination
  CHECK(with(0x88) == (0x0f0ff0 & 0x00ff0f));  // source and destination
  CHECK(with(0x5a) == (0x333333 ^ 0x00ff0f));  // pattern or else destination
  CHECK(with(0x00) == 0);
}

TEST_CASE("SPICE: a hostile host ends in a clear error, without memory", "[spice]") {
  Screen1 s;
  CHECK(breaks([&] { s.display.take(msg::kDrawFill, fillMessage({0, 0, 2, 2}, 0)); }));  // no surface
  CHECK(breaks([&] { s.surface(0, 100000, 100000); }));
  CHECK(breaks([&] { s.surface(0, 16000, 16000); }));
  s.surface(0, 4, 4);
  CHECK(breaks([&] {
    for (std::uint32_t i = 1; i < 6000; ++i) s.surface(i, 1, 1);
  }));
  Screen1 t;
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

TEST_CASE("SPICE: an image without pixels is refused before anything is drawn from it", "[spice]") {
  Screen1 s;
  s.surface(0, 8, 4);
  s.surface(7, 0, 0);
  LittleWriter out;
  base(out, {0, 0, 8, 4});
  out.u32(static_cast<std::uint32_t>(out.size() + 4 + 16 + 2 + 1 + 13));
  for (std::uint32_t v : {0U, 0U, 4U, 9U}) out.u32(v);
  out.u16(8).u8(0);
  noMask(out);
  out.u64(0).u8(image::kSurface).u8(0).u32(0).u32(0).u32(7);
  CHECK(breaks([&] { s.display.take(msg::kDrawCopy, out.view()); }));
}

TEST_CASE("SPICE pointers: masks, depths, and the cache", "[spice]") {
  Pointers pointers;
  const auto mono = [](unsigned flags) {
    LittleWriter out;
    out.u16(flags).u64(9).u8(1).u16(8).u16(1).u16(3).u16(0);
    if ((flags & 4) == 0) out.u8(0b11000000).u8(0b10100000);
    return out.take();
  };
  const Bytes first = mono(2);
  LittleReader in(first, "pointer");
  const auto shape = pointers.read(in);
  REQUIRE(shape);
  CHECK(shape->hotspot == Point{3, 0});
  // Mask and colour: inverts (a checker here), nothing, white, black.
  CHECK(shape->pixels[1] == 0);
  CHECK(shape->pixels[2] == rgb(255, 255, 255));
  CHECK(shape->pixels[3] == rgb(0, 0, 0));
  const Bytes again = mono(4);
  LittleReader remembered(again, "pointer");
  CHECK(pointers.read(remembered)->pixels == shape->pixels);
  pointers.forget(9);
  CHECK(breaks([&] {
    LittleReader gone(again, "pointer");
    pointers.read(gone);
  }));
  LittleWriter huge;
  huge.u16(0).u64(1).u8(0).u16(9000).u16(9000).u16(0).u16(0);
  CHECK(breaks([&] {
    LittleReader large(huge.view(), "pointer");
    pointers.read(large);
  }));
}

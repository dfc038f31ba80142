#include "codec/jpeg.hpp"
#include "codec/zip.hpp"
#include "picture/png.hpp"
#include "picture/scale.hpp"
#include "picture/scale_kernels.hpp"
#include "tests/support.hpp"

using namespace kw;

TEST_CASE("A region holds disjoint rectangles and knows what it covers", "[picture]") {
  Region region;
  region.add({0, 0, 10, 10});
  region.add({5, 5, 10, 10});
  CHECK(region.area() == 175);
  CHECK(region.bounds() == Rect{0, 0, 15, 15});
  CHECK(region.covers({5, 5, 5, 5}));
  CHECK_FALSE(region.covers({0, 0, 15, 15}));
  region.subtract({0, 0, 15, 7});
  CHECK(region.area() == 95);  // 8 rows of the second, 3 of the first, less what they share
  CHECK(region.contains({14, 14}));
  CHECK_FALSE(region.contains({0, 0}));
  region.clip({0, 0, 10, 10});
  CHECK(region.bounds().right() == 10);
  for (std::size_t i = 0; i < region.rects().size(); ++i)
    for (std::size_t j = i + 1; j < region.rects().size(); ++j)
      CHECK_FALSE(region.rects()[i].intersects(region.rects()[j]));
}

TEST_CASE("A region with too many parts becomes its bounding box, an exact one never does", "[picture]") {
  Region bounded, exact = Region::exact();
  for (int i = 0; i < 100; ++i) {
    bounded.add({i * 3, i * 3, 1, 1});
    exact.add({i * 3, i * 3, 1, 1});
  }
  CHECK(bounded.rects().size() <= Region::kMostRects + 1);
  CHECK(bounded.covers({0, 0, 3, 3}));
  CHECK(exact.area() == 100);
}

TEST_CASE("Every pixel format round-trips what it can hold", "[picture]") {
  PixelFormat swapped = PixelFormat::native();
  swapped.redShift = 0, swapped.blueShift = 16;
  PixelFormat big = PixelFormat::native();
  big.bigEndian = !big.bigEndian;
  PixelFormat big565 = PixelFormat::rgb565();
  big565.bigEndian = true;
  PixelFormat high = PixelFormat::native();
  high.redShift = 24, high.greenShift = 16, high.blueShift = 8;
  const std::pair<PixelFormat, int> formats[] = {{PixelFormat::native(), 0},
                                                 {swapped, 0},
                                                 {big, 0},
                                                 {high, 0},
                                                 {PixelFormat::native().compact(), 0},
                                                 {high.compact(), 0},
                                                 {PixelFormat::rgb565(), 4},
                                                 {big565, 4},
                                                 {PixelFormat::rgb332(), 43}};
  const Framebuffer picture = test::colourfulPicture({64, 16});
  for (const auto& [format, error] : formats) {
    CAPTURE(format.bitsPerPixel, format.bigEndian, format.redShift);
    const PixelWriter writer(format);
    const PixelReader reader(format);
    Bytes wire(64 * 16 * writer.bytesPerPixel());
    writer.many(picture.row(0), wire.data(), 64 * 16);
    Framebuffer back({64, 16});
    reader.many(wire.data(), back.row(0), 64 * 16);
    CHECK(test::largestDifference(picture, back) <= error);
    for (int i = 0; i < 64; ++i)
      CHECK(reader.one(wire.data() + static_cast<std::size_t>(i) * reader.bytesPerPixel()) == back.row(0)[i]);
  }
}

TEST_CASE("A pixel format from the wire is checked", "[picture]") {
  auto bytes = PixelFormat::native().serialize();
  CHECK(PixelFormat::parse(bytes) == PixelFormat::native());
  for (const auto& [at, value] : std::vector<std::pair<std::size_t, Byte>>{
           {0, 24}, {0, 0}, {1, 0}, {1, 33}, {5, 0}, {5, 254}, {10, 32}, {10, 30}}) {
    auto broken = bytes;
    broken[at] = value;
    CAPTURE(at, int{value});
    CHECK_THROWS_AS(PixelFormat::parse(broken), Error);
  }
}

TEST_CASE("A colour map gives pixels their colours", "[picture]") {
  ColourMap map = defaultColourMap();
  map[7] = rgb(1, 2, 3);
  const PixelReader reader(PixelFormat::colourMapped(), &map);
  const Bytes wire{7, 255};
  Pixel out[2];
  reader.many(wire.data(), out, 2);
  CHECK(out[0] == rgb(1, 2, 3));
  CHECK(out[1] == rgb(255, 255, 255));
}

TEST_CASE("A framebuffer keeps what fits when it changes size and refuses absurd sizes", "[picture]") {
  Framebuffer picture({4, 4});
  picture.fill({0, 0, 4, 4}, rgb(9, 9, 9));
  picture.resize({6, 2});
  CHECK(picture.pixel(3, 1) == rgb(9, 9, 9));
  CHECK(picture.pixel(5, 1) == kOpaque);
  CHECK_THROWS_AS(picture.resize({65535, 65535}), Error);
  CHECK_THROWS_AS(picture.resize({0, 4}), Error);
  CHECK(picture.size() == Size{6, 2});
}

TEST_CASE("Copying inside a picture respects overlap in every direction", "[picture]") {
  for (const auto& [dx, dy] :
       std::vector<std::pair<int, int>>{{3, 0}, {-3, 0}, {0, 3}, {0, -3}, {2, 2}, {-2, -2}}) {
    Framebuffer picture = test::colourfulPicture({40, 40});
    const Framebuffer before = picture.cropped(picture.rect());
    picture.copy({10, 10}, Rect{10 + dx, 10 + dy, 20, 20});
    CHECK(test::samePixels(picture.cropped({10 + dx, 10 + dy, 20, 20}), before.cropped({10, 10, 20, 20})));
  }
}

TEST_CASE("PNG keeps every pixel; a broken file is an error", "[picture]") {
  test::TemporaryFolder folder;
  const Framebuffer picture = test::colourfulPicture({97, 31});
  savePng(picture, folder.path / "a.png");
  CHECK(test::samePixels(loadPng(folder.path / "a.png"), picture));
  Bytes broken = encodePng(picture);
  broken.resize(broken.size() / 2);
  CHECK_THROWS_AS(decodePng(broken), Error);
  CHECK_THROWS_AS(decodePng(viewOf("no picture")), Error);
  CHECK_THROWS_AS(savePng(picture, folder.path / "missing" / "a.png"), Error);
}

TEST_CASE("Scaling keeps flat colours and the average", "[picture]") {
  Framebuffer flat({50, 30});
  flat.fill(flat.rect(), rgb(10, 200, 90));
  for (const Size target : {Size{13, 7}, Size{25, 15}, Size{50, 30}, Size{175, 64}, Size{1, 1}}) {
    std::vector<Pixel> out(static_cast<std::size_t>(target.area()));
    Scaler({0, 0, 50, 30}, target)
        .scale(flat, {0, 0, target.width, target.height}, out.data(), static_cast<std::size_t>(target.width));
    for (Pixel p : out) REQUIRE(p == rgb(10, 200, 90));
  }
  Framebuffer halves({4, 4});
  halves.fill({0, 0, 4, 4}, rgb(0, 0, 0));
  halves.fill({0, 0, 4, 2}, rgb(200, 100, 50));
  Pixel one = 0;
  Scaler({0, 0, 4, 4}, {1, 1}).scale(halves, {0, 0, 1, 1}, &one, 1);
  CHECK(one == rgb(100, 50, 25));
}

TEST_CASE("Scaling only the damaged part gives the same pixels as scaling all", "[picture]") {
  const Size target{GENERATE(60, 61, 230, 240), GENERATE(41, 45, 180, 190)};
  Framebuffer picture = test::colourfulPicture({120, 90});
  const Scaler scaler(picture.rect(), target);
  std::vector<Pixel> partly(static_cast<std::size_t>(target.area())), whole = partly;
  const Rect all{0, 0, target.width, target.height};
  const auto stride = static_cast<std::size_t>(target.width);
  scaler.scale(picture, all, partly.data(), stride);
  const Rect damage{33, 21, 17, 9};
  picture.fill(damage, rgb(255, 0, 0));
  scaler.scale(picture, scaler.targetOf(damage), partly.data(), stride);
  scaler.scale(picture, all, whole.data(), stride);
  CHECK(partly == whole);
}

TEST_CASE("The scaler's loops give the same pixels on every machine", "[picture]") {
  const ScaleKernels &plain = plainScaleKernels(), &fastest = scaleKernels();
  std::mt19937 dice(12);
  for (int round = 0; round < 300; ++round) {
    const std::size_t pixels = 1 + dice() % 70, channels = pixels * 4, taps = 1 + dice() % 6;
    std::vector<Bytes> data(taps, Bytes(channels + 64));
    std::vector<const Byte*> rows;
    for (Bytes& row : data) {
      for (Byte& b : row) b = static_cast<Byte>(dice() % 5 == 0 ? 255 : dice());
      rows.push_back(row.data());
    }
    std::vector<std::uint16_t> weights(taps, 0);
    for (int left = 1 << kDownBits; left > 0;) {
      const int part = round % 4 == 0 ? left : 1 + static_cast<int>(dice() % static_cast<unsigned>(left));
      weights[dice() % taps] += static_cast<std::uint16_t>(part);
      left -= part;
    }
    ScaleColumns columns;
    columns.pairs = 1 + static_cast<int>(dice() % 3);
    const std::size_t each = static_cast<std::size_t>(columns.pairs) * 2;
    for (std::size_t x = 0; x < 1 + pixels / 2; ++x) {
      columns.from.push_back(static_cast<std::uint32_t>(dice() % pixels) * 4);
      std::vector<std::uint16_t> w(each, 0);
      const auto first = static_cast<std::uint16_t>(dice() % ((1 << kAcrossBits) + 1));
      w[0] = first;
      w[each - 1] = static_cast<std::uint16_t>((1 << kAcrossBits) - first);
      columns.weights.insert(columns.weights.end(), w.begin(), w.end());
    }
    const auto made = [&](const ScaleKernels& kernels) {
      std::vector<std::uint16_t> sum(channels + each * 4 + 8);
      kernels.sumRows(sum.data(), rows, weights.data(), channels);
      std::vector<Pixel> out(columns.from.size() + pixels / 2 + 1);
      kernels.blendColumns(columns, sum.data(), out.data());
      if (taps > 1) {
        const auto* above = reinterpret_cast<const Pixel*>(rows[0]);
        const auto* below = reinterpret_cast<const Pixel*>(rows[1]);
        kernels.halveRow(above, below, out.data() + columns.from.size(), pixels / 2);
      }
      sum.resize(channels);
      return std::pair(sum, out);
    };
    REQUIRE(made(plain) == made(fastest));
  }
}

TEST_CASE("Growing loops give the same pixels on every machine", "[picture]") {
  const ScaleKernels &plain = plainScaleKernels(), &fastest = scaleKernels();
  std::mt19937 dice(27);
  for (int round = 0; round < 300; ++round) {
    const std::size_t source = 2 + dice() % 40, count = 1 + dice() % 70;
    std::vector<std::vector<Pixel>> rows(2, std::vector<Pixel>(source));
    for (auto& row : rows)
      for (Pixel& p : row) p = dice() % 5 == 0 ? 0xffffffff : static_cast<Pixel>(dice());
    std::vector<std::uint32_t> from(count);
    std::vector<std::uint16_t> shares(count);
    for (std::size_t x = 0; x < count; ++x) {
      from[x] = static_cast<std::uint32_t>(dice() % (source - 1));
      const unsigned second = dice() % 4 == 0 ? kGrowAcross : dice() % kGrowAcross;
      shares[x] = static_cast<std::uint16_t>((kGrowAcross - second) | second << 8);
    }
    const auto share = static_cast<std::int16_t>(dice() % (1 << kGrowDownBits));
    const auto made = [&](const ScaleKernels& kernels) {
      std::vector<std::uint16_t> above(count * 4), below = above;
      kernels.growRow(rows[0].data(), from.data(), shares.data(), above.data(), count);
      kernels.growRow(rows[1].data(), from.data(), shares.data(), below.data(), count);
      std::vector<Pixel> out(count);
      kernels.mixRows(above.data(), below.data(), share, out.data(), count);
      return std::tuple(above, below, out);
    };
    REQUIRE(made(plain) == made(fastest));
  }
}

TEST_CASE("A grown picture lies between its pixels", "[picture]") {
  const Size target{GENERATE(46, 61, 92, 151), GENERATE(22, 23, 66)};
  const Framebuffer picture = test::colourfulPicture({46, 22});
  std::vector<Pixel> out(static_cast<std::size_t>(target.area()));
  const auto stride = static_cast<std::size_t>(target.width);
  Scaler(picture.rect(), target).scale(picture, {0, 0, target.width, target.height}, out.data(), stride);
  struct Place {
    int first;
    double share;
  };
  const auto placeOf = [](int t, int from, int to) {
    const double at = std::clamp((t + 0.5) * from / to - 0.5, 0.0, from - 1.0);
    const int first = std::min(static_cast<int>(at), from - 2);
    return Place{first, at - first};
  };
  for (int y = 0; y < target.height; ++y)
    for (int x = 0; x < target.width; ++x) {
      const Place across = placeOf(x, 46, target.width), down = placeOf(y, 22, target.height);
      for (unsigned shift : {0U, 8U, 16U}) {
        const auto of = [&](int dx, int dy) {
          return static_cast<double>(picture.pixel(across.first + dx, down.first + dy) >> shift & 255);
        };
        const auto row = [&](int dy) { return of(0, dy) + (of(1, dy) - of(0, dy)) * across.share; };
        const double exact = row(0) + (row(1) - row(0)) * down.share;
        // Shares across are 128ths: half of one, of the largest difference, and half a step of rounding.
        REQUIRE(std::abs(exact -
                         (out[static_cast<std::size_t>(y) * stride + static_cast<std::size_t>(x)] >> shift &
                          255)) < 1.5);
      }
    }
}

TEST_CASE("Scaling to the half is the mean of four pixels", "[picture]") {
  const Framebuffer picture = test::colourfulPicture({46, 22});
  std::vector<Pixel> out(23 * 11);
  Scaler(picture.rect(), {23, 11}).scale(picture, {0, 0, 23, 11}, out.data(), 23);
  for (int y = 0; y < 11; ++y)
    for (int x = 0; x < 23; ++x)
      for (unsigned shift : {0U, 8U, 16U}) {
        unsigned sum = 2;
        for (const Point p : {Point{0, 0}, Point{1, 0}, Point{0, 1}, Point{1, 1}})
          sum += picture.pixel(2 * x + p.x, 2 * y + p.y) >> shift & 255;
        REQUIRE((out[static_cast<std::size_t>(y * 23 + x)] >> shift & 255) == sum / 4);
      }
}

TEST_CASE("Whole-number zoom repeats pixels", "[picture]") {
  const Framebuffer picture = test::colourfulPicture({10, 6});
  std::vector<Pixel> out(30 * 18);
  scaleWhole(picture, picture.rect(), 3, out.data(), 30);
  for (int y = 0; y < 18; ++y)
    for (int x = 0; x < 30; ++x)
      REQUIRE(out[static_cast<std::size_t>(y * 30 + x)] == picture.pixel(x / 3, y / 3));
}

TEST_CASE("zlib streams live across messages and refuse bombs", "[codec]") {
  Deflater deflater;
  Inflater inflater;
  for (const char* text : {"mist bench", "seed bank", "mist bench again"}) {
    Bytes message;
    deflater.deflate(viewOf(text), message);
    inflater.feed(message);
    Bytes out(std::strlen(text));
    inflater.readAll(out);
    inflater.finish();
    CHECK(textOf(out) == text);
  }
  const Bytes bomb = deflateWhole(Bytes(std::size_t{32} << 20), 9);
  CHECK(bomb.size() < 64 * 1024);
  CHECK_THROWS_AS(inflateWhole(bomb, 1 << 20), Error);
  CHECK(inflateWhole(bomb, std::size_t{32} << 20).size() == std::size_t{32} << 20);
  Bytes broken{0x78, 0x9c, 0xff, 0xff, 0xff, 0xff};
  CHECK_THROWS_AS(inflateWhole(broken, 1000), Error);
  Bytes tooMuch;
  Deflater fresh;
  fresh.deflate(viewOf("twelve bytes and more"), tooMuch);
  Inflater second;
  second.feed(tooMuch);
  Bytes few(4);
  second.readAll(few);
  CHECK_THROWS_AS(second.finish(), Error);
}

TEST_CASE("JPEG of a smooth picture stays near it; wrong sizes are refused", "[codec]") {
  Framebuffer picture({64, 48});
  for (int y = 0; y < 48; ++y)
    for (int x = 0; x < 64; ++x)
      *picture.at(x, y) = rgb(static_cast<unsigned>(x * 3), static_cast<unsigned>(y * 4), 90);
  JpegEncoder encoder;
  JpegDecoder decoder;
  const Bytes jpeg = encoder.encode(picture, picture.rect(), 95);
  Framebuffer out({80, 60});
  decoder.decode(jpeg, out, {5, 6, 64, 48});
  CHECK(test::largestDifference(out.cropped({5, 6, 64, 48}), picture) <= 8);
  CHECK(out.pixel(0, 0) == kOpaque);
  CHECK_THROWS_AS(decoder.decode(jpeg, out, {0, 0, 60, 48}), Error);
  CHECK_THROWS_AS(decoder.decode(viewOf("no JPEG"), out, {0, 0, 64, 48}), Error);
}

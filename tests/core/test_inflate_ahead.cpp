// zlib messages taken piece by piece, here and ahead on a second thread; and large ZRLE rectangles over both.
#include "base/runtime.hpp"
#include "codec/inflate_ahead.hpp"
#include "rfb/constants.hpp"
#include "rfb/encoders.hpp"
#include "rfb/rect_decoder.hpp"
#include "tests/support.hpp"
#include "wire/wire_reader.hpp"

using namespace kw;
using namespace kw::rfb;

namespace {

constexpr std::size_t kMostRest = 5000;

Bytes plainBytes(std::size_t size) {
  Bytes out(size);
  std::uint32_t state = 11;
  for (Byte& b : out) b = static_cast<Byte>((state = state * 1664525U + 1013904223U) >> 27);
  return out;
}

std::unique_ptr<InflatedPieces> source(bool ahead, Inflater& stream, ByteView compressed, Bytes& buffer) {
  if (ahead) return std::make_unique<InflateAhead>(stream, compressed, kMostRest, buffer);
  return std::make_unique<InflateHere>(stream, compressed, kMostRest, buffer);
}

/// Takes units of a strange size, so that nearly every piece leaves a rest; as many as `most` bytes.
Bytes takenInUnits(InflatedPieces& pieces, std::size_t most = SIZE_MAX) {
  Bytes out;
  ByteView here;
  while (out.size() < most) {
    const std::size_t unit = 1 + out.size() * 7 % kMostRest;
    bool dry = false;
    while (here.size() < unit && !dry) {
      const std::size_t before = here.size();
      here = pieces.more(here);
      dry = here.size() == before;
    }
    const std::size_t n = std::min(unit, here.size());
    if (n == 0) break;
    out.insert(out.end(), here.begin(), here.begin() + static_cast<std::ptrdiff_t>(n));
    here = here.subspan(n);
  }
  return out;
}

/// A picture whose ZRLE form is large: nothing repeats.
Framebuffer grainy(Size size) {
  Framebuffer f(size);
  std::uint32_t state = 5;
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x) {
      state = state * 1664525U + 1013904223U;
      *f.at(x, y) = x % 200 < 100 ? rgb(state >> 24, 40, 60) : rgb(10, 20, static_cast<unsigned>(y) & 255);
    }
  return f;
}

std::string decodedInto(Framebuffer& picture, const Bytes& body, int times) {
  std::string what;
  runToEnd([&]() -> Task<void> {
    auto nothing = replayStream({});
    WireReader in(*nothing, body);
    RectDecoder decoder(PixelFormat::native());
    try {
      for (int i = 0; i < times; ++i) co_await decoder.decode(encoding::kZrle, picture.rect(), in, picture);
    } catch (const Error& e) {
      what = e.what();
    }
  });
  return what;
}

Bytes zrleBody(const std::vector<const Framebuffer*>& frames) {
  RectEncoder encoder(PixelFormat::native());
  Bytes out;
  for (const Framebuffer* f : frames) {
    ByteWriter whole;
    encoder.encode(encoding::kZrle, f->rect(), *f, whole);
    out.insert(out.end(), whole.view().begin() + 12, whole.view().end());
  }
  return out;
}

}  // namespace

TEST_CASE("inflated pieces are whole, whoever inflates them", "[codec][inflate]") {
  const bool ahead = GENERATE(false, true);
  const std::size_t size = GENERATE(0, 1, 65536, 65537, 262144, 1'000'003);
  const Bytes plain = plainBytes(size);
  Deflater deflater;
  Inflater inflater;
  Bytes buffer;
  for (int message = 0; message < 3; ++message) {  // one stream over several messages
    Bytes compressed;
    deflater.deflate(plain, compressed);
    auto pieces = source(ahead, inflater, compressed, buffer);
    CHECK(takenInUnits(*pieces) == plain);
    CHECK(pieces->more({}).empty());
    pieces.reset();
    CHECK_NOTHROW(inflater.finish());
  }
}

TEST_CASE("whoever stops in the middle of a message leaves nothing running", "[codec][inflate]") {
  const bool ahead = GENERATE(false, true);
  const Bytes plain = plainBytes(3'000'000), compressed = deflateWhole(plain);
  for (std::size_t most : {0UL, 1UL, 70'000UL, 400'000UL}) {
    Inflater inflater;
    Bytes buffer;
    auto pieces = source(ahead, inflater, compressed, buffer);
    const Bytes taken = takenInUnits(*pieces, most);
    CHECK(taken.size() >= most);
    CHECK(std::equal(taken.begin(), taken.end(), plain.begin()));
  }
}

TEST_CASE("a piece stays as it is while it is looked at, however far ahead the other thread is",
          "[codec][inflate]") {
  const Bytes plain = plainBytes(2'000'000), compressed = deflateWhole(plain);
  Inflater inflater;
  Bytes buffer;
  InflateAhead pieces(inflater, compressed, kMostRest, buffer);
  ByteView piece;
  for (std::size_t at = 0; at < 3 * 65536; at += piece.size()) {
    piece = pieces.more({});
    const auto isAsIs = [&] {
      return std::equal(piece.begin(), piece.end(), plain.begin() + static_cast<std::ptrdiff_t>(at));
    };
    // Time enough for the other thread to fill every other piece, and this one if it does not know better.
    CHECK_FALSE(test::eventually([&] { return !isAsIs(); }, std::chrono::milliseconds(30)));
  }
}

TEST_CASE("broken data are told to the reader, after what came before them", "[codec][inflate]") {
  const bool ahead = GENERATE(false, true);
  Bytes compressed = deflateWhole(plainBytes(500'000), 0);  // stored: each block begins with its kind
  for (std::size_t i = compressed.size() / 2; i < compressed.size(); ++i) compressed[i] = 0xFF;
  Inflater inflater;
  Bytes buffer;
  auto pieces = source(ahead, inflater, compressed, buffer);
  std::string what;
  try {
    takenInUnits(*pieces);
  } catch (const Error& e) {
    what = e.what();
  }
  CHECK(what.find("zlib data") != std::string::npos);
}

TEST_CASE("where no thread can be started the pieces are inflated here", "[codec][inflate]") {
  pthread_attr_t usual, huge;
  REQUIRE(pthread_getattr_default_np(&usual) == 0);
  REQUIRE(pthread_attr_init(&huge) == 0);
  REQUIRE(pthread_attr_setstacksize(&huge, std::size_t{1} << 50) == 0);  // no address space holds it
  const Bytes plain = plainBytes(300'000), compressed = deflateWhole(plain);
  Inflater inflater;
  Bytes buffer;
  REQUIRE(pthread_setattr_default_np(&huge) == 0);
  CHECK_THROWS_AS(std::thread([] {}).join(), std::system_error);
  const auto pieces = inflatePieces(true, inflater, compressed, kMostRest, buffer);
  REQUIRE(pthread_setattr_default_np(&usual) == 0);
  CHECK(takenInUnits(*pieces) == plain);
}

TEST_CASE("a rest that is too long is refused", "[codec][inflate]") {
  const bool ahead = GENERATE(false, true);
  const Bytes compressed = deflateWhole(plainBytes(100)), rest(kMostRest + 1);
  Inflater inflater;
  Bytes buffer;
  auto pieces = source(ahead, inflater, compressed, buffer);
  CHECK_THROWS_AS(pieces->more(rest), Error);
}

TEST_CASE("large and small ZRLE rectangles share a stream", "[rfb][encoding][inflate]") {
  const Framebuffer large = grainy({700, 500}), again = grainy({699, 500});
  const Bytes body = zrleBody({&large, &large, &large});
  REQUIRE(body.size() > 3 * 16384);
  Framebuffer shown(large.size());
  CHECK(decodedInto(shown, body, 3).empty());
  CHECK(test::samePixels(shown, large));
  const Bytes other = zrleBody({&again});
  CHECK_FALSE(decodedInto(shown, other, 1).empty());  // of another size
}

TEST_CASE("a large ZRLE rectangle with too much or too little is refused", "[rfb][hostile][inflate]") {
  const Framebuffer tall = grainy({640, 704}), picture = grainy({640, 640});
  Framebuffer low({640, 640}), high({640, 768});
  const Bytes body = zrleBody({&tall});
  CHECK(decodedInto(low, body, 1).find("more than its tiles") != std::string::npos);
  CHECK(decodedInto(high, body, 1).find("ends inside a tile") != std::string::npos);
}

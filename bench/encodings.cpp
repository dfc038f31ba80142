// Decoding against what the bytes or the library underneath must cost, on the same recorded stream.
#include <turbojpeg.h>
#include <zlib.h>

#include <cstring>

#include "base/runtime.hpp"
#include "bench/bench.hpp"
#include "codec/jpeg.hpp"
#include "lab/guest.hpp"
#include "rfb/constants.hpp"
#include "rfb/encoders.hpp"
#include "rfb/rect_decoder.hpp"
#include "wire/wire_reader.hpp"

namespace kw::bench {

namespace {

using namespace rfb;
constexpr Size kSize{1920, 1080};
constexpr int kFrames = 4;

/// A desktop of the lab, with a photograph-like part, as it changes over a few frames.
std::vector<Framebuffer> recordedFrames() {
  lab::GuestPlan plan;
  plan.name = "mist-bench";
  plan.scene = lab::SceneKind::MistBench;
  lab::Guest guest(plan, std::make_shared<lab::Fonts>());
  guest.alreadyRunning(lab::Guest::Time(0));
  guest.resize(kSize);
  std::vector<Framebuffer> frames;
  std::uint32_t noise = 7;
  for (int i = 0; i < kFrames; ++i) {
    guest.advance(lab::Guest::Time(i * 1000));
    Framebuffer f = guest.picture()->cropped(guest.picture()->rect());
    for (int y = 600; y < 1000; ++y)
      for (int x = 1200; x < 1800; ++x) {
        noise = noise * 1664525U + 1013904223U;
        const unsigned grain = noise >> 28;
        *f.at(x, y) = rgb((static_cast<unsigned>(x / 4 + i * 9) + grain) & 255,
                          (static_cast<unsigned>(y / 3) + grain) & 255,
                          (static_cast<unsigned>(x + y) / 6 + grain) & 255);
      }
    frames.push_back(std::move(f));
  }
  return frames;
}

struct Recording {
  std::vector<std::pair<Rect, std::size_t>> rects;  ///< target, and how many bytes it took
  Bytes bytes;                                      ///< rectangle bodies, without headers
  std::vector<Bytes> compressed;                    ///< what the library underneath gets, in order
  std::vector<Rect> jpegs;
};

/// Bodies as a real server sends them: one rectangle per frame.
Recording record(std::int32_t encoding, const std::vector<Framebuffer>& frames) {
  Recording out;
  RectEncoder encoder(PixelFormat::native());
  z_stream zlib{};
  deflateInit(&zlib, 2);
  for (const Framebuffer& f : frames) {
    ByteWriter body;
    if (encoding == encoding::kZlib) {
      Bytes text(f.size().area() * 5);
      zlib.next_in = const_cast<Byte*>(reinterpret_cast<const Byte*>(f.row(0)));
      zlib.avail_in = static_cast<uInt>(f.size().area() * 4);
      zlib.next_out = text.data();
      zlib.avail_out = static_cast<uInt>(text.size());
      deflate(&zlib, Z_SYNC_FLUSH);
      text.resize(text.size() - zlib.avail_out);
      body.u32(static_cast<std::uint32_t>(text.size())).bytes(text);
      out.compressed.push_back(text);
    } else {
      ByteWriter whole;
      encoder.encode(encoding, f.rect(), f, whole);
      body.bytes(whole.view().subspan(12));
      if (encoding == encoding::kZrle)
        out.compressed.emplace_back(whole.view().begin() + 16, whole.view().end());
    }
    out.rects.emplace_back(f.rect(), body.size());
    out.bytes.insert(out.bytes.end(), body.view().begin(), body.view().end());
  }
  deflateEnd(&zlib);
  return out;
}

void compactLength(ByteWriter& out, std::size_t n) {
  out.u8(static_cast<unsigned>(n & 0x7f) | (n > 0x7f ? 0x80U : 0));
  if (n > 0x7f) out.u8(static_cast<unsigned>(n >> 7 & 0x7f) | (n > 0x3fff ? 0x80U : 0));
  if (n > 0x3fff) out.u8(static_cast<unsigned>(n >> 14 & 0xff));
}

/// Tight with the copy filter, in strips as large as servers send them; or JPEG tiles.
Recording recordTight(const std::vector<Framebuffer>& frames, bool jpeg) {
  Recording out;
  JpegEncoder encoder;
  z_stream zlib{};
  deflateInit(&zlib, 2);
  const PixelWriter packed([] {
    PixelFormat f = PixelFormat::native();
    f.bitsPerPixel = 24, f.bigEndian = true;
    return f;
  }());
  for (const Framebuffer& f : frames)
    for (int y = 0; y < f.height(); y += jpeg ? 216 : 34) {
      const Rect strip{0, y, f.width(), std::min(jpeg ? 216 : 34, f.height() - y)};
      ByteWriter body;
      if (jpeg) {
        const Bytes picture = encoder.encode(f, strip, 80);
        body.u8(0x90);
        compactLength(body, picture.size());
        body.bytes(picture);
        out.compressed.push_back(picture);
        out.jpegs.push_back(strip);
      } else {
        const auto pixels = static_cast<std::size_t>(strip.area());
        Bytes plain(pixels * 3), text(pixels * 4);
        for (int row = 0; row < strip.height; ++row)
          packed.many(f.row(y + row), plain.data() + static_cast<std::size_t>(row) * 3 * f.stride(),
                      f.stride());
        zlib.next_in = plain.data();
        zlib.avail_in = static_cast<uInt>(plain.size());
        zlib.next_out = text.data();
        zlib.avail_out = static_cast<uInt>(text.size());
        deflate(&zlib, Z_SYNC_FLUSH);
        text.resize(text.size() - zlib.avail_out);
        body.u8(0);
        compactLength(body, text.size());
        body.bytes(text);
        out.compressed.push_back(text);
      }
      out.rects.emplace_back(strip, body.size());
      out.bytes.insert(out.bytes.end(), body.view().begin(), body.view().end());
    }
  deflateEnd(&zlib);
  return out;
}

/// The recording stays where it is; only the reader's position moves.
double decodeAll(std::int32_t encoding, const Recording& recording, Framebuffer& picture) {
  double seconds = 0;
  runToEnd([&]() -> Task<void> {
    auto nothing = replayStream({});
    WireReader in(*nothing, recording.bytes);
    RectDecoder decoder(PixelFormat::native());
    const auto start = std::chrono::steady_clock::now();
    for (const auto& [rect, size] : recording.rects) co_await decoder.decode(encoding, rect, in, picture);
    seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  });
  return seconds;
}

double inflateAll(const Recording& recording, Bytes& scratch) {
  z_stream zlib{};
  inflateInit(&zlib);
  const auto start = std::chrono::steady_clock::now();
  for (const Bytes& text : recording.compressed) {
    zlib.next_in = const_cast<Byte*>(text.data());
    zlib.avail_in = static_cast<uInt>(text.size());
    while (zlib.avail_in > 0) {
      zlib.next_out = scratch.data();
      zlib.avail_out = static_cast<uInt>(scratch.size());
      if (inflate(&zlib, Z_SYNC_FLUSH) != Z_OK) break;
    }
  }
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  inflateEnd(&zlib);
  return seconds;
}

double jpegAll(const Recording& recording, Framebuffer& picture) {
  tjhandle handle = tjInitDecompress();
  const auto start = std::chrono::steady_clock::now();
  for (std::size_t i = 0; i < recording.compressed.size(); ++i) {
    const Rect& r = recording.jpegs[i];
    tjDecompress2(handle, recording.compressed[i].data(), recording.compressed[i].size(),
                  reinterpret_cast<Byte*>(picture.at(r.x, r.y)), r.width,
                  static_cast<int>(picture.stride() * 4), r.height, TJPF_BGRA, 0);
  }
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  tjDestroy(handle);
  return seconds;
}

/// Times that leave out setting up; the smaller of many, taken in turns.
std::pair<double, double> best(const std::function<double()>& ours, const std::function<double()>& floor) {
  double a = 1e9, b = 1e9;
  for (int i = 0; i < 15; ++i) {
    a = std::min(a, ours());
    b = std::min(b, floor());
  }
  return {a, b};
}

}  // namespace

void benchEncodings(Table& table) {
  const std::vector<Framebuffer> frames = recordedFrames();
  Framebuffer picture(kSize);
  Bytes scratch(std::size_t{64} << 10);
  const double pixelBytes = static_cast<double>(kSize.area()) * 4 * kFrames;
  const auto copyFrames = [&] {
    const auto start = std::chrono::steady_clock::now();
    for (const Framebuffer& f : frames)
      std::memcpy(picture.row(0), f.row(0), static_cast<std::size_t>(f.size().area()) * 4);
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  };
  const std::tuple<const char*, std::int32_t, double, bool> rows[] = {
      {"decode Raw", encoding::kRaw, 1.15, false},
      {"decode Zlib", encoding::kZlib, 1.15, true},
      {"decode ZRLE", encoding::kZrle, 1.15, true},
      {"decode Hextile", encoding::kHextile, 0, false},
      {"decode TRLE", encoding::kTrle, 0, false}};
  const char* only = std::getenv("KW_BENCH_ONLY");  // a part of a row's name, for profiling
  for (const auto& [name, e, goal, zipped] : rows) {
    if (only != nullptr && std::strstr(name, only) == nullptr) continue;
    const Recording recording = record(e, frames);
    const auto [ours, floor] =
        zipped ? best([&, e = e] { return decodeAll(e, recording, picture); },
                      [&] { return inflateAll(recording, scratch); })
               : best([&, e = e] { return decodeAll(e, recording, picture); }, copyFrames);
    if (e == encoding::kZrle) {
      const auto [same, both] = best([&] { return decodeAll(encoding::kZrle, recording, picture); },
                                     [&] { return inflateAll(recording, scratch) + copyFrames(); });
      table.row("decode ZRLE, floor with its pixels", same, both, "inflate, and memcpy of the pixels", 0,
                pixelBytes);
    }
    table.row(name, ours, floor, zipped ? "zlib's inflate of the same stream" : "memcpy of the pixels", goal,
              pixelBytes);
  }
  if (only != nullptr) return;
  const Recording tight = recordTight(frames, false), jpeg = recordTight(frames, true);
  const auto [tightOurs, tightFloor] = best([&] { return decodeAll(encoding::kTight, tight, picture); },
                                            [&] { return inflateAll(tight, scratch); });
  table.row("decode Tight (zlib)", tightOurs, tightFloor, "zlib's inflate of the same streams", 1.15,
            pixelBytes);
  const auto [jpegOurs, jpegFloor] = best([&] { return decodeAll(encoding::kTight, jpeg, picture); },
                                          [&] { return jpegAll(jpeg, picture); });
  table.row("decode Tight (JPEG)", jpegOurs, jpegFloor, "libjpeg-turbo's decode of the same pictures", 1.15,
            pixelBytes);
}

}  // namespace kw::bench

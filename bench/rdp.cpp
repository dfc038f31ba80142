// RDP's codecs against what their bytes, or a library doing the like, must cost; what a session takes to
// begin and to keep.
extern "C" {
#include <libswscale/swscale.h>
}
#include <turbojpeg.h>
#include <zlib.h>

#include <cstring>
#include <future>

#include "base/runtime.hpp"
#include "bench/bench.hpp"
#include "bench/rdp_visit.hpp"
#include "bench/scene.hpp"
#include "codec/jpeg.hpp"
#include "rdp/bitmap_codec.hpp"
#include "rdp/codec/avc.hpp"
#include "rdp/codec/clear_codec.hpp"
#include "rdp/codec/nscodec.hpp"
#include "rdp/server.hpp"
#include "tests/h264_maker.hpp"

namespace kw::bench {

namespace {

using namespace rdp;
constexpr Size kSize{1920, 1080};
constexpr int kTile = 64;

std::vector<Rect> tiles() {
  std::vector<Rect> out;
  for (int y = 0; y < kSize.height; y += kTile)
    for (int x = 0; x < kSize.width; x += kTile)
      out.push_back(Rect{x, y, kTile, kTile}.intersected({0, 0, kSize.width, kSize.height}));
  return out;
}

void benchBitmaps(Table& table, const Framebuffer& f) {
  const double bytes = static_cast<double>(kSize.area()) * 4;
  Framebuffer out(kSize);
  std::vector<Pixel> scratch(kTile * kTile);
  Bytes narrow(kTile * kTile * 3);
  std::vector<Bytes> planar, runs;
  const PixelWriter writer(PixelFormat::native().compact());
  for (const Rect& t : tiles()) {
    planar.push_back(encodePlanar(f.row(t.y) + t.x, f.stride(), t.width, t.height, true));
    Bytes pixels(static_cast<std::size_t>(t.area()) * 3);
    for (int y = 0; y < t.height; ++y)
      writer.many(f.row(t.y + y) + t.x, pixels.data() + y * t.width * 3, static_cast<std::size_t>(t.width));
    runs.push_back(encodeInterleaved(pixels.data(), t.width, t.height, 3));
  }
  const auto copy = [&](std::size_t bytesPerPixel) {
    return [&f, &out, bytesPerPixel] {
      std::memcpy(out.row(0), f.row(0), static_cast<std::size_t>(kSize.area()) * bytesPerPixel);
    };
  };
  const auto all = tiles();
  const auto [p, pf] = bestOfBoth(
      [&] {
        for (std::size_t i = 0; i < all.size(); ++i)
          decodePlanar(planar[i], all[i].width, all[i].height, out.at(all[i].x, all[i].y), out.stride(),
                       true);
      },
      copy(4));
  table.row("rdp: planar, 32 bits", p, pf, "memcpy of the pixels", 2, bytes);
  const auto [r, rf] = bestOfBoth(
      [&] {
        for (std::size_t i = 0; i < all.size(); ++i)
          decodeInterleaved(runs[i], all[i].width, all[i].height, 3,
                            ByteSpan(narrow).first(static_cast<std::size_t>(all[i].area()) * 3));
      },
      copy(3));
  table.row("rdp: interleaved RLE, 24 bits", r, rf, "memcpy of the pixels", 2, bytes * 3 / 4);
}

/// The quality whose JPEG is about as large.
Bytes jpegOfSize(const Framebuffer& f, std::size_t size) {
  JpegEncoder encoder;
  Bytes best;
  for (int quality = 30; quality <= 100; quality += 5) {
    best = encoder.encode(f, f.rect(), quality);
    if (best.size() >= size) break;
  }
  return best;
}

void benchWavelets(Table& table, const Framebuffer& f) {
  Quant quant;
  quant.fill(6);
  const Bytes fx = encodeRemoteFx(f, f.rect(), RlgrMode::Three, quant);
  const Bytes progressive = encodeProgressive(f, f.rect(), quant, true, 1);
  const Bytes jpeg = jpegOfSize(f, progressive.size());
  Framebuffer out(kSize);
  JpegDecoder decoder;
  RemoteFxDecoder remoteFx;
  const double bytes = static_cast<double>(kSize.area()) * 4;
  const auto floor = [&] { decoder.decode(jpeg, out, out.rect()); };
  const std::string note = "libjpeg-turbo, " + std::to_string(jpeg.size() / 1000) + " kB; ours " +
                           std::to_string(fx.size() / 1000) + " and " +
                           std::to_string(progressive.size() / 1000);
  const auto [a, af] = bestOfBoth([&] { remoteFx.decode(fx, out, {0, 0}); }, floor);
  table.row("rdp: RemoteFX, 1080p", a, af, note, 1 / 0.6, bytes);
  ProgressiveDecoder tiles;
  const auto [b, bf] = bestOfBoth([&] { tiles.decode(progressive, out); }, floor);
  table.row("rdp: progressive, 1080p", b, bf, note, 1 / 0.6, bytes);
}

/// Decoding and turning planes into pixels with FFmpeg's own two libraries.
class BareAvc {
 public:
  BareAvc() : context_(avcodec_alloc_context3(avcodec_find_decoder(AV_CODEC_ID_H264))) {
    context_->thread_count = 1;
    avcodec_open2(context_, nullptr, nullptr);
  }
  ~BareAvc() {
    sws_freeContext(scaler_);
    av_frame_free(&frame_);
    avcodec_free_context(&context_);
  }
  BareAvc(const BareAvc&) = delete;
  BareAvc& operator=(const BareAvc&) = delete;
  void decode(ByteView unit, Framebuffer& out) {
    AVPacket* packet = av_packet_alloc();
    av_new_packet(packet, static_cast<int>(unit.size()));
    std::memcpy(packet->data, unit.data(), unit.size());
    avcodec_send_packet(context_, packet);
    av_packet_free(&packet);
    if (avcodec_receive_frame(context_, frame_) != 0) return;
    scaler_ = sws_getCachedContext(scaler_, kSize.width, kSize.height, AV_PIX_FMT_YUV420P, kSize.width,
                                   kSize.height, AV_PIX_FMT_BGRA, SWS_POINT, nullptr, nullptr, nullptr);
    Byte* planes[] = {reinterpret_cast<Byte*>(out.row(0))};
    const int strides[] = {static_cast<int>(out.stride() * 4)};
    sws_scale(scaler_, frame_->data, frame_->linesize, 0, kSize.height, planes, strides);
  }

 private:
  AVCodecContext* context_;
  AVFrame* frame_ = av_frame_alloc();
  SwsContext* scaler_ = nullptr;
};

/// A page that scrolls by a line of text a picture; the same pictures for both.
void benchVideo(Table& table, const Framebuffer& f) {
  constexpr int kPictures = 12, kStep = 20;
  test::H264Maker maker(kSize, "23");
  std::vector<Bytes> units, streams;
  for (int i = 0; i < kPictures; ++i) {
    Framebuffer moved(kSize);
    for (int y = 0; y < kSize.height; ++y)
      std::memcpy(moved.row(y), f.row((y + i * kStep) % kSize.height), sizeof(Pixel) * kSize.width);
    units.push_back(maker.encode(test::mainFrame(test::planesOf(moved))));
    LittleWriter out;
    out.u32(1).u16(0).u16(0).u16(kSize.width).u16(kSize.height).u8(22).u8(100).bytes(units.back());
    streams.push_back(out.take());
  }
  Framebuffer out(kSize), bare(kSize);
  // From its first picture on each stream begins anew.
  const auto [ours, floor] = bestOfBoth(
      [&] {
        AvcDecoder decoder;
        for (const Bytes& s : streams) decoder.decode420(s, out, {0, 0});
      },
      [&] {
        BareAvc decoder;
        for (const Bytes& u : units) decoder.decode(u, bare);
      });
  table.row("rdp: H.264, twelve pictures of a scrolling 1080p page", ours, floor,
            "libavcodec and libswscale, one thread", 1.15, static_cast<double>(kSize.area()) * 4 * kPictures);
}

void benchBulk(Table& table, const Framebuffer& f) {
  // What a service packs: planar pictures of a desktop.
  Bytes plain;
  for (const Rect& t : tiles()) {
    const Bytes tile = encodePlanar(f.row(t.y) + t.x, f.stride(), t.width, t.height, false);
    plain.insert(plain.end(), tile.begin(), tile.end());
  }
  const Bytes packed = compressZgfx(plain);
  uLongf size = compressBound(plain.size());
  Bytes zipped(size), open(plain.size());
  compress2(zipped.data(), &size, plain.data(), plain.size(), 6);
  ZgfxReader reader;
  const auto [ours, floor] = bestOfBoth([&] { reader.open(packed); },
                                        [&] {
                                          uLongf n = open.size();
                                          uncompress(open.data(), &n, zipped.data(), size);
                                        });
  table.row("rdp: ZGFX", ours, floor,
            "inflate; " + std::to_string(plain.size() / 1000) + " kB in " +
                std::to_string(packed.size() / 1000) + " and " + std::to_string(size / 1000),
            1.25, static_cast<double>(plain.size()));
}

// A session from the dial on.

void benchSession(Table& table, const Framebuffer& f) {
  const MadeCertificate certificate = makeSelfSigned("mist-bench");
  Runtime runtime{1};
  const Executor strand = runtime.strand();
  auto shown = std::make_shared<Framebuffer>(kSize);
  shown->put(shown->rect(), f.row(0));
  ServerOptions serverOptions;
  serverOptions.certificate = certificate;
  serverOptions.account = [](const NtlmAccount&) { return KnownAccount{"fern-house", 0}; };
  serverOptions.pipeline = PipelineForm::Planar;
  double memory = 0;
  const auto visit = [&] {
    auto [a, b] = memoryPair(strand);
    RdpVisit guest(kSize);
    ServerEvents host;
    Server server(strand, shown, serverOptions, host);
    const double before = heapInUse();
    auto picture = std::make_shared<Framebuffer>(Size{10, 10});
    ClientOptions options;
    options.size = kSize;
    Client client(strand, systemClock(), picture, options, guest);
    std::promise<void> whole, clientOver, serverOver;
    guest.whole = [&] {
      memory = heapInUse() - before;
      whole.set_value();
      client.close();
    };
    auto far = std::make_shared<StreamPtr>(std::move(b));
    auto near = std::make_shared<StreamPtr>(std::move(a));
    spawn(
        strand, [&server, far]() -> Task<void> { co_await server.run(std::move(*far)); },
        [&](std::exception_ptr) { serverOver.set_value(); });
    spawn(
        strand,
        [&client, near]() -> Task<void> {
          Client::Dial dial = [near]() -> Task<StreamPtr> { co_return std::move(*near); };
          co_await client.run(std::move(dial));
        },
        [&](std::exception_ptr) { clientOver.set_value(); });
    whole.get_future().wait();
    clientOver.get_future().wait();
    server.close();
    serverOver.get_future().wait();
  };
  const auto handshake = [&] {
    auto [a, b] = memoryPair(strand);
    std::promise<void> done[2];
    auto far = std::make_shared<StreamPtr>(std::move(b));
    auto near = std::make_shared<StreamPtr>(std::move(a));
    spawn(
        strand,
        [&, far]() -> Task<void> {
          TlsServerOptions tls{certificate.certificatePem, certificate.keyPem};
          co_await startTlsServer(std::move(*far), std::move(tls));
        },
        [&](std::exception_ptr) { done[0].set_value(); });
    spawn(
        strand,
        [near]() -> Task<void> {
          TlsClientOptions options;
          options.decide = [](PeerCertificate) -> Task<bool> { co_return true; };
          co_await startTls(std::move(*near), std::move(options));
        },
        [&](std::exception_ptr) { done[1].set_value(); });
    for (auto& d : done) d.get_future().wait();
  };
  const auto [ours, floor] = bestOfBoth(visit, handshake, 7);
  table.row("rdp: from dial to a whole 1080p picture", ours, floor, "a bare TLS handshake in memory");
  table.figure("rdp: memory of a 1080p session", memory / (static_cast<double>(kSize.area()) * 4), "pictures",
               3);
}

}  // namespace

void benchRdp(Table& table) {
  const Framebuffer f = desktopScene(kSize);
  benchBitmaps(table, f);
  benchWavelets(table, f);
  benchVideo(table, f);
  benchBulk(table, f);
  benchSession(table, f);
}

}  // namespace kw::bench

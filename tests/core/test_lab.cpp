#include "codec/h264.hpp"
#include "lab/scenario.hpp"
#include "session/keys.hpp"
#include "tests/support.hpp"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/opt.h>
}

using namespace kw;
using namespace kw::lab;

namespace {
GuestPlan guestPlan() {
  GuestPlan p;
  p.name = "mist-bench";
  p.scene = SceneKind::MistBench;
  p.guestPassword = "valve";
  p.seed = 11;
  return p;
}
Guest::Time at(int ms) { return Guest::Time(ms); }
}  // namespace

TEST_CASE("A guest goes from firmware to desktop, changing its size on the way", "[lab]") {
  Guest guest(guestPlan(), std::make_shared<Fonts>());
  guest.advance(at(0));
  CHECK(guest.phase() == Phase::Firmware);
  CHECK(guest.picture()->size() == Size{640, 400});
  CHECK(guest.advance(at(1600)).resized);
  CHECK(guest.phase() == Phase::Boot);
  guest.advance(at(5000));
  CHECK(guest.phase() == Phase::SignIn);
  CHECK(guest.picture()->size() == Size{1280, 800});
  guest.advance(at(9000));
  CHECK(guest.phase() == Phase::Desktop);
  guest.reboot();
  guest.advance(at(9100));
  CHECK(guest.phase() == Phase::Firmware);
}

TEST_CASE("With the same seed and time a guest shows the same", "[lab]") {
  auto fonts = std::make_shared<Fonts>();
  Guest a(guestPlan(), fonts), b(guestPlan(), fonts);
  GuestPlan other = guestPlan();
  other.seed = 12;
  Guest c(other, fonts);
  for (Guest* g : {&a, &b, &c}) {
    g->alreadyRunning(at(0));
    g->advance(at(12345));
  }
  CHECK(test::samePixels(*a.picture(), *b.picture()));
  CHECK_FALSE(test::samePixels(*a.picture(), *c.picture()));
  b.advance(at(14345));
  CHECK_FALSE(test::samePixels(*a.picture(), *b.picture()));
}

TEST_CASE("Damage of a guest covers exactly what changed", "[lab]") {
  Guest guest(guestPlan(), std::make_shared<Fonts>());
  guest.alreadyRunning(at(0));
  guest.advance(at(0));
  const Framebuffer before = guest.picture()->cropped(guest.picture()->rect());
  guest.key('x', true);
  const Region damage = guest.advance(at(0)).damage;
  CHECK_FALSE(damage.empty());
  CHECK(damage.area() < 20000);
  for (int y = 0; y < 800; ++y)
    for (int x = 0; x < 1280; ++x)
      if (before.pixel(x, y) != guest.picture()->pixel(x, y)) REQUIRE(damage.contains({x, y}));
}

TEST_CASE("The sign-in page takes its own password only", "[lab]") {
  GuestPlan plan = guestPlan();
  plan.signsInAlone.reset();
  Guest guest(plan, std::make_shared<Fonts>());
  guest.advance(at(0));
  guest.advance(at(2000));
  guest.advance(at(6000));
  REQUIRE(guest.phase() == Phase::SignIn);
  const auto type = [&](const std::string& text) {
    for (const Chord& chord : chordsForText(text))
      for (const KeyStroke& k : chord) guest.key(k.keysym, true);
  };
  type("duty\nwrong\n");
  guest.advance(at(6100));
  CHECK(guest.phase() == Phase::SignIn);
  type("duty\nvalve\n");
  guest.advance(at(6200));
  CHECK(guest.phase() == Phase::Desktop);
  guest.key(keysym::kControlLeft, true);
  guest.key(keysym::kAltLeft, true);
  guest.key(keysym::kDelete, true);
  guest.advance(at(6300));
  CHECK(guest.phase() == Phase::Firmware);
}

TEST_CASE("A click shuts a valve, and the bar falls", "[lab]") {
  Guest guest(guestPlan(), std::make_shared<Fonts>());
  guest.alreadyRunning(at(0));
  guest.advance(at(0));
  const Pixel open = guest.picture()->pixel(400, 164);
  guest.pointer({100, 165}, 1);
  guest.pointer({100, 165}, 0);
  guest.advance(at(0));
  CHECK(guest.picture()->pixel(400, 164) != open);
}

TEST_CASE("The scenario's consoles and records belong together", "[lab]") {
  test::TemporaryFolder folder;
  const LabSecrets secrets = loadOrMakeSecrets(folder.path / "lab");
  CHECK(loadOrMakeSecrets(folder.path / "lab").consolePasswords == secrets.consolePasswords);
  const auto plans = consolePlans(secrets);
  CHECK(plans.size() == 29);
  CHECK(std::count_if(plans.begin(), plans.end(),
                      [](const ConsolePlan& p) { return p.options.certificate.has_value(); }) == 1);
  CHECK(std::count_if(plans.begin(), plans.end(), [](const ConsolePlan& p) { return p.guest.twoScreens; }) ==
        1);
  auto store = openSqliteStore(folder.path / "records.sqlite");
  auto vault = openVault(folder.path);
  fillStore(*store, *vault, secrets);
  fillStore(*store, *vault, secrets);  // a second start changes nothing
  const Snapshot s = store->load();
  CHECK(s.machines.size() == 32);
  const Machine* kiosk = s.machineNamed("ticket-kiosk");
  const Machine* guide = s.machineNamed("audio-guide");
  REQUIRE((kiosk != nullptr && guide != nullptr));
  CHECK(s.sharingAddress(*s.endpointsOf(guide->id)[0])[0]->machine == kiosk->id);
}

TEST_CASE("H.264 rectangles show what was encoded", "[rfb][h264]") {
  const AVCodec* codec = avcodec_find_encoder(AV_CODEC_ID_H264);
  REQUIRE(codec != nullptr);
  av_log_set_level(AV_LOG_QUIET);
  AVCodecContext* context = avcodec_alloc_context3(codec);
  context->width = 64, context->height = 48;
  context->time_base = {1, 25};
  context->pix_fmt = AV_PIX_FMT_YUV420P;
  context->max_b_frames = 0;
  context->gop_size = 1;
  av_opt_set(context->priv_data, "tune", "zerolatency", 0);
  REQUIRE(avcodec_open2(context, codec, nullptr) == 0);
  AVFrame* frame = av_frame_alloc();
  frame->format = AV_PIX_FMT_YUV420P, frame->width = 64, frame->height = 48;
  REQUIRE(av_frame_get_buffer(frame, 0) == 0);
  for (int y = 0; y < 48; ++y) std::memset(frame->data[0] + y * frame->linesize[0], 180, 64);
  for (int y = 0; y < 24; ++y)
    std::memset(frame->data[1] + y * frame->linesize[1], 128, 32),
        std::memset(frame->data[2] + y * frame->linesize[2], 128, 32);
  frame->pts = 0;
  REQUIRE(avcodec_send_frame(context, frame) == 0);
  avcodec_send_frame(context, nullptr);
  AVPacket* packet = av_packet_alloc();
  REQUIRE(avcodec_receive_packet(context, packet) == 0);
  const Bytes unit(packet->data, packet->data + packet->size);
  av_packet_free(&packet);
  av_frame_free(&frame);
  avcodec_free_context(&context);
  H264Decoder decoder;
  Framebuffer picture({100, 80});
  CHECK(decoder.decode(unit, picture, {10, 20, 64, 48}));
  // Luma 180 of the studio range is (180 - 16) * 255 / 219 = 191 in full range.
  for (int shift : {0, 8, 16})
    CHECK(std::abs(static_cast<int>(picture.pixel(40, 40) >> shift & 0xff) - 191) <= 3);
  CHECK(picture.pixel(5, 5) == kOpaque);
  CHECK(picture.pixel(80, 40) == kOpaque);
  CHECK_THROWS_AS(decoder.decode(Bytes(30, 0xff), picture, {0, 0, 64, 48}), Error);
}

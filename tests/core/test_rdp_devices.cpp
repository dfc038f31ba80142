// Sound, several monitors and signs of life of RDP, between our own two sides.
extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/log.h>
#include <libavutil/opt.h>
}

#include <cmath>

#include "rdp/codec/avc.hpp"
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

TEST_CASE("Sound: samples arrive as they were sent, once they are wanted", "[rdp][sound]") {
  Bench bench;
  bench.server.sound = {plainForm({2, 44100, 16}), plainForm({1, 8000, 8})};
  const bool fromTheStart = GENERATE(true, false);
  bench.client.sound = fromTheStart;
  bench.open();
  REQUIRE(bench.live());
  Bytes tone;
  for (int i = 0; i < 4410; ++i) {
    const auto v = static_cast<std::int16_t>(12000 * std::sin(i * 2 * 3.14159265 * 440 / 44100));
    for (int c = 0; c < 2; ++c)
      tone.push_back(static_cast<Byte>(v)), tone.push_back(static_cast<Byte>(v >> 8));
  }
  if (!fromTheStart) {  // before it is wanted none comes; the bell, sent later, tells that it would have
    bench.on([&] { return bench.host->playSound(tone), bench.host->bell(), 0; });
    REQUIRE(bench.until([&] { return bench.seen.bells > 0; }));
    CHECK(bench.on([&] { return bench.seen.samples.empty() && bench.visitor->figures().soundBytes == 0; }));
    bench.on([&] { return bench.visitor->wantSound(true), 0; });
  }
  CHECK(bench.until([&] {
    bench.host->playSound(tone);
    return !bench.seen.samples.empty();
  }));
  CHECK(bench.seen.sounds.front() == SampleForm{2, 44100, 16});
  CHECK(bench.on([&] { return std::equal(tone.begin(), tone.end(), bench.seen.samples.begin()); }));
  CHECK(bench.on([&] { return bench.visitor->figures().soundBytes; }) >= tone.size());
}

TEST_CASE("Sound: a wave in two messages, narrow samples, and forms that were not agreed", "[rdp][sound]") {
  std::vector<Bytes> sent;
  std::vector<SampleForm> begun;
  Bytes heard;
  SoundReader reader(
      {[&](Bytes m) { sent.push_back(std::move(m)); }, [&](SampleForm f) { begun.push_back(f); },
       [&](ByteView s) { heard.insert(heard.end(), s.begin(), s.end()); }, [] {}},
      true);
  // Offered: something unknown, then 8 bits, then 16; the second and third are taken, and counted anew.
  LittleWriter offer;
  offer.u8(7).u8(0).u16(0).u32(0).u32(0).u32(0).u16(0).u16(3).u8(0).u16(5).u8(0);
  offer.u16(0x4321).u16(2).u32(44100).u32(16000).u16(1).u16(0).u16(2).u16(0xabcd);
  offer.u16(1).u16(1).u32(8000).u32(8000).u16(1).u16(8).u16(0);
  offer.u16(1).u16(2).u32(48000).u32(192000).u16(4).u16(16).u16(0);
  reader.take(offer.view());
  REQUIRE(sent.size() == 1);
  CHECK(loadLe16(&sent[0][4 + 14]) == 2);  // 2.2.2.2 wNumberOfFormats
  reader.take(LittleWriter()
                  .u8(2)
                  .u8(0)
                  .u16(8 + 6)
                  .u16(100)
                  .u16(0)
                  .u8(9)
                  .zeros(3)
                  .u8(0x80)
                  .u8(0xff)
                  .u8(0)
                  .u8(0x80)
                  .view());
  CHECK(heard.empty());  // its rest is still to come
  reader.take(LittleWriter().zeros(4).u8(0x40).u8(0x80).view());
  CHECK(begun.back() == SampleForm{1, 8000, 8});
  CHECK(heard == Bytes{0, 0, 0, 0x7f, 0, 0x80, 0, 0, 0, 0xc0, 0, 0});
  REQUIRE(sent.size() == 2);  // 2.2.3.8: which one was played
  CHECK(sent[1] == Bytes{5, 0, 4, 0, 100, 0, 9, 0});
  CHECK_THROWS_AS(reader.take(writeWave2(7, 1, Bytes(4))), Error);
  reader.take(LittleWriter().u8(6).u8(0).u16(4).u16(55).u16(66).view());
  CHECK(sent.back() == Bytes{6, 0, 4, 0, 55, 0, 66, 0});
}

TEST_CASE("Monitors: two and three are added and taken away while connected", "[rdp][monitors]") {
  const bool pipeline = GENERATE(true, false);
  Bench bench;
  bench.server.mostMonitors = 3;
  if (pipeline) bench.server.pipeline = PipelineForm::Planar;
  bench.open();
  REQUIRE(bench.live());
  REQUIRE(bench.until([&] { return bench.seen.canResize == 3; }));
  const auto shows = [&](std::vector<Rect> monitors, Size size) {
    return bench.until([&] {
      const auto lock = bench.seen_->lock();
      return bench.seen.monitors == monitors && bench.seen_->size() == size &&
             samePixels(*bench.seen_, *bench.shown);
    });
  };
  bench.on([&] { return bench.visitor->requestLayout({{0, 0, 320, 240}, {320, 0, 400, 300}}), 0; });
  CHECK(shows({{0, 0, 320, 240}, {320, 0, 400, 300}}, {720, 300}));
  bench.on([&] {
    return bench.visitor->requestLayout({{0, 0, 320, 240}, {320, 0, 400, 300}, {720, 0, 200, 200}}), 0;
  });
  CHECK(shows({{0, 0, 320, 240}, {320, 0, 400, 300}, {720, 0, 200, 200}}, {920, 300}));
  // The second one left of the first: the first is where the service counts from, the picture begins left.
  bench.on([&] { return bench.visitor->requestLayout({{400, 0, 320, 240}, {0, 0, 400, 300}}), 0; });
  CHECK(shows({{400, 0, 320, 240}, {0, 0, 400, 300}}, {720, 300}));
  CHECK(bench.on([&] { return bench.desk.layout; }) ==
        std::vector<Rect>{{0, 0, 320, 240}, {-400, 0, 400, 300}});
  bench.on([&] { return bench.visitor->requestLayout({{0, 0, 320, 240}}), 0; });
  CHECK(shows({{0, 0, 320, 240}}, {320, 240}));
}

TEST_CASE("The line is measured, and a service that falls silent after its promise is gone", "[rdp][line]") {
  SECTION("round trip") {
    Bench bench;
    bench.open();
    REQUIRE(bench.live());
    CHECK(bench.until([&] { return bench.visitor->figures().line.roundTrip.count() > 0; }));
  }
  SECTION("silence") {
    Bench bench;
    bench.open();
    REQUIRE(bench.live());
    bench.on([&] { return bench.host->heartbeat(1, 1), 0; });
    const auto end = bench.ended();
    REQUIRE(end);
    CHECK(end->kind() == ErrorKind::ClosedByPeer);
    CHECK(std::string(end->what()).find("no sign of life") != std::string::npos);
  }
  SECTION("bandwidth") {  // 2.2.14.1.2, 2.2.14.1.4: counted between the two marks
    AutoDetect line;
    const auto at = [](int ms) { return std::chrono::milliseconds(ms); };
    CHECK_FALSE(line.take(LittleWriter().u8(6).u8(0).u16(4).u16(0x14).view(), 1000, at(10)));
    const auto answer = line.take(LittleWriter().u8(6).u8(0).u16(4).u16(0x429).view(), 51000, at(60));
    REQUIRE(answer);
    CHECK(*answer == LittleWriter().u8(14).u8(1).u16(4).u16(0xb).u32(50).u32(50000).take());
    line.take(LittleWriter().u8(18).u8(0).u16(5).u16(0x8c0).u32(3).u32(80000).u32(4).view(), 0, at(70));
    CHECK(line.found().roundTrip == at(4));
    CHECK(line.found().kilobitsPerSecond == 80000);
  }
}

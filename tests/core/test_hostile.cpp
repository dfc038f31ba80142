// A server that lies, floods or stalls ends in a clear error, with bounded memory, and never in a crash.
#include <malloc.h>
#include <unistd.h>

#include <fstream>

#include "codec/zip.hpp"
#include "rfb/constants.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rfb;
using test::rectHeader;
using test::updateHeader;

namespace {

/// What is resident now, besides what the allocator keeps for later.
long residentKilobytes() {
  malloc_trim(0);
  long pages = 0, resident = 0;
  std::ifstream("/proc/self/statm") >> pages >> resident;
  return resident * (sysconf(_SC_PAGESIZE) / 1024);
}

/// 200 MB of zeros as a zlib stream, made once.
const Bytes& theBomb() {
  static const Bytes bomb = deflateWhole(Bytes(std::size_t{200} << 20), 9);
  return bomb;
}

std::string failureOf(Bytes bytes, ErrorKind expected = ErrorKind::ProtocolBroken) {
  test::Recorder events;
  Framebuffer shown;
  const auto failure = test::replayTo(events, shown, std::move(bytes));
  CHECK(test::kindOf(failure) == expected);
  return messageOf(failure);
}

std::string failureOfUpdate(const std::function<void(ByteWriter&)>& body) {
  ByteWriter out = test::serverGreeting({64, 64});
  updateHeader(out, 1);
  body(out);
  return failureOf(out.take());
}

}  // namespace

TEST_CASE("Things that do not speak RFB are told apart", "[hostile]") {
  CHECK(failureOf(Bytes(100, 'x')).find("does not speak RFB") != std::string::npos);
  ByteWriter http;
  http.text("HTTP/1.1 400 Bad Request\r\n");
  CHECK(failureOf(http.take()).find("ProtocolVersion") != std::string::npos);
  ByteWriter old;
  old.text("RFB 002.002\n");
  failureOf(old.take(), ErrorKind::Unsupported);
  failureOf({}, ErrorKind::ClosedByPeer);
}

TEST_CASE("A server's SASL offers are read with care", "[hostile]") {
  const auto offer = [](const std::function<void(ByteWriter&)>& body) {
    ByteWriter out;
    out.text("RFB 003.008\n").u8(1).u8(20);
    body(out);
    return out.take();
  };
  CHECK(failureOf(offer([](ByteWriter& w) { w.u32(0xFFFFFFFFU); })).find("SASL mechanisms") !=
        std::string::npos);
  // Without TLS nothing is taken that would show the password.
  const std::string open = "PLAIN LOGIN ANONYMOUS";
  CHECK(failureOf(offer([&](ByteWriter& w) { w.u32(static_cast<std::uint32_t>(open.size())).text(open); }),
                  ErrorKind::Unsupported)
            .find("the server offers PLAIN") != std::string::npos);
  CHECK(failureOf(offer([](ByteWriter& w) { w.u32(0); }), ErrorKind::Unsupported).find("no SASL mechanism") !=
        std::string::npos);
  const std::string digest = "DIGEST-MD5";
  const auto withDigest = [&](const std::function<void(ByteWriter&)>& answer) {
    return offer([&](ByteWriter& w) {
      w.u32(static_cast<std::uint32_t>(digest.size())).text(digest);
      answer(w);
    });
  };
  CHECK(failureOf(withDigest([](ByteWriter& w) { w.u32(0x7FFFFFFFU); })).find("SASL message") !=
        std::string::npos);
  failureOf(withDigest([](ByteWriter& w) { w.u32(4).text("abc").u8(0).u8(0); }), ErrorKind::SignInFailed);
  failureOf(withDigest([](ByteWriter& w) { w.u32(0).u8(1); }), ErrorKind::SignInFailed);  // "done" too soon
  failureOf(withDigest([](ByteWriter&) {}), ErrorKind::SignInFailed);                     // hung up
}

TEST_CASE("A server that turns us away is quoted", "[hostile]") {
  ByteWriter out;
  out.text("RFB 003.008\n").u8(0).u32(11).text("too many of");
  CHECK(failureOf(out.take(), ErrorKind::SignInFailed).find("too many of") != std::string::npos);
  ByteWriter endless;
  endless.text("RFB 003.008\n").u8(0).u32(0xffffffffU);
  failureOf(endless.take());
}

TEST_CASE("Absurd picture sizes are refused without memory", "[hostile]") {
  const long before = residentKilobytes();
  CHECK(failureOf(test::serverGreeting({65535, 65535}).take()).find("65535x65535") != std::string::npos);
  failureOf(test::serverGreeting({0, 10}).take());
  failureOfUpdate([](ByteWriter& out) { rectHeader(out, {0, 0, 65535, 65535}, encoding::kDesktopSize); });
  CHECK(residentKilobytes() - before < 64 * 1024);
}

TEST_CASE("Rectangles outside the picture and unknown encodings are refused", "[hostile]") {
  CHECK(failureOfUpdate([](ByteWriter& out) {
          rectHeader(out, {60, 0, 10, 10}, encoding::kRaw);
        }).find("leaves the picture") != std::string::npos);
  failureOfUpdate([](ByteWriter& out) { rectHeader(out, {0, 0, 10, 10}, 4711); });
  failureOfUpdate([](ByteWriter& out) {
    rectHeader(out, {0, 0, 10, 10}, encoding::kCopyRect);
    out.u16(60).u16(60);
  });
}

TEST_CASE("Lengths that lie are refused", "[hostile]") {
  const long before = residentKilobytes();
  for (std::int32_t e : {encoding::kZlib, encoding::kZrle})
    failureOfUpdate([e](ByteWriter& out) {
      rectHeader(out, {0, 0, 10, 10}, e);
      out.u32(0xfffffff0U);
    });
  failureOfUpdate([](ByteWriter& out) {
    rectHeader(out, {0, 0, 10, 10}, encoding::kRre);
    out.u32(0x7fffffffU).u32(0);
  });
  failureOfUpdate([](ByteWriter& out) {
    rectHeader(out, {0, 0, 10, 10}, encoding::kOpenH264);
    out.u32(0xffffffffU).u32(0);
  });
  failureOfUpdate([](ByteWriter& out) { rectHeader(out, {0, 0, 60000, 60000}, encoding::kCursor); });
  failureOfUpdate([](ByteWriter& out) {
    rectHeader(out, {0, 0, 0, 0}, encoding::kDesktopName);
    out.u32(1U << 30);
  });
  for (const auto& body : std::vector<std::function<void(ByteWriter&)>>{
           [](ByteWriter& out) { out.u8(server_message::kServerCutText).zeros(3).u32(0x7fffffffU); },
           [](ByteWriter& out) { out.u8(server_message::kServerCutText).zeros(3).u32(0x80000000U); },
           [](ByteWriter& out) { out.u8(server_message::kFence).zeros(3).u32(0).u8(65); },
           [](ByteWriter& out) { out.u8(server_message::kSetColourMapEntries).u8(0).u16(250).u16(10); },
           [](ByteWriter& out) { out.u8(server_message::kQemu).u8(1).u16(2).u32(0xffffffffU); },
           [](ByteWriter& out) { out.u8(77); }}) {
    ByteWriter out = test::serverGreeting({64, 64});
    body(out);
    failureOf(out.take());
  }
  CHECK(residentKilobytes() - before < 64 * 1024);
}

TEST_CASE("A zip bomb inflates to its rectangle and no further", "[hostile]") {
  const Bytes& bomb = theBomb();
  const long before = residentKilobytes();
  for (std::int32_t e : {encoding::kZlib, encoding::kZrle})
    failureOfUpdate([&](ByteWriter& out) {
      rectHeader(out, {0, 0, 10, 10}, e);
      out.u32(static_cast<std::uint32_t>(bomb.size())).bytes(bomb);
    });
  failureOfUpdate([&](ByteWriter& out) {
    rectHeader(out, {0, 0, 10, 10}, encoding::kTight);
    out.u8(0)
        .u8(0x80 | (bomb.size() & 0x7f))
        .u8(0x80 | (bomb.size() >> 7 & 0x7f))
        .u8(static_cast<unsigned>(bomb.size() >> 14))
        .bytes(bomb);
  });
  ByteWriter clip = test::serverGreeting({64, 64});
  clip.u8(server_message::kServerCutText).zeros(3).s32(-static_cast<std::int32_t>(bomb.size() + 4));
  clip.u32(clipboard::kProvide | clipboard::kText).bytes(bomb);
  failureOf(clip.take());
  CHECK(residentKilobytes() - before < 32 * 1024);
}

TEST_CASE("Tiles that break their own rules are refused", "[hostile]") {
  const auto tile = [](std::int32_t e, Bytes body) {
    return failureOfUpdate([&](ByteWriter& out) {
      rectHeader(out, {0, 0, 16, 16}, e);
      out.bytes(body);
    });
  };
  tile(encoding::kTrle, {17});                        // an unused kind
  tile(encoding::kTrle, {127});                       // a palette that was never sent
  tile(encoding::kTrle, {128, 1, 2, 3, 255, 255});    // a run past the tile
  tile(encoding::kTrle, {130, 1, 2, 3, 4, 5, 6, 2});  // an index past the palette
  tile(encoding::kHextile, {hextile::kBackground | hextile::kAnySubrects, 0, 0, 0, 0, 1, 0xff, 0xff});
  tile(encoding::kTight, {0xf0});
  tile(encoding::kTight, {0x40, 9});
  tile(encoding::kTight, {0x90, 3, 1, 2, 3});
  tile(encoding::kJpeg, {0xff, 0xd9, 0, 0});
  tile(encoding::kRre, {0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 10, 0, 10, 0, 20, 0, 1});
}

TEST_CASE("A server that stalls in mid-rectangle can be ended at once", "[hostile]") {
  struct Sized : test::Recorder {
    void pictureResized(Size to, const std::vector<Screen>& all) override {
      Recorder::pictureResized(to, all);
      sized = true;
    }
    std::atomic<bool> sized{false};
  };
  Runtime runtime(1);
  const Executor strand = runtime.strand();
  Sized events;
  auto picture = std::make_shared<Framebuffer>();
  ClientOptions options;
  auto client = std::make_shared<Client>(strand, systemClock(), picture, options, events);
  std::atomic<bool> done{false};
  std::shared_ptr<StreamPtr> serverEnd;
  post(strand, [&] {
    auto [a, b] = memoryPair(strand);
    serverEnd = std::make_shared<StreamPtr>(std::move(b));
    auto clientEnd = std::make_shared<StreamPtr>(std::move(a));
    spawn(
        strand, [client, clientEnd] { return client->run(std::move(*clientEnd)); },
        [&](std::exception_ptr) { done = true; });
    spawn(strand, [serverEnd]() -> Task<void> {
      ByteWriter out = test::serverGreeting({64, 64});
      updateHeader(out, 1);
      rectHeader(out, {0, 0, 64, 64}, encoding::kRaw);
      out.zeros(100);
      co_await (*serverEnd)->write(out.view());
    });
  });
  REQUIRE(test::eventually([&] { return events.sized.load(); }));
  CHECK_FALSE(done);
  post(strand, [&] { client->close(); });
  CHECK(test::eventually([&] { return done.load(); }, std::chrono::seconds(2)));
  runtime.stop();
}

TEST_CASE("A visitor that sends nonsense does not harm the server", "[hostile]") {
  for (const Bytes& nonsense : {Bytes(64, 0xff), Bytes{6, 0, 0, 0, 0x7f, 0xff, 0xff, 0xff},
                                Bytes{251, 0, 0xff, 0xff, 0xff, 0xff, 255, 0}}) {
    std::exception_ptr failure;
    runToEnd([&]() -> Task<void> {
      ByteWriter visitor;
      visitor.text("RFB 003.008\n").u8(1).u8(1).bytes(nonsense);
      auto picture = std::make_shared<Framebuffer>(Size{64, 64});
      test::ServerRecorder events;
      const Executor here = co_await asio::this_coro::executor;
      const std::vector<Screen> screens;
      Server server(here, picture, screens, ServerOptions{}, events);
      try {
        co_await server.run(replayStream(visitor.take()));
      } catch (...) {
        failure = std::current_exception();
      }
    });
    const ErrorKind kind = test::kindOf(failure);
    CHECK((kind == ErrorKind::ProtocolBroken || kind == ErrorKind::ClosedByPeer));
  }
}

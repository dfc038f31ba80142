// What many tests need: a client and a server joined in memory, conditions with a limit, folders that vanish.
#pragma once
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <condition_variable>
#include <filesystem>
#include <future>
#include <mutex>
#include <thread>

#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "rfb/client.hpp"
#include "rfb/server.hpp"
#include "wire/stream.hpp"

namespace kw::test {

/// Polls until `condition` holds; false when the limit passes first.
inline bool eventually(const std::function<bool()>& condition,
                       std::chrono::milliseconds limit = std::chrono::seconds(10)) {
  const auto deadline = std::chrono::steady_clock::now() + limit;
  while (!condition()) {
    if (std::chrono::steady_clock::now() > deadline) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  return true;
}

class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "kettle-test-XXXXXX").string();
    if (mkdtemp(name.data()) == nullptr) throw std::runtime_error("no temporary folder");
    path = name;
  }
  ~TemporaryFolder() {
    std::error_code ignored;
    std::filesystem::remove_all(path, ignored);
  }
  std::filesystem::path path;
};

/// A picture with areas that every encoding treats differently: flat, two colours, few, many, noise.
inline Framebuffer colourfulPicture(Size size, unsigned seed = 1) {
  Framebuffer picture(size);
  std::uint32_t noise = seed * 2654435761U + 12345;
  for (int y = 0; y < size.height; ++y)
    for (int x = 0; x < size.width; ++x) {
      noise = noise * 1664525U + 1013904223U;
      const int block = (x / 40 + y / 32) % 5;
      Pixel p = rgb(0x20, 0x60, 0x50);
      if (block == 1) p = (x + y) % 7 < 3 ? rgb(255, 255, 255) : rgb(10, 20, 30);
      if (block == 2)
        p = rgb(static_cast<unsigned>(x * 3 % 256), static_cast<unsigned>(y * 5 % 256),
                static_cast<unsigned>((x + y) % 256));
      if (block == 3) p = rgb(static_cast<unsigned>(x % 12) * 20, 80, static_cast<unsigned>(y % 3) * 60);
      if (block == 4) p = kOpaque | (noise >> 8);
      *picture.at(x, y) = p;
    }
  return picture;
}

inline bool samePixels(const Framebuffer& a, const Framebuffer& b) {
  if (a.size() != b.size()) return false;
  for (int y = 0; y < a.height(); ++y)
    if (std::memcmp(a.row(y), b.row(y), a.stride() * sizeof(Pixel)) != 0) return false;
  return true;
}

/// The largest difference of any colour between two pictures of one size.
inline int largestDifference(const Framebuffer& a, const Framebuffer& b) {
  int most = 0;
  for (int y = 0; y < a.height(); ++y)
    for (int x = 0; x < a.width(); ++x)
      for (int shift : {0, 8, 16})
        most = std::max(most, std::abs(static_cast<int>(a.pixel(x, y) >> shift & 0xff) -
                                       static_cast<int>(b.pixel(x, y) >> shift & 0xff)));
  return most;
}

/// Gives its bytes out one at a time, so that every message is cut everywhere.
class Trickle : public ByteStream {
 public:
  explicit Trickle(StreamPtr below) : below_(std::move(below)) {}
  Task<std::size_t> readSome(ByteSpan into) override { return below_->readSome(into.first(1)); }
  Task<void> write(ByteView bytes) override { return below_->write(bytes); }
  void close() noexcept override { below_->close(); }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }

 private:
  StreamPtr below_;
};

/// Remembers everything a client tells; answers questions from its fields.
struct Recorder : rfb::ClientEvents {
  rfb::SignIn signInAnswer;
  bool trusts = true;
  std::vector<rfb::SignInRequest> signIns;
  std::vector<PeerCertificate> certificates;
  std::string name, security, clipboard;
  bool opened_ = false, sealed = false, relative = false;
  Size size;
  std::vector<Screen> screens;
  Region seen = Region::exact();
  int updates = 0, bells = 0, sizes = 0;
  rfb::Cursor cursor;
  Point pointerAt;
  unsigned leds = 99;
  Bytes audio;
  std::string refusal;
  bool powerRefused_ = false;
  rfb::PeerAbilities peer;

  Task<rfb::SignIn> signIn(rfb::SignInRequest request) override {
    signIns.push_back(request);
    co_return signInAnswer;
  }
  Task<bool> trust(PeerCertificate certificate) override {
    certificates.push_back(certificate);
    co_return trusts;
  }
  void opened(const std::string& n, const std::string& s, bool isSealed) override {
    name = n, security = s, sealed = isSealed, opened_ = true;
  }
  void pictureResized(Size s, const std::vector<Screen>& list) override {
    size = s, screens = list, seen.clear(), ++sizes;
  }
  void damaged(const Region& region) override { seen.add(region), ++updates; }
  void cursorChanged(const rfb::Cursor& c) override { cursor = c; }
  void pointerMoved(Point p) override { pointerAt = p; }
  void pointerRelative(bool on) override { relative = on; }
  void bell() override { ++bells; }
  void nameChanged(const std::string& n) override { name = n; }
  void ledState(unsigned bits) override { leds = bits; }
  void clipboardText(const std::string& text) override { clipboard = text; }
  void audioData(ByteView data) override { audio.insert(audio.end(), data.begin(), data.end()); }
  void abilitiesChanged(const rfb::PeerAbilities& a) override { peer = a; }
  void resizeRefused(const std::string& why) override { refusal = why; }
  void powerRefused() override { powerRefused_ = true; }
  [[nodiscard]] bool whole() const { return !size.empty() && seen.covers({0, 0, size.width, size.height}); }
};

struct ServerRecorder : rfb::ServerEvents {
  struct Key {
    std::uint32_t keysym, scanCode;
    bool down;
    bool operator==(const Key&) const = default;
  };
  std::vector<Key> keys;
  std::vector<std::pair<Point, unsigned>> pointers;
  std::string clipboard_;
  std::function<int(Size, const std::vector<Screen>&)> onLayout;
  std::vector<rfb::PowerAction> powers;
  bool acceptsPower = true;
  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down) override {
    keys.push_back({keysym, scanCode, down});
  }
  void pointer(Point at, unsigned buttons) override { pointers.emplace_back(at, buttons); }
  void clipboard(const std::string& text) override { clipboard_ = text; }
  int layoutWanted(Size s, const std::vector<Screen>& list) override {
    return onLayout ? onLayout(s, list) : 1;
  }
  bool power(rfb::PowerAction a) override {
    powers.push_back(a);
    return acceptsPower;
  }
};

inline rfb::ClientOptions lossless() {
  rfb::ClientOptions options;
  options.quality = -1;
  return options;
}

/// A client and our own server, joined in memory, on one strand of one thread.
class Link {
 public:
  explicit Link(rfb::ServerOptions serverOptions = {}, rfb::ClientOptions clientOptions = lossless(),
                bool trickle = false, Framebuffer shown = colourfulPicture({200, 150}))
      : strand(runtime.strand()),
        shownPicture(std::make_shared<Framebuffer>(std::move(shown))),
        picture(std::make_shared<Framebuffer>()) {
    server = std::make_unique<rfb::Server>(strand, shownPicture, std::vector<Screen>{},
                                           std::move(serverOptions), serverEvents);
    client = std::make_unique<rfb::Client>(strand, systemClock(), picture, std::move(clientOptions), events);
    trickle_ = trickle;
  }
  ~Link() {
    sync([&] {
      client->close();
      server->close();
    });
    eventually([&] { return clientDone.load() && serverDone.load(); }, std::chrono::seconds(3));
    runtime.stop();
  }
  Link& start() {
    started = true;
    post(strand, [this] {
      auto [a, b] = memoryPair(strand, 1 << 16);
      if (trickle_) a = std::make_unique<Trickle>(std::move(a));
      auto clientEnd = std::make_shared<StreamPtr>(std::move(a)),
           serverEnd = std::make_shared<StreamPtr>(std::move(b));
      spawn(
          strand, [this, serverEnd] { return server->run(std::move(*serverEnd)); },
          [this](std::exception_ptr e) { serverFailure = e, serverDone = true; });
      spawn(
          strand, [this, clientEnd] { return client->run(std::move(*clientEnd)); },
          [this](std::exception_ptr e) { clientFailure = e, clientDone = true; });
    });
    return *this;
  }
  /// Runs on the strand and waits for it.
  void sync(const std::function<void()>& what) {
    std::promise<void> done;
    post(strand, [&] {
      what();
      done.set_value();
    });
    done.get_future().wait();
  }
  bool until(const std::function<bool()>& condition,
             std::chrono::milliseconds limit = std::chrono::seconds(10)) {
    return eventually(
        [&] {
          bool holds = false;
          sync([&] { holds = condition(); });
          return holds;
        },
        limit);
  }
  bool whole() {
    return until([&] { return events.whole(); });
  }
  bool same() {
    bool equal = false;
    sync([&] { equal = samePixels(*picture, *shownPicture); });
    return equal;
  }
  /// Changes the server's picture and waits until the client shows it.
  void show(const std::function<void(Framebuffer&)>& draw, const Rect& damage) {
    sync([&] {
      draw(*shownPicture);
      server->damaged(Region(damage));
    });
  }

  Runtime runtime{1};
  Executor strand;
  std::shared_ptr<Framebuffer> shownPicture, picture;
  Recorder events;
  ServerRecorder serverEvents;
  std::unique_ptr<rfb::Server> server;
  std::unique_ptr<rfb::Client> client;
  std::exception_ptr clientFailure, serverFailure;
  std::atomic<bool> clientDone{false}, serverDone{false};
  bool started = false;

 private:
  bool trickle_ = false;
};

/// The kind of a failure; fails the test when it is no kw::Error.
inline ErrorKind kindOf(const std::exception_ptr& failure) {
  try {
    if (failure) std::rethrow_exception(failure);
  } catch (const Error& e) {
    return e.kind();
  } catch (const std::exception& e) {
    FAIL("not a kw::Error: " << e.what());
  }
  FAIL("nothing failed");
  return ErrorKind::Local;
}

/// Runs a client against bytes that a hostile or recorded server sends; returns how it ended.
inline std::exception_ptr replayTo(Recorder& events, Framebuffer& shown, Bytes bytes,
                                   std::size_t mostPerRead = SIZE_MAX, rfb::ClientOptions options = {}) {
  std::exception_ptr failure;
  auto picture = std::make_shared<Framebuffer>();
  try {
    runToEnd([&]() -> Task<void> {
      const Executor here = co_await asio::this_coro::executor;
      rfb::Client client(here, systemClock(), picture, options, events);
      co_await client.run(replayStream(bytes, mostPerRead));
    });
  } catch (...) {
    failure = std::current_exception();
  }
  if (!picture->size().empty()) shown = picture->cropped(picture->rect());
  return failure;
}

/// Greeting of an RFB 3.8 server without a password, up to and including ServerInit.
inline ByteWriter serverGreeting(Size size, const std::string& name = "bench") {
  ByteWriter out;
  out.text("RFB 003.008\n").u8(1).u8(1).u32(0);
  out.u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
  out.bytes(PixelFormat::native().serialize()).u32(static_cast<std::uint32_t>(name.size())).text(name);
  return out;
}
inline void updateHeader(ByteWriter& out, unsigned rectangles) { out.u8(0).u8(0).u16(rectangles); }
inline void rectHeader(ByteWriter& out, const Rect& r, std::int32_t encoding) {
  out.u16(static_cast<unsigned>(r.x)).u16(static_cast<unsigned>(r.y));
  out.u16(static_cast<unsigned>(r.width)).u16(static_cast<unsigned>(r.height)).s32(encoding);
}

}  // namespace kw::test

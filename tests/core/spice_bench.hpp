// A SPICE client and a server joined in memory, and hosts that say what they are told.
#pragma once
#include "base/little.hpp"
#include "spice/client.hpp"
#include "spice/server.hpp"
#include "tests/core/breaks.hpp"
#include "tests/support.hpp"

namespace kw::test {

using namespace kw::spice;

inline ByteWriter lzHead(unsigned type, int width, int height, bool topDown = true) {
  ByteWriter out;
  out.u32(0x20205a4c).u32(0x00010001).u32(type).u32(static_cast<std::uint32_t>(width));
  out.u32(static_cast<std::uint32_t>(height)).u32(0).u32(topDown ? 1 : 0);
  return out;
}

struct SpiceSeen : spice::ClientEvents {
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

struct SpiceMachine : spice::ServerEvents {
  std::vector<std::pair<std::uint32_t, bool>> keys;
  std::vector<std::pair<Point, unsigned>> pointers;
  std::string text;
  std::vector<Rect> screens;
  void scanCode(std::uint32_t code, bool down) override { keys.emplace_back(code, down); }
  void pointer(Point at, unsigned buttons) override { pointers.emplace_back(at, buttons); }
  void clipboard(const std::string& t) override { text = t; }
  void screensWanted(const std::vector<Rect>& list) override { screens = list; }
};

class SpiceBench {
 public:
  explicit SpiceBench(bool trickle = false) : trickle_(trickle) { server.mostScreens = 2; }
  ~SpiceBench() { runtime.stop(); }
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
  SpiceSeen seen;
  SpiceMachine machine;
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
struct OneScreen : DisplayEvents {
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

inline void base(LittleWriter& out, const Rect& box, std::uint32_t surface = 0) {
  out.u32(surface);
  for (int v : {box.y, box.x, box.bottom(), box.right()}) out.u32(static_cast<std::uint32_t>(v));
  out.u8(0);
}
inline void noMask(LittleWriter& out) { out.u8(0).u32(0).u32(0).u32(0); }

inline Bytes fillMessage(const Rect& box, Pixel colour, unsigned rop = 8) {
  LittleWriter out;
  base(out, box);
  out.u8(1).u32(colour).u16(rop);
  noMask(out);
  return out.take();
}

}  // namespace kw::test

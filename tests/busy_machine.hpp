// A 720p machine by VNC whose picture has many colours, still or busy as it is told.
#pragma once
#include <atomic>

#include "base/runtime.hpp"
#include "rfb/server.hpp"

namespace kw::test {

/// A machine's screen: still until told to be busy; then a window's worth of it changes thirty times a
/// second.
class BusyMachine : public rfb::ServerEvents {
 public:
  static constexpr Size kSize{1280, 720};
  static constexpr auto kFrame = std::chrono::milliseconds(33);

  BusyMachine() : listener_(listenTcp(strand_, "127.0.0.1", 0)) {
    // A desktop of many colours: a page that shows it has used a packer.
    for (int y = 0; y < kSize.height; ++y)
      for (int x = 0; x < kSize.width; ++x)
        *picture_->at(x, y) = rgb(static_cast<unsigned>(x) / 5 & 255U, static_cast<unsigned>(y) / 3 & 255U,
                                  static_cast<unsigned>(x / 64 + y / 48) * 37U & 255U);
    spawn(strand_, [this]() -> Task<void> {
      for (;;) {
        StreamPtr visitor = co_await listener_->accept();
        server_ = std::make_shared<rfb::Server>(strand_, picture_, std::vector<Screen>{},
                                                rfb::ServerOptions{}, *this);
        spawn(strand_,
              [server = server_, held = std::make_shared<StreamPtr>(std::move(visitor))]() -> Task<void> {
                co_await server->run(std::move(*held));
              });
      }
    });
    spawn(strand_, [this]() -> Task<void> {
      for (unsigned turn = 0;; ++turn) {
        co_await systemClock()->sleep(kFrame);
        if (!busy || !server_) continue;
        const Rect part{200 + static_cast<int>(turn % 100), 100, 640, 400};
        {
          const auto lock = picture_->lock();
          for (int y = part.y; y < part.bottom(); ++y)
            for (int x = part.x; x < part.right(); ++x)
              *picture_->at(x, y) = rgb((x + turn) / 7 & 255U, (y * 2U + turn) / 9 & 255U, turn & 255U);
        }
        server_->damaged(Region(part));
      }
    });
  }
  ~BusyMachine() { runtime_.stop(); }
  /// A letter of about the size of one in a terminal, in a colour of its own, at once.
  void key(std::uint32_t keysym, std::uint32_t, bool down) override {
    if (!down || !server_) return;
    const Rect letter{40, 40, 12, 20};
    {
      const auto lock = picture_->lock();
      picture_->fill(letter, rgb(keysym & 255U, ++typed_ & 255U, 200));
    }
    server_->damaged(Region(letter));
  }
  /// As it is now; nothing moves while it is looked at.
  void look(const std::function<void(const Framebuffer&)>& at) const {
    const auto lock = picture_->lock();
    at(*picture_);
  }
  [[nodiscard]] std::string address() const { return "vnc://127.0.0.1:" + std::to_string(listener_->port()); }
  std::atomic<bool> busy = false;

 private:
  Runtime runtime_{1};
  Executor strand_ = runtime_.strand();
  std::shared_ptr<Listener> listener_;
  std::shared_ptr<Framebuffer> picture_ = std::make_shared<Framebuffer>(kSize);
  std::shared_ptr<rfb::Server> server_;
  unsigned typed_ = 0;
};

}  // namespace kw::test

// The talk with the agent inside the guest, over the main channel: what it can do, clipboard text, screens.
// On one strand.
#pragma once
#include <deque>
#include <functional>
#include <string>
#include <vector>

#include "base/little.hpp"
#include "picture/geometry.hpp"

namespace kw::spice {

/// A screen as it shall be; an empty area: off.
struct ScreenWish {
  Rect area;
};

class Agent {
 public:
  struct Events {
    std::function<void(Bytes)> sendData;            ///< a piece for the main channel's agent data
    std::function<void(std::uint32_t)> sendTokens;  ///< lets the server send so many pieces more
    std::function<void(const std::string&)> textCame;
    std::function<void()> abilitiesChanged;
  };
  explicit Agent(Events events) : events_(std::move(events)) {}

  /// The server has an agent and takes so many pieces.
  void connected(std::uint32_t tokens);
  void disconnected();
  void tokens(std::uint32_t more);
  void take(ByteView piece);

  [[nodiscard]] bool present() const { return present_; }
  [[nodiscard]] bool hasClipboard() const;
  [[nodiscard]] bool hasScreens() const;
  void offerText(std::string utf8);
  /// All screens in their order.
  void configure(const std::vector<ScreenWish>& screens);

 private:
  void message(unsigned type, ByteView body);
  void send(unsigned type, ByteView body);
  void announce(bool request);
  void flush();
  [[nodiscard]] bool can(unsigned bit) const { return present_ && (capabilities_ >> bit & 1) != 0; }
  Events events_;
  bool present_ = false;
  std::uint32_t capabilities_ = 0, tokens_ = 0, taken_ = 0;
  Bytes incoming_;
  std::deque<Bytes> waiting_;
  std::string text_;
  bool hasText_ = false;
};

}  // namespace kw::spice

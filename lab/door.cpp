#include "lab/door.hpp"

#include <map>

#include "lab/guest.hpp"
#include "session/keys.hpp"

namespace kw::lab {

namespace {

class VncDoor : public DoorServer, public rfb::ServerEvents {
 public:
  VncDoor(const Executor& strand, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
          rfb::ServerOptions options, Hands& hands)
      : hands_(hands), server_(strand, std::move(picture), std::move(screens), std::move(options), *this) {}
  Task<void> run(StreamPtr stream) override { return server_.run(std::move(stream)); }
  void close() override { server_.close(); }
  void damaged(const Region& region) override { server_.damaged(region); }
  void resized(const std::vector<Screen>& screens) override { server_.resized(screens); }
  void setClipboard(const std::string& utf8) override { server_.setClipboard(utf8); }
  void bell() override { server_.bell(); }

  void signedIn(bool shared) override {
    hands_.signedIn(shared);
    server_.setCursor(Guest::cursor());
  }
  void key(std::uint32_t keysym, std::uint32_t, bool down) override { hands_.key(keysym, down); }
  void pointer(Point at, unsigned buttons) override { hands_.pointer(at, buttons); }
  void clipboard(const std::string& text) override { hands_.clipboard(text); }
  int layoutWanted(Size size, const std::vector<Screen>&) override { return hands_.resize(size) ? 0 : 3; }
  bool power(rfb::PowerAction) override {
    hands_.reboot();
    return true;
  }

 private:
  Hands& hands_;
  rfb::Server server_;
};

/// What a key of a US keyboard gives, with and without Shift; from the table that types text.
std::uint32_t keysymOfScan(std::uint32_t scan, bool shift) {
  static const std::map<std::pair<std::uint32_t, bool>, std::uint32_t> table = [] {
    std::map<std::pair<std::uint32_t, bool>, std::uint32_t> out;
    for (char c = 0x20; c < 0x7f; ++c) {
      const Chord chord = chordsForText(std::string(1, c)).front();
      out.try_emplace({chord.back().scanCode, chord.size() > 1}, static_cast<std::uint32_t>(c));
    }
    for (std::uint32_t symbol :
         {keysym::kBackspace, keysym::kTab, keysym::kReturn, keysym::kEscape, keysym::kDelete, keysym::kLeft,
          keysym::kRight, keysym::kUp, keysym::kDown, keysym::kShiftLeft, keysym::kShiftRight,
          keysym::kControlLeft, keysym::kControlRight, keysym::kAltLeft, keysym::kAltRight, keysym::kHome,
          keysym::kEnd})
      for (const bool s : {false, true}) out[{scanCodeOf(symbol), s}] = symbol;
    return out;
  }();
  const auto found = table.find({scan, shift});
  return found == table.end() ? 0 : found->second;
}

class RdpDoor : public DoorServer, public rdp::ServerEvents {
 public:
  RdpDoor(const Executor& strand, std::shared_ptr<Framebuffer> picture, rdp::ServerOptions options,
          Hands& hands)
      : hands_(hands), server_(strand, std::move(picture), std::move(options), *this) {}
  Task<void> run(StreamPtr stream) override { return server_.run(std::move(stream)); }
  void close() override { server_.close(); }
  void damaged(const Region& region) override { server_.damaged(region); }
  void resized(const std::vector<Screen>& screens) override {
    std::vector<Rect> monitors;
    for (const Screen& s : screens) monitors.push_back(s.area);
    server_.resized(std::move(monitors));
  }
  void setClipboard(const std::string& utf8) override { server_.offerClip(std::make_shared<TextClip>(utf8)); }
  void bell() override { server_.bell(); }

  void signedIn(const rdp::NtlmAccount&) override {
    hands_.signedIn(true);
    const rfb::Cursor cursor = Guest::cursor();
    server_.setCursor({cursor.size, cursor.hotspot, cursor.pixels});
  }
  void scanCode(std::uint32_t code, bool down) override {
    const std::uint32_t symbol = keysymOfScan(code, shift_);
    if (symbol == keysym::kShiftLeft || symbol == keysym::kShiftRight) shift_ = down;
    if (symbol != 0) hands_.key(symbol, down);
  }
  void character(char32_t c, bool down) override { hands_.key(keysymOf(c), down); }
  void pointer(Point at, unsigned buttons) override { hands_.pointer(at, buttons); }
  /// The guest takes text at once, whoever pastes.
  void clipCame(std::shared_ptr<Clip> clip) override {
    clip->fetch(ClipForm::Text, [alive = std::weak_ptr(alive_), this](std::optional<Bytes> text) {
      if (text && alive.lock()) hands_.clipboard(std::string(text->begin(), text->end()));
    });
  }
  bool layoutWanted(const std::vector<Rect>& monitors) override {
    return monitors.size() == 1 ? hands_.resize(monitors[0].size()) : hands_.arrange(monitors);
  }

 private:
  Hands& hands_;
  bool shift_ = false;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>();
  rdp::Server server_;
};

/// One connection is one channel; a visit has several.
class SpiceDoor : public DoorServer, public spice::ServerEvents {
 public:
  SpiceDoor(const Executor& strand, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
            spice::ServerOptions options, Hands& hands)
      : hands_(hands), server_(strand, std::move(picture), std::move(screens), std::move(options), *this) {}
  Task<void> run(StreamPtr stream) override { return server_.run(std::move(stream)); }
  void close() override { server_.close(); }
  void damaged(const Region& region) override { server_.damaged(region); }
  void resized(const std::vector<Screen>& screens) override { server_.resized(screens); }
  void setClipboard(const std::string& utf8) override { server_.setClipboard(utf8); }
  void bell() override {}

  void linked(spice::ChannelKind kind) override {
    if (kind == spice::ChannelKind::Main) hands_.signedIn(true);
    if (kind != spice::ChannelKind::Cursor) return;
    const rfb::Cursor cursor = Guest::cursor();
    server_.setPointer({cursor.size, cursor.hotspot, cursor.pixels});
  }
  void scanCode(std::uint32_t code, bool down) override {
    const std::uint32_t symbol = keysymOfScan(code, shift_);
    if (symbol == keysym::kShiftLeft || symbol == keysym::kShiftRight) shift_ = down;
    if (symbol != 0) hands_.key(symbol, down);
  }
  void pointer(Point at, unsigned buttons) override { hands_.pointer(at, buttons); }
  void clipboard(const std::string& text) override { hands_.clipboard(text); }
  void screensWanted(const std::vector<Rect>& screens) override { hands_.arrange(screens); }

 private:
  Hands& hands_;
  bool shift_ = false;
  spice::ServerChannel server_;
};

}  // namespace

DoorMaker spiceDoor(spice::ServerOptions options) {
  return [options = std::move(options)](const Executor& strand, std::shared_ptr<Framebuffer> picture,
                                        std::vector<Screen> screens, Hands& hands) {
    return std::make_unique<SpiceDoor>(strand, std::move(picture), std::move(screens), options, hands);
  };
}

DoorMaker vncDoor(rfb::ServerOptions options) {
  return [options = std::move(options)](const Executor& strand, std::shared_ptr<Framebuffer> picture,
                                        std::vector<Screen> screens, Hands& hands) {
    return std::make_unique<VncDoor>(strand, std::move(picture), std::move(screens), options, hands);
  };
}

DoorMaker rdpDoor(rdp::ServerOptions options) {
  return [options = std::move(options)](const Executor& strand, std::shared_ptr<Framebuffer> picture,
                                        std::vector<Screen>, Hands& hands) {
    return std::make_unique<RdpDoor>(strand, std::move(picture), options, hands);
  };
}

}  // namespace kw::lab

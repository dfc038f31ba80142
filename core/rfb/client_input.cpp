// What the client sends: keys, pointer, sizes, power, sound.
#include "rfb/client.hpp"
#include "rfb/constants.hpp"

namespace kw::rfb {

void Client::noteKeySent() {
  if (!keySent_) keySent_ = clock_->now();
}

/// PC set-1 codes travel with the 0xe0 prefix folded into the top bit (registry, QEMU Extended Key Event).
static std::uint32_t foldedScanCode(std::uint32_t code) {
  return (code & 0xff00U) == 0xe000U ? 0x80U | (code & 0x7fU) : code & 0xffU;
}

void Client::key(std::uint32_t keysym, std::uint32_t scanCode, bool down) {
  if (!live_) return;
  ByteWriter message;
  if (abilities_.extendedKeys && scanCode != 0) {
    message.u8(client_message::kQemu).u8(0).u16(down ? 1 : 0).u32(keysym).u32(foldedScanCode(scanCode));
  } else {
    if (keysym == 0) return;
    message.u8(client_message::kKeyEvent).u8(down ? 1 : 0).zeros(2).u32(keysym);
  }
  if (down) noteKeySent();
  queue(std::move(message));
}

void Client::pointer(Point at, unsigned buttons) {
  if (!live_ || relative_) return;
  at.x = std::clamp(at.x, 0, std::max(0, picture_->width() - 1));
  at.y = std::clamp(at.y, 0, std::max(0, picture_->height() - 1));
  // Moves that were not sent yet are replaced by newer ones; presses and releases never are.
  if (pendingPointer_ && pendingPointer_->buttons != buttons) flushPointer();
  pendingPointer_ = PendingPointer{at, buttons};
  if (buttons != lastButtons_) flushPointer();
  lastButtons_ = buttons;
  outgoingSignal_.notify();
}

void Client::flushPointer() {
  if (!pendingPointer_) return;
  const PendingPointer now = *pendingPointer_;
  pendingPointer_.reset();
  ByteWriter message;
  message.u8(client_message::kPointerEvent).u8(now.buttons & 0xff);
  message.u16(static_cast<unsigned>(now.at.x)).u16(static_cast<unsigned>(now.at.y));
  const ByteView bytes = message.view();
  outgoing_.insert(outgoing_.end(), bytes.begin(), bytes.end());
}

// Registry, QEMU Pointer Motion Change: differences travel around 0x7fff.
void Client::pointerBy(int dx, int dy, unsigned buttons) {
  if (!live_ || !relative_) return;
  const auto wire = [](int d) { return static_cast<unsigned>(std::clamp(d, -0x7fff, 0x7fff) + 0x7fff); };
  ByteWriter message;
  message.u8(client_message::kPointerEvent).u8(buttons & 0xff).u16(wire(dx)).u16(wire(dy));
  queue(std::move(message));
}

// Registry, SetDesktopSize
void Client::requestSize(Size size, std::vector<Screen> screens) {
  if (!live_) return;
  if (!abilities_.resize) {
    events_.resizeRefused("this machine's console does not take a size from outside");
    return;
  }
  if (!pictureSizeAllowed(size)) return;
  if (screens.empty()) {
    Screen only = screens_.empty() ? Screen{} : screens_.front();
    only.area = {0, 0, size.width, size.height};
    screens.push_back(only);
  }
  ByteWriter message;
  message.u8(client_message::kSetDesktopSize).u8(0);
  message.u16(static_cast<unsigned>(size.width)).u16(static_cast<unsigned>(size.height));
  message.u8(static_cast<unsigned>(screens.size())).u8(0);
  for (const Screen& s : screens) {
    message.u32(s.id).u16(static_cast<unsigned>(s.area.x)).u16(static_cast<unsigned>(s.area.y));
    message.u16(static_cast<unsigned>(s.area.width)).u16(static_cast<unsigned>(s.area.height)).u32(s.flags);
  }
  queue(std::move(message));
}

void Client::power(PowerAction action) {
  if (!live_) return;
  if (!abilities_.power) {
    events_.powerRefused();
    return;
  }
  ByteWriter message;
  message.u8(client_message::kXvp).u8(0).u8(xvpVersion_).u8(static_cast<unsigned>(action));
  queue(std::move(message));
}

void Client::setAudio(bool on) {
  options_.audio = on;
  if (!live_ || !abilities_.audio) return;
  if (on) {
    sendAudioFormat();
  } else {
    ByteWriter message;
    message.u8(client_message::kQemu).u8(1).u16(1);
    queue(std::move(message));
  }
}

void Client::sendAudioFormat() {
  constexpr unsigned kSigned16 = 3;
  const AudioForm form;
  ByteWriter message;
  message.u8(client_message::kQemu).u8(1).u16(2).u8(kSigned16).u8(static_cast<unsigned>(form.channels));
  message.u32(static_cast<std::uint32_t>(form.rate));
  message.u8(client_message::kQemu).u8(1).u16(0);
  queue(std::move(message));
}

}  // namespace kw::rfb

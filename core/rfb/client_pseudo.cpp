// Pseudo-encodings: rectangles that carry no pixels of the picture (RFC 6143 7.8 and registry).
#include "rfb/client.hpp"
#include "rfb/constants.hpp"

namespace kw::rfb {

namespace {

void checkCursor(const Rect& header) {
  if (header.width > kMostCursorSide || header.height > kMostCursorSide)
    protocolBroken("cursor", "of " + std::to_string(header.width) + "x" + std::to_string(header.height));
}

std::size_t maskBytes(const Rect& header) {
  return static_cast<std::size_t>((header.width + 7) / 8) * static_cast<std::size_t>(header.height);
}

bool bitAt(ByteView mask, const Rect& header, int x, int y) {
  const auto row = static_cast<std::size_t>((header.width + 7) / 8);
  return (mask[row * static_cast<std::size_t>(y) + static_cast<std::size_t>(x / 8)] >> (7 - x % 8) & 1) != 0;
}

}  // namespace

Task<bool> Client::pseudoRectangle(std::int32_t encoding, Rect header) {
  bool newAbility = false;
  const auto learn = [&](bool& ability) {
    newAbility = !ability;
    ability = true;
  };
  switch (encoding) {
    case encoding::kCursor: co_await cursorRectangle(header); break;
    case encoding::kXCursor: co_await xCursorRectangle(header); break;
    case encoding::kAlphaCursor: co_await alphaCursorRectangle(header); break;
    case encoding::kPointerPosition: events_.pointerMoved({header.x, header.y}); break;
    case encoding::kDesktopSize: resizePicture(header.size(), {}); break;
    case encoding::kExtendedDesktopSize: co_await extendedDesktopSize(header); break;
    case encoding::kDesktopName: {
      const std::uint32_t length = co_await in_->readU32();
      if (length > kMostName) protocolBroken("DesktopName", "of " + std::to_string(length) + " bytes");
      const std::string name = co_await in_->readText(length);
      events_.nameChanged(cleanUtf8(name));
      break;
    }
    case encoding::kLedState: {
      const unsigned state = co_await in_->readU8();
      learn(abilities_.ledState);
      events_.ledState(state);
      break;
    }
    case encoding::kLedStateOld: {
      const std::uint32_t state = co_await in_->readU32();
      learn(abilities_.ledState);
      events_.ledState(state);
      break;
    }
    case encoding::kExtendedKey: learn(abilities_.extendedKeys); break;
    case encoding::kRelativePointer:
      learn(abilities_.relativePointer);
      relative_ = header.x == 0;
      events_.pointerRelative(relative_);
      break;
    case encoding::kAudio:
      learn(abilities_.audio);
      if (newAbility && options_.audio) sendAudioFormat();
      break;
    default:
      protocolBroken("FramebufferUpdate", "an encoding that was not asked for: " + std::to_string(encoding) +
                                              " at offset " + std::to_string(in_->offset()));
  }
  if (newAbility) events_.abilitiesChanged(abilities_);
  co_return true;
}

// RFC 6143 7.8.1: pixels in the session's format, then a mask
Task<void> Client::cursorRectangle(Rect header) {
  checkCursor(header);
  const auto area = static_cast<std::size_t>(header.area());
  const std::size_t pixelBytes = area * decoder_.pixels().bytesPerPixel();
  co_await in_->need(pixelBytes + maskBytes(header));
  Cursor cursor;
  cursor.size = header.size();
  cursor.hotspot = {header.x, header.y};
  cursor.pixels.resize(area);
  decoder_.pixels().many(in_->take(pixelBytes).data(), cursor.pixels.data(), area);
  const ByteView mask = in_->take(maskBytes(header));
  for (int y = 0; y < header.height; ++y)
    for (int x = 0; x < header.width; ++x)
      if (!bitAt(mask, header, x, y)) cursor.pixels[static_cast<std::size_t>(y * header.width + x)] = 0;
  events_.cursorChanged(cursor);
}

// Registry, X Cursor: two colours, a bitmap and a mask
Task<void> Client::xCursorRectangle(Rect header) {
  checkCursor(header);
  Cursor cursor;
  cursor.size = header.size();
  cursor.hotspot = {header.x, header.y};
  if (header.area() > 0) {
    co_await in_->need(6 + 2 * maskBytes(header));
    const ByteView c = in_->take(6);
    const Pixel ink = rgb(c[0], c[1], c[2]), paper = rgb(c[3], c[4], c[5]);
    const ByteView both = in_->take(2 * maskBytes(header));
    const ByteView bitmap = both.first(maskBytes(header)), mask = both.subspan(maskBytes(header));
    for (int y = 0; y < header.height; ++y)
      for (int x = 0; x < header.width; ++x)
        cursor.pixels.push_back(!bitAt(mask, header, x, y) ? 0 : bitAt(bitmap, header, x, y) ? ink : paper);
  }
  events_.cursorChanged(cursor);
}

// Registry, Cursor With Alpha: an encoding of its own, then premultiplied RGBA
Task<void> Client::alphaCursorRectangle(Rect header) {
  checkCursor(header);
  const std::int32_t inner = co_await in_->readS32();
  if (inner != encoding::kRaw)
    protocolBroken("cursor with alpha", "in encoding " + std::to_string(inner) + ", only Raw is usual");
  const auto area = static_cast<std::size_t>(header.area());
  co_await in_->need(4 * area);
  const ByteView rgba = in_->take(4 * area);
  Cursor cursor;
  cursor.size = header.size();
  cursor.hotspot = {header.x, header.y};
  for (std::size_t i = 0; i < area; ++i) {
    const Byte* p = &rgba[4 * i];
    cursor.pixels.push_back((Pixel{p[3]} << 24) | (Pixel{p[0]} << 16) | (Pixel{p[1]} << 8) | p[2]);
  }
  events_.cursorChanged(cursor);
}

// Registry, ExtendedDesktopSize: x is who asked, y is how it went
Task<void> Client::extendedDesktopSize(Rect header) {
  co_await in_->need(4);
  const unsigned count = in_->u8();
  in_->take(3);
  co_await in_->need(std::size_t{16} * count);
  std::vector<Screen> screens;
  for (unsigned i = 0; i < count; ++i) {
    Screen s;
    s.id = in_->u32();
    s.area.x = in_->u16(), s.area.y = in_->u16(), s.area.width = in_->u16(), s.area.height = in_->u16();
    s.flags = in_->u32();
    if (!s.area.empty()) screens.push_back(s);
  }
  const bool known = abilities_.resize;
  abilities_.resize = true;
  if (!known) events_.abilitiesChanged(abilities_);
  constexpr int kAskedByUs = 1;
  if (header.x == kAskedByUs && header.y != 0) {
    static constexpr const char* reasons[] = {"", "the machine does not allow it",
                                              "the machine has no memory for it",
                                              "the machine does not take this arrangement of screens",
                                              "the request was passed on; the machine may follow later"};
    events_.resizeRefused(header.y < 5 ? reasons[header.y] : "the machine refused");
    co_return;
  }
  resizePicture(header.size(), std::move(screens));
}

}  // namespace kw::rfb

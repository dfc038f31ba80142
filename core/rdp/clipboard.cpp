#include "rdp/clipboard.hpp"

#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// 2.2.1 msgType and msgFlags
constexpr unsigned kReady = 1, kFormatList = 2, kFormatListResponse = 3, kDataRequest = 4, kDataResponse = 5,
                   kCapabilities = 7;
constexpr unsigned kOk = 1, kFail = 2, kAsciiNames = 4;
constexpr std::uint32_t kUnicodeText = 13, kAnsiText = 1;
constexpr std::uint32_t kLongNames = 2;

Bytes message(unsigned type, unsigned flags, ByteView body) {
  LittleWriter out;
  out.u16(type).u16(flags).u32(static_cast<std::uint32_t>(body.size())).bytes(body);
  return out.take();
}

/// Windows' line ends there, our own here.
std::string withCrLf(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\n' && (i == 0 || text[i - 1] != '\r')) out += '\r';
    out += text[i];
  }
  return out;
}
std::string withLf(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i)
    if (!(text[i] == '\r' && i + 1 < text.size() && text[i + 1] == '\n')) out += text[i];
  return out;
}

}  // namespace

/// 2.2.2.1
void Clipboard::sendCapabilities() {
  LittleWriter body;
  body.u16(1).u16(0).u16(1).u16(12).u32(2).u32(kLongNames);
  events_.send(message(kCapabilities, 0, body.view()));
}

void Clipboard::begin() {
  sendCapabilities();
  events_.send(message(kReady, 0, {}));
}

void Clipboard::offer(std::string utf8) {
  if (utf8.size() > kMostClipboardText) return;
  text_ = std::move(utf8);
  offered_ = true;
  if (ready_) announce();
}

/// 2.2.3.1
void Clipboard::announce() {
  LittleWriter body;
  if (offered_) {
    body.u32(kUnicodeText);
    theirLongNames_ ? body.u16(0) : body.zeros(32);
  }
  events_.send(message(kFormatList, 0, body.view()));
}

void Clipboard::take(ByteView bytes) {
  LittleReader in(bytes, "clipboard");
  const unsigned type = in.u16(), flags = in.u16();
  const std::uint32_t length = in.u32();
  const ByteView body = in.bytes(std::min<std::size_t>(length, in.left()));
  LittleReader b(body, "clipboard");
  switch (type) {
    case kCapabilities:
      b.skip(4 + 4 + 4);
      theirLongNames_ = (b.u32() & kLongNames) != 0;
      break;
    case kReady:
      sendCapabilities();
      ready_ = true;
      announce();
      break;
    case kFormatList:
      ready_ = true;
      events_.send(message(kFormatListResponse, kOk, {}));
      formats(body, theirLongNames_ && (flags & kAsciiNames) == 0);
      break;
    case kDataRequest: request(b); break;
    case kDataResponse: response(body, (flags & kOk) != 0); break;
    default: break;
  }
}

void Clipboard::formats(ByteView body, bool longNames) {
  LittleReader in(body, "clipboard formats");
  bool unicode = false;
  for (unsigned n = 0; in.left() >= 4 && n < 1000; ++n) {
    const std::uint32_t id = in.u32();
    if (id == kUnicodeText) unicode = true;
    if (longNames) {
      while (in.left() >= 2 && in.u16() != 0) {
      }
    } else {
      in.skip(std::min<std::size_t>(32, in.left()));
    }
  }
  if (!unicode) return;
  wanted_ = true;
  LittleWriter wish;
  wish.u32(kUnicodeText);
  events_.send(message(kDataRequest, 0, wish.view()));
}

/// 2.2.5.1
void Clipboard::request(LittleReader& in) {
  const std::uint32_t format = in.u32();
  if (!offered_ || (format != kUnicodeText && format != kAnsiText))
    return events_.send(message(kDataResponse, kFail, {}));
  const std::string text = withCrLf(text_);
  Bytes body = format == kUnicodeText ? utf8ToUtf16(text) : Bytes();
  if (format == kAnsiText) {
    const std::string latin = utf8ToLatin1(text);
    body.assign(latin.begin(), latin.end());
    body.push_back(0);
  } else {
    body.insert(body.end(), 2, Byte{0});
  }
  events_.send(message(kDataResponse, kOk, body));
}

void Clipboard::response(ByteView body, bool good) {
  if (!wanted_ || !good) return;
  wanted_ = false;
  if (body.size() <= kMostClipboardText) events_.textCame(withLf(utf16ToUtf8(body)));
}

}  // namespace kw::rdp

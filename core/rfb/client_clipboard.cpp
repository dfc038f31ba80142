// Clipboard both ways: RFC 6143 7.5.6 and 7.6.4 in Latin-1, and the Extended Clipboard of the registry in
// UTF-8.
#include "rfb/client.hpp"
#include "rfb/constants.hpp"

namespace kw::rfb {

namespace {

std::string withLineFeeds(std::string_view text) {
  std::string out;
  for (char c : text)
    if (c != '\r') out += c;
  return out;
}

std::string withCarriageReturns(std::string_view text) {
  std::string out;
  for (char c : text) {
    if (c == '\n') out += '\r';
    if (c != '\r') out += c;
  }
  return out;
}

}  // namespace

Task<void> Client::serverCutText() {
  co_await in_->need(7);
  in_->take(3);
  const std::int32_t length = in_->s32();
  const auto size = static_cast<std::uint32_t>(length < 0 ? -static_cast<std::int64_t>(length) : length);
  if (size > kMostText) protocolBroken("ServerCutText", "announces " + std::to_string(size) + " bytes");
  co_await in_->need(size);
  const ByteView body = in_->take(size);
  if (length < 0) {
    extendedClipboard(body);
  } else if (options_.clipboard) {
    events_.clipboardText(withLineFeeds(latin1ToUtf8(textOf(body))));
  }
}

void Client::extendedClipboard(ByteView body) {
  BoundedReader in(body, "extended clipboard");
  const std::uint32_t flags = in.u32();
  if (!options_.clipboard) return;
  if ((flags & clipboard::kCaps) != 0) {
    peerClipboardActions_ = flags;
    if (!abilities_.extendedClipboard) {
      abilities_.extendedClipboard = true;
      events_.abilitiesChanged(abilities_);
    }
    sendClipboardCaps();
  } else if ((flags & clipboard::kRequest) != 0) {
    if ((flags & clipboard::kText) != 0) provideClipboard();
  } else if ((flags & clipboard::kPeek) != 0) {
    sendExtendedClipboard(clipboard::kNotify | (clipboard_.empty() ? 0 : clipboard::kText), {});
  } else if ((flags & clipboard::kNotify) != 0) {
    if ((flags & clipboard::kText) != 0) sendExtendedClipboard(clipboard::kRequest | clipboard::kText, {});
  } else if ((flags & clipboard::kProvide) != 0 && (flags & clipboard::kText) != 0) {
    const Bytes data = inflateWhole(in.bytes(in.left()), kMostText + 8);
    BoundedReader items(data, "extended clipboard");
    const std::uint32_t size = items.u32();
    std::string text = items.text(size);
    if (const auto end = text.find('\0'); end != std::string::npos) text.resize(end);
    events_.clipboardText(withLineFeeds(cleanUtf8(text)));
  }
}

void Client::sendExtendedClipboard(std::uint32_t flags, ByteView body) {
  ByteWriter message;
  message.u8(client_message::kClientCutText).zeros(3).s32(-static_cast<std::int32_t>(body.size() + 4));
  message.u32(flags).bytes(body);
  queue(std::move(message));
}

void Client::sendClipboardCaps() {
  ByteWriter sizes;
  sizes.u32(kMostText);  // one entry: text
  sendExtendedClipboard(clipboard::kCaps | clipboard::kText | clipboard::kRequest | clipboard::kPeek |
                            clipboard::kNotify | clipboard::kProvide,
                        sizes.view());
}

void Client::provideClipboard() {
  const std::string text = withCarriageReturns(clipboard_);
  ByteWriter plain;
  plain.u32(static_cast<std::uint32_t>(text.size() + 1)).text(text).u8(0);
  sendExtendedClipboard(clipboard::kProvide | clipboard::kText, deflateWhole(plain.view()));
}

void Client::offerClipboard(std::string utf8) {
  if (!live_ || !options_.clipboard || utf8.size() > kMostText) return;
  clipboard_ = std::move(utf8);
  if (abilities_.extendedClipboard) {
    if ((peerClipboardActions_ & clipboard::kNotify) != 0)
      sendExtendedClipboard(clipboard::kNotify | clipboard::kText, {});
    else
      provideClipboard();
    return;
  }
  const std::string latin1 = utf8ToLatin1(withLineFeeds(clipboard_));
  ByteWriter message;
  message.u8(client_message::kClientCutText)
      .zeros(3)
      .u32(static_cast<std::uint32_t>(latin1.size()))
      .text(latin1);
  queue(std::move(message));
}

}  // namespace kw::rfb

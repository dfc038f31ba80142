#include "rfb/server.hpp"

#include "rfb/constants.hpp"

namespace kw::rfb {

Server::Server(const Executor& strand, std::shared_ptr<Framebuffer> picture, std::vector<Screen> screens,
               ServerOptions options, ServerEvents& events)
    : strand_(strand),
      picture_(std::move(picture)),
      screens_(std::move(screens)),
      options_(std::move(options)),
      events_(events),
      encoder_(PixelFormat::native()),
      work_(strand) {
  if (screens_.empty()) screens_.push_back({0, picture_->rect(), 0});
}

Server::~Server() = default;

Task<void> Server::run(StreamPtr stream) {
  stream_ = std::move(stream);
  co_await within(std::chrono::seconds(60), "sign-in", signInVisitor());
  in_ = std::make_unique<WireReader>(*stream_);
  const bool shared = co_await in_->readU8() != 0;
  ByteWriter init;
  init.u16(static_cast<unsigned>(picture_->width())).u16(static_cast<unsigned>(picture_->height()));
  init.bytes(PixelFormat::native().serialize()).u32(static_cast<std::uint32_t>(options_.name.size()));
  init.text(options_.name);
  queue(std::move(init));
  live_ = true;
  events_.signedIn(shared);
  co_await firstOf(readMessages(), writeMessages());
}

void Server::close() {
  closed_ = true;
  live_ = false;
  if (stream_) stream_->close();
  work_.notify();
}

void Server::queue(ByteWriter message) {
  const ByteView bytes = message.view();
  outgoing_.insert(outgoing_.end(), bytes.begin(), bytes.end());
  work_.notify();
}

bool Server::wants(std::int32_t pseudo) const {
  return std::find(encodings_.begin(), encodings_.end(), pseudo) != encodings_.end();
}

Task<void> Server::readMessages() {
  for (;;) {
    const unsigned type = co_await in_->readU8();
    const bool released = holdUpdates_;
    switch (type) {
      case client_message::kSetPixelFormat: {
        co_await in_->need(19);
        in_->take(3);
        encoder_.setFormat(PixelFormat::parse(in_->take(16)));
        break;
      }
      case client_message::kSetEncodings: {
        co_await in_->need(3);
        in_->take(1);
        const unsigned count = in_->u16();
        co_await in_->need(std::size_t{4} * count);
        std::vector<std::int32_t> list;
        for (unsigned i = 0; i < count; ++i) list.push_back(in_->s32());
        setEncodings(list);
        break;
      }
      case client_message::kFramebufferUpdateRequest: {
        co_await in_->need(9);
        const bool incremental = in_->u8() != 0;
        const int x = in_->u16(), y = in_->u16(), width = in_->u16(), height = in_->u16();
        updateWanted_ = true;
        if (!incremental) {
          damage_.add(Rect{x, y, width, height}.intersected(picture_->rect()));
          if (x == 0 && y == 0) cursorDirty_ = cursor_.has_value();
        }
        work_.notify();
        break;
      }
      case client_message::kKeyEvent: {
        co_await in_->need(7);
        const bool down = in_->u8() != 0;
        in_->take(2);
        const std::uint32_t keysym = in_->u32();
        events_.key(keysym, 0, down);
        break;
      }
      case client_message::kPointerEvent: {
        co_await in_->need(5);
        const unsigned buttons = in_->u8();
        const int x = in_->u16(), y = in_->u16();
        events_.pointer({x, y}, buttons);
        break;
      }
      case client_message::kClientCutText: co_await cutText(); break;
      case client_message::kEnableContinuousUpdates: {
        co_await in_->need(9);
        const bool on = in_->u8() != 0;
        in_->take(8);
        if (continuous_ && !on) {
          ByteWriter end;
          end.u8(server_message::kEndOfContinuousUpdates);
          queue(std::move(end));
        }
        continuous_ = on;
        work_.notify();
        break;
      }
      case client_message::kFence: co_await fenceMessage(); break;
      case client_message::kXvp: {
        co_await in_->need(3);
        in_->take(2);
        const auto action = static_cast<PowerAction>(in_->u8());
        if (!events_.power(action)) {
          ByteWriter refusal;
          refusal.u8(server_message::kXvp).u8(0).u8(1).u8(0);
          queue(std::move(refusal));
        }
        break;
      }
      case client_message::kSetDesktopSize: co_await desktopSizeWanted(); break;
      case client_message::kQemu: co_await qemuMessage(); break;
      default: protocolBroken("client message", "unknown type " + std::to_string(type));
    }
    if (released) {
      holdUpdates_ = false;
      work_.notify();
    }
  }
}

void Server::setEncodings(const std::vector<std::int32_t>& list) {
  encodings_ = list;
  pixelEncoding_ = encoding::kRaw;
  for (std::int32_t e : list)
    if (RectEncoder::knows(e)) {
      pixelEncoding_ = e;
      break;
    }
  int jpeg = 0;
  static constexpr int qualities[] = {15, 29, 41, 42, 62, 77, 79, 86, 92, 100};
  for (std::int32_t e : list)
    if (e >= encoding::kQualityLowest && e <= encoding::kQualityHighest)
      jpeg = qualities[e - encoding::kQualityLowest];
  encoder_.setJpegQuality(jpeg);
  int compression = kUsualCompression;
  for (std::int32_t e : list)
    if (e >= encoding::kCompressionLowest && e <= encoding::kCompressionHighest)
      compression = e - encoding::kCompressionLowest;
  encoder_.setCompression(compression);
  if (options_.continuousUpdates && wants(encoding::kContinuousUpdates) && !saidContinuous_) {
    saidContinuous_ = true;
    ByteWriter end;
    end.u8(server_message::kEndOfContinuousUpdates);
    queue(std::move(end));
  }
  if (wants(encoding::kFence) && !saidFence_) {
    saidFence_ = true;
    ByteWriter hello;
    hello.u8(server_message::kFence).zeros(3).u32(fence::kRequest | fence::kBlockBefore).u8(0);
    queue(std::move(hello));
  }
  if (options_.power && wants(encoding::kXvp) && !saidXvp_) {
    saidXvp_ = true;
    ByteWriter hello;
    hello.u8(server_message::kXvp).u8(0).u8(1).u8(1);
    queue(std::move(hello));
  }
  if (options_.extendedClipboard && wants(encoding::kExtendedClipboard) && !clipboardCapsSent_) {
    clipboardCapsSent_ = true;
    ByteWriter sizes;
    sizes.u32(0);
    sendClipboard(clipboard::kCaps | clipboard::kText | clipboard::kRequest | clipboard::kNotify |
                      clipboard::kProvide | clipboard::kPeek,
                  sizes.view());
  }
  sizeDirty_ = wants(encoding::kExtendedDesktopSize);
  cursorDirty_ = cursor_.has_value();
}

Task<void> Server::writeMessages() {
  for (;;) {
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    const bool pseudo =
        cursorDirty_ || sizeDirty_ || sizeAnswer_ || newName_ || newLeds_ || !saidExtendedKeys_;
    const bool due = !holdUpdates_ && (updateWanted_ || continuous_) && (!damage_.empty() || pseudo);
    ByteWriter out;
    if (!outgoing_.empty()) {
      out.bytes(outgoing_);
      outgoing_.clear();
    }
    if (due) composeUpdate(out);
    if (out.size() == 0) {
      co_await work_.wait();
      continue;
    }
    co_await stream_->write(out.view());
  }
}

/// Everything that is no pixels. Returns how many rectangles were written.
int Server::composePseudo(ByteWriter& out) {
  int count = 0;
  const auto header = [&](int x, int y, int w, int h, std::int32_t e) {
    out.u16(static_cast<unsigned>(x)).u16(static_cast<unsigned>(y));
    out.u16(static_cast<unsigned>(w)).u16(static_cast<unsigned>(h)).s32(e);
    ++count;
  };
  if (sizeDirty_ || sizeAnswer_) {
    const SizeAnswer answer = sizeAnswer_.value_or(SizeAnswer{});
    if (wants(encoding::kExtendedDesktopSize)) {
      header(answer.reason, answer.status, picture_->width(), picture_->height(),
             encoding::kExtendedDesktopSize);
      out.u8(static_cast<unsigned>(screens_.size())).zeros(3);
      for (const Screen& s : screens_) {
        out.u32(s.id).u16(static_cast<unsigned>(s.area.x)).u16(static_cast<unsigned>(s.area.y));
        out.u16(static_cast<unsigned>(s.area.width)).u16(static_cast<unsigned>(s.area.height)).u32(s.flags);
      }
    } else if (wants(encoding::kDesktopSize)) {
      header(0, 0, picture_->width(), picture_->height(), encoding::kDesktopSize);
    }
    sizeDirty_ = false;
    sizeAnswer_.reset();
  }
  if (!saidExtendedKeys_) {
    saidExtendedKeys_ = true;
    if (wants(encoding::kExtendedKey)) header(0, 0, 0, 0, encoding::kExtendedKey);
  }
  if (newName_) {
    if (wants(encoding::kDesktopName)) {
      header(0, 0, 0, 0, encoding::kDesktopName);
      out.u32(static_cast<std::uint32_t>(newName_->size())).text(*newName_);
    }
    newName_.reset();
  }
  if (newLeds_) {
    if (wants(encoding::kLedState)) {
      header(0, 0, 0, 0, encoding::kLedState);
      out.u8(*newLeds_);
    }
    newLeds_.reset();
  }
  if (cursorDirty_ && cursor_) {
    cursorDirty_ = false;
    if (wants(encoding::kAlphaCursor)) {
      header(cursor_->hotspot.x, cursor_->hotspot.y, cursor_->size.width, cursor_->size.height,
             encoding::kAlphaCursor);
      out.s32(encoding::kRaw);
      for (Pixel p : cursor_->pixels) out.u8(p >> 16 & 0xff).u8(p >> 8 & 0xff).u8(p & 0xff).u8(p >> 24);
    }
  }
  return count;
}

void Server::composeUpdate(ByteWriter& out) {
  auto lock = picture_->lock();
  out.u8(server_message::kFramebufferUpdate).u8(0);
  const std::size_t countAt = out.size();
  out.u16(0);
  int count = composePseudo(out);
  Region region;
  std::swap(region, damage_);
  region.clip(picture_->rect());
  for (const Rect& rect : region.rects()) count += encoder_.encode(pixelEncoding_, rect, *picture_, out);
  updateWanted_ = false;
  shownSinceRest_ = true;
  storeBe16(out.raw().data() + countAt, static_cast<std::uint16_t>(count));
}

void Server::restIfQuiet() {
  if (!std::exchange(shownSinceRest_, false)) encoder_.rest();
}

void Server::damaged(const Region& region) {
  damage_.add(region);
  work_.notify();
}

void Server::resized(std::vector<Screen> screens) {
  screens_ = std::move(screens);
  if (screens_.empty()) screens_.push_back({0, picture_->rect(), 0});
  sizeDirty_ = true;
  damage_ = Region(picture_->rect());
  work_.notify();
}

void Server::setCursor(Cursor cursor) {
  cursor_ = std::move(cursor);
  cursorDirty_ = true;
  work_.notify();
}

void Server::bell() {
  if (!live_) return;
  ByteWriter message;
  message.u8(server_message::kBell);
  queue(std::move(message));
}

void Server::setName(const std::string& name) {
  options_.name = name;
  newName_ = name;
  work_.notify();
}

void Server::setLeds(unsigned bits) {
  newLeds_ = bits;
  work_.notify();
}

Task<void> Server::desktopSizeWanted() {
  co_await in_->need(7);
  in_->take(1);
  Size size;
  size.width = in_->u16(), size.height = in_->u16();
  const unsigned count = in_->u8();
  in_->take(1);
  co_await in_->need(std::size_t{16} * count);
  std::vector<Screen> wanted;
  for (unsigned i = 0; i < count; ++i) {
    Screen s;
    s.id = in_->u32();
    s.area.x = in_->u16(), s.area.y = in_->u16(), s.area.width = in_->u16(), s.area.height = in_->u16();
    s.flags = in_->u32();
    wanted.push_back(s);
  }
  const bool allowed = options_.allowResize && pictureSizeAllowed(size);
  const int status = allowed ? events_.layoutWanted(size, wanted) : 1;
  sizeAnswer_ = SizeAnswer{1, status};
  updateWanted_ = true;
  work_.notify();
}

Task<void> Server::qemuMessage() {
  const unsigned kind = co_await in_->readU8();
  if (kind == 0) {
    co_await in_->need(10);
    const bool down = in_->u16() != 0;
    const std::uint32_t keysym = in_->u32(), code = in_->u32();
    events_.key(keysym, (code & 0x80) != 0 ? 0xe000U | (code & 0x7f) : code, down);
  } else if (kind == 1) {
    const unsigned operation = co_await in_->readU16();
    if (operation == 2) co_await in_->skip(6);
  } else {
    protocolBroken("QEMU message", "unknown kind " + std::to_string(kind));
  }
}

Task<void> Server::fenceMessage() {
  co_await in_->need(8);
  in_->take(3);
  const std::uint32_t flags = in_->u32();
  const unsigned length = in_->u8();
  if (length > 64) protocolBroken("Fence", "a payload of " + std::to_string(length) + " bytes");
  const Bytes payload = co_await in_->readBytes(length);
  if ((flags & fence::kRequest) == 0) co_return;
  if ((flags & fence::kSyncNext) != 0) holdUpdates_ = true;
  ByteWriter answer;
  answer.u8(server_message::kFence).zeros(3).u32(flags & 7U).u8(length).bytes(payload);
  queue(std::move(answer));
}

Task<void> Server::cutText() {
  co_await in_->need(7);
  in_->take(3);
  const std::int32_t length = in_->s32();
  const auto size = static_cast<std::uint32_t>(length < 0 ? -static_cast<std::int64_t>(length) : length);
  if (size > kMostText) protocolBroken("ClientCutText", "announces " + std::to_string(size) + " bytes");
  co_await in_->need(size);
  const ByteView body = in_->take(size);
  if (length >= 0)
    events_.clipboard(latin1ToUtf8(textOf(body)));
  else
    extendedClipboard(body);
}

void Server::sendClipboard(std::uint32_t flags, ByteView body) {
  ByteWriter message;
  message.u8(server_message::kServerCutText).zeros(3).s32(-static_cast<std::int32_t>(body.size() + 4));
  message.u32(flags).bytes(body);
  queue(std::move(message));
}

void Server::extendedClipboard(ByteView body) {
  BoundedReader in(body, "extended clipboard");
  const std::uint32_t flags = in.u32();
  if ((flags & clipboard::kNotify) != 0 && (flags & clipboard::kText) != 0) {
    sendClipboard(clipboard::kRequest | clipboard::kText, {});
  } else if ((flags & clipboard::kRequest) != 0 && (flags & clipboard::kText) != 0) {
    ByteWriter plain;
    plain.u32(static_cast<std::uint32_t>(clipboard_.size() + 1)).text(clipboard_).u8(0);
    sendClipboard(clipboard::kProvide | clipboard::kText, deflateWhole(plain.view()));
  } else if ((flags & clipboard::kProvide) != 0 && (flags & clipboard::kText) != 0) {
    const Bytes data = inflateWhole(in.bytes(in.left()), kMostText + 8);
    BoundedReader items(data, "extended clipboard");
    std::string text = items.text(items.u32());
    if (!text.empty() && text.back() == '\0') text.pop_back();
    std::erase(text, '\r');
    events_.clipboard(text);
  }
}

void Server::setClipboard(const std::string& utf8) {
  clipboard_ = utf8;
  if (!live_) return;
  if (wants(encoding::kExtendedClipboard) && options_.extendedClipboard) {
    sendClipboard(clipboard::kNotify | clipboard::kText, {});
    return;
  }
  const std::string latin1 = utf8ToLatin1(utf8);
  ByteWriter message;
  message.u8(server_message::kServerCutText)
      .zeros(3)
      .u32(static_cast<std::uint32_t>(latin1.size()))
      .text(latin1);
  queue(std::move(message));
}

}  // namespace kw::rfb

#include "spice/server.hpp"

#include <openssl/evp.h>
#include <openssl/rsa.h>
#include <openssl/x509.h>

#include <algorithm>

#include "codec/zip.hpp"

namespace kw::spice {

namespace {

constexpr std::size_t kMostOutgoing = 16 << 20;
constexpr int kTile = 256;
using Key = std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)>;

Bytes publicKeyOf(EVP_PKEY* key) {
  Bytes out(static_cast<std::size_t>(i2d_PUBKEY(key, nullptr)));
  Byte* at = out.data();
  i2d_PUBKEY(key, &at);
  out.resize(162);
  return out;
}

std::optional<std::string> openTicket(EVP_PKEY* key, ByteView ticket) {
  const std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)> context(EVP_PKEY_CTX_new(key, nullptr),
                                                                            EVP_PKEY_CTX_free);
  Bytes plain(256);
  std::size_t size = plain.size();
  if (EVP_PKEY_decrypt_init(context.get()) != 1 ||
      EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_OAEP_PADDING) != 1 ||
      EVP_PKEY_decrypt(context.get(), plain.data(), &size, ticket.data(), ticket.size()) != 1)
    return std::nullopt;
  const std::string text = textOf(ByteView(plain).first(size));
  return text.substr(0, text.find('\0'));
}

}  // namespace

ServerChannel::ServerChannel(const Executor& strand, std::shared_ptr<Framebuffer> picture,
                             std::vector<Screen> screens, ServerOptions options, ServerEvents& events)
    : strand_(strand),
      picture_(std::move(picture)),
      screens_(std::move(screens)),
      options_(std::move(options)),
      events_(events),
      work_(strand) {}
ServerChannel::~ServerChannel() = default;

Task<void> ServerChannel::run(StreamPtr stream) {
  stream_ = std::move(stream);
  in_ = std::make_unique<WireReader>(*stream_);
  co_await answerLink();
  co_await firstOf(readMessages(), writeMessages());
}

void ServerChannel::close() {
  closed_ = true;
  work_.notify();
  if (stream_) stream_->close();
}

Task<void> ServerChannel::answerLink() {
  co_await in_->need(16);
  const Bytes head(in_->peek(), in_->peek() + 16);
  in_->take(16);
  const std::size_t size = loadLe32(&head[12]);
  if (textOf(ByteView(head).first(4)) != "REDQ")
    protocolBroken("SPICE link", "the visitor does not speak SPICE");
  if (size < 18 || size > 4096) {  // a message that cannot be is told so
    LittleWriter invalid;
    invalid.text("REDQ").u32(2).u32(2).u32(4).u32(3);
    co_await stream_->write(invalid.view());
    throw Error(ErrorKind::ProtocolBroken, "an impossible link message");
  }
  const Bytes body = co_await in_->readBytes(size);
  const auto kind = static_cast<ChannelKind>(body[4]);
  const Key key(EVP_RSA_gen(1024), EVP_PKEY_free);
  const bool known = kind == ChannelKind::Main || kind == ChannelKind::Display ||
                     kind == ChannelKind::Inputs || kind == ChannelKind::Cursor ||
                     (kind == ChannelKind::Playback && options_.sound);
  LittleWriter reply;
  constexpr std::uint32_t common = 1U << cap::kAuthSelection | 1U << cap::kAuthSpice | 1U << cap::kMiniHeader;
  reply.u32(known ? 0 : 9).bytes(publicKeyOf(key.get())).u32(1).u32(1).u32(178).u32(common);
  reply.u32(kind == ChannelKind::Display ? 1U << cap::kMonitorsConfig : 0);
  LittleWriter out;
  out.text("REDQ").u32(2).u32(2).u32(static_cast<std::uint32_t>(reply.size())).bytes(reply.view());
  co_await stream_->write(out.view());
  if (!known) throw Error(ErrorKind::Unsupported, "no such channel");
  const Bytes answer = co_await in_->readBytes(4 + 128);
  const auto password = openTicket(key.get(), ByteView(answer).subspan(4));
  const bool good = password && (options_.password.empty() || *password == options_.password);
  LittleWriter result;
  result.u32(good ? 0 : 7);
  co_await stream_->write(result.view());
  if (!good) throw Error(ErrorKind::SignInFailed, "wrong password");
  kind_ = kind;
  events_.linked(kind);
  if (kind == ChannelKind::Main) {
    LittleWriter init;
    init.u32(1)
        .u32(1)
        .u32(kServerMouse | kClientMouse)
        .u32(kClientMouse)
        .u32(options_.agent ? 1 : 0)
        .u32(10)
        .u32(0)
        .u32(0);
    send(msg::kMainInit, init.view());
    LittleWriter name;
    name.u32(static_cast<std::uint32_t>(options_.name.size() + 1)).text(options_.name).u8(0);
    send(msg::kName, name.view());
    if (!options_.uuid.empty()) send(msg::kUuid, options_.uuid);
  } else if (kind == ChannelKind::Inputs) {
    LittleWriter locks;
    locks.u16(0);
    send(msg::kInputsInit, locks.view());
  }
}

void ServerChannel::send(unsigned type, ByteView body) {
  if (outgoing_.size() + body.size() > kMostOutgoing)
    throw Error(ErrorKind::ClosedByPeer, "the visitor takes nothing");
  LittleWriter head;
  head.u16(type).u32(static_cast<std::uint32_t>(body.size()));
  outgoing_.insert(outgoing_.end(), head.view().begin(), head.view().end());
  outgoing_.insert(outgoing_.end(), body.begin(), body.end());
  work_.notify();
}

Task<void> ServerChannel::readMessages() {
  for (;;) {
    co_await in_->need(6);
    const unsigned type = loadLe16(in_->peek());
    const std::size_t size = loadLe32(in_->peek() + 2);
    if (size > (1U << 20)) protocolBroken("SPICE message", "announces " + std::to_string(size) + " bytes");
    co_await in_->need(6 + size);
    message(type, in_->take(6 + size).subspan(6));
  }
}

Task<void> ServerChannel::writeMessages() {
  for (;;) {
    while (outgoing_.empty() && !(shown_ && !damage_.empty()) && !closed_) co_await work_.wait();
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    if (outgoing_.empty()) {
      compose();
      if (!std::exchange(marked_, true)) send(msg::kMark, {});
    }
    const Bytes now = std::exchange(outgoing_, {});
    if (!now.empty()) co_await stream_->write(now);
  }
}

void ServerChannel::message(unsigned type, ByteView body) {
  LittleReader in(body, "SPICE message");
  if (kind_ == ChannelKind::Main) {
    if (type == msgc::kAttachChannels) {
      LittleWriter list;
      list.u32(options_.sound ? 4 : 3).u8(2).u8(0).u8(3).u8(0).u8(4).u8(0);
      if (options_.sound) list.u8(static_cast<unsigned>(ChannelKind::Playback)).u8(0);
      send(msg::kChannelsList, list.view());
    } else if (type == msgc::kAgentData) {
      agentData(body);
    }
  } else if (kind_ == ChannelKind::Display) {
    if (type == msgc::kDisplayInit) beginDisplay();
  } else if (kind_ == ChannelKind::Inputs) {
    if (type == msgc::kKeyDown || type == msgc::kKeyUp) {
      const std::uint32_t code = in.u32();
      const bool extended = (code & 0xff) == 0xe0;
      const std::uint32_t key = (extended ? code >> 8 : code) & 0x7f;
      events_.scanCode(extended ? 0xe000 | key : key, type == msgc::kKeyDown);
    } else if (type == msgc::kMousePosition) {
      at_.x = static_cast<int>(in.u32() & 0xffff);
      at_.y = static_cast<int>(in.u32() & 0xffff);
      events_.pointer(at_, buttons_);
      if (++motions_ % 4 == 0) send(msg::kMotionAck, {});
    } else if (type == msgc::kMousePress || type == msgc::kMouseRelease) {
      static constexpr unsigned bits[] = {0, 1, 2, 4, 8, 16, 128, 256};
      const unsigned bit = bits[std::min<unsigned>(in.u8(), 7)];
      buttons_ = type == msgc::kMousePress ? buttons_ | bit : buttons_ & ~bit;
      events_.pointer(at_, buttons_);
    }
  }
}

// The picture.

void ServerChannel::beginDisplay() {
  shown_ = true;
  LittleWriter create;
  create.u32(0)
      .u32(static_cast<std::uint32_t>(picture_->width()))
      .u32(static_cast<std::uint32_t>(picture_->height()));
  create.u32(32).u32(1);
  send(msg::kSurfaceCreate, create.view());
  sendScreens();
  streaming_ = marked_ = false;
  damage_ = Region(picture_->rect());
  work_.notify();
}

void ServerChannel::sendScreens() {
  LittleWriter out;
  out.u16(static_cast<unsigned>(screens_.size())).u16(options_.mostScreens);
  for (const Screen& s : screens_)
    out.u32(s.id)
        .u32(0)
        .u32(static_cast<std::uint32_t>(s.area.width))
        .u32(static_cast<std::uint32_t>(s.area.height))
        .u32(static_cast<std::uint32_t>(s.area.x))
        .u32(static_cast<std::uint32_t>(s.area.y))
        .u32(0);
  send(msg::kMonitorsConfig, out.view());
}

void ServerChannel::damaged(const Region& region) {
  if (kind_ != ChannelKind::Display) return;
  damage_.add(region);
  if (shown_) work_.notify();
}

void ServerChannel::resized(const std::vector<Screen>& screens) {
  screens_ = screens;
  if (kind_ != ChannelKind::Display || !shown_) return;
  LittleWriter destroy;
  destroy.u32(0);
  send(msg::kSurfaceDestroy, destroy.view());
  beginDisplay();
}

void ServerChannel::compose() {
  const Region now = std::exchange(damage_, {});
  const auto lock = picture_->lock();
  if (options_.stream) return sendFrame(picture_->rect());
  for (const Rect& rect : now.rects()) {
    const Rect r = rect.intersected(picture_->rect());
    for (int y = r.y; y < r.bottom(); y += kTile)
      for (int x = r.x; x < r.right(); x += kTile)
        sendImage({x, y, std::min(kTile, r.right() - x), std::min(kTile, r.bottom() - y)});
  }
}

namespace {
void putRect(LittleWriter& out, const Rect& r) {
  for (int v : {r.y, r.x, r.bottom(), r.right()}) out.u32(static_cast<std::uint32_t>(v));
}
}  // namespace

std::pair<unsigned, Bytes> ServerChannel::packed(const Rect& a) {
  const Pixel* pixels = picture_->at(a.x, a.y);
  const std::size_t stride = picture_->stride();
  const auto sized = [](unsigned kind, ByteView data, std::optional<std::size_t> plain = {}) {
    LittleWriter out;
    if (plain) out.u32(static_cast<std::uint32_t>(*plain));
    out.u32(static_cast<std::uint32_t>(data.size())).bytes(data);
    return std::pair(kind, out.take());
  };
  switch (options_.packing) {
    case ImagePacking::Lz: break;
    case ImagePacking::Glz: return sized(image::kGlzRgb, glz_.encode(pixels, stride, a.size()));
    case ImagePacking::ZlibGlz: {
      const Bytes plain = glz_.encode(pixels, stride, a.size());
      return sized(image::kZlibGlz, deflateWhole(plain), plain.size());
    }
    case ImagePacking::Quic: return sized(image::kQuic, encodeQuic(pixels, stride, a.size()));
    case ImagePacking::Jpeg: return sized(image::kJpeg, jpeg_.encode(*picture_, a, 85));
  }
  return sized(image::kLzRgb, encodeLz(pixels, stride, a.size()));
}

void ServerChannel::sendImage(const Rect& a) {
  const auto [kind, data] = packed(a);
  LittleWriter out;
  out.u32(0);
  putRect(out, a);
  out.u8(0);
  const std::size_t imageAt = out.size() + 4 + 16 + 2 + 1 + 13;
  out.u32(static_cast<std::uint32_t>(imageAt));
  putRect(out, {0, 0, a.width, a.height});
  out.u16(8).u8(0);
  out.u8(0).u32(0).u32(0).u32(0);
  out.u64(0)
      .u8(kind)
      .u8(0)
      .u32(static_cast<std::uint32_t>(a.width))
      .u32(static_cast<std::uint32_t>(a.height));
  out.bytes(data);
  send(msg::kDrawCopy, out.view());
}

void ServerChannel::sendFrame(const Rect& a) {
  if (!std::exchange(streaming_, true)) {
    LittleWriter create;
    create.u32(0).u32(1).u8(1).u8(1).u64(0);
    for (int i = 0; i < 2; ++i)
      create.u32(static_cast<std::uint32_t>(a.width)).u32(static_cast<std::uint32_t>(a.height));
    putRect(create, a);
    create.u8(0);
    send(msg::kStreamCreate, create.view());
  }
  const Bytes frame = jpeg_.encode(*picture_, a, 80);
  LittleWriter out;
  out.u32(1).u32(0).u32(static_cast<std::uint32_t>(frame.size())).bytes(frame);
  send(msg::kStreamData, out.view());
}

void ServerChannel::setPointer(const Pointer& pointer) {
  if (kind_ != ChannelKind::Cursor) return;
  LittleWriter out;
  out.u16(0).u16(0).u16(0).u16(0).u8(1).u16(0).u64(0).u8(0);
  out.u16(static_cast<unsigned>(pointer.size.width)).u16(static_cast<unsigned>(pointer.size.height));
  out.u16(static_cast<unsigned>(pointer.hotspot.x)).u16(static_cast<unsigned>(pointer.hotspot.y));
  for (Pixel p : pointer.pixels) out.u32(p);
  send(msg::kCursorInit, out.view());
}

void ServerChannel::beginSound(int channels, int rate) {
  constexpr unsigned kSigned16 = 1;
  if (kind_ != ChannelKind::Playback) return;
  LittleWriter out;
  out.u32(static_cast<std::uint32_t>(channels)).u16(kSigned16).u32(static_cast<std::uint32_t>(rate)).u32(0);
  send(msg::kPlaybackStart, out.view());
}

void ServerChannel::sound(ByteView samples) {
  if (kind_ != ChannelKind::Playback) return;
  LittleWriter out;
  out.u32(0).bytes(samples);
  send(msg::kPlaybackData, out.view());
}

void ServerChannel::packSound(bool opus) {
  if (kind_ != ChannelKind::Playback) return;
  LittleWriter out;
  out.u32(0).u16(opus ? 3 : 1);
  send(msg::kPlaybackMode, out.view());
}

void ServerChannel::endSound() {
  if (kind_ == ChannelKind::Playback) send(msg::kPlaybackStop, {});
}

// The agent.

void ServerChannel::agentData(ByteView piece) {
  LittleWriter more;
  more.u32(1);
  send(msg::kAgentToken, more.view());
  agentBytes_.insert(agentBytes_.end(), piece.begin(), piece.end());
  while (agentBytes_.size() >= 20) {
    const std::size_t size = loadLe32(&agentBytes_[16]);
    if (size > kMostAgentMessage) protocolBroken("SPICE agent", "a message too long");
    if (agentBytes_.size() < 20 + size) return;
    const Bytes whole(agentBytes_.begin(), agentBytes_.begin() + static_cast<std::ptrdiff_t>(20 + size));
    agentBytes_.erase(agentBytes_.begin(), agentBytes_.begin() + static_cast<std::ptrdiff_t>(20 + size));
    if (options_.agent) agentMessage(loadLe32(&whole[4]), ByteView(whole).subspan(20));
  }
}

void ServerChannel::sendAgent(unsigned type, ByteView body) {
  LittleWriter whole;
  whole.u32(1).u32(type).u64(0).u32(static_cast<std::uint32_t>(body.size())).bytes(body);
  for (std::size_t at = 0; at < whole.size(); at += 2048)
    send(msg::kAgentData, whole.view().subspan(at, std::min<std::size_t>(2048, whole.size() - at)));
}

void ServerChannel::agentMessage(unsigned type, ByteView body) {
  LittleReader in(body, "SPICE agent message");
  LittleWriter out;
  if (type == 6) {  // abilities: screens, clipboard on demand, positions
    if (in.u32() == 0) return;
    out.u32(0).u32(1U << 1 | 1U << 5 | 1U << 7 | 1U << 12);
    sendAgent(6, out.view());
    if (!clipboard_.empty()) setClipboard(clipboard_);
  } else if (type == 2) {
    const std::uint32_t count = std::min<std::uint32_t>(in.u32(), options_.mostScreens);
    in.u32();
    std::vector<Rect> screens;
    for (std::uint32_t i = 0; i < count; ++i) {
      Rect r;
      r.height = static_cast<int>(in.u32() & 0x1fff);
      r.width = static_cast<int>(in.u32() & 0x1fff);
      in.u32();
      r.x = static_cast<int>(in.u32() & 0x1fff);
      r.y = static_cast<int>(in.u32() & 0x1fff);
      screens.push_back(r);
    }
    events_.screensWanted(screens);
  } else if (type == 7) {  // the visitor has text: fetched at once
    out.u32(1);
    sendAgent(8, out.view());
  } else if (type == 8) {
    out.u32(1).text(clipboard_);
    sendAgent(4, out.view());
  } else if (type == 4 && in.u32() == 1) {
    events_.clipboard(cleanUtf8(textOf(in.rest())));
  }
}

void ServerChannel::setClipboard(const std::string& utf8) {
  clipboard_ = utf8;
  if (kind_ != ChannelKind::Main) return;
  LittleWriter out;
  out.u32(1);
  sendAgent(7, out.view());
}

}  // namespace kw::spice

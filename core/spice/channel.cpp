#include "spice/channel.hpp"

#include <openssl/evp.h>
#include <openssl/rsa.h>
#include <openssl/x509.h>

namespace kw::spice {

const char* nameOf(ChannelKind kind) {
  switch (kind) {
    case ChannelKind::Main: return "main";
    case ChannelKind::Display: return "display";
    case ChannelKind::Inputs: return "inputs";
    case ChannelKind::Cursor: return "cursor";
    case ChannelKind::Playback: return "sound";
    case ChannelKind::Record: return "microphone";
    case ChannelKind::SmartCard: return "smart card";
    case ChannelKind::UsbRedirection: return "USB";
    case ChannelKind::Port: return "port";
    case ChannelKind::WebDav: return "shared folder";
  }
  return "unknown";
}

namespace {

constexpr std::size_t kPublicKey = 162;
constexpr std::size_t kMostOutgoing = 8 << 20;
constexpr char kMagic[] = "REDQ";

Task<Bytes> readExactly(ByteStream& stream, std::size_t n) {
  Bytes out(n);
  for (std::size_t at = 0; at < n;) at += co_await stream.readSome(ByteSpan(out).subspan(at));
  co_return out;
}

/// The password and its NUL with RSA-OAEP under the server's key of this link.
Bytes sealedTicket(ByteView publicKey, const Secret& password) {
  const Byte* at = publicKey.data();
  const std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)> key(
      d2i_PUBKEY(nullptr, &at, static_cast<long>(publicKey.size())), EVP_PKEY_free);
  if (!key) protocolBroken("SPICE link", "the server's key cannot be read");
  const std::unique_ptr<EVP_PKEY_CTX, decltype(&EVP_PKEY_CTX_free)> context(
      EVP_PKEY_CTX_new(key.get(), nullptr), EVP_PKEY_CTX_free);
  Bytes out(static_cast<std::size_t>(EVP_PKEY_get_size(key.get())));
  std::size_t size = out.size();
  if (EVP_PKEY_encrypt_init(context.get()) != 1 ||
      EVP_PKEY_CTX_set_rsa_padding(context.get(), RSA_PKCS1_OAEP_PADDING) != 1 ||
      EVP_PKEY_encrypt(context.get(), out.data(), &size, reinterpret_cast<const Byte*>(password.c_str()),
                       password.size() + 1) != 1)
    throw Error(ErrorKind::SignInFailed, "the password is too long for this console (60 characters)");
  out.resize(size);
  return out;
}

[[noreturn]] void refused(std::uint32_t code, const std::string& where) {
  switch (code) {
    case 4: throw Error(ErrorKind::Unsupported, "the server speaks another version of SPICE", where);
    case 5: throw NeedsSeal(ErrorKind::Unsupported, "the server wants this channel sealed (TLS)", where);
    case 6: throw Error(ErrorKind::Unsupported, "the server wants this channel plain, without TLS", where);
    case 7: throw Error(ErrorKind::SignInFailed, "wrong password", where);
    case 8: throw Error(ErrorKind::ClosedByPeer, "the server does not know this session any more", where);
    case 9: throw Error(ErrorKind::Unsupported, "the server has no such channel", where);
    default:
      throw Error(ErrorKind::ProtocolBroken,
                  "the server refused the link (code " + std::to_string(code) + ")", where);
  }
}

}  // namespace

Task<std::uint32_t> link(ByteStream& stream, LinkWish wish) {
  LittleWriter out;
  constexpr std::uint32_t common = 1U << cap::kAuthSelection | 1U << cap::kAuthSpice | 1U << cap::kMiniHeader;
  out.text(kMagic).u32(2).u32(2).u32(18 + 8);
  out.u32(wish.connectionId).u8(static_cast<unsigned>(wish.kind)).u8(wish.id).u32(1).u32(1).u32(18);
  out.u32(common).u32(wish.capabilities);
  co_await stream.write(out.view());
  const Bytes head = co_await readExactly(stream, 16);
  if (textOf(ByteView(head).first(4)) != kMagic)
    protocolBroken("SPICE link", "the other side does not speak SPICE");
  const std::uint32_t size = loadLe32(&head[12]);
  if (size < 4 || size > 4096) protocolBroken("SPICE link", "a reply of " + std::to_string(size) + " bytes");
  const Bytes body = co_await readExactly(stream, size);
  LittleReader in(body, "SPICE link");
  if (const std::uint32_t error = in.u32(); error != 0) refused(error, stream.peer());
  const ByteView key = in.bytes(kPublicKey);
  const std::uint32_t commons = in.u32(), own = in.u32();
  const std::uint32_t offset = in.u32();
  if (commons > kMostCapabilities || own > kMostCapabilities || offset > body.size())
    protocolBroken("SPICE link", "more capabilities than there can be");
  LittleReader words(ByteView(body).subspan(offset), "SPICE link");
  const std::uint32_t theirs = commons > 0 ? words.u32() : 0;
  for (std::uint32_t i = 1; i < commons; ++i) words.u32();
  const std::uint32_t capabilities = own > 0 ? words.u32() : 0;
  if ((theirs >> cap::kMiniHeader & 1) == 0)
    throw Error(ErrorKind::Unsupported, "the server is too old (no small header)", stream.peer());
  LittleWriter answer;
  if ((theirs >> cap::kAuthSelection & 1) != 0) answer.u32(1);
  answer.bytes(sealedTicket(key, wish.password));
  co_await stream.write(answer.view());
  const Bytes result = co_await readExactly(stream, 4);
  if (const std::uint32_t code = loadLe32(result.data()); code != 0) refused(code, stream.peer());
  co_return capabilities;
}

Task<void> Channel::run(Handler handler) { co_await firstOf(readMessages(handler), writeMessages()); }

Task<void> Channel::readMessages(Handler& handler) {
  for (;;) {
    co_await in_.need(6);
    const unsigned type = loadLe16(in_.peek());
    const std::size_t size = loadLe32(in_.peek() + 2);
    if (size > kMostMessage)
      protocolBroken("SPICE " + std::string(nameOf(kind_)) + " channel",
                     "message " + std::to_string(type) + " announces " + std::to_string(size) + " bytes");
    co_await in_.need(6 + size);
    const ByteView body = in_.take(6 + size).subspan(6);
    if (!common(type, body)) handler(type, body);
    if (window_ != 0 && ++seen_ >= window_) {
      seen_ = 0;
      send(msgc::kAck, {});
    }
  }
}

/// Messages that every channel has; true when it was one.
bool Channel::common(unsigned type, ByteView body) {
  LittleReader in(body, "SPICE message");
  LittleWriter out;
  switch (type) {
    case msg::kSetAck: {
      const std::uint32_t generation = in.u32();
      window_ = in.u32();
      seen_ = 0;
      out.u32(generation);
      send(msgc::kAckSync, out.view());
      return true;
    }
    case msg::kPing:
      out.bytes(in.bytes(12));
      send(msgc::kPong, out.view());
      return true;
    case msg::kDisconnecting:
      throw Error(ErrorKind::ClosedByPeer, "the host ended the session", stream_->peer());
    case msg::kWaitForChannels: return true;  // nothing is shared between our channels
    default: return type < 100 && type != msg::kNotify;
  }
}

void Channel::send(unsigned type, ByteView body) {
  if (closed_) return;
  if (outgoing_.size() + body.size() > kMostOutgoing)
    throw Error(ErrorKind::ClosedByPeer, "the host takes nothing any more", stream_->peer());
  LittleWriter head;
  head.u16(type).u32(static_cast<std::uint32_t>(body.size()));
  outgoing_.insert(outgoing_.end(), head.view().begin(), head.view().end());
  outgoing_.insert(outgoing_.end(), body.begin(), body.end());
  work_.notify();
}

Task<void> Channel::writeMessages() {
  for (;;) {
    while (outgoing_.empty() && !closed_) co_await work_.wait();
    if (closed_) throw Error(ErrorKind::Cancelled, "ended here");
    const Bytes now = std::exchange(outgoing_, {});
    bytesOut_ += now.size();
    co_await stream_->write(now);
  }
}

void Channel::close() {
  closed_ = true;
  work_.notify();
  stream_->close();
}

}  // namespace kw::spice

#include "rdp/channels.hpp"

#include <algorithm>

namespace kw::rdp {

std::vector<Bytes> chunksOf(ByteView message, std::uint32_t moreFlags) {
  std::vector<Bytes> out;
  std::size_t at = 0;
  do {
    const std::size_t n = std::min(channel::kChunk, message.size() - at);
    std::uint32_t flags = moreFlags;
    if (at == 0) flags |= channel::kFirst;
    if (at + n == message.size()) flags |= channel::kLast;
    LittleWriter chunk;
    chunk.u32(static_cast<std::uint32_t>(message.size())).u32(flags).bytes(message.subspan(at, n));
    out.push_back(chunk.take());
    at += n;
  } while (at < message.size());
  return out;
}

std::optional<Bytes> ChunkReader::take(ByteView chunk) {
  LittleReader in(chunk, "channel chunk");
  const std::uint32_t total = in.u32(), flags = in.u32();
  if ((flags & channel::kFirst) != 0) {
    if (total > kMostChannelMessage)
      protocolBroken("channel chunk", "announces " + std::to_string(total) + " bytes");
    message_.clear();
    total_ = total;
    open_ = true;
  }
  if (!open_) protocolBroken("channel chunk", "one without its beginning");
  const ByteView part = in.rest();
  if (part.size() > total_ - message_.size()) protocolBroken("channel chunk", "more than was announced");
  message_.insert(message_.end(), part.begin(), part.end());
  if ((flags & channel::kLast) == 0) return std::nullopt;
  open_ = false;
  if (message_.size() != total_) protocolBroken("channel chunk", "less than was announced");
  return std::move(message_);
}

namespace {

// MS-RDPEDYC 2.2
constexpr unsigned kCreate = 1, kDataFirst = 2, kData = 3, kClose = 4, kCapabilities = 5;

std::uint32_t number(LittleReader& in, unsigned kind) {
  return kind == 0 ? in.u8() : kind == 1 ? in.u16() : in.u32();
}
unsigned kindFor(std::uint32_t v) { return v < 0x100 ? 0 : v < 0x10000 ? 1 : 2; }
void putNumber(LittleWriter& out, std::uint32_t v) {
  const unsigned kind = kindFor(v);
  if (kind == 0)
    out.u8(v);
  else if (kind == 1)
    out.u16(v);
  else
    out.u32(v);
}

}  // namespace

void DynamicChannels::take(ByteView message) {
  LittleReader in(message, "dynamic channel");
  const unsigned head = in.u8(), command = head >> 4, idKind = head & 3, lengthKind = head >> 2 & 3;
  switch (command) {
    case kCapabilities: return capabilities(in);
    case kCreate: return create(in, idKind);
    case kDataFirst: return data(in, idKind, lengthKind, true);
    case kData: return data(in, idKind, lengthKind, false);
    case kClose: return close(in, idKind);
    default: return;  // soft sync and compressed data are not taken part in: our version says so
  }
}

/// 2.2.1.1
void DynamicChannels::begin() {
  LittleWriter out;
  send_(out.u8(kCapabilities << 4).u8(0).u16(1).take());
}

void DynamicChannels::offer() {
  for (const auto& [name, listener] : listeners_) {
    const auto id = static_cast<std::uint32_t>(offered_.size() + 1);
    offered_[id] = name;
    LittleWriter out;
    send_(out.u8((kCreate << 4) | kindFor(id)).u8(id).text(name).u8(0).take());
  }
}

void DynamicChannels::created(std::uint32_t id, bool taken) {
  const auto found = offered_.find(id);
  if (found == offered_.end() || !taken || open_.contains(id)) return;
  open_[id] = {found->second, {}, 0};
  const Listener& listener = listeners_[found->second];
  if (listener.opened) listener.opened();
}

/// 2.2.1
void DynamicChannels::capabilities(LittleReader& in) {
  if (end_ == End::Service) return offer();
  in.skip(1);
  const unsigned version = std::min<unsigned>(in.u16(), 1);
  LittleWriter out;
  out.u8(kCapabilities << 4).u8(0).u16(version);
  send_(out.take());
}

/// 2.2.2
void DynamicChannels::create(LittleReader& in, unsigned idKind) {
  const std::uint32_t id = number(in, idKind);
  if (end_ == End::Service) return created(id, in.u32() == 0);
  std::string name = textOf(in.rest());
  name.resize(std::min(name.find('\0'), name.size()));
  const auto listener = listeners_.find(name);
  const bool takes = listener != listeners_.end() && open_.size() < kMostDynamicChannels;
  LittleWriter out;
  out.u8((kCreate << 4) | kindFor(id));
  putNumber(out, id);
  out.u32(takes ? 0 : 0xc0000001);
  send_(out.take());
  if (!takes) return;
  open_[id] = {name, {}, 0};
  if (listener->second.opened) listener->second.opened();
}

/// 2.2.3
void DynamicChannels::data(LittleReader& in, unsigned idKind, unsigned lengthKind, bool first) {
  const std::uint32_t id = number(in, idKind);
  const auto found = open_.find(id);
  if (found == open_.end()) return;
  Channel& c = found->second;
  if (first) {
    c.total = number(in, lengthKind);
    if (c.total > kMostChannelMessage)
      protocolBroken("dynamic channel", "announces " + std::to_string(c.total) + " bytes");
    c.message.clear();
  }
  const ByteView part = in.rest();
  const Listener& listener = listeners_[c.name];
  if (!first && c.total == 0) {
    if (listener.message) listener.message(part);
    return;
  }
  if (part.size() > c.total - c.message.size()) protocolBroken("dynamic channel", "more than was announced");
  c.message.insert(c.message.end(), part.begin(), part.end());
  if (c.message.size() < c.total) return;
  const Bytes whole = std::exchange(c.message, {});
  c.total = 0;
  if (listener.message) listener.message(whole);
}

/// 2.2.4
void DynamicChannels::close(LittleReader& in, unsigned idKind) {
  const std::uint32_t id = number(in, idKind);
  const auto found = open_.find(id);
  if (found == open_.end()) return;
  const std::string name = found->second.name;
  open_.erase(found);
  LittleWriter out;
  out.u8((kClose << 4) | kindFor(id));
  putNumber(out, id);
  send_(out.take());
  if (listeners_[name].closed) listeners_[name].closed();
}

bool DynamicChannels::isOpen(const std::string& name) const {
  return std::any_of(open_.begin(), open_.end(), [&](const auto& c) { return c.second.name == name; });
}

bool DynamicChannels::sendOn(const std::string& name, ByteView message) {
  const auto found =
      std::find_if(open_.begin(), open_.end(), [&](const auto& c) { return c.second.name == name; });
  if (found == open_.end()) return false;
  const std::uint32_t id = found->first;
  constexpr std::size_t kRoom = 1590;
  std::size_t at = 0;
  bool first = message.size() > kRoom;
  do {
    LittleWriter out;
    std::size_t room = kRoom;
    if (first) {
      out.u8((kDataFirst << 4) | (kindFor(static_cast<std::uint32_t>(message.size())) << 2) | kindFor(id));
      putNumber(out, id);
      putNumber(out, static_cast<std::uint32_t>(message.size()));
      room -= 4;
    } else {
      out.u8((kData << 4) | kindFor(id));
      putNumber(out, id);
    }
    const std::size_t n = std::min(room, message.size() - at);
    out.bytes(message.subspan(at, n));
    send_(out.take());
    at += n;
    first = false;
  } while (at < message.size());
  return true;
}

}  // namespace kw::rdp

#include "rdp/redirection.hpp"

namespace kw::rdp {

namespace {

// 2.2.13.1 RedirFlags
constexpr std::uint32_t kAddress = 0x1, kLoadBalance = 0x2, kUser = 0x4, kDomain = 0x8, kPassword = 0x10,
                        kNoRedirect = 0x80, kFullName = 0x100, kShortName = 0x200;
constexpr unsigned kPacket = 0x400;
constexpr std::size_t kMostField = 4096;

}  // namespace

Redirection readRedirection(ByteView packet) {
  LittleReader in(packet, "redirection");
  in.skip(4 + 4);  // flags and length, the session's number
  const std::uint32_t present = in.u32();
  const auto field = [&](std::uint32_t flag) -> std::optional<ByteView> {
    if ((present & flag) == 0) return std::nullopt;
    const std::size_t length = in.u32();
    if (length > kMostField) protocolBroken("redirection", "a field of " + std::to_string(length) + " bytes");
    return in.bytes(length);
  };
  const auto text = [&](std::uint32_t flag) {
    const auto bytes = field(flag);
    return bytes ? utf16ToUtf8(*bytes) : std::string();
  };
  Redirection out;
  out.address = text(kAddress);
  if (const auto token = field(kLoadBalance)) out.routingToken = textOf(*token);
  while (!out.routingToken.empty() && (out.routingToken.back() == '\n' || out.routingToken.back() == '\r'))
    out.routingToken.pop_back();
  out.user = text(kUser);
  out.domain = text(kDomain);
  field(kPassword);  // a cookie for the service's own kind; ours signs in with what the person gave
  const std::string fullName = text(kFullName), shortName = text(kShortName);
  // 3.2.5.3.1: with a routing token the way is the same; else the address, or the name.
  if (!out.routingToken.empty())
    out.address.clear();
  else if (out.address.empty())
    out.address = !fullName.empty() ? fullName : shortName;
  out.onlyTold = (present & kNoRedirect) != 0 || (out.address.empty() && out.routingToken.empty());
  return out;
}

Bytes writeRedirection(const Redirection& r) {
  LittleWriter fields;
  std::uint32_t present = r.onlyTold ? kNoRedirect : 0;
  const auto field = [&](std::uint32_t flag, ByteView bytes) {
    present |= flag;
    fields.u32(static_cast<std::uint32_t>(bytes.size())).bytes(bytes);
  };
  const auto text = [&](std::uint32_t flag, const std::string& value) {
    if (value.empty()) return;
    Bytes wide = utf8ToUtf16(value);
    wide.insert(wide.end(), 2, Byte{0});
    field(flag, wide);
  };
  text(kAddress, r.address);
  if (!r.routingToken.empty()) field(kLoadBalance, viewOf(r.routingToken + "\r\n"));
  text(kUser, r.user);
  text(kDomain, r.domain);
  LittleWriter out;
  out.u16(kPacket).u16(static_cast<unsigned>(12 + fields.size())).u32(1).u32(present).bytes(fields.view());
  return out.take();
}

}  // namespace kw::rdp

#include "rdp/mcs.hpp"

#include "rdp/der.hpp"

namespace kw::rdp {

namespace {

constexpr Byte kT124Key[] = {0x00, 0x05, 0x00, 0x14, 0x7c, 0x00, 0x01};  // T.124: object key 0.0.20.124.0.1
constexpr unsigned kCsCore = 0xc001, kCsSecurity = 0xc002, kCsNet = 0xc003, kCsCluster = 0xc004,
                   kCsMessageChannel = 0xc006;
constexpr unsigned kScCore = 0x0c01, kScSecurity = 0x0c02, kScNet = 0x0c03, kScMessageChannel = 0x0c04;

Bytes tpkt(ByteView x224) {
  LittleWriter out;
  out.u8(3).u8(0).be16(static_cast<unsigned>(x224.size() + 4)).bytes(x224);
  return out.take();
}

unsigned be16(LittleReader& in) {
  const unsigned high = in.u8();
  return (high << 8) | in.u8();
}

/// A PER length (X.691 10.9).
void perLength(LittleWriter& out, std::size_t n) {
  if (n < 0x80)
    out.u8(static_cast<unsigned>(n));
  else
    out.be16(static_cast<unsigned>(0x8000 | n));
}
std::size_t perLength(LittleReader& in) {
  const unsigned first = in.u8();
  return (first & 0x80) == 0 ? first : ((first & 0x7f) << 8) | in.u8();
}

/// Fixed field of UTF-16 with at least one NUL at its end.
void fixedText(LittleWriter& out, const std::string& text, std::size_t bytes) {
  Bytes utf16 = utf8ToUtf16(text);
  utf16.resize(std::min(utf16.size(), bytes - 2));
  out.bytes(utf16).zeros(bytes - utf16.size());
}

Bytes domainParameters(std::initializer_list<std::uint32_t> values) {
  Bytes inner;
  for (std::uint32_t v : values) {
    const Bytes one = der::integer(v);
    inner.insert(inner.end(), one.begin(), one.end());
  }
  return der::tagged(0x30, inner);
}

void block(LittleWriter& out, unsigned type, ByteView body) {
  out.u16(type).u16(static_cast<unsigned>(body.size() + 4)).bytes(body);
}

/// 2.2.1.3.2 TS_UD_CS_CORE
Bytes coreBlock(const ClientCore& c) {
  LittleWriter out;
  out.u32(0x00080004);
  out.u16(static_cast<unsigned>(c.width)).u16(static_cast<unsigned>(c.height));
  out.u16(0xca01).u16(0xaa03).u32(c.keyboardLayout).u32(3000);
  fixedText(out, c.clientName, 32);
  out.u32(4).u32(0).u32(12).zeros(64);
  const unsigned depth = c.colours == 15 ? 15 : c.colours == 8 ? 8 : c.colours == 16 ? 16 : 24;
  out.u16(c.colours == 8 ? 0xca01 : 0xca03).u16(1).u32(0).u16(depth);
  out.u16(0x0f);  // 15, 16, 24 and 32 bits can be shown
  // Error info, status info, strong keys, connection type, monitor layouts, network characteristics,
  // heartbeats, and 32 bits or the pipeline where wanted.
  unsigned flags = 0x1 | 0x4 | 0x8 | 0x20 | 0x40 | 0x80 | 0x400;
  if (c.colours == 32) flags |= 0x2;
  if (c.graphicsPipeline) flags |= 0x100;
  out.u16(flags).zeros(64).u8(6).u8(0).u32(c.selectedProtocol);
  // The size on a desk is not known: 96 dots per inch are assumed.
  out.u32(static_cast<std::uint32_t>(c.width * 254 / 960))
      .u32(static_cast<std::uint32_t>(c.height * 254 / 960));
  out.u16(0).u32(static_cast<std::uint32_t>(c.scale)).u32(100);
  return out.take();
}

Bytes clientBlocks(const ClientCore& c) {
  LittleWriter out;
  block(out, kCsCore, coreBlock(c));
  LittleWriter cluster;  // 2.2.1.3.5: redirection version 4 is understood
  cluster.u32(0x1 | (3U << 2) | (c.administrative ? 0x2 : 0)).u32(0);
  block(out, kCsCluster, cluster.view());
  LittleWriter security;
  security.u32(c.encryptionMethods).u32(0);
  block(out, kCsSecurity, security.view());
  LittleWriter message;  // 2.2.1.3.7
  block(out, kCsMessageChannel, message.u32(0).view());
  if (!c.channels.empty()) {
    LittleWriter net;
    net.u32(static_cast<std::uint32_t>(c.channels.size()));
    for (const StaticChannel& channel : c.channels) {
      const std::string name = channel.name.substr(0, 7);
      net.text(name).zeros(8 - name.size()).u32(channel.options);
    }
    block(out, kCsNet, net.view());
  }
  return out.take();
}

/// The blocks inside a GCC connect message: what follows the key of four letters and its PER length.
ByteView gccBlocks(ByteView gcc, const char* key) {
  const std::string text = textOf(gcc.first(std::min<std::size_t>(gcc.size(), 64)));
  const auto at = text.find(key);
  if (at == std::string::npos) protocolBroken("GCC", "its key is missing");
  LittleReader in(gcc.subspan(at + 4), "GCC");
  const std::size_t length = perLength(in);
  return in.bytes(std::min(length, in.left()));
}

}  // namespace

Bytes dataPacket(ByteView payload) {
  LittleWriter x224;
  x224.u8(2).u8(0xf0).u8(0x80).bytes(payload);
  return tpkt(x224.view());
}

ByteView payloadOfData(ByteView packet) {
  LittleReader in(packet, "X.224 data");
  in.skip(4);
  const unsigned length = in.u8();
  const unsigned code = in.u8();
  if (code == 0x80) throw Error(ErrorKind::ClosedByPeer, "the service ended the connection");
  if (length != 2 || code != 0xf0) protocolBroken("X.224 data", "another kind of packet came");
  in.skip(1);
  return in.rest();
}

Bytes writeConnectRequest(const ConnectRequest& r) {
  LittleWriter variable;
  if (!r.routingToken.empty())
    variable.text(r.routingToken.ends_with("\r\n") ? r.routingToken : r.routingToken + "\r\n");
  else if (!r.cookie.empty())
    variable.text("Cookie: mstshash=" + r.cookie + "\r\n");
  if (r.protocols != protocol::kRdp) variable.u8(1).u8(0).u16(8).u32(r.protocols);
  LittleWriter x224;
  x224.u8(static_cast<unsigned>(6 + variable.size())).u8(0xe0).zeros(5).bytes(variable.view());
  return tpkt(x224.view());
}

ConnectRequest readConnectRequest(ByteView packet) {
  LittleReader in(packet, "X.224 request");
  in.skip(5);
  if (in.u8() != 0xe0) protocolBroken("X.224 request", "another kind of packet came");
  in.skip(5);
  ConnectRequest r;
  r.protocols = protocol::kRdp;
  std::string text = textOf(in.rest());
  if (const auto end = text.find("\r\n"); end != std::string::npos) {
    const std::string line = text.substr(0, end);
    if (const std::string key = "Cookie: mstshash="; line.starts_with(key))
      r.cookie = line.substr(key.size());
    else
      r.routingToken = line;
    text.erase(0, end + 2);
  }
  if (text.size() >= 8 && text[0] == 1) r.protocols = loadLe32(viewOf(text).data() + 4);
  return r;
}

Bytes writeConnectConfirm(const ConnectConfirm& c) {
  LittleWriter x224;
  x224.u8(c.negotiated ? 14 : 6).u8(0xd0).zeros(2).be16(0x1234).u8(0);
  if (c.negotiated && c.failure == 0) x224.u8(2).u8(1).u16(8).u32(c.chosen);
  if (c.negotiated && c.failure != 0) x224.u8(3).u8(0).u16(8).u32(c.failure);
  return tpkt(x224.view());
}

ConnectConfirm readConnectConfirm(ByteView packet) {
  LittleReader in(packet, "X.224 confirm");
  in.skip(5);
  if (in.u8() != 0xd0) protocolBroken("X.224 confirm", "the other side does not speak RDP");
  in.skip(5);
  ConnectConfirm c;
  if (in.left() == 0) return c;
  c.negotiated = true;
  const unsigned type = in.u8();
  in.skip(3);
  const std::uint32_t value = in.u32();
  if (type == 3)
    c.failure = value;
  else if (type == 2)
    c.chosen = value;
  else
    protocolBroken("X.224 confirm", "an unknown answer to the negotiation");
  return c;
}

std::string wordsForNegotiationFailure(std::uint32_t code) {
  switch (code) {
    case 1: return "the service demands TLS";
    case 2: return "the service speaks old RDP security only";
    case 3: return "the service has no certificate for TLS";
    case 4: return "the service did not take the offer of security kinds";
    case 5: return "the service demands network level authentication";
    case 6: return "the service demands a certificate of the user";
    default: return "the service refused the negotiation (code " + std::to_string(code) + ")";
  }
}

Bytes writeConnectInitial(const ClientCore& core) {
  const Bytes blocks = clientBlocks(core);
  LittleWriter gcc;  // T.124 ConferenceCreateRequest, packed
  gcc.bytes(kT124Key);
  LittleWriter pdu;
  pdu.u8(0x00).u8(0x08).u8(0x00).u8(0x10).u8(0x00).u8(0x01).u8(0xc0).u8(0x00).text("Duca");
  pdu.be16(static_cast<unsigned>(0x8000 | blocks.size())).bytes(blocks);
  perLength(gcc, pdu.size());
  gcc.bytes(pdu.view());
  Bytes inner;  // T.125 ConnectInitial
  const auto add = [&inner](const Bytes& part) { inner.insert(inner.end(), part.begin(), part.end()); };
  const Bytes one{1}, yes{0xff};
  add(der::tagged(0x04, one));
  add(der::tagged(0x04, one));
  add(der::tagged(0x01, yes));
  add(domainParameters({34, 2, 0, 1, 0, 1, 0xffff, 2}));
  add(domainParameters({1, 1, 1, 1, 0, 1, 0x420, 2}));
  add(domainParameters({0xffff, 0xfc17, 0xffff, 1, 0, 1, 0xffff, 2}));
  add(der::tagged(0x04, gcc.view()));
  return dataPacket(der::tagged(0x7f65, inner));
}

ClientCore readConnectInitial(ByteView payload) {
  der::Reader in(der::Reader(payload, "MCS connect").element(0x7f65), "MCS connect");
  for (unsigned tag : {0x04U, 0x04U, 0x01U, 0x30U, 0x30U, 0x30U}) in.element(tag);
  LittleReader blocks(gccBlocks(in.element(0x04), "Duca"), "GCC");
  ClientCore core;
  core.colours = 8;
  while (blocks.left() >= 4) {
    const unsigned type = blocks.u16(), length = blocks.u16();
    if (length < 4) protocolBroken("GCC", "a block is too short");
    LittleReader b(blocks.bytes(length - 4), "GCC block");
    if (type == kCsCore) {
      b.skip(4);
      core.width = b.u16();
      core.height = b.u16();
      b.skip(4);
      core.keyboardLayout = b.u32();
      b.skip(4);
      core.clientName = utf16ToUtf8(b.bytes(32));
      if (b.left() >= 4 + 4 + 4 + 64 + 2 + 2 + 4 + 2 + 2 + 2) {
        b.skip(4 + 4 + 4 + 64 + 2 + 2 + 4);
        core.colours = b.u16();
        b.skip(2);
        const unsigned flags = b.u16();
        if ((flags & 0x2) != 0) core.colours = 32;
        core.graphicsPipeline = (flags & 0x100) != 0;
        core.monitorLayout = (flags & 0x40) != 0;
        if (b.left() >= 64 + 2 + 4) {
          b.skip(66);
          core.selectedProtocol = b.u32();
        }
      }
    } else if (type == kCsMessageChannel) {
      core.messageChannel = true;
    } else if (type == kCsSecurity) {
      core.encryptionMethods = b.u32();
    } else if (type == kCsNet) {
      const std::uint32_t count = b.u32();
      if (count > 31) protocolBroken("GCC", "more channels than there may be");
      for (std::uint32_t i = 0; i < count; ++i) {
        StaticChannel channel;
        const std::string name = textOf(b.bytes(8));
        channel.name = name.substr(0, name.find('\0'));
        channel.options = b.u32();
        core.channels.push_back(channel);
      }
    }
  }
  return core;
}

Bytes writeConnectResponse(const ServerCore& core, std::uint32_t clientProtocols) {
  LittleWriter blocks;
  LittleWriter b;
  b.u32(0x00080004).u32(clientProtocols).u32(0);
  block(blocks, kScCore, b.view());
  LittleWriter net;
  net.u16(core.ioChannel).u16(static_cast<unsigned>(core.channelIds.size()));
  for (unsigned id : core.channelIds) net.u16(id);
  if (core.channelIds.size() % 2 != 0) net.u16(0);
  block(blocks, kScNet, net.view());
  LittleWriter message;
  if (core.messageChannel != 0) block(blocks, kScMessageChannel, message.u16(core.messageChannel).view());
  LittleWriter security;
  security.u32(core.encryptionMethod).u32(core.encryptionLevel);
  if (core.encryptionMethod != 0)
    security.u32(static_cast<std::uint32_t>(core.random.size()))
        .u32(static_cast<std::uint32_t>(core.certificate.size()))
        .bytes(core.random)
        .bytes(core.certificate);
  block(blocks, kScSecurity, security.view());
  LittleWriter gcc;
  gcc.bytes(kT124Key);
  LittleWriter pdu;
  pdu.u8(0x14).u8(0x76).u8(0x0a).u8(0x01).u8(0x01).u8(0x00).u8(0x01).u8(0xc0).u8(0x00).text("McDn");
  pdu.be16(static_cast<unsigned>(0x8000 | blocks.size())).bytes(blocks.view());
  perLength(gcc, pdu.size());
  gcc.bytes(pdu.view());
  Bytes inner;
  const auto add = [&inner](const Bytes& part) { inner.insert(inner.end(), part.begin(), part.end()); };
  const Bytes zero{0};
  add(der::tagged(0x0a, zero));
  add(der::integer(0));
  add(domainParameters({34, 3, 0, 1, 0, 1, 0xfff8, 2}));
  add(der::tagged(0x04, gcc.view()));
  return dataPacket(der::tagged(0x7f66, inner));
}

ServerCore readConnectResponse(ByteView payload) {
  der::Reader in(der::Reader(payload, "MCS connect").element(0x7f66), "MCS connect");
  const ByteView result = in.element(0x0a);
  if (result.empty() || result[0] != 0)
    throw Error(ErrorKind::Unsupported,
                "the service refused the connection (MCS result " +
                    std::to_string(result.empty() ? -1 : static_cast<int>(result[0])) + ")");
  in.element(0x02);
  in.element(0x30);
  LittleReader blocks(gccBlocks(in.element(0x04), "McDn"), "GCC");
  ServerCore core;
  while (blocks.left() >= 4) {
    const unsigned type = blocks.u16(), length = blocks.u16();
    if (length < 4) protocolBroken("GCC", "a block is too short");
    LittleReader b(blocks.bytes(length - 4), "GCC block");
    if (type == kScSecurity) {
      core.encryptionMethod = b.u32();
      core.encryptionLevel = b.u32();
      if (core.encryptionMethod != 0 && b.left() >= 8) {
        const std::uint32_t random = b.u32(), certificate = b.u32();
        if (certificate > kMostCertificate) protocolBroken("GCC", "a certificate is too long");
        const ByteView r = b.bytes(random), c = b.bytes(certificate);
        core.random.assign(r.begin(), r.end());
        core.certificate.assign(c.begin(), c.end());
      }
    } else if (type == kScNet) {
      core.ioChannel = b.u16();
      const unsigned count = b.u16();
      for (unsigned i = 0; i < count; ++i) core.channelIds.push_back(b.u16());
    } else if (type == kScMessageChannel) {
      core.messageChannel = b.u16();
    }
  }
  return core;
}

Bytes erectDomain() {
  const Bytes message{0x04, 0x01, 0x00, 0x01, 0x00};
  return dataPacket(message);
}
Bytes attachUserRequest() {
  const Bytes message{0x28};
  return dataPacket(message);
}
Bytes attachUserConfirm(unsigned user) {
  LittleWriter out;
  out.u8(0x2e).u8(0).be16(user - kFirstUser);
  return dataPacket(out.view());
}

unsigned readAttachUserConfirm(ByteView payload) {
  LittleReader in(payload, "MCS attach user");
  if ((in.u8() >> 2) != 11) protocolBroken("MCS attach user", "another message came");
  if (in.u8() != 0) throw Error(ErrorKind::Unsupported, "the service takes no more users");
  return be16(in) + kFirstUser;
}

Bytes channelJoinRequest(unsigned user, unsigned channelId) {
  LittleWriter out;
  out.u8(0x38).be16(user - kFirstUser).be16(channelId);
  return dataPacket(out.view());
}
unsigned readChannelJoinRequest(ByteView payload) {
  LittleReader in(payload, "MCS channel join");
  if ((in.u8() >> 2) != 14) protocolBroken("MCS channel join", "another message came");
  in.skip(2);
  return be16(in);
}
Bytes channelJoinConfirm(unsigned user, unsigned channelId) {
  LittleWriter out;
  out.u8(0x3e).u8(0).be16(user - kFirstUser).be16(channelId).be16(channelId);
  return dataPacket(out.view());
}

void readChannelJoinConfirm(ByteView payload, unsigned channelId) {
  LittleReader in(payload, "MCS channel join");
  const unsigned choice = in.u8();
  if ((choice >> 2) != 15) protocolBroken("MCS channel join", "another message came");
  if (in.u8() != 0)
    throw Error(ErrorKind::Unsupported, "the service refused channel " + std::to_string(channelId));
  in.skip(2);  // who asked
  const bool namesJoined = (choice & 2) != 0;
  if (be16(in) != channelId || (namesJoined && be16(in) != channelId))
    protocolBroken("MCS channel join", "another channel was joined than the one asked for");
}

Bytes sendData(bool fromClient, unsigned user, unsigned channelId, ByteView payload) {
  LittleWriter out;
  out.u8(fromClient ? 0x64 : 0x68).be16(user - kFirstUser).be16(channelId).u8(0x70);
  perLength(out, payload.size());
  out.bytes(payload);
  return dataPacket(out.view());
}

std::optional<McsData> readSendData(ByteView payload) {
  LittleReader in(payload, "MCS data");
  const unsigned choice = in.u8() >> 2;
  if (choice == 8) return std::nullopt;
  if (choice != 25 && choice != 26) protocolBroken("MCS", "message kind " + std::to_string(choice));
  in.skip(2);
  McsData data;
  data.channelId = be16(in);
  in.skip(1);
  const std::size_t length = perLength(in);
  data.payload = in.bytes(length);
  return data;
}

Bytes disconnectUltimatum() {  // reason: user requested
  const Bytes message{0x21, 0x80};
  return dataPacket(message);
}

}  // namespace kw::rdp

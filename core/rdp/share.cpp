#include "rdp/share.hpp"

#include <algorithm>
#include <ctime>

#include "rdp/codec/bulk.hpp"
#include "rdp/orders.hpp"
#include "rdp/surface_commands.hpp"

namespace kw::rdp {

namespace {

constexpr std::uint32_t kUsualFastPath = 0x3f0000;

void capabilitySet(LittleWriter& out, unsigned type, ByteView body) {
  out.u16(type).u16(static_cast<unsigned>(body.size() + 4)).bytes(body);
}

Bytes shareControl(unsigned type, unsigned source, ByteView body) {
  LittleWriter out;
  out.u16(static_cast<unsigned>(body.size() + 6)).u16(type | 0x10).u16(source).bytes(body);
  return out.take();
}

// The sets of a client (2.2.7.1), those that must be there and those that tell what we can.
void general(LittleWriter& sets, bool client) {
  LittleWriter b;
  // Long credentials, no header before compressed bitmaps, fast-path output; refresh and suppress of a
  // server.
  b.u16(1).u16(3).u16(0x200).u16(0).u16(0).u16(0x1 | 0x4 | 0x400).u16(0).u16(0).u16(0);
  b.u8(client ? 0 : 1).u8(client ? 0 : 1);
  capabilitySet(sets, capability::kGeneral, b.view());
}

void bitmap(LittleWriter& sets, Size desktop, int bits) {
  LittleWriter b;
  b.u16(static_cast<unsigned>(bits)).u16(1).u16(1).u16(1);
  b.u16(static_cast<unsigned>(desktop.width)).u16(static_cast<unsigned>(desktop.height));
  b.u16(0).u16(1).u16(1).u8(0).u8(0x08).u16(1).u16(0);  // resizes; alpha may be left out, colours may not
  capabilitySet(sets, capability::kBitmap, b.view());
}

void order(LittleWriter& sets, bool wanted) {
  LittleWriter b;
  b.zeros(16).u32(0).u16(1).u16(20).u16(0).u16(1).u16(0);
  b.u16(0x2 | 0x8 | (wanted ? 0x20 : 0));  // negotiated, zero bounds deltas, colour indices
  // Where no order is asked for, pictures are.
  b.bytes(wanted ? orderSupport() : std::array<std::uint8_t, 32>{});
  b.u16(0).u16(0).u32(0).u32(wanted ? kSavedPixels : 0).u16(0).u16(0).u16(0).u16(0);
  capabilitySet(sets, capability::kOrder, b.view());
}

/// 2.2.7.1.4.2: three caches, of bitmaps up to 16, 32 and 64 pixels square.
void bitmapCache(LittleWriter& sets, bool wanted) {
  LittleWriter b;
  if (!wanted) {
    b.zeros(36);
    return capabilitySet(sets, capability::kBitmapCache, b.view());
  }
  b.u16(2).u8(0).u8(3).u32(600).u32(600).u32(2048).u32(0).u32(0).zeros(12);
  capabilitySet(sets, capability::kBitmapCache2, b.view());
}

void pointerSet(LittleWriter& sets) {
  LittleWriter b;
  b.u16(1).u16(25).u16(25);
  capabilitySet(sets, capability::kPointer, b.view());
}

void input(LittleWriter& sets, std::uint32_t layout) {
  LittleWriter b;
  // Scan codes, extended buttons, fast-path input in both forms, Unicode, horizontal wheel.
  b.u16(0x1 | 0x4 | 0x8 | 0x10 | 0x20 | 0x100).u16(0).u32(layout).u32(4).u32(0).u32(12).zeros(64);
  capabilitySet(sets, capability::kInput, b.view());
}

void brush(LittleWriter& sets) {
  LittleWriter b;
  b.u32(0);
  capabilitySet(sets, capability::kBrush, b.view());
}
/// 2.2.7.1.8: ten caches by the size of their glyphs; remembered texts.
void glyphCache(LittleWriter& sets, bool wanted) {
  LittleWriter b;
  if (wanted) {
    for (unsigned bytes : {4U, 4U, 8U, 8U, 16U, 32U, 64U, 128U, 256U}) b.u16(254).u16(bytes);
    b.u16(64).u16(2048).u32(0x01000100).u16(2).u16(0);
  } else {
    b.zeros(40).u32(0).u16(0).u16(0);
  }
  capabilitySet(sets, capability::kGlyphCache, b.view());
}
void offscreen(LittleWriter& sets, bool wanted) {
  LittleWriter b;
  b.u32(wanted ? 1 : 0).u16(wanted ? kOffscreenKilobytes : 0).u16(wanted ? kOffscreenEntries : 0);
  capabilitySet(sets, capability::kOffscreen, b.view());
}
/// MS-RDPEGDI 2.2.1.2; the level: both orders' second revision, in which the bitmaps come as streams.
void nineGrid(LittleWriter& sets, bool wanted) {
  LittleWriter b;
  b.u32(wanted ? 2 : 0).u16(wanted ? kNineGridKilobytes : 0).u16(wanted ? kNineGridEntries : 0);
  capabilitySet(sets, capability::kNineGrid, b.view());
}
void virtualChannels(LittleWriter& sets) {
  LittleWriter b;
  b.u32(0).u32(channel::kChunk);
  capabilitySet(sets, capability::kVirtualChannel, b.view());
}
void sound(LittleWriter& sets) {
  LittleWriter b;
  b.u16(1).u16(0);
  capabilitySet(sets, capability::kSound, b.view());
}
void small(LittleWriter& sets) {
  LittleWriter font, control, activation, share, colours;
  font.u16(1).u16(0);
  capabilitySet(sets, capability::kFont, font.view());
  control.u16(0).u16(0).u16(2).u16(2);
  capabilitySet(sets, capability::kControl, control.view());
  activation.zeros(8);
  capabilitySet(sets, capability::kActivation, activation.view());
  share.u16(0).u16(0);
  capabilitySet(sets, capability::kShare, share.view());
  colours.u16(6).u16(0);
  capabilitySet(sets, capability::kColourCache, colours.view());
}
void large(LittleWriter& sets, std::uint32_t mostFastPath) {
  LittleWriter fragments, pointers;
  fragments.u32(mostFastPath);
  capabilitySet(sets, capability::kMultifragment, fragments.view());
  pointers.u16(0x1 | 0x2);  // 96 and 384 pixels
  capabilitySet(sets, capability::kLargePointer, pointers.view());
}

/// 2.2.7.2.9
void surfaceCommands(LittleWriter& sets) {
  LittleWriter b;
  b.u32(0x2 | 0x10 | 0x40).u32(0);  // pictures set and streamed, marks of frames
  capabilitySet(sets, capability::kSurfaceCommands, b.view());
}

// 2.2.7.2.10.1.1: codecs are named by these sixteen bytes
constexpr std::string_view kNsCodecName{"\xb9\x1b\x8d\xca\x0f\x00\x4f\x15\x58\x9f\xae\x2d\x1a\x87\xe2\xd6",
                                        16};
constexpr std::string_view kRemoteFxName{"\x12\x2f\x77\x76\x72\xbd\x63\x44\xaf\xb3\xb7\x3c\x9c\x6f\x78\x86",
                                         16};

/// MS-RDPRFX 2.2.1.1 TS_RFX_CLNT_CAPS_CONTAINER: whole pictures, in either entropy coding.
Bytes remoteFxAbilities() {
  LittleWriter out;
  out.u32(8 + 4 + 8 + 13 + 16).u32(1).u32(8 + 13 + 16);
  out.u16(0xcbc0).u32(8).u16(1);
  out.u16(0xcbc1).u32(13 + 16).u8(1).u16(0xcfc0).u16(2).u16(8);
  for (unsigned entropy : {1U, 4U}) out.u16(0x100).u16(0x40).u8(2).u8(1).u8(1).u8(entropy);
  return out.take();
}

void bitmapCodecs(LittleWriter& sets, const ClientAbilities& abilities) {
  LittleWriter b;
  b.u8((abilities.nsCodec ? 1 : 0) + (abilities.remoteFx ? 1 : 0));
  // MS-RDPNSC 2.2.1: the fidelity stays, chroma is not thinned, and as little colour is lost as can be.
  if (abilities.nsCodec) b.text(kNsCodecName).u8(kNsCodecId).u16(3).u8(0).u8(0).u8(1);
  if (abilities.remoteFx) {
    const Bytes remoteFx = remoteFxAbilities();
    b.text(kRemoteFxName).u8(kRemoteFxId).u16(static_cast<unsigned>(remoteFx.size())).bytes(remoteFx);
  }
  capabilitySet(sets, capability::kBitmapCodecs, b.view());
}

void frameAcknowledge(LittleWriter& sets) {
  LittleWriter b;
  capabilitySet(sets, capability::kFrameAcknowledge, b.u32(4).view());
}

}  // namespace

ShareHead readShareHead(ByteView bytes) {
  LittleReader in(bytes, "share control");
  const std::size_t length = in.u16();
  ShareHead head;
  head.type = in.u16() & 0xf;
  if (length == 0x8000) return head;  // 2.2.8.1.1.1.1: a flow PDU, which means nothing
  // Some services leave the source out of the shortest messages.
  if (in.left() >= 2) head.source = in.u16();
  head.body = in.rest();
  return head;
}

DataHead readDataHead(ByteView body) {
  LittleReader in(body, "share data");
  DataHead head;
  head.shareId = in.u32();
  in.skip(2 + 2);
  head.type = in.u8();
  head.compression = in.u8();
  in.skip(2);
  head.body = in.rest();
  return head;
}

Bytes writeData(std::uint32_t shareId, unsigned source, unsigned type, ByteView body) {
  LittleWriter out;
  out.u32(shareId).u8(0).u8(1).u16(static_cast<unsigned>(body.size() + 18)).u8(type).u8(0).u16(0).bytes(body);
  return shareControl(share::kData, source, out.view());
}

DemandActive readDemandActive(ByteView body) {
  LittleReader in(body, "demand active");
  DemandActive demand;
  demand.shareId = in.u32();
  const std::size_t source = in.u16();
  in.skip(2);
  in.skip(source);
  const unsigned count = in.u16();
  in.skip(2);
  for (unsigned i = 0; i < count; ++i) {
    const unsigned type = in.u16(), length = in.u16();
    if (length < 4) protocolBroken("demand active", "a capability is too short");
    LittleReader set(in.bytes(length - 4), "capability");
    if (type == capability::kGeneral && set.left() >= 20) {
      set.skip(18);
      demand.refreshRect = set.u8() != 0;
      demand.suppressOutput = set.u8() != 0;
    } else if (type == capability::kBitmap && set.left() >= 12) {
      demand.bitsPerPixel = set.u16();
      set.skip(6);
      demand.desktop.width = set.u16();
      demand.desktop.height = set.u16();
    } else if (type == capability::kInput && set.left() >= 2) {
      const unsigned flags = set.u16();
      demand.fastPathInput = (flags & (0x8 | 0x20)) != 0;
      demand.unicodeInput = (flags & 0x10) != 0;
    } else if (type == capability::kMultifragment && set.left() >= 4) {
      demand.mostFastPath = set.u32();
    }
  }
  return demand;
}

Bytes writeDemandActive(const DemandActive& demand) {
  LittleWriter sets;
  general(sets, false);
  bitmap(sets, demand.desktop, demand.bitsPerPixel);
  order(sets, false);
  pointerSet(sets);
  input(sets, 0x409);
  virtualChannels(sets);
  small(sets);
  large(sets, kUsualFastPath);
  LittleWriter body;
  body.u32(demand.shareId).u16(4).u16(static_cast<unsigned>(sets.size() + 4)).text(std::string("RDP\0", 4));
  body.u16(12).u16(0).bytes(sets.view()).u32(0);
  return shareControl(share::kDemandActive, kServerChannel, body.view());
}

Bytes writeConfirmActive(std::uint32_t shareId, unsigned user, const ClientAbilities& abilities) {
  LittleWriter sets;
  unsigned count = 0;
  const auto add = [&](auto write) {
    write();
    ++count;
  };
  add([&] { general(sets, true); });
  add([&] { bitmap(sets, abilities.desktop, abilities.bitsPerPixel); });
  add([&] { order(sets, abilities.orders); });
  add([&] { bitmapCache(sets, abilities.orders); });
  add([&] { pointerSet(sets); });
  add([&] { input(sets, abilities.keyboardLayout); });
  add([&] { brush(sets); });
  add([&] { glyphCache(sets, abilities.orders); });
  add([&] { offscreen(sets, abilities.orders); });
  add([&] { nineGrid(sets, abilities.orders); });
  add([&] { virtualChannels(sets); });
  add([&] { sound(sets); });
  small(sets);
  // MS-RDPRFX 1.5: a service that asks for more must get it, or it sends no RemoteFX.
  large(sets, std::clamp<std::uint32_t>(abilities.mostFastPath, kUsualFastPath, kMostFragments));
  count += 5 + 2;
  if (abilities.remoteFx || abilities.nsCodec) {
    add([&] { surfaceCommands(sets); });
    add([&] { bitmapCodecs(sets, abilities); });
    add([&] { frameAcknowledge(sets); });
  }
  LittleWriter body;
  body.u32(shareId).u16(kServerChannel).u16(4).u16(static_cast<unsigned>(sets.size() + 4));
  body.text(std::string("KW\0\0", 4)).u16(count).u16(0).bytes(sets.view());
  return shareControl(share::kConfirmActive, user, body.view());
}

std::vector<Bytes> finalization(std::uint32_t shareId, unsigned user) {
  LittleWriter synchronize, cooperate, request, fonts;
  synchronize.u16(1).u16(kServerChannel);
  cooperate.u16(4).u16(0).u32(0);
  request.u16(1).u16(0).u32(0);
  fonts.u16(0).u16(0).u16(3).u16(0x32);
  return {writeData(shareId, user, data::kSynchronize, synchronize.view()),
          writeData(shareId, user, data::kControl, cooperate.view()),
          writeData(shareId, user, data::kControl, request.view()),
          writeData(shareId, user, data::kFontList, fonts.view())};
}

Reason reasonFor(std::uint32_t code) {
  switch (code) {
    case 0: return {};
    case 0x1: return {"an administrator's tool ended the session", "Ask who administers the machine."};
    case 0x2: return {"an administrator signed the user out", "Connect again when the machine is free."};
    case 0x3: return {"the session was idle for too long", "Connect again."};
    case 0x4: return {"the session reached its time limit", "Connect again."};
    case 0x5:
      return {"somebody else took over the session", "Only one can use this account's session at a time."};
    case 0x6:
      return {"the machine has not enough memory for a session", "Close something there and try again."};
    case 0x7: return {"the machine refused the connection", "Look into its log for the reason."};
    case 0x8:
      return {"the machine's security rules do not allow this connection", "Try another way of signing in."};
    case 0x9:
      return {"this account may not sign in from afar",
              "Let the account into the group of remote users there."};
    case 0xa: return {"the machine wants fresh credentials", "Sign in again with the password typed anew."};
    case 0xb: return {"the session was ended by its user", "", true};
    case 0xc: return {"the user signed out over there", "", true};
    case 0xf:
    case 0x10:
    case 0x11:
    case 0x12: return {"the desktop over there did not start in time", "Try again; its log says why."};
    case 0x17: return {"the user's session was logged off", "Connect again."};
    case 0x1189:
      return {"the machine could not prepare its display driver", "Try other colours or another size."};
    default: break;
  }
  char text[96];
  if (code >= 0x100 && code < 0x10e)
    std::snprintf(text, sizeof text, "the licence of this connection is not in order (code %04x)", code);
  else if (code >= 0x400 && code < 0x500)
    std::snprintf(text, sizeof text, "the broker of the service failed (code %04x)", code);
  else
    std::snprintf(text, sizeof text, "the service ended the session (code %04x)", code);
  return {text, "The machine's own log says more.", false};
}

std::vector<Rect> readMonitors(LittleReader& in, std::uint32_t count) {
  if (count > kMostMonitors) protocolBroken("monitor layout", std::to_string(count) + " monitors");
  std::vector<Rect> out;
  for (std::uint32_t i = 0; i < count; ++i) {
    std::int64_t edge[4];
    for (std::int64_t& e : edge) e = in.s32();
    const bool primary = (in.u32() & 1) != 0;
    for (const std::int64_t e : edge)
      if (e < -32768 || e > 32767) protocolBroken("monitor layout", "a monitor at an impossible place");
    const Rect r{static_cast<int>(edge[0]), static_cast<int>(edge[1]),
                 static_cast<int>(edge[2] - edge[0] + 1), static_cast<int>(edge[3] - edge[1] + 1)};
    out.insert(primary ? out.begin() : out.end(), r);
  }
  return out;
}

void writeMonitors(LittleWriter& out, const std::vector<Rect>& monitors) {
  const auto put = [&out](int v) { out.u32(static_cast<std::uint32_t>(v)); };
  for (const Rect& m : monitors) {
    for (int v : {m.x, m.y, m.right() - 1, m.bottom() - 1}) put(v);
    put(&m == &monitors[0] ? 1 : 0);
  }
}

std::uint32_t performanceFlags(const std::string& word) {  // 2.2.1.11.1.1.1
  constexpr std::uint32_t wallpaper = 0x1, fullDrag = 0x2, menus = 0x4, themes = 0x8, shadow = 0x20,
                          smoothFonts = 0x80, composition = 0x100;
  if (word == "all") return smoothFonts | composition;
  if (word == "none") return wallpaper | fullDrag | menus | themes | shadow;
  return wallpaper | menus | smoothFonts;
}

namespace {

/// 2.2.1.11.1.1.1.1 TS_TIME_ZONE_INFORMATION of this desk, without its rules for summer.
Bytes timeZone() {
  const std::time_t now = std::time(nullptr);
  std::tm local{};
  localtime_r(&now, &local);
  LittleWriter out;
  const auto name = [&out](const std::string& text) {
    Bytes utf16 = utf8ToUtf16(text);
    utf16.resize(std::min<std::size_t>(utf16.size(), 62));
    out.bytes(utf16).zeros(64 - utf16.size());
  };
  out.u32(static_cast<std::uint32_t>(-local.tm_gmtoff / 60));
  name(local.tm_zone != nullptr ? local.tm_zone : "UTC");
  out.zeros(16).u32(0);
  name(local.tm_zone != nullptr ? local.tm_zone : "UTC");
  out.zeros(16).u32(0);
  return out.take();
}

}  // namespace

Bytes writeClientInfo(const ClientInfo& info) {
  const Bytes domain = utf8ToUtf16(info.domain), user = utf8ToUtf16(info.user),
              password = utf8ToUtf16(info.password), program = utf8ToUtf16(info.program),
              folder = utf8ToUtf16(info.folder), address = utf8ToUtf16(info.address);
  // Mouse, Ctrl+Alt+Delete as the machine has it, Unicode, maximised, the logo key, errors of signing in,
  // wheel.
  std::uint32_t flags = 0x1 | 0x2 | 0x10 | 0x20 | 0x40 | 0x100 | 0x10000 | 0x20000;
  if (info.autoLogon) flags |= 0x8;
  if (!info.sound) flags |= 0x80000;
  if (info.soundThere) flags |= 0x2000;
  if (info.packing) flags |= 0x80 | *info.packing << 9;
  LittleWriter out;
  out.u32(0).u32(flags);
  for (const Bytes* b : {&domain, &user, &password, &program, &folder})
    out.u16(static_cast<unsigned>(b->size()));
  for (const Bytes* b : {&domain, &user, &password, &program, &folder}) out.bytes(*b).u16(0);
  out.u16(2).u16(static_cast<unsigned>(address.size() + 2)).bytes(address).u16(0);
  out.u16(2).u16(0);
  out.bytes(timeZone()).u32(0).u32(info.performanceFlags);
  out.u16(static_cast<unsigned>(info.reconnectCookie.size())).bytes(info.reconnectCookie);
  return out.take();
}

ClientInfo readClientInfo(ByteView body) {
  LittleReader in(body, "client info");
  ClientInfo info;
  in.skip(4);
  const std::uint32_t flags = in.u32();
  info.autoLogon = (flags & 0x8) != 0;
  info.sound = (flags & 0x80000) == 0;
  info.soundThere = (flags & 0x2000) != 0;
  if ((flags & 0x80) != 0) info.packing = flags >> 9 & bulk::kType;
  std::size_t sizes[5];
  for (std::size_t& s : sizes) s = in.u16();
  std::string* texts[] = {&info.domain, &info.user, &info.password, &info.program, &info.folder};
  for (int i = 0; i < 5; ++i) {
    *texts[i] = utf16ToUtf8(in.bytes(sizes[i]));
    in.skip(2);
  }
  if (in.atEnd()) return info;
  in.skip(2);
  in.skip(in.u16());  // address
  in.skip(in.u16());  // folder
  constexpr std::size_t kTimeZone = 172;
  in.skip(kTimeZone + 4);
  info.performanceFlags = in.u32();
  if (in.left() < 2) return info;
  const ByteView cookie = in.bytes(in.u16());
  info.reconnectCookie.assign(cookie.begin(), cookie.end());
  return info;
}

}  // namespace kw::rdp

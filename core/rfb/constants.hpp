// Numbers of the RFB protocol: RFC 6143 and the community's registry of extensions.
#pragma once
#include <cstdint>
#include <string>

namespace kw::rfb {

// Security types (RFC 6143 7.1.2 and registry).
enum class Security : std::uint32_t {
  Invalid = 0,
  None = 1,
  VncPassword = 2,
  RsaAes128 = 5,
  RsaAes128Unsealed = 6,
  VeNCrypt = 19,
  Sasl = 20,
  RsaAes256 = 129,
  RsaAes256Unsealed = 130,
};

// VeNCrypt sub-types.
enum class VeNCrypt : std::uint32_t {
  Plain = 256,
  TlsNone = 257,
  TlsVnc = 258,
  TlsPlain = 259,
  X509None = 260,
  X509Vnc = 261,
  X509Plain = 262,
  TlsSasl = 263,
  X509Sasl = 264,
};

namespace client_message {
constexpr std::uint8_t kSetPixelFormat = 0, kSetEncodings = 2, kFramebufferUpdateRequest = 3, kKeyEvent = 4,
                       kPointerEvent = 5, kClientCutText = 6, kEnableContinuousUpdates = 150, kFence = 248,
                       kXvp = 250, kSetDesktopSize = 251, kQemu = 255;
}
namespace server_message {
constexpr std::uint8_t kFramebufferUpdate = 0, kSetColourMapEntries = 1, kBell = 2, kServerCutText = 3,
                       kEndOfContinuousUpdates = 150, kFence = 248, kXvp = 250, kQemu = 255;
}

namespace encoding {
constexpr std::int32_t kRaw = 0, kCopyRect = 1, kRre = 2, kCoRre = 4, kHextile = 5, kZlib = 6, kTight = 7,
                       kTrle = 15, kZrle = 16, kJpeg = 21, kOpenH264 = 50, kTightPng = -260;
// Pseudo-encodings.
constexpr std::int32_t kQualityLowest = -32, kQualityHighest = -23, kDesktopSize = -223, kLastRect = -224,
                       kPointerPosition = -232, kCursor = -239, kXCursor = -240, kCompressionLowest = -256,
                       kCompressionHighest = -247, kRelativePointer = -257, kExtendedKey = -258,
                       kAudio = -259, kLedState = -261, kDesktopName = -307, kExtendedDesktopSize = -308,
                       kXvp = -309, kFence = -312, kContinuousUpdates = -313, kAlphaCursor = -314,
                       kExtendedClipboard = static_cast<std::int32_t>(0xC0A1E5CEU), kLedStateOld = 0x574d5668;
}  // namespace encoding

/// "ZRLE"; a number for what is unknown.
std::string nameOfEncoding(std::int32_t encoding);
/// The reverse, for settings and flags; case does not count. Returns false when unknown.
bool encodingFromName(const std::string& name, std::int32_t& out);

namespace fence {
constexpr std::uint32_t kBlockBefore = 1U << 0, kBlockAfter = 1U << 1, kSyncNext = 1U << 2,
                        kRequest = 1U << 31;
}

namespace clipboard {
constexpr std::uint32_t kText = 1U << 0, kRtf = 1U << 1, kHtml = 1U << 2, kDib = 1U << 3, kFiles = 1U << 4,
                        kCaps = 1U << 24, kRequest = 1U << 25, kPeek = 1U << 26, kNotify = 1U << 27,
                        kProvide = 1U << 28;
}

namespace hextile {
constexpr std::uint8_t kRaw = 1, kBackground = 2, kForeground = 4, kAnySubrects = 8, kColoured = 16;
}

// Limits on what a peer may send.
constexpr std::uint32_t kMostText = std::uint32_t{16} << 20;         ///< clipboard, either direction
constexpr std::uint32_t kMostName = 4096;                            ///< desktop name
constexpr std::uint32_t kMostReason = 8192;                          ///< failure text
constexpr std::uint32_t kMostCompressed = std::uint32_t{128} << 20;  ///< one compressed rectangle
constexpr int kMostCursorSide = 1024;
constexpr std::uint32_t kMostAudioChunk = std::uint32_t{4} << 20;

}  // namespace kw::rfb

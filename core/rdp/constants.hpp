// Numbers of MS-RDPBCGR and its companions, by their names there, and this program's limits.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kw::rdp {

namespace protocol {  // 2.2.1.1.1 requestedProtocols
constexpr std::uint32_t kRdp = 0, kSsl = 1, kHybrid = 2, kHybridEx = 8;
}
namespace sec {  // 2.2.8.1.1.2.1 flags
constexpr unsigned kExchange = 0x1, kEncrypt = 0x8, kInfo = 0x40, kLicense = 0x80, kRedirection = 0x400,
                   kSecureChecksum = 0x800, kAutoDetectRequest = 0x1000, kAutoDetectResponse = 0x2000,
                   kHeartbeat = 0x4000;
}
namespace share {  // 2.2.8.1.1.1.1 pduType
constexpr unsigned kDemandActive = 1, kConfirmActive = 3, kDeactivateAll = 6, kData = 7, kServerRedirect = 10;
}
namespace data {  // 2.2.8.1.1.1.2 pduType2
constexpr unsigned kUpdate = 0x02, kControl = 0x14, kPointer = 0x1b, kInput = 0x1c, kSynchronize = 0x1f,
                   kRefreshRect = 0x21, kPlaySound = 0x22, kSuppressOutput = 0x23, kShutdownRequest = 0x24,
                   kShutdownDenied = 0x25, kSaveSessionInfo = 0x26, kFontList = 0x27, kFontMap = 0x28,
                   kSetKeyboardIndicators = 0x29, kSetErrorInfo = 0x2f, kArcStatus = 0x32, kStatusInfo = 0x36,
                   kMonitorLayout = 0x37, kFrameAcknowledge = 0x38;
}
namespace update {  // 2.2.9.1.2.1 updateCode
constexpr unsigned kOrders = 0, kBitmap = 1, kPalette = 2, kSynchronize = 3, kSurfaceCommands = 4,
                   kPointerHidden = 5, kPointerDefault = 6, kPointerPosition = 8, kPointerColour = 9,
                   kPointerCached = 10, kPointerNew = 11, kPointerLarge = 12;
}
namespace capability {  // 2.2.1.13.1.1.1 capabilitySetType
constexpr unsigned kGeneral = 1, kBitmap = 2, kOrder = 3, kBitmapCache = 4, kControl = 5, kActivation = 7,
                   kPointer = 8, kShare = 9, kColourCache = 10, kSound = 12, kInput = 13, kFont = 14,
                   kBrush = 15, kGlyphCache = 16, kOffscreen = 17, kBitmapCache2 = 19, kVirtualChannel = 20,
                   kNineGrid = 21, kMultifragment = 26, kLargePointer = 27, kSurfaceCommands = 28,
                   kBitmapCodecs = 29, kFrameAcknowledge = 30;
}
namespace channel {  // 2.2.6.1 flags of a chunk
constexpr std::uint32_t kFirst = 1, kLast = 2, kShowProtocol = 0x10;
constexpr std::size_t kChunk = 1600;
}  // namespace channel

constexpr unsigned kServerChannel = 0x03ea;  ///< the share's originator
constexpr unsigned kFirstUser = 1001;        ///< T.125: user ids count from here

// Limits on what a peer may send.
constexpr std::size_t kMostCredSsp = 64 << 10;         ///< one TSRequest
constexpr std::uint32_t kMostFragments = 32 << 20;     ///< a fast-path update put together
constexpr std::size_t kMostChannelMessage = 64 << 20;  ///< a virtual channel's message put together
constexpr std::size_t kMostCertificate = 64 << 10;
constexpr int kMostPointerSide = 384;  ///< large pointers
constexpr unsigned kMostCachedPointers = 128;
constexpr unsigned kMostMonitors = 16;
constexpr unsigned kMostDynamicChannels = 64;
constexpr std::size_t kMostClip = 48 << 20;  ///< in any one form, on the wire

}  // namespace kw::rdp

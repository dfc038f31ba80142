// Numbers of the SPICE protocol by their names there, and this program's limits.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kw::spice {

enum class ChannelKind : std::uint8_t {
  Main = 1,
  Display = 2,
  Inputs = 3,
  Cursor = 4,
  Playback = 5,
  Record = 6,
  SmartCard = 8,
  UsbRedirection = 9,
  Port = 10,
  WebDav = 11
};
const char* nameOf(ChannelKind kind);

namespace cap {  // bits of the capability words
constexpr unsigned kAuthSelection = 0, kAuthSpice = 1, kMiniHeader = 3;
constexpr unsigned kNameAndUuid = 1, kAgentTokens = 2;
constexpr unsigned kSizedStream = 0, kMonitorsConfig = 1, kComposite = 2, kA8Surface = 3, kStreamReport = 4,
                   kLz4 = 5, kPreferredCompression = 6, kMultiCodec = 8, kCodecMjpeg = 9;
constexpr unsigned kVolume = 1, kOpus = 3;
}  // namespace cap

namespace msg {  // server to client
constexpr unsigned kSetAck = 3, kPing = 4, kWaitForChannels = 5, kDisconnecting = 6, kNotify = 7;
constexpr unsigned kMainInit = 103, kChannelsList = 104, kMouseMode = 105, kAgentConnected = 107,
                   kAgentDisconnected = 108, kAgentData = 109, kAgentToken = 110, kSwitchHost = 111,
                   kName = 113, kUuid = 114, kAgentConnectedTokens = 115;
constexpr unsigned kMode = 101, kMark = 102, kReset = 103, kCopyBits = 104, kInvalList = 105,
                   kInvalAllPixmaps = 106, kInvalPalette = 107, kInvalAllPalettes = 108, kStreamCreate = 122,
                   kStreamData = 123, kStreamClip = 124, kStreamDestroy = 125, kStreamDestroyAll = 126,
                   kDrawFill = 302, kDrawOpaque = 303, kDrawCopy = 304, kDrawBlend = 305,
                   kDrawBlackness = 306, kDrawWhiteness = 307, kDrawInvers = 308, kDrawRop3 = 309,
                   kDrawStroke = 310, kDrawText = 311, kDrawTransparent = 312, kDrawAlphaBlend = 313,
                   kSurfaceCreate = 314, kSurfaceDestroy = 315, kStreamDataSized = 316, kMonitorsConfig = 317,
                   kDrawComposite = 318;
constexpr unsigned kInputsInit = 101, kKeyModifiers = 102, kMotionAck = 111;
constexpr unsigned kCursorInit = 101, kCursorReset = 102, kCursorSet = 103, kCursorMove = 104,
                   kCursorHide = 105, kCursorInvalOne = 107, kCursorInvalAll = 108;
constexpr unsigned kPlaybackData = 101, kPlaybackMode = 102, kPlaybackStart = 103, kPlaybackStop = 104;
}  // namespace msg

namespace msgc {  // client to server
constexpr unsigned kAckSync = 1, kAck = 2, kPong = 3, kDisconnecting = 6;
constexpr unsigned kAttachChannels = 104, kMouseModeRequest = 105, kAgentStart = 106, kAgentData = 107,
                   kAgentToken = 108;
constexpr unsigned kDisplayInit = 101, kPreferredCompression = 103;
constexpr unsigned kKeyDown = 101, kKeyUp = 102, kKeyModifiers = 103, kMouseMotion = 111,
                   kMousePosition = 112, kMousePress = 113, kMouseRelease = 114;
}  // namespace msgc

namespace image {  // types of images
constexpr unsigned kBitmap = 0, kQuic = 1, kLzPalette = 100, kLzRgb = 101, kGlzRgb = 102, kFromCache = 103,
                   kSurface = 104, kJpeg = 105, kFromCacheLossless = 106, kZlibGlz = 107, kJpegAlpha = 108,
                   kLz4 = 109;
}

constexpr unsigned kServerMouse = 1, kClientMouse = 2;

// Limits on what a peer may send.
constexpr std::size_t kMostMessage = 96 << 20;
constexpr std::size_t kMostCapabilities = 64;
constexpr std::uint32_t kMostChannels = 64;
constexpr std::uint32_t kMostSurfaces = 4096;
constexpr std::size_t kMostSurfacePixels = std::size_t{64} << 20;  ///< all surfaces of a channel together
constexpr std::size_t kMostCachePixels = std::size_t{24} << 20;    ///< of remembered images; told the server
constexpr std::size_t kMostWindowPixels = std::size_t{8} << 20;    ///< of the GLZ dictionary; told the server
constexpr std::uint32_t kMostRects = 65536;
constexpr std::uint32_t kMostStreams = 64;
constexpr int kMostCursorSide = 512;
constexpr std::size_t kMostAgentMessage = 32 << 20;

}  // namespace kw::spice

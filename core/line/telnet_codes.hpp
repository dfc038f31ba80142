// Numbers of telnet (RFC 854, 855), its options and the network serial option (RFC 2217).
#pragma once
#include <cstdint>

namespace kw::telnet {

constexpr std::uint8_t kIac = 255, kDont = 254, kDo = 253, kWont = 252, kWill = 251, kSb = 250, kGa = 249,
                       kEl = 248, kEc = 247, kAyt = 246, kAo = 245, kIp = 244, kBrk = 243, kDm = 242,
                       kNop = 241, kSe = 240;

namespace option {
constexpr std::uint8_t kBinary = 0,  // RFC 856
    kEcho = 1,                       // RFC 857
    kSuppressGoAhead = 3,            // RFC 858
    kTerminalType = 24,              // RFC 1091
    kWindowSize = 31,                // RFC 1073
    kTerminalSpeed = 32,             // RFC 1079
    kComPort = 44;                   // RFC 2217
}  // namespace option

constexpr std::uint8_t kIs = 0, kSend = 1;

/// RFC 2217 section 2: client to server; a server answers with the number plus 100.
namespace com {
constexpr std::uint8_t kSignature = 0, kSetBaudRate = 1, kSetDataSize = 2, kSetParity = 3, kSetStopSize = 4,
                       kSetControl = 5, kNotifyLineState = 6, kNotifyModemState = 7, kFlowSuspend = 8,
                       kFlowResume = 9, kSetLineStateMask = 10, kSetModemStateMask = 11, kPurgeData = 12;
constexpr std::uint8_t kAnswer = 100;
// Values of SET-CONTROL.
constexpr std::uint8_t kAskFlow = 0, kNoFlow = 1, kXonXoff = 2, kHardware = 3, kBreakOn = 5, kBreakOff = 6,
                       kDtrOn = 8, kDtrOff = 9, kRtsOn = 11, kRtsOff = 12, kDsrFlow = 19;
// Bits of NOTIFY-LINESTATE.
constexpr std::uint8_t kOverrun = 2, kParityError = 4, kFramingError = 8, kBreakSeen = 16;
// Values of PURGE-DATA.
constexpr std::uint8_t kPurgeReceived = 1, kPurgeToSend = 2, kPurgeBoth = 3;
// Bits of NOTIFY-MODEMSTATE.
constexpr std::uint8_t kCts = 16, kDsr = 32, kRing = 64, kCarrier = 128;
}  // namespace com

}  // namespace kw::telnet

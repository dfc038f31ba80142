// XMODEM (checksum, CRC, 1K) and YMODEM both ways, for boot loaders on a serial line. Written from Chuck
// Forsberg's "XMODEM/YMODEM Protocol Reference" of 1988.
#pragma once
#include <functional>
#include <string>

#include "base/clock.hpp"
#include "wire/stream.hpp"

namespace kw::text {

enum class TransferKind { Xmodem, Xmodem1k, Ymodem };

struct TransferProgress {
  std::uint64_t done = 0, total = 0;  ///< bytes; total 0 when unknown
  int repeats = 0;                    ///< blocks that had to be sent again
  std::string name;                   ///< the file, when the sender tells it (YMODEM)
};
using OnProgress = std::function<void(const TransferProgress&)>;

struct TransferFile {
  std::string name;
  Bytes content;
};

constexpr std::uint64_t kMostReceived = 64U << 20;  ///< a sender that never ends is cut off

/// Waits for the receiver and sends the file. Throws Error{ProtocolBroken, Cancelled, TimedOut,
/// ClosedByPeer}. False: every block was taken, but the end was not confirmed; many
/// receivers put their terminal back so fast that this last answer is lost.
Task<bool> sendFile(ByteStream& line, std::shared_ptr<Clock> clock, TransferKind kind, TransferFile file,
                    OnProgress progress);
/// XMODEM gives content whose end is padded to the block; YMODEM gives names and exact sizes, several files
/// perhaps.
Task<std::vector<TransferFile>> receiveFiles(ByteStream& line, std::shared_ptr<Clock> clock,
                                             TransferKind kind, OnProgress progress);

/// CRC-16/XMODEM: polynomial 0x1021, beginning with 0.
std::uint16_t crc16(ByteView bytes);

}  // namespace kw::text

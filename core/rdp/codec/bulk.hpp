// Bulk compression of whole messages with a history of 8 or 64 KiB (MS-RDPBCGR 3.1.8; RFC 2118), and the door
// to RDP 6.1's (wide_history.hpp).
#pragma once
#include <memory>

#include "base/bytes.hpp"

namespace kw::rdp {

namespace bulk {  // 2.2.8.1.1.1.2 compressedType
constexpr unsigned kType = 0x0f, kCompressed = 0x20, kAtFront = 0x40, kFlushed = 0x80;
constexpr unsigned k8K = 0, k64K = 1, kRdp60 = 2, kRdp61 = 3;
}  // namespace bulk

class WideReader;

/// One history for everything a service sends: pictures, messages about the share, channels.
class BulkReader {
 public:
  BulkReader();
  ~BulkReader();
  /// `flags` as they came beside the data; gives the data opened, or itself when it is not compressed. Valid
  /// until the next call. Throws Error{ProtocolBroken}, {Unsupported} for kinds that were not offered.
  ByteView open(unsigned flags, ByteView data);

 private:
  void decode(ByteView data, bool large);
  Bytes history_;
  std::size_t at_ = 0;
  std::unique_ptr<WideReader> wide_;  ///< once they come
};

/// The other way, for a server and tests.
class BulkWriter {
 public:
  explicit BulkWriter(bool large) : large_(large) {}
  struct Packed {
    unsigned flags = 0;
    Bytes data;
  };
  Packed close(ByteView data);

 private:
  bool large_;
  Bytes history_;
  bool begun_ = false;
};

}  // namespace kw::rdp

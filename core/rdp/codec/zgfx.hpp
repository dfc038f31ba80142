// The pipeline's bulk compression, "RDP 8" (MS-RDPEGFX 2.2.5, 3.1.9.1).
#pragma once
#include "base/bytes.hpp"

namespace kw::rdp {

class ZgfxReader {
 public:
  ZgfxReader();
  /// One segmented message in, its bytes out; valid until the next call. Throws Error{ProtocolBroken}.
  ByteView open(ByteView segmented);

 private:
  void segment(ByteView data);
  void decode(ByteView data, unsigned spareBits);
  void literals(ByteView bytes);
  void match(std::size_t distance, std::size_t count);

  Bytes history_;  ///< a ring
  std::size_t at_ = 0;
  Bytes out_;
};

/// Segments without compression, for a server.
Bytes writeZgfx(ByteView message);
/// Segments with literals and with matches inside of each.
Bytes compressZgfx(ByteView message);

}  // namespace kw::rdp

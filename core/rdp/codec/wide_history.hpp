// RDP 6.1's bulk compression (MS-RDPEGDI 2.2.2.4, 3.1.8.2): matches in a history of two megabytes, and what
// is left packed once more with a history of 64 KiB.
#pragma once
#include <memory>
#include <unordered_map>

#include "rdp/codec/bulk.hpp"

namespace kw::rdp {

class WideReader {
 public:
  WideReader();
  ~WideReader();
  /// Opens one message; valid until the next call. Throws Error{ProtocolBroken}.
  ByteView open(ByteView data);

 private:
  ByteView second(unsigned flags, ByteView data);
  Bytes history_;
  std::size_t at_ = 0;
  std::unique_ptr<BulkReader> inner_;
};

/// The other way, for a server and tests.
class WideWriter {
 public:
  /// With the two bytes of flags in front.
  Bytes close(ByteView data);

 private:
  struct Match {
    std::size_t length, at, history;
  };
  std::vector<Match> matchesIn(std::size_t begin);
  Bytes history_;
  std::unordered_map<std::uint64_t, std::size_t> blocks_;
  BulkWriter inner_{true};
};

}  // namespace kw::rdp

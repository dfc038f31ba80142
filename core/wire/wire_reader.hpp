// Buffered reading from a ByteStream, in two steps: `co_await in.need(n)` until n bytes are here, then take
// them without suspending. Sizes are checked by the caller before it asks; need() has its own last limit.
#pragma once
#include "base/bounded_reader.hpp"
#include "wire/stream.hpp"

namespace kw {

class WireReader {
 public:
  /// No single message part may be larger than this; a peer that announces more has broken the protocol.
  static constexpr std::size_t kMostAtOnce = std::size_t{256} << 20;

  explicit WireReader(ByteStream& stream) : stream_(&stream) {}
  /// A reader whose first bytes are here already (a recording, or what came before a switch of streams).
  WireReader(ByteStream& stream, Bytes first)
      : stream_(&stream), buffer_(std::move(first)), end_(buffer_.size()) {}

  [[nodiscard]] bool has(std::size_t n) const { return end_ - at_ >= n; }
  [[nodiscard]] std::size_t buffered() const { return end_ - at_; }
  /// Bytes consumed since the start: the offset that errors name.
  [[nodiscard]] std::uint64_t offset() const { return consumed_; }

  /// Waits until `n` bytes are buffered. Use `if (!in.has(n)) co_await in.need(n);` in tight loops.
  Task<void> need(std::size_t n);
  /// Fills `into` completely, from the buffer first and then straight from the stream.
  Task<void> readInto(ByteSpan into);
  Task<void> skip(std::size_t n);

  // What follows takes bytes that need() made sure of.
  const Byte* peek() const { return buffer_.data() + at_; }
  ByteView take(std::size_t n) {
    const Byte* p = peek();
    at_ += n;
    consumed_ += n;
    return {p, n};
  }
  std::uint8_t u8() { return take(1)[0]; }
  std::uint16_t u16() { return loadBe16(take(2).data()); }
  std::uint32_t u32() { return loadBe32(take(4).data()); }
  std::int32_t s32() { return static_cast<std::int32_t>(u32()); }

  // One-step forms for places where speed does not matter.
  Task<std::uint8_t> readU8();
  Task<std::uint16_t> readU16();
  Task<std::uint32_t> readU32();
  Task<std::int32_t> readS32();
  Task<Bytes> readBytes(std::size_t n);
  Task<std::string> readText(std::size_t n);

  /// Goes on with another stream (start of TLS). What is still buffered is handed back.
  Bytes switchTo(ByteStream& stream);

 private:
  void makeRoom(std::size_t n);

  ByteStream* stream_;
  std::vector<Byte> buffer_;
  std::size_t at_ = 0, end_ = 0;
  std::uint64_t consumed_ = 0;
  /// Grows with what comes: thousands of quiet peers cost little, a busy one is read in large parts.
  static constexpr std::size_t kSmallest = std::size_t{1} << 10, kUsualSize = std::size_t{64} << 10;
  std::size_t step_ = kSmallest;
};

}  // namespace kw

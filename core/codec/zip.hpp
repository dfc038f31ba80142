// zlib streams, as several protocols use them: long-lived, flushed at message ends, never trusted in size.
#pragma once
#include <memory>

#include "base/bytes.hpp"

struct z_stream_s;

namespace kw {

/// One inflating stream that lives as long as its connection.
class Inflater {
 public:
  Inflater();
  ~Inflater();
  Inflater(Inflater&&) noexcept;
  Inflater& operator=(Inflater&&) noexcept;

  /// Begins the next message. `compressed` must live until the message is read.
  void feed(ByteView compressed);
  /// Inflates up to out.size() bytes; fewer only when the input is used up. Throws Error{ProtocolBroken}.
  std::size_t read(ByteSpan out);
  /// Like read(), but a short answer is Error{ProtocolBroken}.
  void readAll(ByteSpan out);
  /// Takes in what is left of the message (a flush marker). More data than was asked for is
  /// Error{ProtocolBroken}.
  void finish();
  void reset();

 private:
  std::unique_ptr<z_stream_s> stream_;
};

/// One deflating stream; each message ends with a sync flush. Takes its quarter of a megabyte when it is
/// first used.
class Deflater {
 public:
  explicit Deflater(int level = 6);
  ~Deflater();
  Deflater(const Deflater&) = delete;
  Deflater& operator=(const Deflater&) = delete;
  /// Appends the compressed form of `plain`.
  /// Throws Error{Local} when there is no memory for it.
  void deflate(ByteView plain, Bytes& out);
  void setLevel(int level);
  /// Gives its memory back; the next message begins a new stream. False when there was nothing to give back.
  bool drop();

 private:
  void begin();
  std::unique_ptr<z_stream_s> stream_;
  int level_;
};

/// A whole zlib stream. Throws Error{ProtocolBroken} when it is broken or inflates to more than `most` bytes.
Bytes inflateWhole(ByteView compressed, std::size_t most);
Bytes deflateWhole(ByteView plain, int level = 6);

}  // namespace kw

#include "wire/wire_reader.hpp"

namespace kw {

void WireReader::makeRoom(std::size_t n) {
  if (at_ == end_) {
    at_ = end_ = 0;
    if (buffer_.size() < step_) buffer_.resize(step_);
  }
  if (buffer_.size() - at_ >= n) return;
  if (end_ > at_) std::memmove(buffer_.data(), buffer_.data() + at_, end_ - at_);
  end_ -= at_;
  at_ = 0;
  if (buffer_.size() < n) {
    buffer_.resize(n + step_);
  } else if (buffer_.size() < step_) {
    buffer_.resize(step_);
  } else if (buffer_.size() > 16 * kUsualSize && n <= kUsualSize && end_ <= kUsualSize) {
    buffer_.resize(2 * kUsualSize);  // a large message has passed: give its memory back
    buffer_.shrink_to_fit();
  }
}

Task<void> WireReader::need(std::size_t n) {
  if (n > kMostAtOnce)
    protocolBroken("message",
                   "announces " + std::to_string(n) + " bytes at offset " + std::to_string(consumed_));
  while (!has(n)) {
    // Memory grows with what has really come, so that a mere announcement costs the peer as much as us.
    makeRoom(std::min(n, std::max<std::size_t>(2 * buffered(), kUsualSize)));
    if (end_ == buffer_.size()) makeRoom(n);
    const std::size_t room = buffer_.size() - end_;
    const std::size_t got = co_await stream_->readSome(ByteSpan(buffer_.data() + end_, room));
    end_ += got;
    if (got == room && step_ < kUsualSize) step_ *= 2;
  }
}

Task<void> WireReader::readInto(ByteSpan into) {
  const std::size_t here = std::min(into.size(), buffered());
  if (here > 0) std::memcpy(into.data(), peek(), here);
  take(here);
  into = into.subspan(here);
  while (!into.empty()) {
    const std::size_t got = co_await stream_->readSome(into);
    consumed_ += got;
    into = into.subspan(got);
  }
}

Task<void> WireReader::skip(std::size_t n) {
  while (n > 0) {
    co_await need(1);
    const std::size_t now = std::min(n, buffered());
    take(now);
    n -= now;
  }
}

Task<std::uint8_t> WireReader::readU8() {
  co_await need(1);
  co_return u8();
}
Task<std::uint16_t> WireReader::readU16() {
  co_await need(2);
  co_return u16();
}
Task<std::uint32_t> WireReader::readU32() {
  co_await need(4);
  co_return u32();
}
Task<std::int32_t> WireReader::readS32() {
  co_await need(4);
  co_return s32();
}
Task<Bytes> WireReader::readBytes(std::size_t n) {
  co_await need(n);
  const ByteView view = take(n);
  co_return Bytes(view.begin(), view.end());
}
Task<std::string> WireReader::readText(std::size_t n) {
  co_await need(n);
  co_return textOf(take(n));
}

Bytes WireReader::switchTo(ByteStream& stream) {
  const ByteView rest = take(buffered());
  Bytes out(rest.begin(), rest.end());
  stream_ = &stream;
  return out;
}

}  // namespace kw

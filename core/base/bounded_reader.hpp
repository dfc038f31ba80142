// Reads big-endian fields from a span and never past its end. For bytes that are already here;
// wire/wire_reader.hpp is its sibling for bytes still to come.
#pragma once
#include <string>

#include "base/bytes.hpp"
#include "base/error.hpp"

namespace kw {

class BoundedReader {
 public:
  /// `what` names the message in errors.
  explicit BoundedReader(ByteView bytes, const char* what = "message") : bytes_(bytes), what_(what) {}

  [[nodiscard]] std::size_t left() const { return bytes_.size() - at_; }
  [[nodiscard]] std::size_t offset() const { return at_; }
  [[nodiscard]] bool atEnd() const { return left() == 0; }

  std::uint8_t u8() { return *need(1); }
  std::uint16_t u16() { return loadBe16(need(2)); }
  std::uint32_t u32() { return loadBe32(need(4)); }
  std::int32_t s32() { return static_cast<std::int32_t>(u32()); }
  ByteView bytes(std::size_t n) { return {need(n), n}; }
  std::string text(std::size_t n) { return textOf(bytes(n)); }
  void skip(std::size_t n) { need(n); }

 private:
  const Byte* need(std::size_t n) {
    if (n > left()) [[unlikely]]
      endsEarly(n);
    const Byte* p = bytes_.data() + at_;
    at_ += n;
    return p;
  }
  [[noreturn]] void endsEarly(std::size_t n) const {
    protocolBroken(what_, "ends early: " + std::to_string(n) + " bytes wanted at offset " +
                              std::to_string(at_) + ", " + std::to_string(left()) + " left");
  }

  ByteView bytes_;
  std::size_t at_ = 0;
  const char* what_;
};

}  // namespace kw

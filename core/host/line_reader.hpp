// Lines of text from a stream, none longer than a limit.
#pragma once
#include <optional>
#include <string>

#include "base/error.hpp"
#include "wire/stream.hpp"

namespace kw::host {

class LineReader {
 public:
  explicit LineReader(ByteStream& stream, std::size_t most = std::size_t{16} << 20)
      : stream_(stream), most_(most) {}

  /// Without its end. Throws Error{ProtocolBroken} past the limit, and what the stream throws.
  Task<std::string> next() {
    for (;;) {
      if (const auto end = buffer_.find('\n', from_); end != std::string::npos) {
        std::string line = buffer_.substr(0, end);
        buffer_.erase(0, end + 1);
        from_ = 0;
        if (!line.empty() && line.back() == '\r') line.pop_back();
        co_return line;
      }
      from_ = buffer_.size();
      if (buffer_.size() > most_) protocolBroken("a line", "it is too long");
      Byte part[8192];
      const std::size_t n = co_await stream_.readSome(part);
      buffer_.append(reinterpret_cast<const char*>(part), n);
    }
  }

 private:
  ByteStream& stream_;
  std::size_t most_, from_ = 0;
  std::string buffer_;
};

}  // namespace kw::host

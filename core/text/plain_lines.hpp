// The text of a stream of bytes without its control sequences, line by line: for logs and watch words.
#pragma once
#include <functional>
#include <string>

#include "text/parser.hpp"

namespace kw::text {

class PlainLines {
 public:
  static constexpr std::size_t kLongest = 16 * 1024;  ///< a longer line is handed out in parts

  /// Gets each finished line, without its end.
  std::function<void(const std::string&)> onLine;

  void feed(ByteView bytes) {
    parser_.feed(reinterpret_cast<const char*>(bytes.data()), bytes.size(), *this);
  }
  /// What stands in the line that has not ended yet: a prompt, perhaps.
  [[nodiscard]] const std::string& unfinished() const { return line_; }
  void flush();

  // What the parser hands over.
  void ascii(const char* text, std::size_t size);
  void point(char32_t p);
  void control(unsigned char c);
  void escape(char, char) {}
  void sequence(const ControlSequence& s);
  void command(const std::string&) {}
  void vt52(char, int, int) {}

 private:
  void put(const char* bytes, std::size_t size);
  Parser parser_;
  std::string line_;
  bool returned_ = false;  ///< a CR came; what follows writes over the line, unless it is a LF
};

}  // namespace kw::text

#include "text/plain_lines.hpp"

namespace kw::text {

void PlainLines::put(const char* bytes, std::size_t size) {
  if (returned_) line_.clear();
  returned_ = false;
  line_.append(bytes, size);
  if (line_.size() >= kLongest) flush();
}

void PlainLines::ascii(const char* text, std::size_t size) { put(text, size); }

void PlainLines::point(char32_t p) {
  std::string utf8;
  appendUtf8(utf8, p);
  put(utf8.data(), utf8.size());
}

void PlainLines::flush() {
  const std::string line = std::move(line_);
  line_.clear();
  returned_ = false;
  if (onLine) onLine(line);
}

void PlainLines::control(unsigned char c) {
  switch (c) {
    case '\n': flush(); break;
    case '\r': returned_ = true; break;
    case '\t': put("\t", 1); break;
    case '\b':
      while (!line_.empty() && (static_cast<unsigned char>(line_.back()) & 0xC0) == 0x80) line_.pop_back();
      if (!line_.empty()) line_.pop_back();
      break;
    default: break;
  }
}

void PlainLines::sequence(const ControlSequence& s) {
  // A program that goes elsewhere on the screen begins a new line as far as a log is concerned.
  const bool elsewhere =
      s.prefix == 0 && (s.final == 'H' || s.final == 'f' || s.final == 'd' || s.final == 'E');
  if (elsewhere && !line_.empty()) flush();
  if (s.final == 'K' && returned_) line_.clear(), returned_ = false;
}

}  // namespace kw::text

// Cuts a stream of bytes into text, control characters and control sequences (ECMA-48 5, in UTF-8). It keeps
// its place between calls, so the stream may be cut anywhere; whatever comes, it uses bounded memory.
#pragma once
#include <array>
#include <cstring>
#include <string>

#include "base/bytes.hpp"

namespace kw::text {

/// ECMA-48 5.4: CSI P…P I…I F.
struct ControlSequence {
  static constexpr int kMost = 32;
  static constexpr int kMissing = -1;
  char prefix = 0;        ///< '?', '>', '=' or '<'; 0 when none
  char intermediate = 0;  ///< the last intermediate byte; 0 when none
  char final = 0;
  int count = 0;
  std::array<int, kMost> values{};
  std::array<bool, kMost> sub{};  ///< the value was joined to the one before by a colon
  /// A value that is missing or 0 counts as `standard`.
  [[nodiscard]] int at(int i, int standard) const {
    return i < count && values[static_cast<std::size_t>(i)] > 0 ? values[static_cast<std::size_t>(i)]
                                                                : standard;
  }
};

/// Handler has: ascii(const char*, size_t) for printable ASCII, point(char32_t), control(unsigned char),
/// escape(char intermediate, char final), sequence(const ControlSequence&), command(const std::string&) for
/// OSC; and vt52(char final, int row, int column) for the sequences of a VT52, the place being that of ESC Y.
class Parser {
 public:
  static constexpr std::size_t kLongestString = 8192;  ///< longer strings are given up

  template <typename Handler>
  void feed(const char* p, std::size_t size, Handler& to) {
    const char* const end = p + size;
    while (p < end) {
      if (state_ == State::Ground && left_ == 0) {
        const char* run = p;
        while (p < end && static_cast<unsigned char>(*p) >= 0x20 && static_cast<unsigned char>(*p) < 0x7F)
          ++p;
        if (p > run) {
          to.ascii(run, static_cast<std::size_t>(p - run));
          continue;
        }
      }
      one(static_cast<unsigned char>(*p++), to);
    }
  }

  void reset() { *this = Parser(); }
  /// DECANM: sequences are those of a VT52 from here on.
  void setVt52(bool on) { vt52_ = on; }

 private:
  enum class State { Ground, Escape, Sequence, Skip, Command, String, PlaceRow, PlaceColumn };

  template <typename Handler>
  void one(unsigned char c, Handler& to) {
    if (left_ > 0 || (state_ == State::Ground && c >= 0x80)) return unicode(c, to);
    if (state_ == State::Command || state_ == State::String) return inString(c, to);
    if (c == 0x1B) return begin(State::Escape);
    if (c == 0x18 || c == 0x1A) {  // CAN, SUB
      state_ = State::Ground;
      return;
    }
    if (c < 0x20) return to.control(c);  // also in the middle of a sequence
    if (c == 0x7F) return;
    switch (state_) {
      case State::Escape: return afterEscape(c, to);
      case State::Sequence: return inSequence(c, to);
      case State::PlaceRow:
        csi_.values[0] = c - 0x20;
        state_ = State::PlaceColumn;
        return;
      case State::PlaceColumn: state_ = State::Ground; return to.vt52('Y', csi_.values[0], c - 0x20);
      case State::Skip:
        if (c >= 0x40) state_ = State::Ground;
        return;
      default: {  // an ASCII character after a broken sequence of UTF-8
        const char plain = static_cast<char>(c);
        to.ascii(&plain, 1);
      }
    }
  }

  template <typename Handler>
  void unicode(unsigned char c, Handler& to) {
    if (left_ > 0) {
      if ((c & 0xC0) == 0x80) {
        point_ = point_ << 6 | (c & 0x3FU);
        if (--left_ == 0) {
          const bool fine = point_ >= least_ && point_ <= 0x10FFFF && (point_ < 0xD800 || point_ > 0xDFFF);
          to.point(fine ? point_ : U'\uFFFD');
        }
        return;
      }
      left_ = 0;
      to.point(U'\uFFFD');
      return one(c, to);
    }
    if (c >= 0xC2 && c < 0xE0)
      left_ = 1, point_ = c & 0x1F, least_ = 0x80;
    else if (c >= 0xE0 && c < 0xF0)
      left_ = 2, point_ = c & 0x0F, least_ = 0x800;
    else if (c >= 0xF0 && c < 0xF5)
      left_ = 3, point_ = c & 0x07, least_ = 0x10000;
    else
      to.point(U'\uFFFD');
  }

  void begin(State state) {
    state_ = state;
    csi_ = ControlSequence();
    text_.clear();
    stringEscape_ = false;
  }

  template <typename Handler>
  void afterEscape(unsigned char c, Handler& to) {
    if (vt52_) {
      state_ = c == 'Y' ? State::PlaceRow : State::Ground;
      if (c != 'Y') to.vt52(static_cast<char>(c), 0, 0);
    } else if (c >= 0x20 && c < 0x30) {
      csi_.intermediate = static_cast<char>(c);
    } else if (csi_.intermediate == 0 && c == '[') {
      begin(State::Sequence);
    } else if (csi_.intermediate == 0 && c == ']') {
      begin(State::Command);
    } else if (csi_.intermediate == 0 && (c == 'P' || c == 'X' || c == '^' || c == '_')) {
      begin(State::String);  // DCS, SOS, PM, APC: nothing in them concerns us
    } else {
      state_ = State::Ground;
      to.escape(csi_.intermediate, static_cast<char>(c));
    }
  }

  template <typename Handler>
  void inSequence(unsigned char c, Handler& to) {
    if (c >= '0' && c <= '9') {
      if (csi_.count == 0) addValue(false);
      int& value = csi_.values[static_cast<std::size_t>(csi_.count - 1)];
      if (value < 0) value = 0;
      if (value < 100'000) value = value * 10 + (c - '0');
    } else if (c == ';' || c == ':') {
      if (csi_.count == 0) addValue(false);
      if (csi_.count >= ControlSequence::kMost) {
        state_ = State::Skip;
        return;
      }
      addValue(c == ':');
    } else if (c >= '<' && c <= '?') {
      if (csi_.count > 0 || csi_.intermediate != 0)
        state_ = State::Skip;
      else
        csi_.prefix = static_cast<char>(c);
    } else if (c < 0x30) {
      csi_.intermediate = static_cast<char>(c);
    } else if (c >= 0x40) {
      csi_.final = static_cast<char>(c);
      state_ = State::Ground;
      to.sequence(csi_);
    }
  }

  void addValue(bool sub) {
    csi_.values[static_cast<std::size_t>(csi_.count)] = ControlSequence::kMissing;
    csi_.sub[static_cast<std::size_t>(csi_.count)] = sub;
    ++csi_.count;
  }

  template <typename Handler>
  void inString(unsigned char c, Handler& to) {
    if (stringEscape_) {  // ESC \ ends; any other escape ends the string and begins anew
      stringEscape_ = false;
      const bool whole = c == '\\';
      finish(whole, to);
      if (!whole) {
        begin(State::Escape);
        one(c, to);
      }
      return;
    }
    if (c == 0x1B)
      stringEscape_ = true;
    else if (c == 0x07)
      finish(true, to);
    else if (c == 0x18 || c == 0x1A)
      finish(false, to);
    else if (text_.size() >= kLongestString)
      finish(false, to);
    else
      text_.push_back(static_cast<char>(c));
  }

  template <typename Handler>
  void finish(bool whole, Handler& to) {
    const bool deliver = whole && state_ == State::Command;
    state_ = State::Ground;
    if (deliver) to.command(text_);
    text_.clear();
  }

  State state_ = State::Ground;
  bool stringEscape_ = false, vt52_ = false;
  int left_ = 0;  ///< bytes still to come of a UTF-8 sequence
  char32_t point_ = 0, least_ = 0;
  ControlSequence csi_;
  std::string text_;
};

}  // namespace kw::text

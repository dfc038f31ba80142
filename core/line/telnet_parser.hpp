// Parts telnet's commands from its data (RFC 854, 855). Keeps its place between calls; what a peer sends
// without end is cut at kLongest.
#pragma once
#include "base/bytes.hpp"
#include "line/telnet_codes.hpp"

namespace kw::telnet {

/// Handler has: data(ByteView), negotiate(uint8_t verb, uint8_t option), subnegotiation(uint8_t option,
/// ByteView), command(uint8_t).
class Parser {
 public:
  static constexpr std::size_t kLongest = 4096;

  /// Without binary mode a CR is followed by LF or NUL (RFC 854 page 11); the NUL is dropped.
  bool binary = false;

  template <typename Handler>
  void feed(ByteView in, Handler& to) {
    std::size_t from = 0;
    for (std::size_t i = 0; i < in.size(); ++i) {
      const Byte b = in[i];
      switch (state_) {
        case State::Data:
          if (b == kIac) {
            pass(in, from, i, to);
            state_ = State::Iac;
          } else if (afterCr_ && b == 0 && !binary) {
            pass(in, from, i, to);
            from = i + 1;
          }
          afterCr_ = b == '\r';
          break;
        case State::Iac:
          from = i + 1;
          state_ = State::Data;
          if (b == kIac)
            from = i;  // the second of two is the byte itself
          else if (b >= kWill)
            verb_ = b, state_ = State::Verb;
          else if (b == kSb)
            state_ = State::Option, sub_.clear();
          else
            to.command(b);
          break;
        case State::Verb:
          state_ = State::Data;
          from = i + 1;
          to.negotiate(verb_, b);
          break;
        case State::Option:
          option_ = b;
          state_ = State::Sub;
          break;
        case State::Sub:
          if (b == kIac)
            state_ = State::SubIac;
          else if (sub_.size() < kLongest)
            sub_.push_back(b);
          break;
        case State::SubIac:
          if (b == kIac) {
            if (sub_.size() < kLongest) sub_.push_back(b);
            state_ = State::Sub;
          } else {  // SE; anything else ends it, too, so that nothing is swallowed for ever
            state_ = State::Data;
            from = i + 1;
            if (b == kSe) to.subnegotiation(option_, sub_);
          }
          break;
      }
    }
    if (state_ == State::Data) pass(in, from, in.size(), to);
  }

 private:
  enum class State { Data, Iac, Verb, Option, Sub, SubIac };
  template <typename Handler>
  static void pass(ByteView in, std::size_t from, std::size_t to, Handler& handler) {
    if (to > from) handler.data(in.subspan(from, to - from));
  }
  State state_ = State::Data;
  bool afterCr_ = false;
  Byte verb_ = 0, option_ = 0;
  Bytes sub_;
};

/// Doubles IAC; outside binary mode a CR that is not followed by LF gets a NUL.
Bytes escaped(ByteView data, bool binary);

}  // namespace kw::telnet

// QUIC: each colour is predicted from its neighbours, the difference coded with adaptive Golomb-Rice codes,
// and flat stretches as runs. The tables are part of the format. What reading and writing share.
#pragma once
#include <algorithm>
#include <array>
#include <bit>
#include <vector>

#include "base/bytes.hpp"

namespace kw::spice::quic {

constexpr std::uint32_t kMark = 0x43495551;                       // "QUIC"
constexpr unsigned kGray = 1, kRgb16 = 2, kRgb32 = 4, kRgba = 5;  // 3 and 4 are coded alike

constexpr std::uint32_t kChaos[256] = {
    0x02c57542, 0x35427717, 0x2f5a2153, 0x9244f155, 0x7bd26d07, 0x354c6052, 0x57329b28, 0x2993868e,
    0x6cd8808c, 0x147b46e0, 0x99db66af, 0xe32b4cac, 0x1b671264, 0x9d433486, 0x62a4c192, 0x06089a4b,
    0x9e3dce44, 0xdaabee13, 0x222425ea, 0xa46f331d, 0xcd589250, 0x8bb81d7f, 0xc8b736b9, 0x35948d33,
    0xd7ac7fd0, 0x5fbe2803, 0x2cfbc105, 0x013dbc4e, 0x7a37820f, 0x39f88e9e, 0xedd58794, 0xc5076689,
    0xfcada5a4, 0x64c2f46d, 0xb3ba3243, 0x8974b4f9, 0x5a05aebd, 0x20afcd00, 0x39e2b008, 0x88a18a45,
    0x600bde29, 0xf3971ace, 0xf37b0a6b, 0x7041495b, 0x70b707ab, 0x06beffbb, 0x4206051f, 0xe13c4ee3,
    0xc1a78327, 0x91aa067c, 0x8295f72a, 0x732917a6, 0x1d871b4d, 0x4048f136, 0xf1840e7e, 0x6a6048c1,
    0x696cb71a, 0x7ff501c3, 0x0fc6310b, 0x57e0f83d, 0x8cc26e74, 0x11a525a2, 0x946934c7, 0x7cd888f0,
    0x8f9d8604, 0x4f86e73b, 0x04520316, 0xdeeea20c, 0xf1def496, 0x67687288, 0xf540c5b2, 0x22401484,
    0x3478658a, 0xc2385746, 0x01979c2c, 0x5dad73c8, 0x0321f58b, 0xf0fedbee, 0x92826ddf, 0x284bec73,
    0x5b1a1975, 0x03df1e11, 0x20963e01, 0xa17cf12b, 0x740d776e, 0xa7a6bf3c, 0x01b5cce4, 0x1118aa76,
    0xfc6fac0a, 0xce927e9b, 0x00bf2567, 0x806f216c, 0xbca69056, 0x795bd3e9, 0xc9dc4557, 0x8929b6c2,
    0x789d52ec, 0x3f3fbf40, 0xb9197368, 0xa38c15b5, 0xc3b44fa8, 0xca8333b0, 0xb7e8d590, 0xbe807feb,
    0xbf5f8360, 0xd99e2f5c, 0x372928e1, 0x7c757c4c, 0x0db5b154, 0xc01ede02, 0x1fc86e78, 0x1f3985be,
    0xb4805c77, 0x00c880fa, 0x974c1b12, 0x35ab0214, 0xb2dc840d, 0x5b00ae37, 0xd313b026, 0xb260969d,
    0x7f4c8879, 0x1734c4d3, 0x49068631, 0xb9f6a021, 0x6b863e6f, 0xcee5debf, 0x29f8c9fb, 0x53dd6880,
    0x72b61223, 0x1f67a9fd, 0x0a0f6993, 0x13e59119, 0x11cca12e, 0xfe6b6766, 0x16b6effc, 0x97918fc4,
    0xc2b8a563, 0x94f2f741, 0x0bfa8c9a, 0xd1537ae8, 0xc1da349c, 0x873c60ca, 0x95005b85, 0x9b5c080e,
    0xbc8abbd9, 0xe1eab1d2, 0x6dac9070, 0x4ea9ebf1, 0xe0cf30d4, 0x1ef5bd7b, 0xd161043e, 0x5d2fa2e2,
    0xff5d3cae, 0x86ed9f87, 0x2aa1daa1, 0xbd731a34, 0x9e8f4b22, 0xb1c2c67a, 0xc21758c9, 0xa182215d,
    0xccb01948, 0x8d168df7, 0x04238cfe, 0x368c3dbc, 0x0aeadca5, 0xbad21c24, 0x0a71fee5, 0x9fc5d872,
    0x54c152c6, 0xfc329483, 0x6783384a, 0xeddb3e1c, 0x65f90e30, 0x884ad098, 0xce81675a, 0x4b372f7d,
    0x68bf9a39, 0x43445f1e, 0x40f8d8cb, 0x90d5acb6, 0x4cd07282, 0x349eeb06, 0x0c9d5332, 0x520b24ef,
    0x80020447, 0x67976491, 0x2f931ca3, 0xfe9b0535, 0xfcd30220, 0x61a9e6cc, 0xa487d8d7, 0x3f7c5dd1,
    0x7d0127c5, 0x48f51d15, 0x60dea871, 0xc9a91cb7, 0x58b53bb3, 0x9d5e0b2d, 0x624a78b4, 0x30dbee1b,
    0x9bdf22e7, 0x1df5c299, 0x2d5643a7, 0xf4dd35ff, 0x03ca8fd6, 0x53b47ed8, 0x6f2c19aa, 0xfeb0c1f4,
    0x49e54438, 0x2f2577e6, 0xbf876969, 0x72440ea9, 0xfa0bafb8, 0x74f5b3a0, 0x7dd357cd, 0x89ce1358,
    0x6ef2cdda, 0x1e7767f3, 0xa6be9fdb, 0x4f5f88f8, 0xba994a3a, 0x08ca6b65, 0xe0893818, 0x9e00a16a,
    0xf42bfc8f, 0x9972eedc, 0x749c8b51, 0x32c05f5e, 0xd706805f, 0x6bfbb7cf, 0xd9210a10, 0x31a1db97,
    0x923a9559, 0x37a7a1f6, 0x059f8861, 0xca493e62, 0x65157e81, 0x8f6467dd, 0xab85ff9f, 0x9331aff2,
    0x8616b9f5, 0xedbd5695, 0xee7e29b1, 0x313ac44f, 0xb903112f, 0x432ef649, 0xdc0a36c0, 0x61cf2bba,
    0x81474925, 0xa8b6c7ad, 0xee5931de, 0xb2f8158d, 0x59fb7409, 0x2e3dfaed, 0x9af25a3f, 0xe1fed4d5};
constexpr Byte kRunOrder[32] = {0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2,  2,  3,  3,  3,  3,
                                4, 4, 5, 5, 6, 6, 7, 7, 8, 9, 10, 11, 12, 13, 14, 15};
constexpr unsigned kTrigger[11] = {110, 550, 900, 800, 550, 400, 350, 250, 140, 160, 140};
constexpr unsigned kLongestCode = 26, kMostWait = 6, kNextWait = 2048;

constexpr std::uint32_t mask(unsigned bits) { return bits >= 32 ? ~0U : (1U << bits) - 1; }

/// The codes for values of so many bits.
struct Codes {
  explicit Codes(unsigned bits) : bits_(bits) {
    for (unsigned l = 0; l < bits; ++l) {
      const unsigned prefix = std::min(kLongestCode - bits, mask(bits - l));
      const unsigned others = mask(bits) + 1 - (prefix << l);
      const unsigned suffix = others <= 1 ? 0 : 32 - static_cast<unsigned>(std::countl_zero(others - 1));
      plain[l] = prefix << l;
      longLength[l] = prefix + suffix;
      longMask[l] = mask(32 - prefix);
      longSuffix[l] = suffix;
    }
    for (unsigned v = 0; v <= mask(bits); ++v) {
      toPixel[v] = static_cast<Byte>((v & 1) != 0 ? mask(bits) - (v >> 1) : v >> 1);
      toCode[toPixel[v]] = static_cast<Byte>(v);
    }
    for (unsigned v = 0; v <= mask(bits); ++v)
      for (unsigned l = 0; l < bits; ++l)
        length[v][l] = static_cast<Byte>(v < plain[l] ? (v >> l) + 1 + l : longLength[l]);
    // Buckets of one, two, four … values share their statistics.
    for (unsigned start = 0, size = 1, n = 0; start <= mask(bits); ++n) {
      unsigned end = start + size - 1;
      if (end + size > mask(bits)) end = mask(bits);
      for (unsigned v = start; v <= end; ++v) bucket[v] = static_cast<Byte>(n);
      start = end + 1;
      size *= 2;
    }
  }
  unsigned bits_;
  unsigned plain[8] = {}, longLength[8] = {}, longMask[8] = {}, longSuffix[8] = {};
  Byte toPixel[256] = {}, toCode[256] = {}, bucket[256] = {};
  Byte length[256][8] = {};
};

/// What decides when statistics are renewed, and how runs are coded.
struct State {
  unsigned wait = 0, seed = 0xff, index = 0, left = kNextWait, trigger = kTrigger[0];
  unsigned runState = 0, runBits = kRunOrder[0];
  unsigned next() { return kChaos[++seed & 0xff]; }
  void longerRuns() {
    if (runState < 31) runBits = kRunOrder[++runState];
  }
  void shorterRuns() {
    if (runState != 0) runBits = kRunOrder[--runState];
  }
};

struct Bucket {
  std::array<unsigned, 8> counts{};
  unsigned best = 0;
};

struct Channel {
  std::array<Bucket, 9> buckets;
  std::vector<Byte> row;  ///< one longer than the picture, for the place before its first
  Byte* coded = nullptr;
  void begin(unsigned width, unsigned bits) {
    for (Bucket& b : buckets) b = {{}, bits - 1};
    row.assign(width + 1, 0);
    coded = row.data() + 1;
  }
};

/// The rows of a picture, coded one after the other by a Coder: a reader (fills the pixels in) or a writer
/// (takes them as they are). Both learn alike.
template <unsigned N, class Coder>
class Rows {
 public:
  /// Values of N channels a pixel lie `step` bytes apart, beginning at `first`.
  Rows(Coder& coder, const Codes& codes, unsigned width, Byte* first, unsigned step)
      : coder_(coder), codes_(codes), width_(width), mask_(mask(codes.bits_)), step_(step), first_(first) {
    for (Channel& c : channels_) c.begin(width, codes.bits_);
  }

  void row(int y, std::size_t stride) {
    current_ = first_ + static_cast<std::size_t>(y) * stride;
    above_ = y == 0 ? nullptr : current_ - stride;
    if (y > 0)
      for (Channel& c : channels_) c.coded[-1] = c.coded[0];
    unsigned at = 0, width = width_;
    while (state_.index < kMostWait && state_.left <= width) {
      if (state_.left != 0) {
        segment(at, at + state_.left);
        at += state_.left;
        width -= state_.left;
      }
      ++state_.index;
      state_.trigger = kTrigger[std::min(state_.index, 10U)];
      state_.left = kNextWait;
    }
    if (width == 0) return;
    segment(at, at + width);
    if (state_.index < kMostWait) state_.left -= width;
  }

 private:
  [[nodiscard]] Byte* at(Byte* row, unsigned i) const { return row + static_cast<std::size_t>(i) * step_; }

  Bucket& bucketBefore(Channel& c, unsigned i) {
    return c.buckets[codes_.bucket[c.coded[static_cast<int>(i) - 1]]];
  }

  void pixel(unsigned i) {
    Byte* here = at(current_, i);
    for (unsigned n = 0; n < N; ++n) {
      Channel& c = channels_[n];
      unsigned predicted = 0;
      if (above_ == nullptr)
        predicted = i == 0 ? 0 : here[static_cast<int>(n) - static_cast<int>(step_)];
      else
        predicted = i == 0 ? at(above_, 0)[n]
                           : (here[static_cast<int>(n) - static_cast<int>(step_)] + at(above_, i)[n]) >> 1;
      const unsigned length = bucketBefore(c, i).best;
      if constexpr (Coder::kWrites) {
        c.coded[i] = codes_.toCode[(here[n] - predicted) & mask_];
        coder_.put(codes_, length, c.coded[i]);
      } else {
        c.coded[i] = static_cast<Byte>(coder_.get(codes_, length) & mask_);
        here[n] = static_cast<Byte>((codes_.toPixel[c.coded[i]] + predicted) & mask_);
      }
    }
  }

  void learn(unsigned i) {
    for (Channel& c : channels_) {
      Bucket& b = bucketBefore(c, i);
      const Byte* lengths = codes_.length[c.coded[i]];
      unsigned best = codes_.bits_ - 1;
      unsigned least = b.counts[best] += lengths[best];
      for (unsigned l = best; l-- > 0;) {
        const unsigned sum = b.counts[l] += lengths[l];
        if (sum < least) best = l, least = sum;
      }
      b.best = best;
      if (least > state_.trigger)
        for (unsigned& count : b.counts) count >>= 1;
    }
  }

  [[nodiscard]] bool same(const Byte* a, const Byte* b) const {
    for (unsigned n = 0; n < N; ++n)
      if (a[n] != b[n]) return false;
    return true;
  }
  [[nodiscard]] bool runs(unsigned i, unsigned runAt) const {
    return above_ != nullptr && i > 2 && runAt != i && same(at(above_, i - 1), at(above_, i)) &&
           same(at(current_, i - 1), at(current_, i - 2));
  }

  /// How many pixels from i on are like the one before.
  unsigned run(unsigned i, unsigned end) {
    const Byte* from = at(current_, i - 1);
    unsigned length = 0;
    if constexpr (Coder::kWrites) {
      while (i + length < end && same(at(current_, i + length), from)) ++length;
      coder_.putRun(state_, length);
    } else {
      length = coder_.getRun(state_, end - i);
      for (unsigned k = i; k < i + length; ++k)
        for (unsigned n = 0; n < N; ++n) at(current_, k)[n] = from[n];
    }
    return length;
  }

  void segment(unsigned i, unsigned end) {
    const unsigned waitMask = mask(state_.index);
    unsigned runAt = 0, stop = 0;
    if (i == 0) {
      pixel(0);
      if (state_.wait != 0) {
        --state_.wait;
      } else {
        state_.wait = state_.next() & waitMask;
        learn(0);
      }
      stop = ++i + state_.wait;
    } else {
      stop = i + state_.wait;
    }
    for (;;) {
      bool found = false;
      while (stop < end && !found) {
        for (; i <= stop && !found;) {
          found = runs(i, runAt);
          if (!found) pixel(i++);
        }
        if (found) break;
        learn(stop);
        stop = i + (state_.next() & waitMask);
      }
      while (!found && i < end) {
        found = runs(i, runAt);
        if (!found) pixel(i++);
      }
      if (!found) {
        state_.wait = stop - end;
        return;
      }
      state_.wait = stop - i;
      runAt = i;
      i += run(i, end);
      if (i == end) return;
      stop = i + state_.wait;
    }
  }

  Coder& coder_;
  const Codes& codes_;
  unsigned width_, mask_, step_;
  Byte* first_;
  Byte* current_ = nullptr;
  Byte* above_ = nullptr;
  std::array<Channel, N> channels_;
  State state_;
};

inline const Codes& codesOf(unsigned bits) {
  static const Codes eight(8), five(5);
  return bits == 8 ? eight : five;
}

}  // namespace kw::spice::quic

#include "lab/uart.hpp"

#include <bit>

namespace kw::lab {

namespace {

bool parityBit(Byte value, Parity parity) {
  const bool odd = std::popcount(value) % 2 == 1;
  switch (parity) {
    case Parity::Even: return odd;
    case Parity::Odd: return !odd;
    case Parity::Mark: return true;
    default: return false;
  }
}

/// The line's level, one entry a bit time of the sender; true is the resting level.
std::vector<bool> levels(ByteView bytes, const LineSettings& s) {
  std::vector<bool> out(4, true);
  for (Byte b : bytes) {
    const Byte value = static_cast<Byte>(b & ((1U << s.bits) - 1));
    out.push_back(false);
    for (int i = 0; i < s.bits; ++i) out.push_back((value >> i & 1) != 0);
    if (s.parity != Parity::None) out.push_back(parityBit(value, s.parity));
    out.insert(out.end(), s.stop == StopBits::One ? 1 : 2, true);
  }
  out.insert(out.end(), 24, true);
  return out;
}

}  // namespace

Bytes overTheWire(ByteView bytes, const LineSettings& from, const LineSettings& to, LineErrors* errors) {
  const std::vector<bool> line = levels(bytes, from);
  // Positions are in sender's bit times; a receiver samples in the middle of its own bits.
  const double bit = static_cast<double>(from.speed) / to.speed;
  const auto at = [&](double t) {
    return t < 0 || static_cast<std::size_t>(t) >= line.size()
               ? true
               : static_cast<bool>(line[static_cast<std::size_t>(t)]);
  };
  const int dataBits = to.bits + (to.parity != Parity::None ? 1 : 0);
  const auto end = static_cast<double>(line.size());
  const double step = std::min(bit, 1.0) / 16;
  Bytes out;
  for (double t = 0; t < end;) {
    if (at(t) || !at(t - step)) {  // a start bit begins with a fall
      t += step;
      continue;
    }
    if (at(t + bit / 2)) {  // too short: noise
      t += bit / 2;
      continue;
    }
    unsigned value = 0;
    for (int i = 0; i < dataBits; ++i)
      if (at(t + bit * (1.5 + i)) && i < to.bits) value |= 1U << i;
    out.push_back(static_cast<Byte>(value));
    if (errors != nullptr) {
      const bool parityGot = at(t + bit * (1.5 + to.bits));
      if (to.parity != Parity::None && parityGot != parityBit(static_cast<Byte>(value), to.parity))
        ++errors->parity;
      if (!at(t + bit * (1.5 + dataBits))) ++errors->framing;
    }
    t += bit * (1.5 + dataBits);
  }
  return out;
}

}  // namespace kw::lab

#include "rdp/auto_detect.hpp"

#include <algorithm>

namespace kw::rdp {

namespace {

constexpr unsigned kRequest = 0, kResponse = 1;  // headerTypeId
// requestType: while connecting, and later over either transport
constexpr unsigned kRoundTrip = 0x0001, kRoundTripAtStart = 0x1001;
constexpr unsigned kStarts[] = {0x0014, 0x0114, 0x1014};
constexpr unsigned kStopAtStart = 0x002b, kStop = 0x0429, kStopLossy = 0x0629;
constexpr unsigned kResultBase = 0x0840, kResultBandwidth = 0x0880, kResultAll = 0x08c0;

}  // namespace

std::optional<Bytes> AutoDetect::take(ByteView request, std::uint64_t bytesIn, std::chrono::nanoseconds now) {
  LittleReader in(request, "network characteristics");
  in.skip(1);
  if (in.u8() != kRequest) return std::nullopt;
  const unsigned sequence = in.u16(), type = in.u16();
  LittleWriter out;
  if (type == kRoundTrip || type == kRoundTripAtStart)
    return out.u8(6).u8(kResponse).u16(sequence).u16(0).take();
  if (std::find(std::begin(kStarts), std::end(kStarts), type) != std::end(kStarts)) {
    bytesAtStart_ = bytesIn;
    started_ = now;
    return std::nullopt;
  }
  if (type == kStop || type == kStopLossy || type == kStopAtStart) {
    const auto took = std::chrono::duration_cast<std::chrono::milliseconds>(now - started_).count();
    out.u8(14).u8(kResponse).u16(sequence).u16(type == kStopAtStart ? 0x0003 : 0x000b);
    out.u32(static_cast<std::uint32_t>(std::max<std::int64_t>(took, 1)));
    return out.u32(static_cast<std::uint32_t>(bytesIn - bytesAtStart_)).take();
  }
  const auto roundTrip = [&] { found_.roundTrip = std::chrono::milliseconds(in.u32()); };
  if (type == kResultBase || type == kResultAll) in.skip(4);  // the least; the mean follows
  if (type == kResultBandwidth || type == kResultAll) found_.kilobitsPerSecond = in.u32();
  if (type == kResultBase || type == kResultBandwidth || type == kResultAll) roundTrip();
  return std::nullopt;
}

Bytes writeRoundTripRequest(unsigned sequence) {
  LittleWriter out;
  return out.u8(6).u8(kRequest).u16(sequence).u16(kRoundTrip).take();
}

Bytes writeLineFigures(unsigned sequence, const LineFigures& f) {
  LittleWriter out;
  const auto ms = static_cast<std::uint32_t>(f.roundTrip.count());
  return out.u8(18)
      .u8(kRequest)
      .u16(sequence)
      .u16(kResultAll)
      .u32(ms)
      .u32(f.kilobitsPerSecond)
      .u32(ms)
      .take();
}

}  // namespace kw::rdp

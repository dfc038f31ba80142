#include "line/doctor.hpp"

#include <algorithm>
#include <bit>

#include "base/error.hpp"
#include "base/runtime.hpp"

namespace kw {

namespace {

bool textByte(Byte b) {
  return (b >= 0x20 && b < 0x7F) || b == '\r' || b == '\n' || b == '\t' || b == 0x1B || b == '\b' || b == 7;
}

/// How much of printable bytes is what sentences and tables are made of.
double wordiness(ByteView bytes) {
  std::size_t good = 0, n = 0;
  for (Byte b : bytes) {
    if (b < 0x21 || b >= 0x7F) continue;
    ++n;
    if (std::isalnum(b) ||
        std::string_view(".,:;-=+_/()[]#%$>*\"'").find(static_cast<char>(b)) != std::string_view::npos)
      ++good;
  }
  return n == 0 ? 0 : static_cast<double>(good) / static_cast<double>(n);
}

}  // namespace

double readability(ByteView bytes) {
  if (bytes.size() < 4) return 0;
  const std::string raw = textOf(bytes);
  const std::string clean = cleanUtf8(raw);
  // UTF-8 text survives cleaning unchanged; what it replaced counts against.
  std::size_t bad = 0;
  const bool utf8 = clean == raw;
  for (Byte b : bytes)
    if (!textByte(b) && !(utf8 && b >= 0x80)) ++bad;
  const double text = 1.0 - static_cast<double>(bad) / static_cast<double>(bytes.size());
  return text * text * wordiness(bytes);
}

std::optional<Parity> parityInTopBit(ByteView bytes) {
  if (bytes.size() < 16) return std::nullopt;
  std::size_t even = 0, odd = 0, high = 0;
  Bytes stripped;
  for (Byte b : bytes) {
    (std::popcount(b) % 2 == 0 ? even : odd) += 1;
    high += b >> 7;
    stripped.push_back(b & 0x7F);
  }
  if (high == 0 || readability(stripped) < 0.8) return std::nullopt;
  const std::size_t most = bytes.size() - bytes.size() / 20;
  if (even >= most) return Parity::Even;
  if (odd >= most) return Parity::Odd;
  if (high >= most) return Parity::Mark;
  return std::nullopt;
}

namespace {

constexpr double kReadable = 0.75;

std::string printable(ByteView bytes) {
  std::string out;
  for (Byte b : bytes) {
    if (out.size() >= 60) break;
    out += b >= 0x20 && b < 0x7F ? static_cast<char>(b) : b == '\r' || b == '\n' ? ' ' : '.';
  }
  return out;
}

Task<void> collect(ByteStream& line, Bytes& into) {
  Bytes in(4096);
  while (into.size() < 8192) {
    const std::size_t n = co_await line.readSome(in);
    into.insert(into.end(), in.begin(), in.begin() + static_cast<std::ptrdiff_t>(n));
    if (into.size() >= 200 && readability(into) > 0.95) co_return;  // no doubt left
  }
}

Task<void> drop(ByteStream& line) {
  Bytes in(4096);
  for (;;) co_await line.readSome(in);
}

Task<DoctorFinding> listenWith(ByteStream& line, LineControl& control, std::shared_ptr<Clock> clock,
                               const DoctorOptions& options, LineSettings settings) {
  DoctorFinding found;
  found.settings = settings;
  co_await control.change(settings);
  co_await firstOf(drop(line), clock->sleep(options.settle));
  if (options.mayType) {
    const Bytes enter{'\r'};
    co_await line.write(enter);
  }
  const auto before = control.errors();
  Bytes heard;
  co_await firstOf(collect(line, heard), clock->sleep(options.listen));
  if (const auto after = control.errors(); before && after)
    found.wrongFrames = after->framing + after->parity - before->framing - before->parity;
  found.bytes = heard.size();
  found.readable = readability(heard);
  found.sample = printable(heard);
  if (const auto parity = parityInTopBit(heard)) {  // right speed, seven bits
    found.settings.bits = 7;
    found.settings.parity = *parity;
    for (Byte& b : heard) b &= 0x7F;
    found.readable = readability(heard);
    found.sample = printable(heard);
  }
  co_return found;
}

}  // namespace

namespace {

bool manyWrong(const DoctorFinding& f) {
  return f.wrongFrames && f.bytes > 0 && *f.wrongFrames * 10 > f.bytes;
}

/// Readable, yet many frames are wrong: there is a parity bit where the stop bit should be.
Task<void> lookForParity(ByteStream& line, LineControl& control, std::shared_ptr<Clock> clock,
                         const DoctorOptions& options, DoctorReport& report) {
  const DoctorFinding best = report.tried.front();
  if (best.settings.bits != 8 || best.settings.parity != Parity::None || !manyWrong(best)) co_return;
  for (const Parity parity : {Parity::Even, Parity::Odd, Parity::Space}) {
    LineSettings wanted = best.settings;
    wanted.parity = parity;
    DoctorFinding found;
    try {
      found = co_await listenWith(line, control, clock, options, wanted);
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::Unsupported) throw;
      continue;
    }
    if (found.readable < kReadable || manyWrong(found)) {
      report.tried.push_back(found);
      continue;
    }
    report.tried.insert(report.tried.begin(), found);
    co_return;
  }
}

}  // namespace

std::string DoctorReport::sentence() const {
  if (silent)
    return "Nothing came, with any setting. Is the machine on, and does it say something by itself?";
  if (!proposal) return "Bytes came, but with none of the usual settings was there readable text.";
  return "Readable with " + proposal->forPeople() + ".";
}

Task<DoctorReport> tryUsualSettings(ByteStream& line, LineControl& control, std::shared_ptr<Clock> clock,
                                    DoctorOptions options, std::function<void(const LineSettings&)> trying) {
  DoctorReport report;
  const LineSettings before = control.settings();
  std::vector<LineSettings> candidates{before};
  for (int speed : options.speeds) {
    LineSettings s;
    s.speed = speed;
    if (std::find(candidates.begin(), candidates.end(), s) == candidates.end()) candidates.push_back(s);
  }
  for (const LineSettings& candidate : candidates) {
    if (trying) trying(candidate);
    DoctorFinding found;
    try {
      found = co_await listenWith(line, control, clock, options, candidate);
    } catch (const Error& e) {
      if (e.kind() != ErrorKind::Unsupported) throw;  // a speed that the device cannot do is passed over
      continue;
    }
    report.silent = report.silent && found.bytes == 0;
    report.tried.push_back(found);
    if (found.readable > 0.95 && found.bytes >= 100) break;
  }
  std::stable_sort(report.tried.begin(), report.tried.end(),
                   [](const DoctorFinding& a, const DoctorFinding& b) { return a.readable > b.readable; });
  if (!report.tried.empty() && report.tried.front().readable >= kReadable)
    co_await lookForParity(line, control, clock, options, report);
  if (!report.tried.empty() && report.tried.front().readable >= kReadable)
    report.proposal = report.tried.front().settings;
  co_await control.change(before);
  co_return report;
}

}  // namespace kw

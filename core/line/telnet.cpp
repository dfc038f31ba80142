#include "line/telnet.hpp"

#include <algorithm>
#include <array>
#include <deque>

#include "base/bounded_reader.hpp"
#include "base/clock.hpp"
#include "base/runtime.hpp"
#include "line/telnet_parser.hpp"

namespace kw {

namespace telnet {

Bytes escaped(ByteView data, bool binary) {
  Bytes out;
  out.reserve(data.size() + 8);
  for (std::size_t i = 0; i < data.size(); ++i) {
    out.push_back(data[i]);
    if (data[i] == kIac) out.push_back(kIac);
    if (data[i] == '\r' && !binary && (i + 1 == data.size() || data[i + 1] != '\n')) out.push_back(0);
  }
  return out;
}

}  // namespace telnet

namespace {

using namespace telnet;

/// One option on one side, RFC 1143's states without the queue: wishes are never taken back here.
struct OptionSide {
  bool on = false, asked = false;
};

class Telnet : public TelnetStream {
 public:
  explicit Telnet(StreamPtr below) : below_(std::move(below)) {}

  Task<std::size_t> readSome(ByteSpan into) override {
    while (ready_.size() == readAt_) co_await fill();
    const std::size_t n = std::min(into.size(), ready_.size() - readAt_);
    std::copy_n(ready_.begin() + static_cast<std::ptrdiff_t>(readAt_), n, into.begin());
    readAt_ += n;
    co_return n;
  }
  Task<void> write(ByteView bytes) override {
    const Bytes out = escaped(bytes, binaryOut());
    co_await send(out);
  }
  void close() noexcept override { below_->close(); }
  [[nodiscard]] bool sealed() const override { return below_->sealed(); }
  [[nodiscard]] std::string peer() const override { return below_->peer(); }

  // What the parser hands over.
  void data(ByteView bytes) { ready_.insert(ready_.end(), bytes.begin(), bytes.end()); }
  void command(Byte which) {
    if (which == kAyt) reply(Bytes{'[', 'y', 'e', 's', ']', '\r', '\n'});
    if (which == kBrk) gotBreak();
  }
  void negotiate(Byte verb, Byte which) {
    const bool theirs = verb == kWill || verb == kWont;
    const bool on = verb == kWill || verb == kDo;
    OptionSide& side = (theirs ? them_ : us_)[which];
    const bool agree = on && (theirs ? wantsThem(which) : wantsUs(which));
    if (side.asked) {  // the answer to what we asked
      side.asked = false;
      side.on = on;
    } else if (side.on != on) {
      side.on = agree;
      reply({kIac, theirs ? (agree ? kDo : kDont) : (agree ? kWill : kWont), which});
    } else {
      return;
    }
    parser_.binary = them_[option::kBinary].on;
    optionChanged(theirs, which, side.on);
  }
  virtual void subnegotiation(Byte which, ByteView bytes) = 0;

  // Line control; only a network serial port has it.
  [[nodiscard]] LineSettings settings() const override { return line_; }
  [[nodiscard]] std::optional<ModemLines> lines() override {
    return isComPort() ? std::optional(lamps_) : std::nullopt;
  }
  [[nodiscard]] bool remoteEcho() const override { return them_[option::kEcho].on; }
  [[nodiscard]] std::optional<LineErrors> errors() override { return errors_; }
  [[nodiscard]] std::string signature() const override { return signature_; }
  void noteErrors(const LineErrors&) override {}
  void setWindowSize(int, int) override {}

 protected:
  [[nodiscard]] virtual bool wantsThem(Byte which) const = 0;
  [[nodiscard]] virtual bool wantsUs(Byte which) const = 0;
  virtual void optionChanged(bool theirs, Byte which, bool on) = 0;
  virtual void gotBreak() {}
  [[nodiscard]] bool binaryOut() const { return us_[option::kBinary].on; }

  void ask(Byte verb, Byte which) {
    OptionSide& side = (verb == kDo ? them_ : us_)[which];
    if (side.on || side.asked) return;
    side.asked = true;
    reply({kIac, verb, which});
  }
  void replySub(Byte which, const Bytes& body) {
    Bytes out{kIac, kSb, which};
    for (Byte b : body) {
      out.push_back(b);
      if (b == kIac) out.push_back(kIac);
    }
    out.push_back(kIac);
    out.push_back(kSe);
    reply(out);
  }
  /// Goes out before the next read waits or with the next write. A peer that only asks and never reads is cut
  /// off.
  void reply(const Bytes& bytes) {
    if (replies_.size() + bytes.size() > 64 * 1024)
      protocolBroken("telnet negotiation", "more questions than answers fit");
    replies_.insert(replies_.end(), bytes.begin(), bytes.end());
  }
  Task<void> send(Bytes bytes) {
    outbox_.insert(outbox_.end(), replies_.begin(), replies_.end());
    replies_.clear();
    outbox_.insert(outbox_.end(), bytes.begin(), bytes.end());
    if (sending_ || outbox_.empty()) co_return;  // whoever sends now takes it along
    sending_ = true;
    try {
      while (!outbox_.empty()) {
        const Bytes now = std::exchange(outbox_, {});
        co_await below_->write(now);
      }
    } catch (...) {
      sending_ = false;
      throw;
    }
    sending_ = false;
  }
  Task<void> fill() {
    ready_.clear();
    readAt_ = 0;
    co_await flushReplies();
    Bytes in(64 * 1024);
    const std::size_t n = co_await below_->readSome(in);
    parser_.feed(ByteView(in).first(n), *this);
    co_await flushReplies();
  }
  Task<void> flushReplies() {
    Bytes none;
    if (!replies_.empty()) co_await send(std::move(none));
  }

  StreamPtr below_;
  Parser parser_;
  std::array<OptionSide, 256> us_{}, them_{};
  Bytes ready_, replies_, outbox_;
  std::size_t readAt_ = 0;
  bool sending_ = false;
  LineSettings line_;
  ModemLines lamps_;
  std::optional<LineErrors> errors_;
  std::string signature_;
};

constexpr Byte stopCode(StopBits stop) { return stop == StopBits::One ? 1 : stop == StopBits::Two ? 2 : 3; }
/// RFC 2217's parity values are 1 none, 2 odd, 3 even, 4 mark, 5 space.
constexpr Byte parityCode(Parity p) {
  return p == Parity::None ? 1 : p == Parity::Odd ? 2 : p == Parity::Even ? 3 : p == Parity::Mark ? 4 : 5;
}
Parity parityFromCode(Byte code) {
  static constexpr Parity kTable[] = {Parity::None, Parity::Odd, Parity::Even, Parity::Mark, Parity::Space};
  return code >= 1 && code <= 5 ? kTable[code - 1] : Parity::None;
}
StopBits stopFromCode(Byte code) {
  return code == 2 ? StopBits::Two : code == 3 ? StopBits::OneAndHalf : StopBits::One;
}
constexpr Byte flowCode(FlowControl f) {
  return f == FlowControl::None      ? com::kNoFlow
         : f == FlowControl::XonXoff ? com::kXonXoff
         : f == FlowControl::RtsCts  ? com::kHardware
                                     : com::kDsrFlow;
}
std::optional<FlowControl> flowFromCode(Byte code) {
  switch (code) {
    case com::kNoFlow: return FlowControl::None;
    case com::kXonXoff: return FlowControl::XonXoff;
    case com::kHardware: return FlowControl::RtsCts;
    case com::kDsrFlow: return FlowControl::DtrDsr;
    default: return std::nullopt;
  }
}

class Client : public Telnet {
 public:
  Client(StreamPtr below, TelnetOptions options) : Telnet(std::move(below)), options_(std::move(options)) {
    line_ = options_.line;
  }

  Task<void> begin() {
    if (!options_.comPort) co_return;
    for (Byte which : {option::kBinary, option::kSuppressGoAhead}) ask(kWill, which), ask(kDo, which);
    ask(kWill, option::kComPort);
    co_await within(options_.limit, peer(), untilAnswered());
    if (!us_[option::kComPort].on)
      throw Error(ErrorKind::Unsupported, "this is a telnet server, but not a network serial port (RFC 2217)",
                  peer());
    sendLine();
    replySub(option::kComPort, {com::kSetModemStateMask, 0xFF});
    replySub(option::kComPort, {com::kSetLineStateMask,
                                com::kOverrun | com::kParityError | com::kFramingError | com::kBreakSeen});
    replySub(option::kComPort, {com::kSetControl, com::kDtrOn});
    replySub(option::kComPort, {com::kSetControl, com::kRtsOn});
    replySub(option::kComPort, {com::kSignature});
    co_await flushReplies();
  }

  void subnegotiation(Byte which, ByteView body) override {
    if (which == option::kTerminalType && !body.empty() && body[0] == kSend) {
      Bytes out{kIs};
      out.insert(out.end(), options_.terminalType.begin(), options_.terminalType.end());
      replySub(option::kTerminalType, out);
    } else if (which == option::kTerminalSpeed && !body.empty() && body[0] == kSend) {
      const std::string speed = std::to_string(line_.speed) + "," + std::to_string(line_.speed);
      Bytes out{kIs};
      out.insert(out.end(), speed.begin(), speed.end());
      replySub(option::kTerminalSpeed, out);
    } else if (which == option::kComPort && !body.empty()) {
      comAnswer(body[0], body.subspan(1));
    }
  }

  [[nodiscard]] bool isComPort() const override { return us_[option::kComPort].on; }
  void setWindowSize(int columns, int rows) override {
    options_.columns = columns;
    options_.rows = rows;
    if (us_[option::kWindowSize].on) sendWindowSize();
  }
  /// Sends what setWindowSize() left to be sent; also done with every write.
  Task<void> change(LineSettings settings) override {
    needComPort();
    line_ = settings;
    sendLine();
    co_await flushReplies();
  }
  Task<void> sendBreak(std::chrono::milliseconds length) override {
    if (!isComPort()) {  // plain telnet has a break of no particular length
      Bytes out{kIac, kBrk};
      co_await send(std::move(out));
      co_return;
    }
    replySub(option::kComPort, {com::kSetControl, com::kBreakOn});
    co_await flushReplies();
    co_await systemClock()->sleep(length);
    replySub(option::kComPort, {com::kSetControl, com::kBreakOff});
    co_await flushReplies();
  }
  Task<void> setRts(bool on) override {
    lamps_.rts = on;
    return control(on ? com::kRtsOn : com::kRtsOff);
  }
  Task<void> setDtr(bool on) override {
    lamps_.dtr = on;
    return control(on ? com::kDtrOn : com::kDtrOff);
  }

 protected:
  [[nodiscard]] bool wantsThem(Byte which) const override {
    return which == option::kBinary || which == option::kEcho || which == option::kSuppressGoAhead;
  }
  [[nodiscard]] bool wantsUs(Byte which) const override {
    return which == option::kBinary || which == option::kSuppressGoAhead || which == option::kTerminalType ||
           which == option::kWindowSize || which == option::kTerminalSpeed ||
           (which == option::kComPort && options_.comPort);
  }
  void optionChanged(bool theirs, Byte which, bool on) override {
    if (!theirs && which == option::kWindowSize && on) sendWindowSize();
  }

 private:
  void needComPort() const {
    if (!isComPort())
      throw Error(ErrorKind::Unsupported, "a telnet line has no speed or framing to set", peer());
  }
  Task<void> untilAnswered() {
    // What the server says meanwhile stays in ready_.
    while (us_[option::kComPort].asked) {
      co_await flushReplies();
      Bytes in(4096);
      const std::size_t n = co_await below_->readSome(in);
      parser_.feed(ByteView(in).first(n), *this);
    }
  }
  void sendWindowSize() {
    ByteWriter w;
    w.u16(static_cast<unsigned>(options_.columns)).u16(static_cast<unsigned>(options_.rows));
    replySub(option::kWindowSize, w.raw());
  }
  void sendLine() {
    ByteWriter speed;
    speed.u8(com::kSetBaudRate).u32(static_cast<std::uint32_t>(line_.speed));
    replySub(option::kComPort, speed.raw());
    replySub(option::kComPort, {com::kSetDataSize, static_cast<Byte>(line_.bits)});
    replySub(option::kComPort, {com::kSetParity, parityCode(line_.parity)});
    replySub(option::kComPort, {com::kSetStopSize, stopCode(line_.stop)});
    replySub(option::kComPort, {com::kSetControl, flowCode(line_.flow)});
  }
  Task<void> control(Byte value) {
    needComPort();
    replySub(option::kComPort, {com::kSetControl, value});
    co_await flushReplies();
  }
  /// The server says what is in force; line_ follows it.
  void comAnswer(Byte which, ByteView value) {
    BoundedReader r(value, "RFC 2217 answer");
    switch (which - com::kAnswer) {
      case com::kSignature: signature_ = cleanUtf8(textOf(value)); break;
      case com::kSetBaudRate:
        if (r.left() >= 4) line_.speed = static_cast<int>(std::min<std::uint32_t>(r.u32(), 20'000'000));
        break;
      case com::kSetDataSize:
        if (r.left() >= 1) line_.bits = std::clamp<int>(r.u8(), 5, 8);
        break;
      case com::kSetParity:
        if (r.left() >= 1) line_.parity = parityFromCode(r.u8());
        break;
      case com::kSetStopSize:
        if (r.left() >= 1) line_.stop = stopFromCode(r.u8());
        break;
      case com::kSetControl:
        if (r.left() >= 1) controlAnswer(r.u8());
        break;
      case com::kSetLineStateMask:  // the server agrees to tell
        if (!errors_) errors_ = LineErrors();
        break;
      case com::kNotifyLineState:
        if (r.left() >= 1) lineState(r.u8());
        break;
      case com::kNotifyModemState:
        if (r.left() >= 1) {
          const Byte bits = r.u8();
          lamps_.cts = bits & com::kCts, lamps_.dsr = bits & com::kDsr, lamps_.dcd = bits & com::kCarrier,
          lamps_.ri = bits & com::kRing;
        }
        break;
      default: break;
    }
  }
  void lineState(Byte bits) {
    if (!errors_) errors_ = LineErrors();
    if (bits & com::kOverrun) ++errors_->overrun;
    if (bits & com::kParityError) ++errors_->parity;
    if (bits & com::kFramingError) ++errors_->framing;
    if (bits & com::kBreakSeen) ++errors_->breaks;
  }
  void controlAnswer(Byte value) {
    if (const auto flow = flowFromCode(value)) line_.flow = *flow;
    if (value == com::kDtrOn || value == com::kDtrOff) lamps_.dtr = value == com::kDtrOn;
    if (value == com::kRtsOn || value == com::kRtsOff) lamps_.rts = value == com::kRtsOn;
  }

  TelnetOptions options_;
};

class Server : public Telnet {
 public:
  Server(StreamPtr below, TelnetServerOptions options)
      : Telnet(std::move(below)), options_(std::move(options)) {
    line_ = options_.line;
    lamps_.cts = lamps_.dsr = lamps_.dcd = true;
    if (!options_.comPort) {
      if (options_.echo) ask(kWill, option::kEcho);
      ask(kWill, option::kSuppressGoAhead);
      ask(kDo, option::kWindowSize);
    }
  }
  void subnegotiation(Byte which, ByteView body) override {
    if (which == option::kWindowSize && body.size() >= 4 && options_.resized)
      options_.resized(loadBe16(body.data()), loadBe16(body.data() + 2));
    if (which == option::kComPort && !body.empty() && options_.comPort) comRequest(body[0], body.subspan(1));
  }
  [[nodiscard]] bool isComPort() const override { return them_[option::kComPort].on; }
  Task<void> change(LineSettings settings) override {
    line_ = settings;
    co_return;
  }
  Task<void> sendBreak(std::chrono::milliseconds) override { co_return; }
  void noteErrors(const LineErrors& more) override {
    if (!isComPort()) return;
    const std::pair<std::uint64_t, Byte> kinds[] = {{more.overrun, com::kOverrun},
                                                    {more.parity, com::kParityError},
                                                    {more.framing, com::kFramingError},
                                                    {more.breaks, com::kBreakSeen}};
    for (const auto& [count, bit] : kinds)
      for (std::uint64_t i = 0; (lineStateMask_ & bit) != 0 && i < std::min<std::uint64_t>(count, 1000); ++i)
        replySub(option::kComPort, {com::kNotifyLineState + com::kAnswer, bit});
  }
  Task<void> setRts(bool) override { co_return; }
  Task<void> setDtr(bool) override { co_return; }

 protected:
  [[nodiscard]] bool wantsThem(Byte which) const override {
    return which == option::kBinary || which == option::kSuppressGoAhead || which == option::kWindowSize ||
           (which == option::kComPort && options_.comPort);
  }
  [[nodiscard]] bool wantsUs(Byte which) const override {
    return which == option::kBinary || which == option::kSuppressGoAhead ||
           (which == option::kEcho && options_.echo);
  }
  void optionChanged(bool theirs, Byte which, bool on) override {
    if (theirs && which == option::kComPort && on) sendModemState();
  }
  void gotBreak() override {
    if (options_.comPort && options_.comPort->breakChanged)
      options_.comPort->breakChanged(true), options_.comPort->breakChanged(false);
  }

 private:
  void sendModemState() {
    const auto bit = [](bool on, unsigned b) { return on ? b : 0U; };
    const unsigned bits = bit(lamps_.cts, com::kCts) | bit(lamps_.dsr, com::kDsr) |
                          bit(lamps_.dcd, com::kCarrier) | bit(lamps_.ri, com::kRing);
    replySub(option::kComPort, {com::kNotifyModemState + com::kAnswer, static_cast<Byte>(bits)});
  }
  void comRequest(Byte which, ByteView value) {
    const Byte first = value.empty() ? Byte{0} : value[0];
    LineSettings wanted = line_;
    switch (which) {
      case com::kSignature: {
        Bytes out{com::kSignature + com::kAnswer};
        const std::string& s = options_.comPort->signature;
        out.insert(out.end(), s.begin(), s.end());
        return replySub(option::kComPort, out);
      }
      case com::kSetBaudRate:
        if (value.size() >= 4 && loadBe32(value.data()) != 0)
          wanted.speed = static_cast<int>(std::min<std::uint32_t>(loadBe32(value.data()), 20'000'000));
        break;
      case com::kSetDataSize:
        if (first >= 5 && first <= 8) wanted.bits = first;
        break;
      case com::kSetParity:
        if (first >= 1 && first <= 5) wanted.parity = parityFromCode(first);
        break;
      case com::kSetStopSize:
        if (first >= 1 && first <= 3) wanted.stop = stopFromCode(first);
        break;
      case com::kSetControl: return comControl(first);
      case com::kSetModemStateMask:
        replySub(option::kComPort, {com::kSetModemStateMask + com::kAnswer, first});
        return sendModemState();
      case com::kSetLineStateMask:
        lineStateMask_ = first;
        return replySub(option::kComPort, {com::kSetLineStateMask + com::kAnswer, first});
      case com::kPurgeData:
        return replySub(option::kComPort, {static_cast<Byte>(which + com::kAnswer), first});
      default: return;
    }
    line_ = options_.comPort->changed ? options_.comPort->changed(wanted) : wanted;
    ByteWriter w;
    w.u8(which + com::kAnswer);
    if (which == com::kSetBaudRate) w.u32(static_cast<std::uint32_t>(line_.speed));
    if (which == com::kSetDataSize) w.u8(static_cast<unsigned>(line_.bits));
    if (which == com::kSetParity) w.u8(parityCode(line_.parity));
    if (which == com::kSetStopSize) w.u8(stopCode(line_.stop));
    replySub(option::kComPort, w.raw());
  }
  void comControl(Byte value) {
    if (const auto flow = flowFromCode(value)) line_.flow = *flow;
    const ComPortEvents& events = *options_.comPort;
    if ((value == com::kBreakOn || value == com::kBreakOff) && events.breakChanged)
      events.breakChanged(value == com::kBreakOn);
    if (value == com::kDtrOn || value == com::kDtrOff) lamps_.dtr = value == com::kDtrOn;
    if (value == com::kRtsOn || value == com::kRtsOff) lamps_.rts = value == com::kRtsOn;
    if (events.linesChanged) events.linesChanged(lamps_.dtr, lamps_.rts);
    replySub(option::kComPort,
             {com::kSetControl + com::kAnswer, value == com::kAskFlow ? flowCode(line_.flow) : value});
  }

  TelnetServerOptions options_;
  Byte lineStateMask_ = 0;  ///< RFC 2217: what the client wants to know
};

}  // namespace

Task<std::unique_ptr<TelnetStream>> telnetClient(StreamPtr below, TelnetOptions options) {
  auto client = std::make_unique<Client>(std::move(below), std::move(options));
  co_await client->begin();
  co_return client;
}

std::unique_ptr<TelnetStream> telnetServer(StreamPtr below, TelnetServerOptions options) {
  return std::make_unique<Server>(std::move(below), std::move(options));
}

}  // namespace kw

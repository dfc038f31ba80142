#include "text/transfer.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/runtime.hpp"

namespace kw::text {

namespace {

using namespace std::chrono_literals;

constexpr Byte kSoh = 1, kStx = 2, kEot = 4, kAck = 6, kNak = 21, kCan = 24, kCrc = 'C', kPad = 26;
constexpr int kMostTries = 10;

/// The line, byte by byte, with a limit of time.
class Bytewise {
 public:
  Bytewise(ByteStream& line, std::shared_ptr<Clock> clock) : line_(line), clock_(std::move(clock)) {}

  /// -1 when nothing comes in time.
  Task<int> next(Duration limit) {
    if (at_ == have_.size()) {
      bool came = false;
      co_await firstOf(fill(came), clock_->sleep(limit));
      if (!came) co_return -1;
    }
    co_return have_[at_++];
  }
  Task<void> put(Bytes bytes) { co_await line_.write(bytes); }
  /// Drops what is on its way, until it is quiet.
  Task<void> drain() {
    for (int b = 0; b >= 0;) b = co_await next(200ms);
  }
  Task<void> cancel() {
    Bytes cancel(5, kCan);
    co_await put(std::move(cancel));
  }

 private:
  Task<void> fill(bool& came) {
    Bytes in(2048);
    const std::size_t n = co_await line_.readSome(in);
    in.resize(n);
    have_ = std::move(in);
    at_ = 0;
    came = true;
  }
  ByteStream& line_;
  std::shared_ptr<Clock> clock_;
  Bytes have_;
  std::size_t at_ = 0;
};

[[noreturn]] void gaveUp(const char* who) {
  throw Error(ErrorKind::TimedOut, std::string(who) + " did not answer in time");
}
[[noreturn]] void calledOff() { throw Error(ErrorKind::Cancelled, "the other side called the transfer off"); }

Bytes block(Byte number, ByteView data, std::size_t size, bool crc) {
  Bytes out{size == 1024 ? kStx : kSoh, number, static_cast<Byte>(~number)};
  out.insert(out.end(), data.begin(), data.end());
  out.resize(3 + size, kPad);
  const ByteView body = ByteView(out).subspan(3);
  if (crc) {
    const std::uint16_t sum = crc16(body);
    out.push_back(static_cast<Byte>(sum >> 8));
    out.push_back(static_cast<Byte>(sum));
  } else {
    Byte sum = 0;
    for (Byte b : body) sum = static_cast<Byte>(sum + b);
    out.push_back(sum);
  }
  return out;
}

class Sender {
 public:
  Sender(ByteStream& line, std::shared_ptr<Clock> clock, TransferKind kind, OnProgress progress)
      : line_(line, std::move(clock)), kind_(kind), progress_(std::move(progress)) {}

  Task<bool> send(TransferFile file) {
    co_await awaitReceiver();
    if (kind_ == TransferKind::Ymodem) {
      co_await sendHeader(file);
      co_await awaitReceiver();
    }
    co_await sendBody(file);
    Bytes end{kEot};
    if (kind_ != TransferKind::Ymodem) co_return co_await deliverLast(std::move(end));
    co_await deliver(std::move(end));
    co_await awaitReceiver();  // an empty header ends the batch
    Bytes none(128, 0);
    Bytes last = block(0, none, 128, true);
    co_return co_await deliverLast(std::move(last));
  }

 private:
  Task<void> awaitReceiver() {
    int cancels = 0;
    for (int tries = 0; tries < 60;) {
      const int b = co_await line_.next(1s);
      if (b < 0) ++tries;
      if (b == kCrc || b == kNak) {
        crc_ = b == kCrc;
        co_return;
      }
      cancels = b == kCan ? cancels + 1 : 0;
      if (cancels >= 2) calledOff();
    }
    gaveUp("the receiver");
  }

  Task<void> deliver(Bytes bytes) {
    for (int tries = 0; tries < kMostTries; ++tries) {
      co_await line_.put(bytes);
      const int answer = co_await untilAnswer();
      if (answer == kAck) co_return;
      ++repeats_;
    }
    co_await line_.cancel();
    throw Error(ErrorKind::ProtocolBroken,
                "the receiver refused a block " + std::to_string(kMostTries) + " times");
  }

  Task<int> untilAnswer() {
    int cancels = 0;
    for (;;) {
      const int b = co_await line_.next(10s);
      if (b < 0 || b == kAck || b == kNak) co_return b;
      cancels = b == kCan ? cancels + 1 : 0;
      if (cancels >= 2) calledOff();
    }
  }

  Task<void> sendHeader(const TransferFile& file) {
    const std::string text = file.name.substr(0, 80) + '\0' + std::to_string(file.content.size());
    Bytes header(text.begin(), text.end());
    header.resize(128, 0);
    co_await deliver(block(0, header, 128, true));
  }

  Task<void> sendBody(const TransferFile& file) {
    TransferProgress now{0, file.content.size(), 0, file.name};
    Byte number = 1;
    for (std::size_t at = 0; at < file.content.size(); ++number) {
      const std::size_t left = file.content.size() - at;
      const bool large = kind_ != TransferKind::Xmodem && crc_ && left > 128;
      const std::size_t size = large ? 1024 : 128;
      const std::size_t n = std::min(size, left);
      co_await deliver(block(number, ByteView(file.content).subspan(at, n), size, crc_));
      at += n;
      now.done = at;
      now.repeats = repeats_;
      if (progress_) progress_(now);
    }
  }

  /// What ends everything; false when nobody says that it came.
  Task<bool> deliverLast(Bytes last) {
    for (int tries = 0; tries < 3; ++tries) {
      co_await line_.put(last);
      // Somebody else may be there already, whose words are no answer.
      int b = 0;
      for (int heard = 0; b >= 0 && heard < 200; ++heard) {
        b = co_await line_.next(3s);
        if (b == kAck) co_return true;
        if (b == kNak) break;  // it wants to hear it again
      }
    }
    co_return false;
  }

  Bytewise line_;
  TransferKind kind_;
  OnProgress progress_;
  bool crc_ = false;
  int repeats_ = 0;
};

class Receiver {
 public:
  Receiver(ByteStream& line, std::shared_ptr<Clock> clock, TransferKind kind, OnProgress progress)
      : line_(line, std::move(clock)), kind_(kind), progress_(std::move(progress)) {}

  Task<std::vector<TransferFile>> receive() {
    std::vector<TransferFile> files;
    if (kind_ != TransferKind::Ymodem) {
      TransferFile file;
      co_await body(file, UINT64_MAX);
      files.push_back(std::move(file));
      co_return files;
    }
    for (;;) {
      std::uint64_t size = UINT64_MAX;
      auto file = co_await header(size);
      if (!file) co_return files;
      co_await body(*file, size);
      if (size != UINT64_MAX && file->content.size() > size) file->content.resize(size);
      files.push_back(std::move(*file));
      if (files.size() > 1000) protocolBroken("YMODEM", "more than 1000 files");
    }
  }

 private:
  enum class Got { Block, End, Nothing, Broken };

  /// Asks (C, later NAK) until the first block comes.
  Task<Got> begin() {
    bool broken = false;  // a first block came, but spoiled: it is asked for again, not begun anew
    for (int tries = 0; tries < 20; ++tries) {
      if (!broken) crc_ = kind_ != TransferKind::Xmodem || tries < 4;
      Bytes ask{crc_ && !broken ? kCrc : kNak};
      co_await line_.put(std::move(ask));
      const Got got = co_await read(3s);
      if (got == Got::Block || got == Got::End) co_return got;
      broken = broken || got == Got::Broken;
      if (got == Got::Broken) co_await line_.drain();
    }
    gaveUp("the sender");
  }

  Task<Got> read(Duration limit) {
    int cancels = 0;
    int lead = 0;
    for (;;) {
      lead = co_await line_.next(limit);
      if (lead < 0) co_return Got::Nothing;
      if (lead == kSoh || lead == kStx || lead == kEot) break;
      cancels = lead == kCan ? cancels + 1 : 0;
      if (cancels >= 2) calledOff();
    }
    if (lead == kEot) co_return Got::End;
    const std::size_t size = (lead == kStx ? 1024U : 128U) + (crc_ ? 4U : 3U);
    Bytes all;
    while (all.size() < size) {
      const int b = co_await line_.next(1s);
      if (b < 0) co_return Got::Broken;
      all.push_back(static_cast<Byte>(b));
    }
    if (static_cast<Byte>(all[0] ^ all[1]) != 0xFF) co_return Got::Broken;
    data_.assign(all.begin() + 2, all.end() - (crc_ ? 2 : 1));
    number_ = all[0];
    if (crc_) co_return crc16(data_) == loadBe16(all.data() + all.size() - 2) ? Got::Block : Got::Broken;
    Byte sum = 0;
    for (Byte b : data_) sum = static_cast<Byte>(sum + b);
    co_return sum == all.back() ? Got::Block : Got::Broken;
  }

  Task<void> say(Byte what) {
    Bytes one{what};
    co_await line_.put(std::move(one));
  }

  Task<std::optional<TransferFile>> header(std::uint64_t& size) {
    const Got got = co_await begin();
    if (got != Got::Block || number_ != 0) protocolBroken("YMODEM header", "is not block 0");
    co_await say(kAck);
    const auto end = std::find(data_.begin(), data_.end(), Byte{0});
    TransferFile file;
    file.name.assign(data_.begin(), end);
    if (file.name.empty()) co_return std::nullopt;
    // Only the last part of a name counts: nobody writes outside the folder that was chosen.
    file.name = cleanUtf8(file.name.substr(file.name.find_last_of("/\\") + 1));
    if (file.name.empty() || file.name == "." || file.name == "..") file.name = "received";
    std::string digits;
    for (auto p = end == data_.end() ? end : end + 1;
         p != data_.end() && *p >= '0' && *p <= '9' && digits.size() < 12; ++p)
      digits += static_cast<char>(*p);
    if (!digits.empty()) size = std::stoull(digits);
    co_return file;
  }

  Task<void> body(TransferFile& file, std::uint64_t size) {
    TransferProgress now{0, size == UINT64_MAX ? 0 : size, 0, file.name};
    Byte expected = 1;
    Got got = co_await begin();
    for (int troubles = 0;;) {
      if (got == Got::End) break;
      if (got == Got::Block && number_ == expected) {
        file.content.insert(file.content.end(), data_.begin(), data_.end());
        if (file.content.size() > kMostReceived) {
          co_await line_.cancel();
          protocolBroken("transfer", "more than 64 MiB came");
        }
        now.done = std::min<std::uint64_t>(file.content.size(), size);
        if (progress_) progress_(now);
        ++expected;
        troubles = 0;
        co_await say(kAck);
      } else if (got == Got::Block && number_ == static_cast<Byte>(expected - 1)) {
        co_await say(kAck);  // our answer was lost
      } else {
        if (++troubles > kMostTries) {
          co_await line_.cancel();
          protocolBroken("transfer", "a block stayed broken");
        }
        ++now.repeats;
        if (got == Got::Broken) co_await line_.drain();
        co_await say(kNak);
      }
      got = co_await read(10s);
    }
    co_await say(kAck);
  }

  Bytewise line_;
  TransferKind kind_;
  OnProgress progress_;
  bool crc_ = true;
  Byte number_ = 0;
  Bytes data_;
};

}  // namespace

std::uint16_t crc16(ByteView bytes) {
  unsigned crc = 0;
  for (Byte b : bytes) {
    crc ^= static_cast<unsigned>(b) << 8;
    for (int i = 0; i < 8; ++i) crc = crc & 0x8000 ? crc << 1 ^ 0x1021 : crc << 1;
  }
  return static_cast<std::uint16_t>(crc);
}

Task<bool> sendFile(ByteStream& line, std::shared_ptr<Clock> clock, TransferKind kind, TransferFile file,
                    OnProgress progress) {
  Sender sender(line, std::move(clock), kind, std::move(progress));
  co_return co_await sender.send(std::move(file));
}

Task<std::vector<TransferFile>> receiveFiles(ByteStream& line, std::shared_ptr<Clock> clock,
                                             TransferKind kind, OnProgress progress) {
  Receiver receiver(line, std::move(clock), kind, std::move(progress));
  co_return co_await receiver.receive();
}

}  // namespace kw::text

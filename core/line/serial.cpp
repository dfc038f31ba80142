#include "line/serial.hpp"

#include <asm/termbits.h>
#include <fcntl.h>
#include <grp.h>
#include <linux/serial.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <boost/asio/posix/stream_descriptor.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <filesystem>
#include <fstream>

#include "base/error.hpp"

namespace kw {

namespace {

using boost::system::error_code;
namespace fs = std::filesystem;

std::string systemSays(int code) { return error_code(code, boost::system::system_category()).message(); }

/// Closes unless released.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  [[nodiscard]] int get() const { return fd_; }
  int release() { return std::exchange(fd_, -1); }

 private:
  int fd_;
};

std::string groupOf(const std::string& path) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) return {};
  const group* g = getgrgid(info.st_gid);
  return g != nullptr ? g->gr_name : std::to_string(info.st_gid);
}

[[noreturn]] void cannotOpen(int code, const std::string& path) {
  if (code == ENOENT || code == ENXIO || code == ENODEV)
    throw Error(ErrorKind::Unreachable, "there is no such device; is the adapter plugged in?", path);
  if (code == EACCES || code == EPERM)
    throw Error(ErrorKind::Local, "not allowed to open it; members of group " + groupOf(path) + " may", path);
  if (code == EBUSY) throw Error(ErrorKind::Local, "another program holds this line", path);
  throw Error(ErrorKind::Local, systemSays(code), path);
}

/// One opener at a time: TIOCEXCL against programs to come, flock against those that ask.
void claim(int fd, const std::string& path) {
  if (::flock(fd, LOCK_EX | LOCK_NB) != 0) {
    std::string who;
    const std::string self = " (process " + std::to_string(::getpid()) + ")";
    for (const std::string& holder : holdersOf(path))
      if (holder.find(self) == std::string::npos || who.empty()) who = holder;
    throw Error(ErrorKind::Local, who.empty() ? "another program holds this line" : who + " holds this line",
                path);
  }
  ::ioctl(fd, TIOCEXCL);
}

// struct termios2 takes any speed (BOTHER), not only the listed ones.
termios2 modeFor(termios2 t, const LineSettings& s) {
  t.c_iflag = 0;
  t.c_oflag = 0;
  t.c_lflag = 0;
  t.c_cflag = CREAD | CLOCAL | BOTHER | (BOTHER << IBSHIFT);
  static constexpr tcflag_t kBits[] = {CS5, CS6, CS7, CS8};
  t.c_cflag |= kBits[s.bits - 5];
  if (s.parity != Parity::None) t.c_cflag |= PARENB;
  if (s.parity == Parity::Odd || s.parity == Parity::Mark) t.c_cflag |= PARODD;
  if (s.parity == Parity::Mark || s.parity == Parity::Space) t.c_cflag |= CMSPAR;
  // With five data bits the hardware makes one and a half of CSTOPB, with more it makes two.
  if (s.stop != StopBits::One) t.c_cflag |= CSTOPB;
  if (s.flow == FlowControl::RtsCts) t.c_cflag |= CRTSCTS;
  if (s.flow == FlowControl::XonXoff) t.c_iflag |= IXON | IXOFF;
  t.c_ispeed = t.c_ospeed = static_cast<speed_t>(s.speed);
  t.c_cc[VMIN] = 1;
  t.c_cc[VTIME] = 0;
  t.c_cc[VSTART] = 0x11;
  t.c_cc[VSTOP] = 0x13;
  return t;
}

void apply(int fd, const LineSettings& s, const std::string& path) {
  if (s.speed < 1 || s.speed > 20'000'000)
    throw Error(ErrorKind::Local, "no line has this speed", std::to_string(s.speed));
  if (s.bits < 5 || s.bits > 8) throw Error(ErrorKind::Local, "a line has 5 to 8 data bits", path);
  if (s.stop == StopBits::OneAndHalf && s.bits != 5)
    throw Error(ErrorKind::Unsupported, "one and a half stop bits go with five data bits only", path);
  termios2 now{};
  if (::ioctl(fd, TCGETS2, &now) != 0) throw Error(ErrorKind::Local, "this is not a terminal device", path);
  const speed_t before = now.c_ospeed;
  const termios2 wanted = modeFor(now, s);
  if (::ioctl(fd, TCSETS2, &wanted) != 0)
    throw Error(ErrorKind::Unsupported, "the device refuses " + s.forPeople(), path);
  ::ioctl(fd, TCGETS2, &now);
  const auto off = std::abs(static_cast<long>(now.c_ospeed) - static_cast<long>(s.speed));
  if (off * 20 > s.speed)
    throw Error(ErrorKind::Unsupported,
                "the device cannot do " + std::to_string(s.speed) + " bits a second; " +
                    (now.c_ospeed == before ? "it stays at " : "nearest is ") + std::to_string(now.c_ospeed),
                path);
}

class DeviceStream : public ByteStream, public LineControl {
 public:
  DeviceStream(const Executor& on, int fd, std::string path, LineSettings settings)
      : file_(on, fd),
        timer_(on),
        flowTimer_(on),
        path_(std::move(path)),
        settings_(settings),
        before_(counted()) {}

  Task<std::size_t> readSome(ByteSpan into) override {
    error_code code;
    const std::size_t n = co_await file_.async_read_some(asio::buffer(into.data(), into.size()),
                                                         asio::redirect_error(asio::use_awaitable, code));
    if (code) raise(code);
    co_return n;
  }
  Task<void> write(ByteView bytes) override {
    while (!bytes.empty()) {
      std::size_t n = bytes.size();
      if (settings_.flow == FlowControl::DtrDsr) {
        co_await untilDsr();
        n = std::min(n, shortWhile());
      }
      error_code code;
      co_await asio::async_write(file_, asio::buffer(bytes.data(), n),
                                 asio::redirect_error(asio::use_awaitable, code));
      if (code) raise(code);
      bytes = bytes.subspan(n);
    }
  }
  void close() noexcept override {
    error_code ignored;
    timer_.cancel();
    flowTimer_.cancel();
    file_.close(ignored);
  }
  [[nodiscard]] std::string peer() const override { return path_; }

  [[nodiscard]] LineSettings settings() const override { return settings_; }
  Task<void> change(LineSettings settings) override {
    try {
      apply(fd(), settings, path_);
    } catch (const Error&) {
      apply(fd(), settings_, path_);
      throw;
    }
    settings_ = settings;
    co_return;
  }
  Task<void> sendBreak(std::chrono::milliseconds length) override {
    if (::ioctl(fd(), TIOCSBRK) != 0)
      throw Error(ErrorKind::Unsupported, "this device sends no break", path_);
    error_code ignored;
    timer_.expires_after(length);
    co_await timer_.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
    if (file_.is_open()) ::ioctl(fd(), TIOCCBRK);
  }
  Task<void> setRts(bool on) override { return setBit(TIOCM_RTS, on, "RTS"); }
  Task<void> setDtr(bool on) override { return setBit(TIOCM_DTR, on, "DTR"); }

  [[nodiscard]] std::optional<ModemLines> lines() override {
    int bits = 0;
    if (!file_.is_open() || ::ioctl(fd(), TIOCMGET, &bits) != 0) return std::nullopt;
    const auto lit = [bits](int bit) { return (bits & bit) != 0; };
    return ModemLines{lit(TIOCM_RTS), lit(TIOCM_DTR), lit(TIOCM_CTS),
                      lit(TIOCM_DSR), lit(TIOCM_CAR), lit(TIOCM_RI)};
  }
  [[nodiscard]] std::optional<LineErrors> errors() override {
    auto now = counted();
    if (!now || !before_) return std::nullopt;
    return LineErrors{now->framing - before_->framing, now->parity - before_->parity,
                      now->overrun - before_->overrun, now->breaks - before_->breaks};
  }

 private:
  int fd() { return file_.native_handle(); }
  std::optional<LineErrors> counted() {
    serial_icounter_struct c{};
    if (!file_.is_open() || ::ioctl(fd(), TIOCGICOUNT, &c) != 0) return std::nullopt;
    const auto count = [](int n) { return static_cast<std::uint64_t>(n); };
    return LineErrors{count(c.frame), count(c.parity), count(c.overrun) + count(c.buf_overrun), count(c.brk)};
  }

  [[noreturn]] void raise(const error_code& code) {
    if (code == asio::error::operation_aborted || code == asio::error::bad_descriptor)
      throw Error(ErrorKind::Cancelled, "ended here", path_);
    // EIO: the adapter was pulled, or the other end of a pseudo-terminal closed.
    throw Error(ErrorKind::ClosedByPeer,
                code.value() == EIO || code == asio::error::eof ? "the line is gone" : code.message(), path_);
  }

  Task<void> setBit(int bit, bool on, const char* name) {
    if (::ioctl(fd(), on ? TIOCMBIS : TIOCMBIC, &bit) != 0)
      throw Error(ErrorKind::Unsupported, std::string("this device has no ") + name + " line", path_);
    co_return;
  }

  // The kernel does not do DTR/DSR flow control. It is given no more than the line sends in a short while,
  // and nothing as long as the other side is not ready.
  [[nodiscard]] std::size_t shortWhile() const {
    constexpr int kBitsOfAByte = 10, kHundredthOfASecond = 100;
    return static_cast<std::size_t>(std::max(1, settings_.speed / kBitsOfAByte / kHundredthOfASecond));
  }
  [[nodiscard]] bool mayHandOver() {
    const auto now = lines();
    if (now && !now->dsr) return false;
    int waiting = 0;
    return ::ioctl(fd(), TIOCOUTQ, &waiting) != 0 || static_cast<std::size_t>(waiting) <= shortWhile() / 2;
  }
  Task<void> untilDsr() {
    error_code ignored;
    while (file_.is_open() && !mayHandOver()) {
      flowTimer_.expires_after(std::chrono::milliseconds(3));
      co_await flowTimer_.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
    }
  }

  asio::posix::stream_descriptor file_;
  asio::steady_timer timer_, flowTimer_;
  std::string path_;
  LineSettings settings_;
  std::optional<LineErrors> before_;  ///< the driver counts from when the machine was started
};

}  // namespace

std::vector<std::string> holdersOf(const std::string& path) {
  std::vector<std::string> out;
  std::error_code failed;
  const fs::path real = fs::canonical(path, failed);
  if (failed) return out;
  for (const auto& process : fs::directory_iterator("/proc", failed)) {
    const std::string pid = process.path().filename();
    if (pid.find_first_not_of("0123456789") != std::string::npos) continue;
    std::error_code hidden;
    for (const auto& open : fs::directory_iterator(process.path() / "fd", hidden)) {
      std::error_code gone;
      if (fs::read_symlink(open.path(), gone) != real) continue;
      std::string name;
      std::getline(std::ifstream(process.path() / "comm"), name);
      out.push_back(name + " (process " + pid + ")");
      break;
    }
  }
  return out;
}

Task<SerialLine> openSerial(std::string path, LineSettings settings) {
  struct stat info {};
  if (::stat(path.c_str(), &info) != 0) cannotOpen(errno, path);
  if (!S_ISCHR(info.st_mode)) throw Error(ErrorKind::Local, "this is not a character device", path);
  Descriptor fd(::open(path.c_str(), O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC));
  if (fd.get() < 0) {
    const int code = errno;
    if (code == EBUSY)
      for (const std::string& who : holdersOf(path))
        throw Error(ErrorKind::Local, who + " holds this line", path);
    cannotOpen(code, path);
  }
  if (!::isatty(fd.get())) throw Error(ErrorKind::Local, "this is not a terminal device", path);
  claim(fd.get(), path);
  apply(fd.get(), settings, path);
  auto executor = co_await asio::this_coro::executor;
  auto stream = std::make_unique<DeviceStream>(executor, fd.release(), path, settings);
  SerialLine line;
  line.control = stream.get();
  line.stream = std::move(stream);
  co_return line;
}

}  // namespace kw

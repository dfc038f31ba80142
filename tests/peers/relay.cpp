#include "tests/peers/relay.hpp"

#include <arpa/inet.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <stdexcept>
#include <vector>

namespace kw::test {

namespace {

constexpr std::size_t kPart = 65536, kNarrowPart = 4096;

sockaddr_in loopback(int port) {
  sockaddr_in out{};
  out.sin_family = AF_INET;
  out.sin_port = htons(static_cast<std::uint16_t>(port));
  out.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  return out;
}

/// False when one side is over.
bool pump(int from, int to, std::atomic<long>& bytes, std::size_t most = kPart) {
  char part[kPart];
  const ssize_t got = recv(from, part, most, MSG_DONTWAIT);
  if (got < 0) return true;
  if (got == 0) return false;
  bytes += got;
  for (ssize_t sent = 0; sent < got;) {
    const ssize_t n = send(to, part + sent, static_cast<std::size_t>(got - sent), MSG_NOSIGNAL);
    if (n <= 0) return false;
    sent += n;
  }
  return true;
}

}  // namespace

Relay::Relay(int target) : target_(target), listener_(socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
  sockaddr_in at = loopback(0);
  socklen_t size = sizeof at;
  if (bind(listener_, reinterpret_cast<sockaddr*>(&at), sizeof at) != 0 || listen(listener_, 64) != 0 ||
      getsockname(listener_, reinterpret_cast<sockaddr*>(&at), &size) != 0)
    throw std::runtime_error("no port for the relay");
  port_ = ntohs(at.sin_port);
  thread_ = std::thread([this] { run(); });
}

Relay::~Relay() {
  over_ = true;
  thread_.join();
  close(listener_);
}

void Relay::run() {
  std::vector<std::pair<int, int>> pairs;
  while (!over_) {
    if (pulled_) {
      std::this_thread::sleep_for(std::chrono::milliseconds(5));
      continue;
    }
    std::vector<pollfd> wanted{{listener_, POLLIN, 0}};
    for (const auto& [a, b] : pairs) wanted.insert(wanted.end(), {{a, POLLIN, 0}, {b, POLLIN, 0}});
    if (poll(wanted.data(), wanted.size(), 50) <= 0 || pulled_) continue;
    std::vector<std::pair<int, int>> left;
    for (std::size_t i = 0; i < pairs.size(); ++i) {
      const auto [a, b] = pairs[i];
      bool lives = wanted[1 + 2 * i].revents == 0 || pump(a, b, bytes_);
      if (lives && wanted[2 + 2 * i].revents != 0) {
        const long before = bytes_;
        lives = pump(b, a, bytes_, most_ > 0 ? kNarrowPart : kPart);
        if (most_ > 0)
          std::this_thread::sleep_for(std::chrono::microseconds(1'000'000 * (bytes_ - before) / most_));
      }
      if (lives)
        left.emplace_back(a, b);
      else
        close(a), close(b);
    }
    pairs = std::move(left);
    if (wanted[0].revents == 0) continue;
    const int here = accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
    const int there = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    const int held = 16384;
    if (most_ > 0) setsockopt(there, SOL_SOCKET, SO_RCVBUF, &held, sizeof held);
    const sockaddr_in to = loopback(target_);
    if (here >= 0 && connect(there, reinterpret_cast<const sockaddr*>(&to), sizeof to) == 0)
      pairs.emplace_back(here, there);
    else
      close(here), close(there);
  }
  for (const auto& [a, b] : pairs) close(a), close(b);
}

}  // namespace kw::test

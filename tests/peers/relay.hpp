// A cable on loopback that can be pulled: bytes between who connects here and a port, held while it is
// pulled.
#pragma once
#include <atomic>
#include <thread>

namespace kw::test {

class Relay {
 public:
  explicit Relay(int target);
  ~Relay();
  [[nodiscard]] int port() const { return port_; }
  /// Nothing goes either way, and nobody is told, until it is put back.
  void pull() { pulled_ = true; }
  void putBack() { pulled_ = false; }
  /// From now on so many bytes a second come from the port, with little held back on the way; 0: any number.
  void narrow(long bytesPerSecond) { most_ = bytesPerSecond; }
  [[nodiscard]] long bytes() const { return bytes_; }

 private:
  void run();
  int target_, port_ = 0, listener_ = -1;
  std::atomic<bool> pulled_ = false, over_ = false;
  std::atomic<long> bytes_ = 0, most_ = 0;
  std::thread thread_;
};

}  // namespace kw::test

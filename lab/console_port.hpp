// A host's port for consoles by machine ID: who comes says first which machine he means (MS-RDPEPS), then
// signs in with the host's account.
#pragma once
#include "lab/host.hpp"

namespace kw::lab {

class ConsolePort {
 public:
  /// `consoles` must outlive this.
  ConsolePort(Executor strand, std::string address, std::uint16_t port, rdp::ServerOptions options,
              std::vector<Console*> consoles);
  ~ConsolePort();
  /// Throws Error{Local} when the port is taken.
  void start();
  [[nodiscard]] std::uint16_t port() const;

 private:
  struct State;
  std::shared_ptr<State> state_;
};

}  // namespace kw::lab

#include "lab/console_port.hpp"

#include "base/little.hpp"

namespace kw::lab {

struct ConsolePort::State : std::enable_shared_from_this<ConsolePort::State> {
  Task<void> acceptAll() {
    auto self = shared_from_this();
    for (;;) {
      StreamPtr stream = co_await listener->accept();
      spawn(strand, [self, shared = std::make_shared<StreamPtr>(std::move(stream))] {
        return self->receive(shared);
      });
    }
  }

  /// MS-RDPEPS 2.2.1, in either version; whoever names no machine of ours is sent away.
  Task<void> receive(std::shared_ptr<StreamPtr> stream) {
    auto self = shared_from_this();
    Bytes head(4);
    for (std::size_t at = 0; at < 4;) at += co_await (*stream)->readSome(ByteSpan(head).subspan(at));
    const std::size_t size = loadLe32(head.data());
    if (size < 16 || size > 1024) co_return;
    Bytes body(size - 4);
    for (std::size_t at = 0; at < body.size();)
      at += co_await (*stream)->readSome(ByteSpan(body).subspan(at));
    LittleReader in(body, "pre-connection message");
    in.skip(4);
    const std::uint32_t version = in.u32();
    std::string id = std::to_string(in.u32());
    if (version >= 2) id = utf16ToUtf8(in.bytes(std::min<std::size_t>(in.u16() * std::size_t{2}, in.left())));
    for (Console* console : consoles)
      if (console->plan().id == id) console->admit(std::move(*stream), rdpDoor(options));
  }

  Executor strand;
  std::string address;
  std::uint16_t port = 0;
  rdp::ServerOptions options;
  std::vector<Console*> consoles;
  std::unique_ptr<Listener> listener;
};

ConsolePort::ConsolePort(Executor strand, std::string address, std::uint16_t port, rdp::ServerOptions options,
                         std::vector<Console*> consoles)
    : state_(std::make_shared<State>()) {
  state_->strand = std::move(strand);
  state_->address = std::move(address);
  state_->port = port;
  state_->options = std::move(options);
  state_->consoles = std::move(consoles);
}

ConsolePort::~ConsolePort() {
  if (state_->listener) post(state_->strand, [state = state_] { state->listener->close(); });
}

void ConsolePort::start() {
  state_->listener = listenTcp(state_->strand, state_->address, state_->port);
  spawn(state_->strand, [state = state_] { return state->acceptAll(); });
}

std::uint16_t ConsolePort::port() const { return state_->listener->port(); }

}  // namespace kw::lab

// What every target shares: a client that answers every question, and pictures small enough to fuzz quickly.
#pragma once
#include <cstdlib>
#include <sstream>
#include <vector>

#include "base/runtime.hpp"
#include "rfb/client.hpp"
#include "rfb/server.hpp"
#include "wire/stream.hpp"

namespace kw::fuzz {

/// Which of its parts a target runs: the input's first byte says it, of all of them or, for a run of some
/// alone, of those that KETTLE_FUZZ_PARTS names ("16" or "0,3,7").
inline unsigned part(std::uint8_t first, unsigned parts) {
  static const std::vector<unsigned> only = [] {
    const char* named = std::getenv("KETTLE_FUZZ_PARTS");
    std::istringstream list(named != nullptr ? named : "");
    std::vector<unsigned> numbers;
    for (std::string number; std::getline(list, number, ',');)
      numbers.push_back(static_cast<unsigned>(std::atoi(number.c_str())));
    return numbers;
  }();
  return (only.empty() ? first : only[first % only.size()]) % parts;
}

struct Events : rfb::ClientEvents {
  Task<rfb::SignIn> signIn(rfb::SignInRequest) override {
    rfb::SignIn answer;
    answer.user = "duty";
    answer.password = "orchid";
    co_return answer;
  }
  Task<bool> trust(PeerCertificate) override { co_return true; }
  void opened(const std::string&, const std::string&, bool) override {}
  void pictureResized(Size size, const std::vector<Screen>&) override {
    // Large pictures are allowed, but slow to fuzz; they are tested elsewhere.
    if (size.area() > 512 * 512) throw Error(ErrorKind::Local, "too large to fuzz");
  }
  void damaged(const Region&) override {}
};

/// Runs a client on bytes a server might send. Every kw::Error is a good end; anything else is a find.
inline void runClient(Bytes bytes, std::size_t mostPerRead) {
  Events events;
  auto picture = std::make_shared<Framebuffer>();
  try {
    runToEnd([&]() -> Task<void> {
      const Executor here = co_await asio::this_coro::executor;
      rfb::ClientOptions options;
      options.audio = true;
      rfb::Client client(here, systemClock(), picture, options, events);
      co_await client.run(replayStream(std::move(bytes), mostPerRead));
    });
  } catch (const Error&) {
  }
}

/// An RFB 3.8 greeting without a password for a small picture.
inline ByteWriter greeting() {
  ByteWriter out;
  out.text("RFB 003.008\n").u8(1).u8(1).u32(0).u16(96).u16(80);
  out.bytes(PixelFormat::native().serialize()).u32(0);
  return out;
}

}  // namespace kw::fuzz

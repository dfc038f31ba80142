// Somebody who signs in to a remote desktop and waits for its whole picture.
#pragma once
#include <functional>

#include "rdp/client.hpp"

namespace kw::bench {

struct RdpVisit : rdp::ClientEvents {
  explicit RdpVisit(Size size) : picture{0, 0, size.width, size.height} {}
  Task<std::optional<SignIn>> signIn(rdp::SignInRequest) override {
    co_return SignIn{"duty", "fern-house", SecretUse::Unknown};
  }
  Task<bool> trust(PeerCertificate) override { co_return true; }
  Task<bool> plain(std::string) override { co_return true; }
  void opened(const rdp::Agreed&) override {}
  void pictureResized(Size, const std::vector<Rect>&) override {}
  void cursorChanged(const rdp::Cursor&) override {}
  void damaged(const Region& r) override {
    seen.add(r);
    if (!isWhole && seen.covers(picture)) isWhole = true, whole();
  }

  Rect picture;
  Region seen = Region::exact();
  bool isWhole = false;
  std::function<void()> whole = [] {};  ///< once
};

}  // namespace kw::bench

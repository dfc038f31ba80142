// Licensing (MS-RDPBCGR 2.2.1.12, MS-RDPELE): usually the service says at once that all is well; else the
// whole exchange is gone through with a licence that is not kept.
#pragma once
#include <optional>
#include <string>

#include "rdp/standard_security.hpp"

namespace kw::rdp {

class Licensing {
 public:
  Licensing(std::string user, std::string machine) : user_(std::move(user)), machine_(std::move(machine)) {}
  /// Takes one licensing message (after its security header); gives the answer to send, if any. done()
  /// afterwards says whether the session goes on. Throws Error{SignInFailed} when the service refuses a
  /// licence.
  std::optional<Bytes> take(ByteView message);
  [[nodiscard]] bool done() const { return done_; }

 private:
  Bytes answerRequest(ByteView body);
  Bytes answerChallenge(ByteView body);
  [[nodiscard]] Bytes mac(ByteView bytes) const;

  std::string user_, machine_;
  Bytes macKey_, cipherKey_;
  bool done_ = false;
};

/// What a server says to be done with it: "valid client".
Bytes licenceValidClient();

}  // namespace kw::rdp

// A Kerberos realm of the test's own: MIT's key service on loopback, and a service that takes its tickets.
#pragma once
#include "rdp/proof.hpp"
#include "tests/support.hpp"

namespace kw::test {

/// ALDER-VALE.EXAMPLE with the account duty, whose password is fern-house, and the remote desktop service of
/// seed-bank.alder-vale.example. While it lives, it is the only realm that this process knows.
class Realm {
 public:
  Realm();
  ~Realm();
  Realm(const Realm&) = delete;
  Realm& operator=(const Realm&) = delete;
  static bool available();

  void start();
  void stop();
  /// The key service takes connections and says nothing.
  void stall();
  /// A command of kadmin.local: "modprinc -pwexpire yesterday duty".
  void administer(const std::string& command) const;
  /// Checks tickets by SPNEGO with the service's own key, as GSSAPI does it.
  [[nodiscard]] std::unique_ptr<rdp::ProofCheck> check() const;

 private:
  TemporaryFolder folder_;
  int port_ = 0;
  pid_t process_ = -1;
  int stalled_ = -1;
};

}  // namespace kw::test

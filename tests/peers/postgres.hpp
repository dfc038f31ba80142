// A PostgreSQL server of the test's own, on loopback.
#pragma once
#include "tests/support.hpp"

namespace kw::test {

class Postgres {
 public:
  Postgres();
  ~Postgres();
  static bool available();
  /// "postgresql://duty@127.0.0.1:PORT/postgres"; everybody of this computer is let in.
  [[nodiscard]] std::string uri(const std::string& user = "duty") const;
  void start();
  void stop();
  /// All of its processes stand still; connections stay as they are.
  void freeze();
  void thaw();
  /// SQL as its owner.
  void run(const std::string& sql) const;

 private:
  TemporaryFolder folder_;
  int port_ = 0;
  pid_t process_ = -1;
};

}  // namespace kw::test

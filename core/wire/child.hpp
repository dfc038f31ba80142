// A program of this desk, talked to over its standard input and output.
#pragma once
#include <string>
#include <vector>

#include "wire/stream.hpp"

namespace kw {

/// A running program. Its standard error goes nowhere. Destroying it ends the program.
class Child {
 public:
  /// Throws Error{Local} when it cannot be started (not there, not executable).
  Child(const Executor& on, const std::vector<std::string>& words);
  ~Child();
  Child(const Child&) = delete;
  Child& operator=(const Child&) = delete;

  ByteStream& stream() { return *stream_; }

 private:
  StreamPtr stream_;
  int process_ = -1;
};

}  // namespace kw

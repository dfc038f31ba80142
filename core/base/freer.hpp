// Deleters for handles of C libraries: std::unique_ptr<BIO, Freer<BIO_free>>.
#pragma once
#include <memory>

namespace kw {

template <auto Free>
struct Freer {
  template <typename T>
  void operator()(T* what) const {
    Free(what);
  }
};

}  // namespace kw

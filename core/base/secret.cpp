#include "base/secret.hpp"

#include <sodium.h>

#include <cstring>
#include <new>

namespace kw {

/// libsodium's memory: locked where the system allows it, between pages that nobody may touch, wiped when
/// freed.
struct Secret::Text {
  explicit Text(std::string_view text) : size(text.size()), at(allocated(text.size() + 1)) {
    std::memcpy(at, text.data(), size);
    at[size] = '\0';
    sodium_mprotect_readonly(at);
  }
  ~Text() { sodium_free(at); }
  Text(const Text&) = delete;
  Text& operator=(const Text&) = delete;
  std::size_t size;
  char* at;

 private:
  static char* allocated(std::size_t n) {
    static const bool ready = sodium_init() >= 0;
    void* out = ready ? sodium_malloc(n) : nullptr;
    if (out == nullptr) throw std::bad_alloc();
    return static_cast<char*>(out);
  }
};

Secret::Secret(std::string_view text) {
  if (!text.empty()) text_ = std::make_shared<const Text>(text);
}

Secret::Secret(std::string&& text) : Secret(std::string_view(text)) {
  sodium_memzero(text.data(), text.size());
  text.clear();
}

std::size_t Secret::size() const { return text_ ? text_->size : 0; }
std::string_view Secret::view() const {
  return text_ ? std::string_view(text_->at, text_->size) : std::string_view();
}
const char* Secret::c_str() const { return text_ ? text_->at : ""; }

}  // namespace kw

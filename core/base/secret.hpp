// A password, a private key's text, a code's secret: kept in memory that is not swapped out, wiped with its
// last copy, and not to be printed by mistake.
#pragma once
#include <concepts>
#include <memory>
#include <ostream>
#include <string>
#include <string_view>

namespace kw {

/// Immutable; copies share one place, so a closure that holds one adds none. Thread-safe as a shared_ptr is.
class Secret {
 public:
  Secret() = default;
  Secret(std::string_view text);  // NOLINT: made of what was typed or opened, wherever that is
  Secret(const char* text) : Secret(std::string_view(text)) {}         // NOLINT
  Secret(const std::string& text) : Secret(std::string_view(text)) {}  // NOLINT
  /// Wipes what it was made of.
  Secret(std::string&& text);  // NOLINT

  [[nodiscard]] bool empty() const { return size() == 0; }
  [[nodiscard]] std::size_t size() const;
  /// Lives as long as any copy.
  [[nodiscard]] std::string_view view() const;
  operator std::string_view() const { return view(); }  // NOLINT
  /// Ends with a zero; for libraries that take nothing else.
  [[nodiscard]] const char* c_str() const;
  /// A copy that nobody wipes: for an interface that takes nothing else.
  [[nodiscard]] std::string plain() const { return std::string(view()); }
  void clear() { text_.reset(); }

  friend bool operator==(const Secret& a, const Secret& b) { return a.view() == b.view(); }
  template <std::convertible_to<std::string_view> T>
  requires(!std::same_as<T, Secret>) friend bool operator==(const Secret& a, const T& b) {
    return a.view() == std::string_view(b);
  }
  friend std::ostream& operator<<(std::ostream&, const Secret&) = delete;

 private:
  struct Text;
  std::shared_ptr<const Text> text_;
};

}  // namespace kw

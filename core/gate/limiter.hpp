// Brute force is slowed: after a few wrong sign-ins for one name, or from one address, the next waits, longer
// each time.
#pragma once
#include <map>
#include <string>

#include "gate/gate_store.hpp"

namespace kw::gate {

/// On one strand.
class Limiter {
 public:
  static constexpr int kFree = 3;  ///< wrong ones before anybody waits
  static constexpr Seconds kLongest = 300;
  static constexpr std::size_t kMostKept = 10'000;

  /// How long this key must still wait; 0: it may try now.
  [[nodiscard]] Seconds waits(const std::string& key, Seconds now) const {
    const auto found = tried_.find(key);
    return found == tried_.end() || found->second.until <= now ? 0 : found->second.until - now;
  }
  void wrong(const std::string& key, Seconds now) {
    if (tried_.size() >= kMostKept) forgetOld(now);
    Tried& t = tried_[key];
    if (t.until + kLongest < now) t.count = 0;
    ++t.count;
    if (t.count > kFree)
      t.until = now + std::min<Seconds>(kLongest, Seconds{1} << std::min(t.count - kFree, 9));
    else
      t.until = std::max(t.until, now);
  }
  void right(const std::string& key) { tried_.erase(key); }

 private:
  struct Tried {
    int count = 0;
    Seconds until = 0;
  };
  void forgetOld(Seconds now) {
    std::erase_if(tried_, [&](const auto& t) { return t.second.until + kLongest < now; });
    if (tried_.size() >= kMostKept) tried_.erase(tried_.begin());
  }
  std::map<std::string, Tried> tried_;
};

}  // namespace kw::gate

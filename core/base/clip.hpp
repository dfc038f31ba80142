// Something that was copied: which forms it can be had in, and each of them when somebody pastes. Nothing is
// fetched before.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>

#include "base/bytes.hpp"

namespace kw {

enum class ClipForm {
  Text,     ///< UTF-8, lines end with \n
  Html,     ///< UTF-8, without any platform's wrapping
  Rtf,      ///< as its specification has it
  Picture,  ///< a PNG
};

/// Thread-safe.
class Clip {
 public:
  using Got = std::function<void(std::optional<Bytes>)>;
  virtual ~Clip() = default;
  [[nodiscard]] virtual std::set<ClipForm> forms() const = 0;
  /// `got` is called once, from any thread, perhaps at once; with nothing when it cannot be had any more.
  virtual void fetch(ClipForm form, Got got) = 0;
};

/// Text that is here already.
class TextClip : public Clip {
 public:
  explicit TextClip(std::string utf8) : text_(std::move(utf8)) {}
  [[nodiscard]] std::set<ClipForm> forms() const override { return {ClipForm::Text}; }
  void fetch(ClipForm form, Got got) override {
    if (form != ClipForm::Text) return got(std::nullopt);
    got(Bytes(text_.begin(), text_.end()));
  }

 private:
  std::string text_;
};

}  // namespace kw

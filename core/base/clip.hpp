// Something that was copied: which forms it can be had in, and each of them when somebody pastes. Nothing is
// fetched before.
#pragma once
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace kw {

enum class ClipForm {
  Text,     ///< UTF-8, lines end with \n
  Html,     ///< UTF-8, without any platform's wrapping
  Rtf,      ///< as its specification has it
  Picture,  ///< a PNG
  Files,    ///< not fetched but listed and read
};

constexpr std::size_t kMostClipFiles = 100'000;

/// One of the files and folders that were copied together.
struct ClipFile {
  std::string path;  ///< "lots/12.csv", below the folder they were copied from
  bool folder = false;
  std::uint64_t size = 0;
  std::int64_t changed = 0;  ///< seconds since 1970, UTC; 0: not known
  bool operator==(const ClipFile&) const = default;
};

/// Thread-safe.
class Clip {
 public:
  using Got = std::function<void(std::optional<Bytes>)>;
  virtual ~Clip() = default;
  [[nodiscard]] virtual std::set<ClipForm> forms() const = 0;
  /// `got` is called once, from any thread, perhaps at once; with nothing when it cannot be had any more.
  virtual void fetch(ClipForm form, Got got) = 0;

  // Of ClipForm::Files; what is given is called as for fetch().
  using Listed = std::function<void(std::optional<std::vector<ClipFile>>)>;
  /// A folder comes before what is in it.
  virtual void list(Listed listed) { listed(std::nullopt); }
  /// `file`: its place in the list. Less than `most` only at the file's end.
  virtual void read(std::size_t /*file*/, std::uint64_t /*from*/, std::uint32_t /*most*/, Got got) {
    got(std::nullopt);
  }
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

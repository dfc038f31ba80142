// Copied files of this computer, as they are offered, and those of a machine, as they are saved here.
#pragma once
#include <atomic>
#include <filesystem>
#include <mutex>

#include "base/clip.hpp"
#include "base/task.hpp"

namespace kw {

/// Files and folders of this computer. Nothing is looked at before it is listed; links are followed for what
/// was copied itself, and left out below. Calls back on whichever thread asks.
class LocalFiles : public Clip {
 public:
  explicit LocalFiles(std::vector<std::filesystem::path> copied) : copied_(std::move(copied)) {}
  [[nodiscard]] std::set<ClipForm> forms() const override { return {ClipForm::Files}; }
  void fetch(ClipForm, Got got) override { got(std::nullopt); }
  void list(Listed listed) override;
  void read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) override;

 private:
  std::vector<std::filesystem::path> copied_;
  std::mutex mutex_;
  std::vector<std::filesystem::path> listed_;  ///< in the order of the list
};

/// True for "lots/12.csv": below the folder it is put in, whatever the other side would like.
bool isSafeClipPath(const std::string& path);

struct ClipSaving {
  std::atomic<std::uint64_t> done{0}, total{0};  ///< bytes
  std::atomic<std::size_t> files{0}, file{0};    ///< how many, and which one is on its way, from 1
  std::atomic<bool> stop{false};                 ///< set by whoever does not want it any more
};

/// Lists a machine's copied files and saves them into `folder`. What is there already stays: "12.csv" becomes
/// "12 (2).csv". Returns what was copied itself, as saved; the rest lies below. Throws Error{Local} for
/// unsafe names, what cannot be written, and when the machine has them no more; {Cancelled}. A file that did
/// not come whole is removed, those before it stay.
Task<std::vector<std::filesystem::path>> saveClipFiles(std::shared_ptr<Clip> clip,
                                                       std::filesystem::path folder,
                                                       std::shared_ptr<ClipSaving> saving);

}  // namespace kw

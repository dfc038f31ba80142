// What visitors were shown, kept in a file so that a keeper can play it again. docs/formats.md has the form.
#pragma once
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace kw::gate {

/// One kept visit; `file` is its name within the folder, and names it to keepers.
struct RecordingFacts {
  std::string file, machine, label;
  std::int64_t began = 0;    ///< seconds since 1970, UTC
  std::int64_t lasted = -1;  ///< milliseconds; -1: under way, or cut off
  std::uint64_t bytes = 0;
  std::string people;  ///< "duty, night volunteer"
  bool picture = false;
};

enum class RecordedKind : std::uint8_t {
  Message = 1,  ///< a JSON text as visitors were told
  Picture = 2,  ///< bytes of the picture's stream
  Anew = 3,     ///< the picture's stream begins anew
  End = 4,      ///< the last one; a JSON text: {"people": "…"}
};

/// One file that grows. Not thread-safe.
class RecordingWriter {
 public:
  /// Throws Error{Local} when there can be no file.
  RecordingWriter(const std::filesystem::path& folder, const std::string& machine, const std::string& label,
                  bool picture);
  ~RecordingWriter();
  RecordingWriter(const RecordingWriter&) = delete;
  RecordingWriter& operator=(const RecordingWriter&) = delete;

  /// `ms` since it began; never less than before. Throws Error{Local} when the disk is full.
  void add(RecordedKind kind, std::uint32_t ms, ByteView bytes);
  void note(const std::string& person);
  [[nodiscard]] std::uint64_t size() const { return size_; }
  [[nodiscard]] const std::string& file() const { return name_; }

 private:
  std::string name_;
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> out_;
  std::uint64_t size_ = 0;
  std::uint32_t last_ = 0;
  std::vector<std::string> people_;
};

/// Newest first; files that are none are passed over.
std::vector<RecordingFacts> recordingsIn(const std::filesystem::path& folder);
/// `most` bytes of a recording from an offset on; empty at its end. Throws Error{Local} when there is none of
/// this name.
std::string recordingPart(const std::filesystem::path& folder, const std::string& file, std::uint64_t from,
                          std::size_t most);
/// Throws Error{Local} when there is none of this name.
void removeRecording(const std::filesystem::path& folder, const std::string& file);
/// Those that were last written to longer ago than `age`; never one that is under way. Gives their names; one
/// that cannot be removed is left.
std::vector<std::string> removeOldRecordings(const std::filesystem::path& folder, std::chrono::seconds age);

}  // namespace kw::gate

// Keeps what a line says in a file: every byte as it came, or plain text with a time before each line.
#pragma once
#include <chrono>
#include <filesystem>
#include <fstream>
#include <functional>
#include <string>

#include "text/plain_lines.hpp"

namespace kw::text {

enum class LogForm { Plain, Raw };

struct LogOptions {
  std::filesystem::path folder;
  std::filesystem::path file;  ///< instead of a new file in the folder; appended to, never turned over
  std::string name;            ///< of the machine; becomes part of the file's name
  LogForm form = LogForm::Plain;
  bool times = true;                     ///< a time stamp before each plain line
  std::uintmax_t mostBytes = 16U << 20;  ///< then a new file is begun
  int mostFiles = 20;                    ///< of this name; the oldest are removed
};

class LogWriter {
 public:
  using WallClock = std::function<std::chrono::system_clock::time_point()>;
  /// Begins a file. Throws Error{Local} when that cannot be.
  explicit LogWriter(
      LogOptions options, WallClock now = [] { return std::chrono::system_clock::now(); });
  ~LogWriter();
  LogWriter(const LogWriter&) = delete;
  LogWriter& operator=(const LogWriter&) = delete;

  /// Throws Error{Local} when the disk is full or the folder gone; nothing that was written before is lost.
  void write(ByteView bytes);
  /// A line of its own that somebody set: "── mark: valve replaced ──".
  void mark(const std::string& note);
  [[nodiscard]] std::filesystem::path file() const { return path_; }

 private:
  void begin();
  void put(const std::string& text);
  void plainLine(const std::string& line);
  [[nodiscard]] std::string stamp() const;
  void removeOldest() const;

  LogOptions options_;
  WallClock now_;
  PlainLines plain_;
  std::filesystem::path path_;
  std::ofstream out_;
  std::uintmax_t written_ = 0;
};

struct LogHit {
  std::filesystem::path file;
  int line = 0;  ///< from 1
  std::string text;
};
/// Lines of logs below `folder` that contain `needle` (capitals do not count), newest file first, at most
/// `most`. Reads at most `mostBytes` in all.
std::vector<LogHit> searchLogs(const std::filesystem::path& folder, const std::string& needle,
                               std::size_t most, std::uintmax_t mostBytes = 64U << 20);

}  // namespace kw::text

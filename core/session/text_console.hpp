// What a session of text can do beyond the common shape. Commands may come from any thread.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "line/doctor.hpp"
#include "line/line.hpp"
#include "text/log_writer.hpp"
#include "text/terminal.hpp"
#include "text/transfer.hpp"
#include "text/watch_words.hpp"

namespace kw {

/// How slowly a paste goes out, for lines and programs that lose what comes too fast. Zero: as fast as it
/// goes.
struct Pacing {
  std::chrono::milliseconds perCharacter{0}, perLine{0};
};

class TextConsole {
 public:
  virtual ~TextConsole() = default;
  /// Thread-safe; lives as long as the session.
  virtual text::Terminal& terminal() = 0;
  /// The window has looked at the terminal: the next change is told again.
  virtual void textSeen() = 0;

  virtual void sendBytes(std::string bytes) = 0;
  /// As from the clipboard: line ends become what Enter sends, in brackets when the program there asked for
  /// them.
  virtual void paste(std::string utf8) = 0;
  virtual void setPacing(Pacing pacing) = 0;
  virtual void resizeText(int rows, int columns) = 0;
  /// Whether the terminal answers what the program there asks it (off when another terminal shows the text).
  virtual void answerQuestions(bool on) = 0;

  virtual void sendBreak(std::chrono::milliseconds length) = 0;
  virtual void changeLine(LineSettings settings) = 0;
  virtual void setRts(bool on) = 0;
  virtual void setDtr(bool on) = 0;
  /// The outcome comes as a report; nothing else is read meanwhile.
  virtual void tryUsualSettings(DoctorOptions options, std::function<void(DoctorReport)> done) = 0;

  virtual void sendFile(text::TransferKind kind, std::filesystem::path file) = 0;
  virtual void receiveFiles(text::TransferKind kind, std::filesystem::path folder) = 0;
  /// As it is, with the pacing.
  virtual void sendAsText(std::filesystem::path file) = 0;
  virtual void cancelTransfer() = 0;

  /// Errors come as remarks. An empty folder ends the log.
  virtual void logTo(text::LogOptions options) = 0;
  virtual void markLog(std::string note) = 0;
  /// Empty when nothing is logged.
  [[nodiscard]] virtual std::filesystem::path logFile() const = 0;

  virtual void setWatchWords(std::vector<text::WatchWord> words) = 0;
};

}  // namespace kw

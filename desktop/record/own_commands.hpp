// Runs what records name as commands of one's own: without a shell, and only what somebody at this desk has
// agreed to once, since a record may come from a colleague or a file.
#pragma once
#include <QObject>
#include <functional>

#include "record/words.hpp"

namespace kw::desktop {

class OwnCommands : public QObject {
  Q_OBJECT
 public:
  explicit OwnCommands(QWidget* window);
  /// `done` gets an empty text when it ended well, else a sentence. Nothing runs when the person says no.
  void run(const std::string& line, const Placeholders& values, std::function<void(const QString&)> done);
  /// True when somebody has agreed to it, now or before. Throws Error{Local} when that cannot be kept.
  [[nodiscard]] bool agreed(const std::string& line);
  /// Asks the person; replaced by tests.
  std::function<bool(const QString& command)> ask;

 private:
  QWidget* window_;
};

}  // namespace kw::desktop

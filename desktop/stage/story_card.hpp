// The card over a pane that tells what is going on and asks what has to be asked: no dialogs.
#pragma once
#include <QFrame>
#include <QPointer>

#include "desktop/model/open_session.hpp"

class QCheckBox;
class QFormLayout;
class QGridLayout;
class QLabel;
class QLineEdit;
class QPushButton;
class QVBoxLayout;

namespace kw::desktop {

class StoryCard : public QFrame {
  Q_OBJECT
 public:
  explicit StoryCard(QWidget* parent);
  void setSession(OpenSession* session);
  /// Shows what fits the session's state; hides itself when there is nothing to say.
  void refresh();
  /// The height the card needs at this width.
  [[nodiscard]] int heightFor(int width) const;
  /// Whether this machine has a console besides the way in that is waited for.
  std::function<bool()> hasConsole;

 signals:
  void endWanted();
  void fitted();
  /// The machine's console is to be shown beside the waiting.
  void consoleWanted();
  /// Why it does not open is to be looked at step by step.
  void whyWanted();

 private:
  void showProgress();
  void showStart(const host::StartView& view);
  void showTrouble();
  void showQuestion(const Question& question);
  [[nodiscard]] QString keepWords(const Question& question) const;
  void showPassword(const Question& question);
  void showUnsealed(const Question& question);
  void showTrust(const Question& question);
  void reset(const QString& key);
  QLabel* addText(const QString& text, const char* role = nullptr);
  QPushButton* addButton(const QString& text, bool own);

  QPointer<OpenSession> session_;
  QVBoxLayout* layout_;
  QWidget* body_ = nullptr;
  QVBoxLayout* bodyLayout_ = nullptr;
  QWidget* buttons_ = nullptr;
  QLabel* moving_ = nullptr;  ///< text that changes every second
  class StartTimeline* timeline_ = nullptr;
  QString shown_;  ///< which card stands, so that typing survives refreshes
};

}  // namespace kw::desktop

// A window of its own for one session or one of its screens; full screen with the spout, or framed.
#pragma once
#include <QWidget>

#include "desktop/model/open_session.hpp"

namespace kw::desktop {

class PictureView;
class Spout;
class StoryCard;
class TextView;
struct SpoutEntry;

class ScreenWindow : public QWidget {
  Q_OBJECT
 public:
  /// `screen` 0 shows the whole picture.
  ScreenWindow(OpenSession* session, int screen, bool fullScreen);
  [[nodiscard]] OpenSession* session() const { return session_; }
  [[nodiscard]] int screen() const { return screen_; }
  [[nodiscard]] PictureView* view() const { return view_; }
  /// Null unless the session is one of text.
  [[nodiscard]] TextView* textView() const { return text_; }
  [[nodiscard]] Spout* spout() const { return spout_; }
  void setSpoutPlace(int edge, double share);
  void setFullScreen(bool on);
  [[nodiscard]] bool fullScreen() const { return full_; }
  /// Entries besides the window's own; asked for each time.
  std::function<std::vector<SpoutEntry>()> moreEntries;

 signals:
  void backToWindow(kw::desktop::OpenSession* session);
  void endWanted(kw::desktop::OpenSession* session);
  void spoutMoved(int edge, double share);

 protected:
  void resizeEvent(QResizeEvent* event) override;
  void closeEvent(QCloseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  void refresh();
  void placeStory();
  [[nodiscard]] std::vector<SpoutEntry> entries();

  QPointer<OpenSession> session_;
  int screen_;
  [[nodiscard]] QWidget* face() const;
  PictureView* view_;
  TextView* text_ = nullptr;
  StoryCard* story_;
  Spout* spout_;
  QTimer tick_;
  bool full_ = false;  ///< asked for; what the desktop made of it may lag behind
};

}  // namespace kw::desktop

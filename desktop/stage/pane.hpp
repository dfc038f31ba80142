// One pane of the stage: a header, the picture, and the pane's own story (status, questions) over it.
#pragma once
#include <QFrame>
#include <QPointer>

#include "desktop/model/open_session.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/text/text_view.hpp"

class QLabel;
class QToolButton;
class QVBoxLayout;

namespace kw::desktop {

class LineLamps;
class StoryCard;

class Pane : public QFrame {
  Q_OBJECT
 public:
  explicit Pane(QWidget* parent = nullptr);

  /// Null leaves the pane empty.
  void setSession(OpenSession* session);
  [[nodiscard]] OpenSession* session() const { return session_; }
  [[nodiscard]] PictureView* view() { return view_; }
  [[nodiscard]] TextView* textView() { return text_; }
  /// What takes the keyboard: the picture or the text.
  [[nodiscard]] QWidget* face() const;
  [[nodiscard]] bool showsText() const { return session_ && session_->text() != nullptr; }
  void setFocusMark(bool focused);
  [[nodiscard]] StoryCard* story() { return story_; }
  /// A line below the header with one thing to do, until it is done, declined, or another session comes.
  void offer(const QString& sentence, const QString& act, std::function<void()> done);

 signals:
  void focused();
  void fullScreenWanted();
  void endWanted();
  void releaseChordPressed();
  void keysMenuWanted(QPoint globalAt);
  void screensMenuWanted(QPoint globalAt);
  void viewMenuWanted(QPoint globalAt);
  /// A session was dropped on an edge or (Qt::Edge 0) the middle of this pane.
  void sessionDropped(kw::desktop::OpenSession* session, int edge);
  void chordWanted(const QString& chord);

 protected:
  void resizeEvent(QResizeEvent* event) override;
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dragMoveEvent(QDragMoveEvent* event) override;
  void dragLeaveEvent(QDragLeaveEvent* event) override;
  void dropEvent(QDropEvent* event) override;
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void refresh();
  void buildOffer();
  void layOutHeader();
  void placeStory();
  [[nodiscard]] int edgeAt(QPoint at) const;

  QPointer<OpenSession> session_;
  QWidget* header_;
  QWidget* body_;
  PictureView* view_;
  TextView* text_;
  LineLamps* lamps_;
  StoryCard* story_;
  QWidget* offer_;
  QLabel* offerText_;
  QPushButton* offerAct_;
  std::function<void()> offered_;
  QLabel *name_, *label_, *figure_, *remark_;
  QToolButton *keys_, *screens_, *viewButton_, *sound_, *full_, *end_;
  QTimer tick_;
  bool focusMark_ = false;
  int dropEdge_ = -1;
  QPoint dragStart_;
};

/// What drags of sessions carry, inside this process only.
constexpr const char* kSessionMime = "application/x-kettle-window-session";

}  // namespace kw::desktop

#include "desktop/window/screen_window.hpp"

#include <QCloseEvent>
#include <QKeyEvent>
#include <QVBoxLayout>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/stage/story_card.hpp"
#include "desktop/text/text_view.hpp"
#include "desktop/window/spout.hpp"

namespace kw::desktop {

ScreenWindow::ScreenWindow(OpenSession* session, int screen, bool fullScreen)
    : session_(session), screen_(screen) {
  setAttribute(Qt::WA_DeleteOnClose);
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(0, 0, 0, 0);
  view_ = new PictureView(this);
  column->addWidget(view_);
  if (session->text() != nullptr) {
    text_ = new TextView(this);
    column->addWidget(text_);
    text_->setSession(session);
    connect(text_->canvas(), &TextCanvas::releaseChordPressed, this, [this] { spout_->open(); });
    view_->hide();
  } else {
    view_->setSession(session);
    view_->setScreen(screen);
  }
  story_ = new StoryCard(face());
  story_->setSession(session);
  spout_ = new Spout(this);
  spout_->setContents(
      [this] { return session_ ? session_->machine() + " · " + session_->label() : QString(); },
      [this] { return entries(); });
  setWindowIcon(lineIcon("window", scheme().copper));
  connect(spout_, &Spout::placeChanged, this, &ScreenWindow::spoutMoved);
  connect(view_, &PictureView::releaseChordPressed, this, [this] { spout_->open(); });
  connect(story_, &StoryCard::fitted, this, &ScreenWindow::placeStory);
  connect(story_, &StoryCard::endWanted, this, [this] { emit endWanted(session_); });
  connect(session, &OpenSession::changed, this, &ScreenWindow::refresh);
  connect(session, &QObject::destroyed, this, &QWidget::close);
  tick_.setInterval(500);
  connect(&tick_, &QTimer::timeout, this, [this] { story_->refresh(); });
  tick_.start();
  refresh();
  resize(1024, 720);
  setFullScreen(fullScreen);
  show();
  text_ != nullptr ? text_->canvas()->setFocus() : view_->setFocus();
}

QWidget* ScreenWindow::face() const { return text_ != nullptr ? static_cast<QWidget*>(text_) : view_; }

void ScreenWindow::setFullScreen(bool on) {
  full_ = on;
  setWindowState(on ? windowState() | Qt::WindowFullScreen : windowState() & ~Qt::WindowFullScreen);
}

void ScreenWindow::setSpoutPlace(int edge, double share) { spout_->setPlace(edge, share); }

void ScreenWindow::refresh() {
  if (!session_) return;
  setWindowTitle(screen_ > 0 ? tr("%1, screen %2").arg(session_->machine()).arg(screen_)
                             : tr("%1 · %2").arg(session_->machine(), session_->label()));
  const bool stale = session_->hasPicture() && !session_->isLive();
  text_ != nullptr ? text_->canvas()->setStale(stale) : view_->setStale(stale);
  story_->refresh();
}

void ScreenWindow::placeStory() {
  const int width = std::min(460, std::max(200, face()->width() - 24));
  const int height = std::min(story_->heightFor(width), face()->height());
  story_->setGeometry((face()->width() - width) / 2, (face()->height() - height) / 2, width, height);
}

std::vector<SpoutEntry> ScreenWindow::entries() {
  std::vector<SpoutEntry> out;
  const auto add = [&](const QString& text, std::function<void()> act) {
    out.push_back({text, std::move(act), true, {}});
  };
  if (full_)
    add(tr("Back to the window"), [this] {
      emit backToWindow(session_);
      close();
    });
  else
    add(tr("Full screen"), [this] { setFullScreen(true); });
  add(tr("Put away (the session goes on)"), [this] { showMinimized(); });
  if (moreEntries)
    for (SpoutEntry& e : moreEntries()) out.push_back(std::move(e));
  add(tr("End the session"), [this] { emit endWanted(session_); });
  return out;
}

void ScreenWindow::resizeEvent(QResizeEvent*) {
  if (story_->isVisible()) placeStory();
}

void ScreenWindow::closeEvent(QCloseEvent* event) {
  view_->setSession(nullptr);
  if (text_ != nullptr) text_->setSession(nullptr);
  event->accept();
}

void ScreenWindow::keyPressEvent(QKeyEvent* event) {
  if (event->key() == Qt::Key_F11) setFullScreen(!full_);
}

}  // namespace kw::desktop

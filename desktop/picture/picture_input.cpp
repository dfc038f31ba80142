// Keys and pointer of a PictureView.
#include <QKeyEvent>
#include <QMouseEvent>
#include <QWheelEvent>

#include "desktop/picture/picture_view.hpp"
#include "desktop/picture/qt_keys.hpp"

namespace kw::desktop {

namespace {

constexpr unsigned kWheelUp = 1U << 3, kWheelDown = 1U << 4, kWheelLeft = 1U << 5, kWheelRight = 1U << 6;
constexpr int kPanBand = 36;
constexpr double kPanSpeed = 14;

unsigned maskOf(Qt::MouseButtons buttons) {
  return (buttons & Qt::LeftButton ? 1U : 0U) | (buttons & Qt::MiddleButton ? 2U : 0U) |
         (buttons & Qt::RightButton ? 4U : 0U);
}

/// One number for a physical key, equal for press and release.
quint64 keyIdentity(const QKeyEvent& event) {
  const quint64 native = event.nativeScanCode();
  return native != 0 ? native : (quint64{1} << 32 | static_cast<quint32>(event.key()));
}

}  // namespace

bool PictureView::event(QEvent* event) {
  // While the picture has the keyboard, shortcuts of this window are keys like all others.
  if (event->type() == QEvent::ShortcutOverride && session_ && session_->shown.takesShortcuts &&
      session_->isLive()) {
    event->accept();
    return true;
  }
  // Tab belongs to the machine, not to the focus chain.
  if (event->type() == QEvent::KeyPress || event->type() == QEvent::KeyRelease) {
    auto* key = static_cast<QKeyEvent*>(event);
    if (key->key() == Qt::Key_Tab || key->key() == Qt::Key_Backtab) {
      event->type() == QEvent::KeyPress ? keyPressEvent(key) : keyReleaseEvent(key);
      return true;
    }
  }
  return QWidget::event(event);
}

void PictureView::keyPressEvent(QKeyEvent* event) {
  if (!session_ || !session_->isLive()) {
    QWidget::keyPressEvent(event);
    return;
  }
  if (chord_.update(*event, true, QString::fromStdString(session_->shown.releaseChord))) {
    chord_.forget();
    releaseKeys();
    emit releaseChordPressed();
    return;
  }
  KeyStroke stroke = keyStrokeOf(*event);
  if (stroke.keysym == 0 && stroke.scanCode == 0) return;
  if (!session_->shown.sendsPositions) stroke.scanCode = 0;
  held_[keyIdentity(*event)] = stroke;
  session_->session().key(stroke.keysym, stroke.scanCode, true);
}

void PictureView::keyReleaseEvent(QKeyEvent* event) {
  if (session_) chord_.update(*event, false, QString::fromStdString(session_->shown.releaseChord));
  if (event->isAutoRepeat()) return;  // the machine repeats by itself while the key is down
  const auto found = held_.find(keyIdentity(*event));
  if (found == held_.end() || !session_) return;
  session_->session().key(found->second.keysym, found->second.scanCode, false);
  held_.erase(found);
}

void PictureView::releaseKeys() {
  if (session_)
    for (const auto& [identity, stroke] : held_)
      session_->session().key(stroke.keysym, stroke.scanCode, false);
  held_.clear();
  chord_.forget();
}

void PictureView::focusInEvent(QFocusEvent* event) {
  QWidget::focusInEvent(event);
  emit focused();
}

void PictureView::focusOutEvent(QFocusEvent* event) {
  releaseKeys();
  QWidget::focusOutEvent(event);
}

void PictureView::sendPointer(QMouseEvent* event) {
  if (!session_ || !session_->isLive()) return;
  buttons_ = maskOf(event->buttons());
  if (session_->pointerIsRelative()) {
    const QPoint now = event->position().toPoint();
    const QPoint moved = now - lastRelative_;
    lastRelative_ = now;
    session_->session().pointerBy(moved.x(), moved.y(), buttons_);
    const QPoint centre = rect().center();
    if ((now - centre).manhattanLength() > std::min(width(), height()) / 3) {
      lastRelative_ = centre;
      QCursor::setPos(mapToGlobal(centre));
    }
    return;
  }
  // Outside the picture nothing is sent, except to end a drag.
  if (!area_.contains(event->position()) && event->buttons() == Qt::NoButton &&
      event->type() == QEvent::MouseMove)
    return;
  session_->session().pointer(toPicture(event->position()), buttons_);
}

void PictureView::mousePressEvent(QMouseEvent* event) {
  setFocus(Qt::MouseFocusReason);
  lastRelative_ = event->position().toPoint();
  sendPointer(event);
}

void PictureView::mouseReleaseEvent(QMouseEvent* event) { sendPointer(event); }

void PictureView::mouseMoveEvent(QMouseEvent* event) {
  panTowards(event->position());
  sendPointer(event);
}

/// Near an edge of the pane, a picture that is larger moves along.
void PictureView::panTowards(QPointF at) {
  panStep_ = {};
  if (mode_ == FitMode::Actual || mode_ == FitMode::Whole) {
    const auto step = [](double position, double extent, double low, double high) {
      if (position < kPanBand && low < 0) return -kPanSpeed;
      if (position > extent - kPanBand && high > extent) return kPanSpeed;
      return 0.0;
    };
    panStep_ = {step(at.x(), width(), area_.left(), area_.right()) / scale_,
                step(at.y(), height(), area_.top(), area_.bottom()) / scale_};
  }
  if (panStep_.isNull())
    panTimer_.stop();
  else if (!panTimer_.isActive())
    panTimer_.start();
}

void PictureView::wheelEvent(QWheelEvent* event) {
  if (!session_ || !session_->isLive()) return;
  const QPoint angle = event->angleDelta();
  const bool sideways = std::abs(angle.x()) > std::abs(angle.y());
  wheelRest_ += sideways ? angle.x() : angle.y();
  const Point at = toPicture(event->position());
  while (std::abs(wheelRest_) >= 120) {
    const bool forward = wheelRest_ > 0;
    wheelRest_ += forward ? -120 : 120;
    const unsigned bit = sideways ? (forward ? kWheelLeft : kWheelRight) : (forward ? kWheelUp : kWheelDown);
    session_->session().pointer(at, buttons_ | bit);
    session_->session().pointer(at, buttons_);
  }
  event->accept();
}

}  // namespace kw::desktop

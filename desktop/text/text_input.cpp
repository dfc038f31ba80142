// Keys of a text pane.
#include <QClipboard>
#include <QGuiApplication>
#include <QKeyEvent>

#include "desktop/text/text_canvas.hpp"

namespace kw::desktop {

namespace {

using text::TextKey;

std::optional<TextKey> namedKey(int key) {
  if (key >= Qt::Key_F1 && key <= Qt::Key_F20)
    return static_cast<TextKey>(static_cast<int>(TextKey::F1) + key - Qt::Key_F1);
  switch (key) {
    case Qt::Key_Return:
    case Qt::Key_Enter: return TextKey::Enter;
    case Qt::Key_Tab:
    case Qt::Key_Backtab: return TextKey::Tab;
    case Qt::Key_Backspace: return TextKey::Backspace;
    case Qt::Key_Escape: return TextKey::Escape;
    case Qt::Key_Up: return TextKey::Up;
    case Qt::Key_Down: return TextKey::Down;
    case Qt::Key_Left: return TextKey::Left;
    case Qt::Key_Right: return TextKey::Right;
    case Qt::Key_Insert: return TextKey::Insert;
    case Qt::Key_Delete: return TextKey::Delete;
    case Qt::Key_Home: return TextKey::Home;
    case Qt::Key_End: return TextKey::End;
    case Qt::Key_PageUp: return TextKey::PageUp;
    case Qt::Key_PageDown: return TextKey::PageDown;
    default: return std::nullopt;
  }
}

}  // namespace

bool TextCanvas::event(QEvent* event) {
  if (event->type() == QEvent::ShortcutOverride && session_ && session_->shown.takesShortcuts &&
      session_->isLive()) {
    event->accept();
    return true;
  }
  // Tab belongs to the machine, not to the focus chain.
  if (event->type() == QEvent::KeyPress) {
    auto* key = static_cast<QKeyEvent*>(event);
    if (key->key() == Qt::Key_Tab || key->key() == Qt::Key_Backtab) {
      keyPressEvent(key);
      return true;
    }
  }
  return QWidget::event(event);
}

/// Keys that are for the pane itself: with both Ctrl and Shift, or Shift and a page key.
bool TextCanvas::handledHere(const QKeyEvent& event) {
  const auto held = event.modifiers() & (Qt::ControlModifier | Qt::ShiftModifier | Qt::AltModifier);
  if (held == (Qt::ControlModifier | Qt::ShiftModifier)) {
    switch (event.key()) {
      case Qt::Key_C: copy(); return true;
      case Qt::Key_V: emit pasteWanted(QGuiApplication::clipboard()->text()); return true;
      case Qt::Key_F: emit findWanted(); return true;
      case Qt::Key_A: selectAll(); return true;
      case Qt::Key_Up: scrollBy(-1); return true;
      case Qt::Key_Down: scrollBy(1); return true;
      default: return false;
    }
  }
  if (held != Qt::ShiftModifier || view_.alternate) return false;
  switch (event.key()) {
    case Qt::Key_PageUp: scrollBy(1 - rowsShown()); return true;
    case Qt::Key_PageDown: scrollBy(rowsShown() - 1); return true;
    case Qt::Key_Home: scrollTo(view_.oldestRow); return true;
    case Qt::Key_End: scrollTo(view_.screenTop); return true;
    default: return false;
  }
}

void TextCanvas::keyPressEvent(QKeyEvent* event) {
  if (terminal() == nullptr) return QWidget::keyPressEvent(event);
  if (chord_.update(*event, true, QString::fromStdString(session_->shown.releaseChord))) {
    chord_.forget();
    emit releaseChordPressed();
    return;
  }
  if (handledHere(*event)) return;
  if (!session_->isLive() || session_->viewOnly()) return QWidget::keyPressEvent(event);
  const auto held = event->modifiers();
  const text::Modifiers with{bool(held & Qt::ShiftModifier), bool(held & Qt::AltModifier),
                             bool(held & Qt::ControlModifier)};
  bool sent = true;
  if (const auto key = namedKey(event->key())) {
    text::Modifiers m = with;
    if (event->key() == Qt::Key_Backtab) m.shift = true;
    terminal()->key(*key, m);
  } else if (with.ctrl && event->key() >= Qt::Key_Space && event->key() <= Qt::Key_AsciiTilde) {
    char32_t c = static_cast<char32_t>(event->key());
    if (c >= 'A' && c <= 'Z') c += 'a' - 'A';
    terminal()->character(c, with);
  } else if (!event->text().isEmpty() && event->text()[0].unicode() >= 0x20) {
    for (const char32_t c : event->text().toUcs4()) terminal()->character(c, {false, with.alt, false});
  } else {
    sent = false;
  }
  if (!sent) return;
  clearSelection();
  if (!follow_) scrollTo(view_.screenTop);
}

void TextCanvas::keyReleaseEvent(QKeyEvent* event) {
  if (session_) chord_.update(*event, false, QString::fromStdString(session_->shown.releaseChord));
}

void TextCanvas::inputMethodEvent(QInputMethodEvent* event) {
  if (terminal() != nullptr && session_->isLive() && !session_->viewOnly())
    for (const char32_t c : event->commitString().toUcs4()) terminal()->character(c, {});
  event->accept();
}

}  // namespace kw::desktop

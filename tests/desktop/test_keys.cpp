// From Qt's key events to what travels.
#include "desktop/picture/qt_keys.hpp"
#include "tests/desktop/window_bench.hpp"

using namespace kw;
using namespace kw::desktop;

namespace {
KeyStroke strokeOf(int key, const QString& text, Qt::KeyboardModifiers modifiers = {}, quint32 scanCode = 0) {
  return keyStrokeOf(QKeyEvent(QEvent::KeyPress, key, modifiers, scanCode, 0, 0, text));
}
}  // namespace

TEST_CASE("Qt keys become keysyms and positions", "[keys]") {
  CHECK(strokeOf(Qt::Key_A, "a") == KeyStroke{'a', 0x1e});
  CHECK(strokeOf(Qt::Key_A, "A", Qt::ShiftModifier) == KeyStroke{'A', 0x1e});
  CHECK(strokeOf(Qt::Key_C, "\x03", Qt::ControlModifier) == KeyStroke{'c', 0x2e});
  CHECK(strokeOf(Qt::Key_Return, "\r") == KeyStroke{keysym::kReturn, 0x1c});
  CHECK(strokeOf(Qt::Key_F11, "") == KeyStroke{keysym::kF1 + 10, 0x57});
  CHECK(strokeOf(Qt::Key_Delete, "\x7f") == KeyStroke{keysym::kDelete, 0xe053});
  CHECK(strokeOf(Qt::Key_Adiaeresis, QString::fromUtf8("\xc3\xa4")) == KeyStroke{0xe4, 0});
  CHECK(strokeOf(Qt::Key_unknown, QString::fromUtf8("\xe2\x82\xac")).keysym == 0x010020ac);
  // The hardware's own code wins over the guess from a US keyboard.
  CHECK(strokeOf(Qt::Key_Z, "z", {}, 21 + 8) == KeyStroke{'z', 21});
  CHECK(strokeOf(Qt::Key_Right, "", {}, 106 + 8) == KeyStroke{keysym::kRight, 0xe04d});
  // Left and right modifiers are told apart.
  CHECK(strokeOf(Qt::Key_Shift, "", {}, 50).keysym == keysym::kShiftLeft);
  CHECK(strokeOf(Qt::Key_Shift, "", {}, 62).keysym == keysym::kShiftRight);
  CHECK(strokeOf(Qt::Key_Control, "", {}, 105) == KeyStroke{keysym::kControlRight, 0xe01d});
}

TEST_CASE("Keys held down are let go when the picture loses the keyboard", "[keys]") {
  test::WindowBench bench(1);
  MainWindow& window = bench.open();
  bench.openLive(0);
  bench.view()->setFocus();
  // Ctrl stays down here while the focus moves away: over there it must not.
  QKeyEvent press(QEvent::KeyPress, Qt::Key_Control, Qt::NoModifier, 37, 0, 0);
  QApplication::sendEvent(bench.view(), &press);
  window.goField()->setFocus();
  bench.view()->setFocus();
  QTest::keyClicks(bench.view(), "palm");
  CHECK(test::shown([&] { return bench.noteOf(0) == "palm"; }));
}

// From Qt's key events to keysyms and PC scan codes.
#pragma once
#include <QKeyEvent>

#include "session/keys.hpp"

namespace kw::desktop {

/// keysym 0 when the event means no key that can be sent (a dead key being composed, say).
KeyStroke keyStrokeOf(const QKeyEvent& event);
/// True for the right one of a pair of modifier keys.
bool isRightHand(const QKeyEvent& event);

}  // namespace kw::desktop

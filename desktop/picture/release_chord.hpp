// The two keys that, held together, give keyboard and pointer back to this desk.
#pragma once
#include <QKeyEvent>
#include <QString>

#include "desktop/picture/qt_keys.hpp"

namespace kw::desktop {

class ReleaseChord {
 public:
  /// True when both keys of the chord are down now. `chord` as in the setting keyboard.release.
  bool update(const QKeyEvent& event, bool down, const QString& chord) {
    const bool right = isRightHand(event);
    bool first = false, second = false;
    if (chord == "ctrlshift") {
      first = event.key() == Qt::Key_Control && right;
      second = event.key() == Qt::Key_Shift && right;
    } else {
      const int wanted = chord == "controls" ? Qt::Key_Control : Qt::Key_Shift;
      first = event.key() == wanted && !right;
      second = event.key() == wanted && right;
    }
    if (first) first_ = down;
    if (second) second_ = down;
    return first_ && second_;
  }
  void forget() { first_ = second_ = false; }

 private:
  bool first_ = false, second_ = false;
};

}  // namespace kw::desktop

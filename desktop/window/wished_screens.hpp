// The screens that a machine's record wishes: asked for each time its session has become live, then shown.
#pragma once
#include <functional>

#include "desktop/model/open_session.hpp"

class QScreen;

namespace kw::desktop {

/// This desk's monitors, the main one first.
std::vector<QScreen*> monitorsMainFirst();

class WishedScreens : public QObject {
  Q_OBJECT
 public:
  /// Lives as long as the session.
  explicit WishedScreens(OpenSession* session);

 signals:
  /// There is a screen now that is to be shown in a window of its own, once: 2 and higher, or all when the
  /// record wishes that they fill monitors; then `monitor` is not null.
  void furtherScreen(int number, QScreen* monitor);

 private:
  void look();
  void askFor();
  void showNext();

  OpenSession* session_;
  bool began_ = false;      ///< asked before
  bool asked_ = false;      ///< since the session is live
  std::size_t wanted_ = 0;  ///< screens
  std::size_t shown_ = 1;
};

}  // namespace kw::desktop

// The screens that a machine's record wishes: asked for each time its session has become live, then shown.
#pragma once
#include <functional>

#include "desktop/model/open_session.hpp"

namespace kw::desktop {

/// This desk's monitors in their own pixels, the main one first; QScreens in the same order.
QList<QScreen*> monitorsMainFirst();

class WishedScreens : public QObject {
  Q_OBJECT
 public:
  /// Lives as long as the session.
  explicit WishedScreens(OpenSession* session);

 signals:
  /// There is a further screen now, to be shown once: 2 and higher. `monitor` is null unless the record
  /// wishes that it fills one.
  void furtherScreen(int number, QScreen* monitor);

 private:
  void look();
  void askFor();

  OpenSession* session_;
  bool asked_ = false;      ///< since the session is live
  std::size_t wanted_ = 0;  ///< screens
  std::size_t shown_ = 1;
};

}  // namespace kw::desktop

// For menus and dialogs: a session may end while they are open.
#pragma once
#include <QPointer>
#include <utility>

#include "desktop/model/open_session.hpp"

namespace kw::desktop {

/// Calls `act` with the session, or nothing once it is gone.
template <typename F>
auto whileOpen(OpenSession* session, F act) {
  return [session = QPointer<OpenSession>(session), act = std::move(act)] {
    if (session) act(session.data());
  };
}

}  // namespace kw::desktop

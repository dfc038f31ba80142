// Numbers of things in words: there is no catalogue for the language of the source, which could do it.
#pragma once
#include <QCoreApplication>
#include <QString>

namespace kw::desktop {

inline QString machineCount(int n) {
  return n == 1 ? QCoreApplication::translate("counts", "1 machine")
                : QCoreApplication::translate("counts", "%1 machines").arg(n);
}

inline QString wayCount(int n) {
  return n == 1 ? QCoreApplication::translate("counts", "1 way in")
                : QCoreApplication::translate("counts", "%1 ways in").arg(n);
}

}  // namespace kw::desktop

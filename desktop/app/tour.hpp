// A scripted walk through the real window, for machines without a display and for the screenshots.
#pragma once
#include <QString>

namespace kw::desktop {

class MainWindow;
/// Returns the exit code: 0 when every step came about. Pictures go to `folder`.
int runTour(MainWindow& window, const QString& folder);

}  // namespace kw::desktop

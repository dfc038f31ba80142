#define CATCH_CONFIG_RUNNER
#include <QApplication>
#include <catch2/catch.hpp>

#include "desktop/look/theme.hpp"

int main(int argc, char** argv) {
  if (qEnvironmentVariableIsEmpty("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  QApplication app(argc, argv);
  kw::desktop::applyScheme(app, kw::desktop::SchemeChoice::Evening);
  return Catch::Session().run(argc, argv);
}

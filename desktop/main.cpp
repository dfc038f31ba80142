// kettle-window: the window.
#include <QApplication>
#include <QCommandLineParser>
#include <QJsonDocument>
#include <QJsonObject>
#include <QMessageBox>
#include <iostream>

#include "base/file.hpp"
#include "base/secrecy.hpp"
#include "desktop/app/single_instance.hpp"
#include "desktop/app/tour.hpp"
#include "desktop/look/own_colours.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/model/desk.hpp"
#include "desktop/window/main_window.hpp"

namespace {

/// The scheme chosen last, and the name of an own one.
std::pair<kw::desktop::SchemeChoice, QString> rememberedScheme() {
  try {
    const auto bytes = kw::readFile(kw::stateFolder() / "window.json");
    const auto state = QJsonDocument::fromJson(QByteArray::fromStdString(kw::textOf(bytes))).object();
    return {static_cast<kw::desktop::SchemeChoice>(std::clamp(state["scheme"].toInt(0), 0, 3)),
            state["ownScheme"].toString()};
  } catch (const kw::Error&) {
    return {kw::desktop::SchemeChoice::FollowDesktop, {}};
  }
}

/// False when no own scheme has this name any more.
bool applyOwn(QApplication& app, const QString& name) {
  for (const kw::desktop::Scheme& s : kw::desktop::OwnColours::all().window)
    if (s.name == name) return kw::desktop::applyOwnScheme(app, s), true;
  return false;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace kw;
  kw::keepOutOfCoreDumps();
  using namespace kw::desktop;
  QApplication app(argc, argv);
  QApplication::setApplicationName("kettle-window");
  QApplication::setApplicationDisplayName("Kettle Window");
  QApplication::setApplicationVersion("0.1.0");
  QCommandLineParser parser;
  parser.setApplicationDescription("Screens and text consoles of virtual machines");
  parser.addHelpOption();
  parser.addVersionOption();
  parser.addPositionalArgument("address",
                               "A machine's name, an address (vnc://host:5901) or a connection file to open");
  QCommandLineOption tour("tour", "Walk through the window and save pictures into this folder", "folder");
  QCommandLineOption scheme("colours", "evening, morning or desktop", "name");
  QCommandLineOption store("store", "The records: a file, or postgresql://user@host/database", "place");
  parser.addOption(store);
  QCommandLineOption measure("measure-start",
                             "End as soon as the window is \"painted\" or its roster \"filled\"", "what");
  measure.setFlags(QCommandLineOption::HiddenFromHelp);
  parser.addOption(measure);
  parser.addOption(tour);
  parser.addOption(scheme);
  parser.process(app);
  const QString address = parser.positionalArguments().value(0);
  if (parser.isSet(store)) qputenv("KETTLE_STORE", parser.value(store).toUtf8());
  try {
    SingleInstance instance;
    if (!parser.isSet(tour) && !parser.isSet(measure) && instance.handOver(address)) return 0;
    auto [choice, ownName] = rememberedScheme();
    if (parser.value(scheme) == "evening" || parser.isSet(tour)) choice = SchemeChoice::Evening;
    if (parser.value(scheme) == "morning") choice = SchemeChoice::Morning;
    if (choice != SchemeChoice::Own || !applyOwn(app, ownName))
      applyScheme(app, choice == SchemeChoice::Own ? SchemeChoice::FollowDesktop : choice);
    OpeningTools tools;
    tools.store = openUsualStore();
    tools.vault = openVault(configFolder());
    Desk desk(tools, parser.isSet(tour) ? Records::Loading::Now : Records::Loading::Later);
    MainWindow window(desk);
    window.show();
    if (parser.isSet(measure)) {
      const bool filled = parser.value(measure) == "filled";
      while (filled && !desk.records().loaded()) QApplication::processEvents();
      window.repaint();
      std::_Exit(0);
    }
    if (parser.isSet(tour)) return runTour(window, parser.value(tour));
    instance.listen();
    QObject::connect(&instance, &SingleInstance::arrived, &window, [&window](const QString& message) {
      window.showNormal();
      window.raise();
      window.activateWindow();
      if (!message.isEmpty()) window.openMachine(message);
    });
    const auto begin = [&window, address] {
      address.isEmpty() ? window.offerLastTime() : window.openMachine(address);
    };
    // A name can be looked up only once the records are here.
    if (desk.records().loaded())
      begin();
    else
      QObject::connect(&desk.records(), &Records::changed, &window, begin, Qt::SingleShotConnection);
    return QApplication::exec();
  } catch (const std::exception& e) {
    std::cerr << "kettle-window: " << e.what() << "\n";
    if (!parser.isSet(tour) && QGuiApplication::platformName() != "offscreen")
      QMessageBox::critical(nullptr, "Kettle Window", QString::fromUtf8(e.what()));
    return 1;
  }
}

#include "desktop/app/tour.hpp"

#include <QApplication>
#include <QDir>
#include <QElapsedTimer>
#include <QFile>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QTableWidget>
#include <QTreeView>
#include <QTreeWidget>
#include <functional>
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "desktop/files/files_panel.hpp"
#include "desktop/hosts/stock_view.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/pages/colours_view.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/record/merge_view.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "session/keys.hpp"

namespace kw::desktop {

namespace {

class Tour {
 public:
  Tour(MainWindow& window, const QString& folder) : window_(window), folder_(folder) {}

  int run() {
    window_.resize(1280, 800);
    QDir().mkpath(folder_);
    roster();
    firstScreen();
    certificate();
    desktops();
    fourPanesAndStrip();
    lines();
    goField();
    sheet();
    stock();
    starting();
    sharing();
    records();
    trusted();
    colours();
    fullScreen();
    trouble();
    journal();
    morning();
    return failed_ ? 1 : 0;
  }

 private:
  /// Runs the event loop until the condition holds; a step that never comes about fails the tour.
  void until(const char* what, const std::function<bool()>& condition) {
    QElapsedTimer timer;
    timer.start();
    while (!condition()) {
      if (timer.elapsed() > 20'000) {
        std::cerr << "tour: never came about: " << what << std::endl;
        failed_ = true;
        return;
      }
      QApplication::processEvents(QEventLoop::AllEvents | QEventLoop::WaitForMoreEvents, 50);
    }
    QApplication::processEvents();
  }
  void picture(QWidget& widget, const QString& name) {
    QApplication::processEvents();
    const QString file = folder_ + "/" + name + ".png";
    if (!widget.grab().save(file)) failed_ = true;
    std::cout << "tour: " << file.toStdString() << std::endl;
  }
  OpenSession* open(const QString& machine) {
    window_.openMachine(machine);
    OpenSession* s = window_.stage()->focusedSession();
    until("the session opens",
          [&] { return s != nullptr && (s->question() || (s->isLive() && s->figures().frames > 0)); });
    return s;
  }
  OpenSession* live(const QString& machine) {
    OpenSession* s = open(machine);
    if (s != nullptr && s->question() && s->question()->kind == Question::Kind::Trust) {
      Answer yes;
      yes.accepted = yes.remember = true;
      s->answer(yes);
    }
    until("the picture comes", [&] { return s != nullptr && s->isLive() && s->figures().frames > 0; });
    return s;
  }
  [[nodiscard]] Id machineId(const QString& name) const {
    const Machine* m = window_.desk().records().snapshot().machineNamed(name.toStdString());
    return m != nullptr ? m->id : 0;
  }

  void roster() {
    const Id mist = machineId("mist-bench");
    until("the demo garden is there", [&] { return mist != 0; });
    window_.roster()->select(mist);
    const Snapshot& s = window_.desk().records().snapshot();
    const Id way = s.endpointsOf(mist).front()->id;
    until("mist-bench is checked", [&] { return window_.desk().reach().of(way).checked; });
    picture(window_, "roster");
  }
  void firstScreen() {
    OpenSession* s = live("mist-bench");
    s->typeText("Check zone B at 18:00");
    until("a key has changed the picture", [&] { return s->figures().keyToPicture.count() > 0; });
    picture(window_, "stage");
  }
  void certificate() {
    window_.stage()->arrange(2);
    OpenSession* s = open("ticket-kiosk");
    if (s->question()) picture(window_, "certificate");
    live("ticket-kiosk");
    OpenSession* asked = open("audio-guide");
    until("audio-guide asks", [&] { return asked->question().has_value(); });
    if (asked->question() && asked->question()->kind == Question::Kind::Trust) {
      Answer yes;
      yes.accepted = true;
      asked->answer(yes);
      until("audio-guide asks for its password",
            [&] { return asked->question() && asked->question()->kind != Question::Kind::Trust; });
    }
    window_.endSession(asked);
    until("the session is gone", [&] { return window_.stage()->sessions().size() == 2; });
  }
  /// A console by machine ID with the host's account, and a machine on two screens.
  void desktops() {
    window_.stage()->arrange(2);
    OpenSession* seeds = open("seed-bank");
    const auto asks = [seeds](Question::Kind kind) {
      return seeds->question() && seeds->question()->kind == kind;
    };
    if (asks(Question::Kind::Trust)) {
      Answer yes;
      yes.accepted = yes.remember = true;
      seeds->answer(yes);
    }
    until("seed-bank's console asks for the host's account",
          [&] { return asks(Question::Kind::UserAndPassword); });
    picture(window_, "password");
    Answer account;
    account.accepted = true;
    account.user = "duty";
    account.password = labSecret("hostPassword");
    seeds->answer(account);
    until("seed-bank's console is there", [&] { return seeds->isLive() && seeds->figures().frames > 0; });
    OpenSession* plates = live("herbarium-scan");
    until("the machine says what screens it has", [&] { return plates->offers().size() == 3; });
    plates->session().switchScreen(1, {800, 600});
    until("the second screen is on", [&] { return plates->screens().size() == 2; });
    window_.openScreensPlan(plates);
    until("a second's figures", [&] { return plates->figures().frames > 2; });
    picture(window_, "screens");
    for (OpenSession* s : {seeds, plates}) window_.endSession(s);
    until("both are put away", [&] { return window_.desk().sessions().count(plates) == 0; });
  }
  void fourPanesAndStrip() {
    window_.stage()->arrange(4);
    for (const char* name : {"palm-house-01", "palm-house-02", "palm-house-03", "palm-house-04"}) live(name);
    QElapsedTimer timer;
    timer.start();
    until("the strip has pictures", [&] { return timer.elapsed() > 700; });
    picture(window_, "four-panes");
  }
  OpenSession* openWay(const QString& machine, const char* label) {
    const Snapshot& s = window_.desk().records().snapshot();
    for (const Endpoint* e : s.endpointsOf(machineId(machine)))
      if (e->label == label) window_.openEndpoint(e->id);
    OpenSession* session = window_.stage()->focusedSession();
    until("the line opens", [&] { return session != nullptr && session->isLive(); });
    return session;
  }
  /// Waits until the text stands on the screen of the session's terminal.
  void seen(OpenSession* s, const char* text) {
    until(text, [&] { return s->text()->terminal().screenText().find(text) != std::string::npos; });
  }
  void lines() {
    window_.stage()->arrange(4);
    openWay("palm-house-24", "screen");
    OpenSession* weather = openWay("weather-mast", "line");
    seen(weather, "WIND");
    OpenSession* menu = openWay("irrigation-plc", "menu");
    seen(menu, "ready");
    OpenSession* mist = openWay("mist-bench", "line");
    mist->text()->sendBytes("\r");
    seen(mist, "login:");
    mist->text()->sendBytes("duty\r");
    seen(mist, "Password:");
    mist->text()->sendBytes(guestPassword() + "\r");
    seen(mist, "help");
    mist->text()->sendBytes("help\rzones\rlog\r");
    seen(mist, "06:31:12");
    text::LogOptions log;
    log.folder = stateFolder() / "logs", log.name = "mist-bench";
    mist->text()->logTo(log);
    until("the log is begun", [&] { return !mist->text()->logFile().empty(); });
    QElapsedTimer timer;
    timer.start();
    until("four lines of telemetry and a painted frame",
          [&] { return weather->text()->terminal().cursor().row > 3 && timer.elapsed() > 400; });
    picture(window_, "lines");
    window_.stage()->arrange(1);
    window_.stage()->show(mist);
    TextView* text = window_.stage()->focusedPane()->textView();
    until("the line has the whole pane's columns",
          [&] { return mist->text()->terminal().screen().columns > 60; });
    text->openFind();
    text->findField()->setText("zone");
    until("finds are counted", [&] { return text->findCount() > 3; });
    picture(window_, "find");
    text->closeFind();
    text->canvas()->scrollTo(text->canvas()->lastFirstRow());
    files();
    window_.stage()->show(mist);
    for (OpenSession* s : {weather, menu, mist}) window_.endSession(s);
    until("the lines are put away", [&] { return window_.desk().sessions().count(mist) == 0; });
  }
  /// gatehouse's files beside what is on the stage, in a folder that the tour makes.
  void files() {
    const QString base = QDir::tempPath() + "/alder-vale";
    QDir().mkpath(base + "/desk");
    QDir().mkpath(base + "/gatehouse/zones");
    for (const char* name : {"valve-2.4.bin", "schedule.txt", "mist.conf"})
      write(base + "/desk/" + name, 3000);
    for (const char* name : {"mist.log", "zones.csv", "backup.tar"})
      write(base + "/gatehouse/" + name, 52000);
    window_.openFiles(machineId("gatehouse"));
    FilesPanel* panel = window_.files();
    if (panel == nullptr) return;
    until("gatehouse shows its files", [&] { return !panel->remoteFolder().isEmpty(); });
    panel->setLocalFolder(base + "/desk");
    panel->work().list(base + "/gatehouse");
    until("the folder is shown", [&] { return panel->remoteList()->topLevelItemCount() == 4; });
    until("this desk's files are shown",
          [&] { return panel->localList()->model()->rowCount(panel->localList()->rootIndex()) == 3; });
    panel->localList()->selectAll();
    panel->sendSelected();
    until("the copies are there", [&] { return panel->remoteList()->topLevelItemCount() == 7; });
    picture(window_, "files");
    panel->hide();
    QDir(base).removeRecursively();
  }
  static void write(const QString& path, int size) {
    QFile f(path);
    if (f.open(QIODevice::WriteOnly)) f.write(QByteArray(size, 'v'));
  }
  static std::string labSecret(const char* name) {
    const auto json = nlohmann::json::parse(textOf(readFile(stateFolder() / "lab" / "secrets.json")));
    return json.at(name);
  }
  static std::string guestPassword() { return labSecret("guestPassword"); }
  void goField() {
    window_.goField()->setFocus();
    window_.goField()->setText("pal");
    picture(window_, "go");
    window_.goField()->clear();
  }
  void sheet() {
    window_.editMachine(machineId("audio-guide"));
    const Snapshot& s = window_.desk().records().snapshot();
    const Id way = s.endpointsOf(machineId("audio-guide")).front()->id;
    until("audio-guide is checked", [&] { return window_.desk().reach().of(way).checked; });
    if (auto* list = window_.sheet()->findChild<QListWidget*>()) list->setCurrentRow(2);
    picture(window_, "sheet");
    window_.editMachine(machineId("weather-mast"));
    if (auto* list = window_.sheet()->findChild<QListWidget*>())
      for (int i = 0; i < list->count(); ++i)
        if (list->item(i)->text().startsWith("Line")) list->setCurrentRow(i);
    picture(window_, "sheet-line");
    const Snapshot& now = window_.desk().records().snapshot();
    window_.editGroup(now.machines.at(machineId("palm-house-01")).folder);
    if (auto* list = window_.sheet()->findChild<QListWidget*>()) list->setCurrentRow(1);
    picture(window_, "sheet-group");
    window_.showStage();
  }
  void stock() {
    window_.showStock();
    StockView* page = window_.stock();
    until("both hosts tell their machines", [&] { return page->model().count(StockFilter::All) >= 29; });
    const Machine* seeds = window_.desk().records().snapshot().machineNamed("seed-bank");
    page->choose(host::idOnHost(window_.desk().records().snapshot(), seeds->id));
    picture(window_, "stock");
    window_.showStage();
  }
  /// bee-camera is off; its host starts it, and the pane waits until it answers.
  void starting() {
    window_.stage()->arrange(1);
    window_.startAndOpen(machineId("bee-camera"));
    OpenSession* bees = window_.stage()->focusedSession();
    until("bee-camera runs and does not answer yet", [&] {
      const host::StartView* v = bees != nullptr ? bees->starting() : nullptr;
      return v != nullptr && v->steps.size() > 3 && v->steps[3].state == host::StepState::Now &&
             v->took > std::chrono::seconds(2);
    });
    picture(window_, "starting");
    window_.endSession(bees);
    window_.lookWhy(window_.desk().records().snapshot().endpointsOf(machineId("palm-house-07")).front()->id);
    window_.roster()->select(machineId("palm-house-07"));
    window_.roster()->setFocus();
    until("why palm-house-07 does not open", [&] { return window_.side()->checks().size() > 2; });
    picture(window_, "why");
  }
  /// The gateway's page, with the window's own browserless visit: nobody but those who are there.
  void sharing() {
    const auto file = stateFolder() / "gate" / "duty.password";
    if (!std::filesystem::exists(file)) return;
    const std::string text = textOf(readFile(file));
    window_.showSharing();
    SharingView* page = window_.sharing();
    page->useAddress("127.0.0.15:8443", "duty");
    page->findChild<QLineEdit*>("gatePassword")
        ->setText(QString::fromStdString(text.substr(0, text.find('\n'))));
    page->signIn();
    auto* trust = page->findChild<QPushButton*>("gateTrust");
    until("the gateway's certificate is shown", [&] { return trust->isVisible(); });
    trust->click();
    until("the gateway lets duty in", [&] { return page->passes()->rowCount() > 0; });
    page->findChild<QPushButton*>("makePass")->click();
    until("a pass is made", [&] { return page->passes()->rowCount() > 1; });
    picture(window_, "sharing");
    window_.showStage();
  }
  /// Sign-ins with a name, and two people who changed one record.
  void records() {
    window_.showCredentials("duty on the guests");
    until("the code of the second factor shows",
          [&] { return window_.credentials()->findChild<QLabel*>("credentialCodeNow")->text().size() > 8; });
    picture(window_, "credentials");
    window_.editMachine(machineId("mist-bench"));
    Records& records = window_.desk().records();
    Machine theirs = records.snapshot().machines.at(machineId("mist-bench"));
    auto* name = window_.sheet()->findChild<QLineEdit*>("machineName");
    name->setText("mist-bench-east");
    theirs.tags = "controller, east house";
    // As a colleague's window would.
    records.store().commit("tag the east house", [&](StoreWriter& w) {
      w.put(theirs);
      w.set({OwnerKind::Machine, theirs.id}, "screen.quality", "high");
    });
    window_.sheet()->findChild<QPushButton*>("keep")->click();
    until("both changes are side by side", [&] { return window_.sheet()->mergeView()->isVisible(); });
    picture(window_, "merge");
    window_.sheet()->findChild<QPushButton*>("dropMine")->click();
    records.undo();
    window_.showStage();
  }
  void trusted() {
    window_.showTrusted();
    picture(window_, "trusted");
    window_.showStage();
  }
  void colours() {
    window_.showColours();
    ColoursView* page = window_.colours();
    page->choose("Fern", false);
    page->findChild<QPushButton*>("copyScheme")->click();
    picture(window_, "colours");
    page->findChild<QPushButton*>("removeScheme")->click();
    window_.showStage();
  }
  void fullScreen() {
    window_.stage()->arrange(1);
    OpenSession* s = live("mist-bench");
    ScreenWindow* full = window_.openFullScreen(s);
    full->resize(1280, 800);
    full->spout()->open();
    picture(*full, "full-screen");
    full->close();
    QApplication::processEvents();
  }
  void trouble() {
    window_.openAddress("vnc://127.0.0.11:5999");
    OpenSession* s = window_.stage()->focusedSession();
    until("the trouble is told", [&] { return s != nullptr && s->status().problem.has_value(); });
    picture(window_, "trouble");
    window_.endSession(s);
    until("the trouble is put away", [&] { return window_.desk().sessions().count(s) == 0; });
  }
  void journal() {
    window_.showJournal();
    picture(window_, "journal");
    window_.showStage();
  }
  void morning() {
    window_.stage()->arrange(2);
    window_.action("schemeMorning")->trigger();
    live("mist-bench");
    picture(window_, "morning");
    window_.action("schemeEvening")->trigger();
  }

  MainWindow& window_;
  QString folder_;
  bool failed_ = false;
};

}  // namespace

int runTour(MainWindow& window, const QString& folder) { return Tour(window, folder).run(); }

}  // namespace kw::desktop

// The main window: Go field, roster, stage, side; menus and what is remembered.
#pragma once
#include <QJsonObject>
#include <QMainWindow>
#include <QPointer>
#include <QTimer>
#include <vector>

#include "desktop/model/desk.hpp"
#include "desktop/roster/roster.hpp"
#include "desktop/window/go_field.hpp"
#include "desktop/window/side.hpp"
#include "host/why.hpp"

class QLabel;
class QSplitter;
class QStackedWidget;
class QPushButton;
class QToolButton;

namespace kw::desktop {

class ColoursView;
class FilesPanel;
class FirstStart;
class ImportView;
class ScreenWindow;
class ChangeOver;
class JournalView;
class Sheet;
class Side;
class Stage;
class TrustView;
struct SpoutEntry;

class MainWindow : public QMainWindow {
  Q_OBJECT
 public:
  explicit MainWindow(Desk& desk, QWidget* parent = nullptr);
  ~MainWindow() override;

  // What menus, Go field, tests and the tour do.
  void openEndpoint(Id endpoint);
  void openAddress(const QString& address);
  void openMachine(const QString& name);
  void editMachine(Id machine, const QString& address = {});
  void removeMachine(Id machine);
  /// The sheet of a place or group; 0 makes a new one in `parent`.
  void editGroup(Id folder, Id parent = 0);
  void removeGroup(Id folder);
  void endSession(OpenSession* session);
  ScreenWindow* openFullScreen(OpenSession* session);
  ScreenWindow* openScreenWindow(OpenSession* session, int screen);
  /// What was copied on its machine, into a folder; empty: asked for.
  void fetchCopiedFiles(OpenSession* session, QString folder = {});
  void showFurtherScreen(OpenSession* session, int number, class QScreen* monitor);
  void savePicture(OpenSession* session, QString file = {});
  void showJournal();
  void showTrusted();
  /// Sign-ins with a name; at one of them, or at the first.
  void showCredentials(const QString& name = {});
  [[nodiscard]] class CredentialsView* credentials() const { return credentials_; }
  /// Who changed what; 0: of everything.
  void showHistory(Id machine);
  [[nodiscard]] class HistoryView* history() const { return history_; }
  /// What is wrong in the records.
  void showTroubles();
  [[nodiscard]] class TroublesView* troubles() const { return troubles_; }
  void editMany(const std::vector<Id>& machines);
  [[nodiscard]] class ManySheet* manySheet() const { return many_; }
  void removeMany(const std::vector<Id>& machines);
  /// Asks their hosts, one machine after the other; what loses work is asked about once.
  void powerOfMany(const std::vector<Id>& machines, host::PowerAct act);
  void duplicateMachine(Id machine);
  void toggleFavourite(Id machine);
  void fillTemplates(class QMenu* menu);
  void fillOwnCommands(class QMenu* menu, Id machine);
  [[nodiscard]] class OwnCommands* ownCommands();
  void showImport();
  [[nodiscard]] ImportView* importView() const { return import_; }
  /// Machines out of connection files and tables: a preview first.
  void importFiles(const QStringList& files);
  [[nodiscard]] class ExchangeView* exchangeView() const { return exchange_; }
  void exportMachines();
  void pasteMachines();
  /// Opens what a connection file names, once, without keeping it.
  void openFile(const QString& file);
  /// Where colour schemes of the window and of text are made.
  void showColours();
  void useOwnScheme(const QString& name);
  [[nodiscard]] ColoursView* colours() const { return colours_; }
  [[nodiscard]] TrustView* trusted() const { return trusted_; }
  /// The files of a machine that has a way in by SSH, below the stage.
  void openFiles(Id machine);
  [[nodiscard]] FilesPanel* files() const { return files_; }
  void showStage();
  /// All machines of all hosts.
  void showStock();
  [[nodiscard]] class StockView* stock() const { return stock_; }
  /// A gateway: who is connected, and passes.
  void showSharing();
  [[nodiscard]] class SharingView* sharing() const { return sharing_; }
  /// Asks the machine's host to start it, waits, and opens its best way in; opens at once when it runs.
  void startAndOpen(Id machine);
  /// Looks step by step why a way in does not open; the side shows what is found.
  void lookWhy(Id endpoint, bool inside = false);
  void choose(const GoAnswer& answer);
  void say(const QString& sentence);
  /// Opens again what was open when the program ended; `offer` alone only shows the button.
  void offerLastTime();
  void reopenLastTime();

  [[nodiscard]] Stage* stage() const { return stage_; }
  [[nodiscard]] RosterList* roster() const { return roster_; }
  [[nodiscard]] GoField* goField() const { return go_; }
  [[nodiscard]] Side* side() const { return side_; }
  /// Made when it is first wanted, like the journal.
  [[nodiscard]] Sheet* sheet();
  [[nodiscard]] QLineEdit* narrowField() const { return narrow_; }
  [[nodiscard]] QAction* action(const QString& name) const;
  [[nodiscard]] const QList<QPointer<ScreenWindow>>& screenWindows() const { return windows_; }
  [[nodiscard]] Desk& desk() { return desk_; }
  /// The machine's screens as tiles to place and switch.
  void openScreensPlan(OpenSession* session);

 protected:
  void closeEvent(QCloseEvent* event) override;

 private:
  void buildTop();
  void buildMenus();
  void buildSessionMenu();
  void buildRecordActions(class QMenu* machine);
  void refreshRecordActions();
  void makeCopyOf(Id machine, const std::string& name);
  void runOwn(const std::string& line, Id machine, Id endpoint, const QString& title,
              std::function<void()> then);
  [[nodiscard]] bool runBefore(Id endpoint);
  void runAfter(Id endpoint);
  void buildViewMenu();
  QAction* add(class QMenu* menu, const QString& name, const QString& text, const QKeySequence& keys,
               std::function<void()> act);
  /// Enables or disables with a reason that tip and palette show.
  void allow(const QString& name, bool can, const QString& why = {});
  void refreshActions();
  void refreshSide();
  [[nodiscard]] std::vector<SideCheck> statesIn(Id folder) const;
  [[nodiscard]] std::vector<SideAbout> aboutOf(Id machine);
  void hostsChanged();
  /// How a machine's host says that it stands, where that says more than a look from here.
  void hostedNow(const Machine& machine, MachineNow& now) const;
  [[nodiscard]] const Endpoint* consoleBeside(const OpenSession* session) const;
  void takeFindings(Id endpoint, const std::vector<host::Finding>& found);
  void showFindings(Id endpoint);
  void followHost(Id endpoint);
  void consolePasswordAgain(Id endpoint);
  void buildPowerMenu(class QMenu* session);
  void powerOfMachine(host::PowerAct act);
  void fillPowerOfMany(class QMenu* menu, const std::vector<Id>& machines);
  void refreshPower(bool console, const QString& consoleWhy);
  void recordsChanged();
  [[nodiscard]] MachineNow nowOf(const Machine& machine) const;
  [[nodiscard]] OpenSession* current() const;
  /// The machine that is meant now: of the focused pane, else of the roster.
  [[nodiscard]] Id currentMachine() const;
  /// The way in by SSH of a machine; null when it has none.
  [[nodiscard]] const Endpoint* sshWayOf(Id machine) const;
  void fillKeysMenu(class QMenu* menu, OpenSession* session);
  void fillScreensMenu(class QMenu* menu, OpenSession* session);
  void fillPictureMenu(class QMenu* menu, OpenSession* session);
  // Sessions of text; text_menus.cpp.
  void buildTextMenu(class QMenu* session);
  void refreshTextActions();
  void fillViewMenu(class QMenu* menu, OpenSession* session);
  void fillTextMenu(class QMenu* menu, OpenSession* session);
  void fillSendMenu(class QMenu* menu, OpenSession* session);
  void fillLineMenu(class QMenu* menu, OpenSession* session);
  void tryUsualSettings(OpenSession* session);
  void logSession(OpenSession* session, bool raw);
  void showLog(const QString& file, int line);
  void refreshJournal();
  void markWhatIsWorkedOn();
  [[nodiscard]] class TextView* currentText() const;
  [[nodiscard]] std::vector<SpoutEntry> spoutEntries(OpenSession* session, ScreenWindow* window);
  void connectSession(OpenSession* session);
  void clipboardChanged();
  void fitToScreen();
  void refreshFirstStart();
  void cure(const QString& action);
  void fillOwnSchemes(class QMenu* menu);
  void coloursChanged();
  void setFit(const QString& word);
  void askForPower(PowerWish wish);
  void askPassphrase(bool toOpen);
  /// After how many minutes nobody touches this window kept passwords are locked.
  void askLockTime();
  void lockPasswords();
  void save();
  void restore();
  void showHelp(const QString& page);
  void showExchange();

  Desk& desk_;
  GoField* go_;
  QLineEdit* narrow_;
  QToolButton* groupButton_;
  RosterList* roster_;
  QStackedWidget* centre_;
  Stage* stage_;
  QSplitter* stageAndFiles_;
  TrustView* trusted_ = nullptr;  ///< made when first wanted
  ColoursView* colours_ = nullptr;
  ImportView* import_ = nullptr;
  class ExchangeView* exchange_ = nullptr;
  FilesPanel* files_ = nullptr;  ///< made when first wanted
  Sheet* sheet_ = nullptr;
  JournalView* journal_ = nullptr;
  ChangeOver* changeOver_ = nullptr;
  class StockView* stock_ = nullptr;
  class SharingView* sharing_ = nullptr;
  class CredentialsView* credentials_ = nullptr;
  class HistoryView* history_ = nullptr;
  class ManySheet* many_ = nullptr;
  class TroublesView* troubles_ = nullptr;
  class OwnCommands* own_ = nullptr;
  Id ranBefore_ = 0;  ///< the way in that is being opened after its command
  QString gateAddress_, gateAccount_;
  SideAbout lately_;  ///< of this machine
  Id latelyOf_ = 0;
  Id whyEndpoint_ = 0;  ///< whose findings these are
  std::vector<host::Finding> findings_;
  Side* side_;
  QSplitter* split_;
  QWidget* rosterPanel_;
  QLabel* saying_;
  QPushButton* lastTime_;
  FirstStart* firstStart_ = nullptr;
  QMap<QString, QAction*> actions_;
  QList<QPointer<ScreenWindow>> windows_;
  QJsonObject lastTimeOpen_;
  class VaultGuard* guard_;
  QTimer sayTimer_, watchTimer_;
  int spoutEdge_ = 1;
  double spoutShare_ = 0.3;
  bool sideWanted_ = true;
  QList<int> sizesWithSide_;  ///< of the three parts, while a page has the side's place
};

}  // namespace kw::desktop

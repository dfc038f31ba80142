// Menus, shortcuts and the reasons why something is not possible now.
#include <QApplication>
#include <QClipboard>
#include <QInputDialog>
#include <QMenu>
#include <QMenuBar>
#include <QMessageBox>
#include <QStackedWidget>

#include "desktop/app/vault_guard.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/model/while_open.hpp"
#include "desktop/pages/colours_view.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/text/text_view.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "session/keys.hpp"

namespace kw::desktop {

QAction* MainWindow::action(const QString& name) const { return actions_.value(name); }

QAction* MainWindow::add(QMenu* menu, const QString& name, const QString& text, const QKeySequence& keys,
                         std::function<void()> act) {
  QAction* a = menu->addAction(text);
  a->setShortcut(keys);
  a->setObjectName(name);
  connect(a, &QAction::triggered, this, [act = std::move(act)] { act(); });
  addAction(a);
  actions_[name] = a;
  return a;
}

void MainWindow::allow(const QString& name, bool can, const QString& why) {
  QAction* a = actions_.value(name);
  if (a == nullptr) return;
  a->setEnabled(can);
  a->setProperty("why", can ? QString() : why);
  const QString plain = QString(a->text()).remove('&');
  a->setToolTip(can || why.isEmpty() ? plain : plain + "\n" + why);
}

void MainWindow::buildMenus() {
  const auto menu = [this](const QString& title) {
    QMenu* m = menuBar()->addMenu(title);
    m->setToolTipsVisible(true);
    return m;
  };
  QMenu* machine = menu(tr("&Machine"));
  add(machine, "new", tr("&New machine…"), QKeySequence("Ctrl+N"), [this] { editMachine(0); });
  add(machine, "go", tr("&Go to…"), QKeySequence("Ctrl+G"), [this] {
    go_->setFocus(Qt::ShortcutFocusReason);
    go_->selectAll();
  });
  add(machine, "open", tr("&Open"), {}, [this] { roster_->openSelected(); });
  add(machine, "startAndOpen", tr("S&tart and open"), QKeySequence("Ctrl+Return"),
      [this] { startAndOpen(currentMachine()); });
  add(machine, "sheet", tr("&Edit the sheet…"), QKeySequence("Ctrl+E"), [this] {
    Id m = roster_->selected();
    if (current() != nullptr && !roster_->hasFocus())
      if (const auto e = desk_.records().snapshot().endpoints.find(current()->endpoint());
          e != desk_.records().snapshot().endpoints.end())
        m = e->second.machine;
    if (m != 0) editMachine(m);
  });
  add(machine, "remove", tr("&Remove"), {}, [this] { removeMachine(roster_->selected()); });
  buildRecordActions(machine);
  machine->addSeparator();
  add(machine, "newGroup", tr("New &place or group…"), {},
      [this] { editGroup(0, roster_->selectedFolder()); });
  add(machine, "groupSheet", tr("Edit the &group's sheet…"), QKeySequence("Ctrl+Shift+E"),
      [this] { editGroup(roster_->selectedFolder()); });
  add(machine, "importFiles", tr("Import &files…"), QKeySequence("Ctrl+Shift+I"),
      [this] { importFiles({}); });
  add(machine, "pasteMachines", tr("&Paste machines out of a table"), QKeySequence(),
      [this] { pasteMachines(); });
  add(machine, "export", tr("E&xport machines…"), {}, [this] { exportMachines(); });
  add(machine, "importSsh", tr("&Import SSH hosts…"), {}, [this] { showImport(); });
  machine->addSeparator();
  add(machine, "undo", tr("&Undo"), QKeySequence::Undo, [this] { desk_.records().undo(); });
  machine->addSeparator();
  add(machine, "quit", tr("&Quit"), QKeySequence("Ctrl+Q"), [this] { close(); });
  connect(machine, &QMenu::aboutToShow, this, &MainWindow::refreshActions);
  buildSessionMenu();
  buildViewMenu();
  QMenu* tools = menu(tr("&Tools"));
  add(tools, "stock", tr("&Stock of all hosts"), QKeySequence("Ctrl+K"), [this] { showStock(); });
  add(tools, "sharing", tr("S&haring through a gateway"), {}, [this] { showSharing(); });
  add(tools, "sharePass", tr("Sh&are this machine…"), {}, [this] {
    const auto ways = desk_.records().snapshot().endpointsOf(currentMachine());
    showSharing();
    if (!ways.empty())
      sharing()->sharePass(current() != nullptr && !roster_->hasFocus() ? current()->endpoint()
                                                                        : ways.front()->id);
  });
  add(tools, "why", tr("&Why does it not open?"), QKeySequence("Ctrl+Y"), [this] {
    const auto ways = desk_.records().snapshot().endpointsOf(currentMachine());
    lookWhy(current() != nullptr && !roster_->hasFocus() ? current()->endpoint()
            : ways.empty()                               ? 0
                                                         : ways.front()->id);
  });
  add(tools, "journal", tr("&Journal"), QKeySequence("Ctrl+J"), [this] { showJournal(); });
  add(tools, "credentials", tr("&Credentials"), {}, [this] { showCredentials(); });
  add(tools, "troubles", tr("Trou&bles in the records"), {}, [this] { showTroubles(); });
  add(tools, "historyAll", tr("&History of all records"), {}, [this] { showHistory(0); });
  add(tools, "trusted", tr("&Trusted certificates and keys"), {}, [this] { showTrusted(); });
  add(tools, "unlock", tr("&Unlock kept passwords…"), {}, [this] { askPassphrase(true); });
  add(tools, "lock", tr("&Lock kept passwords"), {}, [this] { lockPasswords(); });
  add(tools, "lockTime", tr("Lock kept passwords &after…"), {}, [this] { askLockTime(); });
  add(tools, "passphrase", tr("&Passphrase for kept passwords…"), {}, [this] { askPassphrase(false); });
  QMenu* help = menu(tr("&Help"));
  add(help, "keyboard", tr("&Keyboard"), QKeySequence("F1"), [this] { showHelp("keyboard"); });
  add(help, "about", tr("&About Kettle Window"), {}, [this] { showHelp("about"); });
  std::vector<QAction*> all;
  for (QAction* a : actions_) all.push_back(a);
  go_->setActions(all);
}

void MainWindow::buildSessionMenu() {
  QMenu* session = menuBar()->addMenu(tr("&Session"));
  session->setToolTipsVisible(true);
  QMenu* keys = session->addMenu(tr("Send &keys"));
  connect(keys, &QMenu::aboutToShow, this, [this, keys] {
    keys->clear();
    fillKeysMenu(keys, current());
  });
  add(session, "secure", tr("Send Ctrl+Alt+&Delete"), QKeySequence("Ctrl+Shift+Del"), [this] {
    if (current() != nullptr) current()->sendChord("ctrl+alt+delete");
  });
  add(session, "typeClipboard", tr("&Type the clipboard's text"), {}, [this] {
    if (current() != nullptr) current()->typeText(QApplication::clipboard()->text());
  });
  add(session, "fetchFiles", tr("Fetch &copied files…"), {}, [this] { fetchCopiedFiles(current()); });
  add(session, "look", tr("&Only look"), QKeySequence("Ctrl+Shift+L"), [this] {
    if (current() != nullptr) current()->setViewOnly(!current()->viewOnly());
  })->setCheckable(true);
  add(session, "sound", tr("Play &sound"), {}, [this] {
    if (current() != nullptr) current()->setSound(!current()->soundWanted());
  })->setCheckable(true);
  add(session, "files", tr("&Files of the machine"), QKeySequence("Ctrl+Shift+O"),
      [this] { openFiles(currentMachine()); });
  add(session, "savePicture", tr("Save the &picture…"), QKeySequence("Ctrl+Shift+S"),
      [this] { savePicture(current()); });
  add(session, "refresh", tr("Ask for the whole picture &anew"), QKeySequence("F5"), [this] {
    if (current() != nullptr) current()->session().refresh();
  });
  add(session, "retry", tr("Connect &again now"), {}, [this] {
    if (current() != nullptr) current()->session().retry();
  });
  buildTextMenu(session);
  session->addSeparator();
  buildPowerMenu(session);
  session->addSeparator();
  add(session, "end", tr("&End the session"), QKeySequence("Ctrl+W"), [this] { endSession(current()); });
  connect(session, &QMenu::aboutToShow, this, &MainWindow::refreshActions);
}

void MainWindow::buildViewMenu() {
  QMenu* view = menuBar()->addMenu(tr("&View"));
  view->setToolTipsVisible(true);
  add(view, "full", tr("&Full screen"), QKeySequence("F11"), [this] {
    if (current() != nullptr) openFullScreen(current());
  });
  add(view, "ownWindow", tr("In a &window of its own"), {}, [this] {
    if (current() != nullptr) openScreenWindow(current(), 0);
  });
  view->addSeparator();
  const std::tuple<QString, QString, QString> fits[] = {
      {"fitShrink", tr("&Shrink to fit"), "shrink"},
      {"fitFill", tr("Fit, &growing too"), "fill"},
      {"fitActual", tr("&One to one, moving about"), "actual"},
      {"fitWhole", tr("Whole-&number zoom"), "whole"}};
  int digit = 1;
  for (const auto& [name, text, word] : fits)
    add(view, name, text, QKeySequence("Ctrl+Alt+" + QString::number(digit++)), [this, w = word] {
      setFit(w);
    })->setCheckable(true);
  view->addSeparator();
  for (int n : {1, 2, 4})
    add(view, "panes" + QString::number(n),
        n == 1   ? tr("&One pane")
        : n == 2 ? tr("&Two panes")
                 : tr("&Four panes"),
        QKeySequence("Alt+" + QString::number(n)), [this, n] { stage_->arrange(n); });
  add(view, "nextPane", tr("Ne&xt pane"), QKeySequence("F6"), [this] { stage_->focusNextPane(1); });
  add(view, "closePane", tr("&Close this pane"), {}, [this] {
    if (stage_->focusedPane() != nullptr) stage_->closePane(stage_->focusedPane());
  });
  view->addSeparator();
  add(view, "roster", tr("&Roster"), QKeySequence("F7"),
      [this] { rosterPanel_->setVisible(!rosterPanel_->isVisible()); });
  add(view, "side", tr("Si&de"), QKeySequence("F8"), [this] {
    sideWanted_ = !sideWanted_;
    side_->setVisible(sideWanted_);
  });
  QMenu* schemes = view->addMenu(tr("&Colours"));
  const std::tuple<QString, QString, SchemeChoice> choices[] = {
      {"schemeDesktop", tr("As the desktop"), SchemeChoice::FollowDesktop},
      {"schemeEvening", tr("Evening"), SchemeChoice::Evening},
      {"schemeMorning", tr("Morning"), SchemeChoice::Morning}};
  for (const auto& [name, text, choice] : choices)
    add(schemes, name, text, {}, [this, c = choice] {
      applyScheme(*qApp, c);
      coloursChanged();
    })->setCheckable(true);
  schemes->addSeparator();
  QMenu* own = schemes->addMenu(tr("&Own ones"));
  connect(schemes, &QMenu::aboutToShow, this, [this, own] { fillOwnSchemes(own); });
  add(schemes, "colours", tr("&Make own colours…"), {}, [this] { showColours(); });
  connect(view, &QMenu::aboutToShow, this, &MainWindow::refreshActions);
}

void MainWindow::fillOwnSchemes(QMenu* menu) {
  for (const auto& [name, choice] :
       {std::pair("schemeDesktop", SchemeChoice::FollowDesktop),
        std::pair("schemeEvening", SchemeChoice::Evening), std::pair("schemeMorning", SchemeChoice::Morning)})
    actions_[name]->setChecked(schemeChoice() == choice);
  menu->clear();
  for (const Scheme& s : OwnColours::all().window) {
    QAction* a = menu->addAction(s.name, this, [this, name = s.name] { useOwnScheme(name); });
    a->setCheckable(true);
    a->setChecked(schemeChoice() == SchemeChoice::Own && scheme().name == s.name);
  }
  menu->setEnabled(!menu->isEmpty());
}

void MainWindow::useOwnScheme(const QString& name) {
  for (const Scheme& s : {eveningScheme(), morningScheme()})
    if (s.name == name) applyScheme(*qApp, s.dark ? SchemeChoice::Evening : SchemeChoice::Morning);
  for (const Scheme& s : OwnColours::all().window)
    if (s.name == name) applyOwnScheme(*qApp, s);
  coloursChanged();
}

void MainWindow::coloursChanged() {
  for (QWidget* w : QApplication::allWidgets()) w->update();
  if (centre_->currentWidget() == sheet_ && !sheet_->dirty()) sheet_->edit(sheet_->machine());
  for (Pane* p : stage_->panes())
    if (p->showsText()) p->textView()->canvas()->applyLook();
}

void MainWindow::showColours() {
  if (colours_ == nullptr) {
    colours_ = new ColoursView(centre_);
    centre_->addWidget(colours_);
    connect(colours_, &ColoursView::said, this, &MainWindow::say);
    connect(colours_, &ColoursView::closed, this, &MainWindow::showStage);
    connect(colours_, &ColoursView::windowSchemeWanted, this, &MainWindow::useOwnScheme);
    connect(colours_, &ColoursView::changed, this, [this] {
      // A scheme that is in use follows while it is being made.
      if (schemeChoice() == SchemeChoice::Own) useOwnScheme(scheme().name);
      coloursChanged();
    });
  }
  centre_->setCurrentWidget(colours_);
  colours_->list()->setFocus();
}

void MainWindow::refreshActions() {
  if (actions_.isEmpty()) return;
  refreshRecordActions();
  const Id selected = roster_->selected();
  allow("open", selected != 0, tr("Choose a machine in the roster first."));
  allow("groupSheet", roster_->selectedFolder() != 0, tr("Choose a machine first; its group is meant."));
  allow("remove", selected != 0, tr("Choose a machine in the roster first."));
  allow("sheet", selected != 0 || current() != nullptr, tr("Choose a machine first."));
  // While the records are being read, the store is busy; the window must not wait for it.
  const QString undo = desk_.records().loaded() ? desk_.records().undoTitle() : QString();
  actions_["undo"]->setText(undo.isEmpty() ? tr("&Undo") : tr("&Undo: %1").arg(undo));
  allow("undo", !undo.isEmpty(), tr("Nothing was changed yet."));
  OpenSession* s = current();
  const QString none = tr("No session is in the focused pane.");
  const bool live = s != nullptr && s->isLive();
  const QString notLive = s == nullptr ? none : tr("The session is not live.");
  for (const char* name : {"refresh", "full", "ownWindow"})
    allow(name, live || (s != nullptr && s->hasPicture()), notLive);
  allow("savePicture", s != nullptr && s->hasPicture(), notLive);
  for (const char* name : {"secure", "typeClipboard"})
    allow(name, live && !s->viewOnly(), live ? tr("Only looking: keys are not sent.") : notLive);
  allow("fetchFiles", live && s->copiedFiles != nullptr,
        live ? tr("No files were copied on this machine, or its clipboard does not carry them.") : notLive);
  if (s != nullptr && s->text() != nullptr) allow("secure", false, tr("A line of text has no such key."));
  for (const char* name : {"look", "end"}) allow(name, s != nullptr, none);
  allow("retry", s != nullptr && !live, s == nullptr ? none : tr("The session is live."));
  actions_["look"]->setChecked(s != nullptr && s->viewOnly());
  actions_["sound"]->setChecked(s != nullptr && s->soundWanted());
  const Capabilities can = s != nullptr ? s->capabilities() : Capabilities{};
  allow("sound", live && can.sound.can, live ? QString::fromStdString(can.sound.why) : notLive);
  refreshPower(live && can.power.can, live ? QString::fromStdString(can.power.why) : notLive);
  const QString fit =
      stage_->focusedPane() != nullptr ? wordOf(stage_->focusedPane()->view()->fitMode()) : QString();
  const std::pair<const char*, const char*> fits[] = {
      {"fitShrink", "shrink"}, {"fitFill", "fill"}, {"fitActual", "actual"}, {"fitWhole", "whole"}};
  const bool textual = s != nullptr && s->text() != nullptr;
  for (const auto& [name, word] : fits) {
    allow(name, s != nullptr && !textual,
          textual ? tr("Text has no picture to fit; change its font size.") : none);
    actions_[name]->setChecked(s != nullptr && fit == word);
  }
  refreshTextActions();
  allow("files", sshWayOf(currentMachine()) != nullptr,
        currentMachine() == 0 ? tr("Choose a machine first.")
                              : tr("Files go over SSH; this machine has no such way in."));
  allow("closePane", stage_->panes().size() > 1, tr("There is one pane only."));
  const auto& vault = desk_.records().tools().vault;
  allow("unlock", vault && !vault->isOpen(), tr("Kept passwords are not locked."));
  allow("passphrase", vault && vault->isOpen(), tr("Unlock the kept passwords first."));
  const bool guarded = vault && vault->hasPassphrase();
  const QString needs = tr("Set a passphrase for kept passwords first; nothing would open them again.");
  allow("lock", guarded && vault->isOpen(), guarded ? tr("Kept passwords are locked.") : needs);
  allow("lockTime", guarded, needs);
}

void MainWindow::askForPower(PowerWish wish) {
  // A machine's host is asked first: it knows states, and needs no open session.
  if (const auto hosted = desk_.hosts().of(currentMachine()); hosted && hosted->hostLive && hosted->machine)
    return powerOfMachine(wish == PowerWish::ShutDown ? host::PowerAct::ShutDown
                          : wish == PowerWish::Reboot ? host::PowerAct::Restart
                                                      : host::PowerAct::Reset);
  const QPointer<OpenSession> s = current();
  if (!s) return;
  if (wish == PowerWish::Reset) {
    const auto button = QMessageBox::warning(
        this, tr("Force a restart"),
        tr("Forcing %1 to restart loses everything in it that was not saved, and may damage its disk.")
            .arg(s->machine()),
        QMessageBox::Ok | QMessageBox::Cancel, QMessageBox::Cancel);
    if (button != QMessageBox::Ok) return;
  }
  if (s) s->session().power(wish);
}

void MainWindow::askPassphrase(bool toOpen) {
  const auto& vault = desk_.records().tools().vault;
  bool done = false;
  const QString text = QInputDialog::getText(
      this, tr("Kept passwords"),
      toOpen ? tr("Passphrase:") : tr("New passphrase (empty: none, the key file alone opens them):"),
      QLineEdit::Password, {}, &done);
  if (!done) return;
  try {
    if (toOpen)
      say(vault->open(text.toStdString()) ? tr("Kept passwords are unlocked.")
                                          : tr("That is not the passphrase."));
    else {
      vault->setPassphrase(text.toStdString());
      say(text.isEmpty() ? tr("Kept passwords need no passphrase now.")
                         : tr("Kept passwords are asked a passphrase for at the next start."));
    }
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
  refreshActions();
}

void MainWindow::lockPasswords() { guard_->lock(tr("you asked for it")); }

void MainWindow::askLockTime() {
  bool done = false;
  const auto now = std::chrono::duration_cast<std::chrono::minutes>(guard_->idle());
  const int minutes = QInputDialog::getInt(
      this, tr("Lock kept passwords"),
      tr("After how many minutes in which nobody touches this window (0: never).\nThey are locked before the "
         "computer sleeps, too; sessions that are open go on."),
      static_cast<int>(now.count()), 0, 24 * 60, 5, &done);
  if (done) guard_->setIdle(std::chrono::minutes(minutes));
}

void MainWindow::showHelp(const QString& page) {
  QMessageBox box(this);
  box.setTextFormat(Qt::RichText);
  if (page == "about") {
    box.setWindowTitle(tr("About"));
    box.setText(
        tr("<h3>Kettle Window</h3><p>Screens and text consoles of virtual machines.</p><p>Version %1</p>")
            .arg(QApplication::applicationVersion()));
  } else {
    box.setWindowTitle(tr("Keyboard"));
    QString rows;
    for (QAction* a : actions_)
      if (!a->shortcut().isEmpty())
        rows += "<tr><td style='padding-right:18px'>" + QString(a->text()).remove('&').toHtmlEscaped() +
                "</td><td>" + a->shortcut().toString(QKeySequence::NativeText).toHtmlEscaped() + "</td></tr>";
    box.setText(tr("<p>While a picture has the keyboard, all keys go to the machine.<br>Both Shift keys "
                   "together free it.</p>") +
                "<table>" + rows + "</table>");
  }
  box.exec();
}

}  // namespace kw::desktop

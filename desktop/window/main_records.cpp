// What the window does with records besides opening them: credentials, history, several at once, templates,
// favourites, commands of one's own.
#include <QMenu>
#include <QMessageBox>
#include <QSplitter>
#include <QStackedWidget>

#include "desktop/app/counts.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/record/history_view.hpp"
#include "desktop/record/many_sheet.hpp"
#include "desktop/record/own_commands.hpp"
#include "desktop/record/troubles_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/side.hpp"
#include "record/copy.hpp"
#include "record/words.hpp"

namespace kw::desktop {

namespace {

bool isOnFor(const Snapshot& s, Id machine, const char* key) {
  return s.resolve({OwnerKind::Machine, machine}, key).value == "on";
}

}  // namespace

void MainWindow::buildRecordActions(QMenu* machine) {
  add(machine, "duplicate", tr("Make a &copy"), QKeySequence(),
      [this] { duplicateMachine(currentMachine()); });
  QMenu* templates = machine->addMenu(tr("New from a &template"));
  connect(templates, &QMenu::aboutToShow, this, [this, templates] { fillTemplates(templates); });
  add(machine, "favourite", tr("&Favourite"), QKeySequence(), [this] {
    toggleFavourite(currentMachine());
  })->setCheckable(true);
  add(machine, "together", tr("Edit what is chosen to&gether…"), {}, [this] { editMany(roster_->chosen()); });
  add(machine, "history", tr("&History of it"), QKeySequence("Ctrl+Shift+H"),
      [this] { showHistory(currentMachine()); });
  QMenu* own = machine->addMenu(tr("O&wn commands"));
  connect(own, &QMenu::aboutToShow, this, [this, own] {
    own->clear();
    fillOwnCommands(own, currentMachine());
    if (own->isEmpty()) own->addAction(tr("None; the sheet's page Commands has them"))->setEnabled(false);
  });
}

void MainWindow::refreshRecordActions() {
  const Snapshot& s = desk_.records().snapshot();
  const Id m = currentMachine();
  const bool any = s.machines.contains(m);
  const QString none = tr("No machine is chosen");
  for (const char* name : {"duplicate", "favourite", "history"}) allow(name, any, none);
  action("favourite")->setChecked(any && isOnFor(s, m, "look.favourite"));
  allow("together", roster_->chosen().size() > 1, tr("Choose several: Ctrl or Shift and a click, or Ctrl+A"));
}

void MainWindow::duplicateMachine(Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  makeCopyOf(machine, freeName(s, found->second.name));
}

void MainWindow::makeCopyOf(Id machine, const std::string& name) {
  const auto s = desk_.records().shared();
  Id made = 0;
  if (!desk_.records().commit(tr("add %1").arg(QString::fromStdString(name)),
                              [&](StoreWriter& w) { made = copyMachine(*s, w, machine, name); }))
    return;
  editMachine(made);
  roster_->select(made);
  say(tr("%1 is made; passwords are not copied. Ctrl+Z takes it back.").arg(QString::fromStdString(name)));
}

void MainWindow::fillTemplates(QMenu* menu) {
  menu->clear();
  const Snapshot& s = desk_.records().snapshot();
  std::vector<const Machine*> all;
  for (const auto& [owner, values] : s.settings)
    if (owner.kind == OwnerKind::Machine && values.contains("look.template") &&
        isOnFor(s, owner.id, "look.template"))
      if (const auto m = s.machines.find(owner.id); m != s.machines.end()) all.push_back(&m->second);
  std::sort(all.begin(), all.end(), [](const Machine* a, const Machine* b) { return a->name < b->name; });
  for (const Machine* m : all)
    menu->addAction(QString::fromStdString(m->name), this, [this, id = m->id, name = m->name] {
      makeCopyOf(id, freeName(desk_.records().snapshot(), name));
    });
  if (all.empty())
    menu->addAction(tr("None; the sheet's page In the roster makes a machine one"))->setEnabled(false);
}

void MainWindow::toggleFavourite(Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  const bool on = isOnFor(s, machine, "look.favourite");
  const QString name = QString::fromStdString(found->second.name);
  desk_.records().commit((on ? tr("%1 no favourite") : tr("%1 a favourite")).arg(name), [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, machine}, "look.favourite",
          on ? std::nullopt : std::optional<std::string>("on"));
  });
}

void MainWindow::editMany(const std::vector<Id>& machines) {
  if (machines.size() < 2) return;
  if (many_ == nullptr) {
    many_ = new ManySheet(desk_.records(), centre_);
    centre_->addWidget(many_);
    connect(many_, &ManySheet::said, this, &MainWindow::say);
    connect(many_, &ManySheet::closed, this, &MainWindow::showStage);
  }
  many_->edit(machines);
  centre_->setCurrentWidget(many_);
  refreshSide();
}

void MainWindow::removeMany(const std::vector<Id>& machines) {
  const Snapshot& s = desk_.records().snapshot();
  for (const Id m : machines)
    for (const Endpoint* e : s.endpointsOf(m))
      if (desk_.sessionOf(e->id) != nullptr) {
        say(tr("%1 is open. End its session first.").arg(QString::fromStdString(s.machines.at(m).name)));
        return;
      }
  const QString count = machineCount(static_cast<int>(machines.size()));
  if (!desk_.records().commit(tr("remove %1").arg(count), [&](StoreWriter& w) {
        for (const Id m : machines) w.removeMachine(m);
      }))
    return;
  showStage();
  say(tr("Removed %1. Ctrl+Z brings them back.").arg(count));
}

void MainWindow::showHistory(Id machine) {
  if (history_ == nullptr) {
    history_ = new HistoryView(desk_.records(), centre_);
    centre_->addWidget(history_);
    connect(history_, &HistoryView::said, this, &MainWindow::say);
    connect(history_, &HistoryView::closed, this, &MainWindow::showStage);
  }
  centre_->setCurrentWidget(history_);
  history_->showFor(machine);
}

void MainWindow::showTroubles() {
  if (troubles_ == nullptr) {
    troubles_ = new TroublesView(desk_.records(), centre_);
    centre_->addWidget(troubles_);
    connect(troubles_, &TroublesView::sheetWanted, this, [this](Id machine) { editMachine(machine); });
    connect(troubles_, &TroublesView::closed, this, &MainWindow::showStage);
  }
  troubles_->refresh();
  centre_->setCurrentWidget(troubles_);
  troubles_->table()->setFocus();
}

void MainWindow::showCredentials(const QString& name) {
  if (credentials_ == nullptr) {
    credentials_ = new CredentialsView(desk_.records(), centre_);
    centre_->addWidget(credentials_);
    connect(credentials_, &CredentialsView::said, this, &MainWindow::say);
    connect(credentials_, &CredentialsView::closed, this, &MainWindow::showStage);
  }
  if (side_->isVisible()) sizesWithSide_ = split_->sizes();
  centre_->setCurrentWidget(credentials_);
  credentials_->showAt(name);
}

void MainWindow::fillOwnCommands(QMenu* menu, Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  try {
    for (const OwnCommand& command :
         ownCommandsOf(s.resolve({OwnerKind::Machine, machine}, "commands.own").value))
      menu->addAction(QString::fromStdString(command.title), this, [this, machine, command] {
        runOwn(command.line, machine, 0, QString::fromStdString(command.title), {});
      });
  } catch (const Error& e) {
    menu->addAction(QString::fromUtf8(e.what()))->setEnabled(false);
  }
}

void MainWindow::runOwn(const std::string& line, Id machine, Id endpoint, const QString& title,
                        std::function<void()> then) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  const auto ways = s.endpointsOf(machine);
  const auto way = s.endpoints.find(endpoint);
  const Endpoint* meant = way != s.endpoints.end() ? &way->second : ways.empty() ? nullptr : ways.front();
  ownCommands()->run(line, placeholdersOf(found->second, meant), [this, title, then](const QString& wrong) {
    if (!wrong.isEmpty())
      say(tr("%1: %2").arg(title, wrong));
    else if (then)
      then();
    else
      say(tr("%1: done").arg(title));
  });
}

OwnCommands* MainWindow::ownCommands() {
  if (own_ == nullptr) own_ = new OwnCommands(this);
  return own_;
}

/// Runs what the records want to have run first; true when opening may go on at once.
bool MainWindow::runBefore(Id endpoint) {
  const Snapshot& s = desk_.records().snapshot();
  const auto way = s.endpoints.find(endpoint);
  if (way == s.endpoints.end() || ranBefore_ == endpoint) return true;
  const std::string line = s.resolve({OwnerKind::WayIn, endpoint}, "commands.before").value;
  if (line.empty()) return true;
  runOwn(line, way->second.machine, endpoint, tr("Before opening"), [this, endpoint] {
    ranBefore_ = endpoint;
    openEndpoint(endpoint);
    ranBefore_ = 0;
  });
  return false;
}

void MainWindow::runAfter(Id endpoint) {
  const Snapshot& s = desk_.records().snapshot();
  const auto way = s.endpoints.find(endpoint);
  if (way == s.endpoints.end()) return;
  const std::string line = s.resolve({OwnerKind::WayIn, endpoint}, "commands.after").value;
  if (!line.empty()) runOwn(line, way->second.machine, endpoint, tr("After closing"), {});
}

void MainWindow::removeGroup(Id folder) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.folders.find(folder);
  if (found == s.folders.end()) return;
  const QString name = QString::fromStdString(found->second.name);
  int machines = 0;
  for (const auto& [id, m] : s.machines) {
    const auto path = s.pathOf(m.folder);
    if (std::none_of(path.begin(), path.end(), [folder](const Folder* f) { return f->id == folder; }))
      continue;
    ++machines;
    for (const Endpoint* e : s.endpointsOf(id))
      if (desk_.sessionOf(e->id) != nullptr) {
        say(tr("%1 is open. End its session first.").arg(QString::fromStdString(m.name)));
        return;
      }
  }
  if (desk_.records().commit(tr("remove %1").arg(name),
                             [folder](StoreWriter& w) { w.removeFolder(folder); })) {
    showStage();
    say(tr("Removed %1 and %2. Ctrl+Z brings that back.").arg(name, machineCount(machines)));
  }
}

void MainWindow::removeMachine(Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  const QString name = QString::fromStdString(found->second.name);
  for (const Endpoint* e : s.endpointsOf(machine))
    if (desk_.sessionOf(e->id) != nullptr) {
      say(tr("%1 is open. End its session first.").arg(name));
      return;
    }
  if (desk_.records().commit(tr("remove %1").arg(name),
                             [machine](StoreWriter& w) { w.removeMachine(machine); })) {
    showStage();
    say(tr("Removed %1. Ctrl+Z brings it back.").arg(name));
  }
}

}  // namespace kw::desktop

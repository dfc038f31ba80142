#include "desktop/main_window.hpp"
#include "desktop/counts.hpp"
#include "desktop/first_start.hpp"
#include "desktop/import_view.hpp"

#include <QApplication>
#include <QClipboard>
#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QJsonArray>
#include <QJsonDocument>
#include <QLabel>
#include <QLocale>
#include <QMenu>
#include <QMessageBox>
#include <QPushButton>
#include <QSplitter>
#include <QStackedWidget>
#include <QStandardPaths>
#include <QToolButton>
#include <QVBoxLayout>

#include "base/file.hpp"
#include "desktop/files_panel.hpp"
#include "desktop/hosts/start_timeline.hpp"
#include "desktop/hosts/stock_view.hpp"
#include "desktop/journal_view.hpp"
#include "desktop/pane.hpp"
#include "desktop/picture_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/screen_window.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet.hpp"
#include "desktop/side.hpp"
#include "desktop/spout.hpp"
#include "desktop/stage.hpp"
#include "desktop/theme.hpp"
#include "desktop/trust_view.hpp"
#include "picture/png.hpp"
#include "text/log_writer.hpp"

namespace kw::desktop {

namespace {
constexpr int kJournalLooked = 200;  ///< entries, for what happened to a machine lately
constexpr int kLately = 6;

/// Of a journal's entry; of a log only the name, not the whole path.
QString whatHappened(const std::string& text) {
  const QString said = QString::fromStdString(text);
  return said.startsWith("log /") ? MainWindow::tr("log %1").arg(QFileInfo(said.mid(4)).fileName()) : said;
}
}  // namespace

MainWindow::MainWindow(Desk& desk, QWidget* parent) : QMainWindow(parent), desk_(desk) {
  setWindowTitle(tr("Kettle Window"));
  setWindowIcon(lineIcon("window", scheme().copper));
  resize(1280, 800);
  fitToScreen();
  buildTop();
  buildMenus();
  recordsChanged();
  connect(&desk_.records(), &Records::changed, this, &MainWindow::recordsChanged);
  connect(&desk_.records(), &Records::failed, this, &MainWindow::say);
  connect(&desk_.records(), &Records::said, this, &MainWindow::say);
  connect(&desk_, &Desk::said, this, &MainWindow::say);
  connect(&desk_, &Desk::journalChanged, this, [this] {
    latelyOf_ = 0;
    refreshSide();
  });
  connect(&desk_, &Desk::sessionsChanged, this, [this] {
    roster_->statesChanged();
    refreshFirstStart();
    refreshSide();
    refreshActions();
  });
  connect(&desk_.hosts(), &Hosts::changed, this, &MainWindow::hostsChanged);
  connect(&desk_.hosts(), &Hosts::said, this, &MainWindow::say);
  connect(&desk_.hosts(), &Hosts::startWanted, this, &MainWindow::startAndOpen);
  connect(&desk_, &Desk::openAnew, this, &MainWindow::openEndpoint);
  connect(&desk_.reach(), &Reach::changed, this, [this] {
    roster_->statesChanged();
    refreshSide();
  });
  connect(QApplication::clipboard(), &QClipboard::dataChanged, this, &MainWindow::clipboardChanged);
  restore();
  refreshActions();
  refreshSide();
  roster_->setFocus();
}

MainWindow::~MainWindow() {
  for (const auto& w : windows_)
    if (w) delete w.data();
}

void MainWindow::buildTop() {
  auto* whole = new QWidget(this);
  auto* column = new QVBoxLayout(whole);
  column->setContentsMargins(0, 0, 0, 0);
  column->setSpacing(0);
  auto* top = new QWidget(whole);
  top->setObjectName("panel");
  top->setStyleSheet("");
  auto* row = new QHBoxLayout(top);
  row->setContentsMargins(14, 4, 14, 8);
  row->setSpacing(14);
  go_ = new GoField(top);
  row->addWidget(go_, 1);
  auto* stock = new QToolButton(top);
  stock->setText(tr("Stock"));
  stock->setToolTip(tr("All machines of all hosts"));
  connect(stock, &QToolButton::clicked, this, &MainWindow::showStock);
  row->addWidget(stock);
  auto* sharing = new QToolButton(top);
  sharing->setText(tr("Sharing"));
  sharing->setToolTip(tr("Who is connected through a gateway, and passes"));
  connect(sharing, &QToolButton::clicked, this, &MainWindow::showSharing);
  row->addWidget(sharing);
  auto* journal = new QToolButton(top);
  journal->setText(tr("Journal"));
  journal->setToolTip(tr("What was opened, when"));
  connect(journal, &QToolButton::clicked, this, &MainWindow::showJournal);
  row->addWidget(journal);
  column->addWidget(top);

  split_ = new QSplitter(Qt::Horizontal, whole);
  split_->setHandleWidth(1);
  rosterPanel_ = new QWidget(split_);
  rosterPanel_->setObjectName("panel");
  auto* left = new QVBoxLayout(rosterPanel_);
  left->setContentsMargins(0, 10, 0, 0);
  left->setSpacing(6);
  auto* narrowRow = new QHBoxLayout;
  narrowRow->setContentsMargins(12, 0, 10, 0);
  narrow_ = new QLineEdit(rosterPanel_);
  narrow_->setPlaceholderText(tr("Narrow the list…"));
  narrow_->setAccessibleName(tr("Narrow the list"));
  // Its icon takes longer than all else in this row; it is there before anybody can type.
  QTimer::singleShot(0, narrow_, [this] { narrow_->setClearButtonEnabled(true); });
  groupButton_ = new QToolButton(rosterPanel_);
  groupButton_->setPopupMode(QToolButton::InstantPopup);
  auto* groupMenu = new QMenu(groupButton_);
  const std::pair<GroupBy, QString> groups[] = {{GroupBy::Place, tr("by place")},
                                                {GroupBy::Host, tr("by host")},
                                                {GroupBy::Tag, tr("by tag")},
                                                {GroupBy::State, tr("by state")}};
  for (const auto& [by, words] : groups)
    groupMenu->addAction(words, this, [this, by = by, words = words] {
      roster_->setGroupBy(by);
      groupButton_->setText(words + " ▾");
    });
  groupButton_->setMenu(groupMenu);
  groupButton_->setText(tr("by place") + " ▾");
  groupButton_->setAccessibleName(tr("Group the list"));
  narrowRow->addWidget(narrow_, 1);
  narrowRow->addWidget(groupButton_);
  left->addLayout(narrowRow);
  roster_ = new RosterList(rosterPanel_);
  left->addWidget(roster_, 1);

  centre_ = new QStackedWidget(split_);
  auto* stagePage = new QWidget(centre_);
  stagePage->setObjectName("stagePage");
  auto* stageColumn = new QVBoxLayout(stagePage);
  stageColumn->setContentsMargins(0, 0, 0, 0);
  stageColumn->setSpacing(0);
  lastTime_ = new QPushButton(stagePage);
  lastTime_->setProperty("own", true);
  lastTime_->hide();
  connect(lastTime_, &QPushButton::clicked, this, &MainWindow::reopenLastTime);
  auto* lastRow = new QHBoxLayout;
  lastRow->setContentsMargins(8, 0, 8, 0);
  lastRow->addWidget(lastTime_);
  lastRow->addStretch();
  stageColumn->addLayout(lastRow);
  stageAndFiles_ = new QSplitter(Qt::Vertical, stagePage);
  stageAndFiles_->setChildrenCollapsible(false);
  stage_ = new Stage(stageAndFiles_);
  stageAndFiles_->addWidget(stage_);
  stageColumn->addWidget(stageAndFiles_, 1);
  centre_->addWidget(stagePage);
  connect(centre_, &QStackedWidget::currentChanged, this, [this] {
    // Wide pages have details of their own on the right.
    if (stock_ != nullptr || credentials_ != nullptr) {
      QWidget* page = centre_->currentWidget();
      const bool own = page == stock_ || page == static_cast<QWidget*>(credentials_);
      side_->setVisible(!own && sideWanted_);
      // Once the side is laid out again.
      if (!own && sideWanted_ && sizesWithSide_.size() == 3)
        QTimer::singleShot(0, this, [this, as = std::exchange(sizesWithSide_, {})] { split_->setSizes(as); });
    }
    if (!actions_.isEmpty()) refreshSide();
  });
  side_ = new Side(split_);
  for (QWidget* w : {rosterPanel_, static_cast<QWidget*>(centre_), static_cast<QWidget*>(side_)})
    split_->addWidget(w);
  split_->setStretchFactor(1, 1);
  split_->setSizes({272, 746, 262});
  split_->setCollapsible(1, false);
  column->addWidget(split_, 1);
  saying_ = new QLabel(whole);
  saying_->setTextFormat(Qt::PlainText);
  saying_->setWordWrap(true);
  saying_->setContentsMargins(14, 6, 14, 6);
  saying_->setObjectName("panel");
  saying_->hide();
  column->addWidget(saying_);
  setCentralWidget(whole);
  sayTimer_.setSingleShot(true);
  connect(&sayTimer_, &QTimer::timeout, saying_, &QWidget::hide);

  roster_->setNow([this](const Machine& m) { return nowOf(m); });
  connect(narrow_, &QLineEdit::textChanged, roster_, &RosterList::narrow);
  connect(narrow_, &QLineEdit::returnPressed, this, [this] {
    roster_->setFocus();
    roster_->openSelected();
  });
  connect(roster_, &RosterList::openWanted, this, &MainWindow::openEndpoint);
  connect(roster_, &RosterList::sheetWanted, this, [this](Id m) { editMachine(m); });
  connect(roster_, &RosterList::startWanted, this, &MainWindow::startAndOpen);
  connect(roster_, &RosterList::removeWanted, this, &MainWindow::removeMachine);
  connect(roster_, &RosterList::sheetOfManyWanted, this, &MainWindow::editMany);
  connect(roster_, &RosterList::pasteWanted, this, &MainWindow::pasteMachines);
  connect(roster_, &RosterList::removeManyWanted, this, &MainWindow::removeMany);
  connect(roster_, &RosterList::menuWanted, this, [this](QMenu* menu, Id machine) {
    refreshRecordActions();
    menu->addSeparator();
    for (const char* name : {"favourite", "duplicate", "history"}) menu->addAction(action(name));
    menu->addSeparator();
    fillOwnCommands(menu, machine);
  });
  connect(roster_, &RosterList::menuOfManyWanted, this, &MainWindow::fillPowerOfMany);
  connect(roster_, &RosterList::groupSheetWanted, this, [this](Id folder) { editGroup(folder); });
  connect(roster_, &RosterList::newGroupWanted, this, [this](Id parent) { editGroup(0, parent); });
  connect(roster_, &RosterList::removeGroupWanted, this, &MainWindow::removeGroup);
  connect(roster_, &RosterList::newMachineWanted, this, [this](Id folder) {
    editMachine(0);
    sheet()->useFolder(folder);
  });
  connect(roster_, &RosterList::selectionChanged, this, [this] {
    refreshSide();
    refreshActions();
  });
  // Only rows that are on screen are checked, shortly after scrolling stops.
  watchTimer_.setSingleShot(true);
  watchTimer_.setInterval(150);
  connect(roster_, &RosterList::visibleChanged, this, [this] { watchTimer_.start(); });
  connect(&watchTimer_, &QTimer::timeout, this, [this] {
    std::vector<const Endpoint*> seen;
    for (Id m : roster_->visibleMachines())
      for (const Endpoint* e : desk_.records().snapshot().endpointsOf(m)) seen.push_back(e);
    desk_.reach().watch(seen);
  });
  connect(go_, &GoField::chosen, this, &MainWindow::choose);
  connect(stage_, &Stage::focusChanged, this, [this] {
    // The roster follows the pane, so that both speak of one machine.
    const auto& endpoints = desk_.records().snapshot().endpoints;
    if (current() != nullptr)
      if (const auto e = endpoints.find(current()->endpoint()); e != endpoints.end())
        roster_->select(e->second.machine);
    refreshSide();
    refreshActions();
  });
  connect(stage_, &Stage::endWanted, this, &MainWindow::endSession);
  stage_->hasConsole = [this](OpenSession* s) { return consoleBeside(s) != nullptr; };
  connect(stage_, &Stage::consoleWanted, this, [this](OpenSession* s) {
    const Endpoint* console = consoleBeside(s);
    if (console == nullptr) return;
    if (stage_->panes().size() < 2) stage_->arrange(2);
    openEndpoint(console->id);
  });
  connect(stage_, &Stage::whyWanted, this, [this](OpenSession* s) { lookWhy(s->endpoint()); });
  connect(stage_, &Stage::fullScreenWanted, this, &MainWindow::openFullScreen);
  connect(stage_, &Stage::releaseChordPressed, this, [this](OpenSession* s) {
    // Frees the keyboard and offers what can be done, as the spout does in full screen.
    go_->setFocus();
    QMenu menu(this);
    for (SpoutEntry& e : spoutEntries(s, nullptr)) {
      QAction* a = menu.addAction(e.text, this, e.act);
      a->setEnabled(e.enabled);
      a->setToolTip(e.why);
    }
    menu.exec(stage_->mapToGlobal(QPoint(40, 40)));
  });
  const auto popup = [this](auto fill) {
    return [this, fill](OpenSession* s, QPoint at) {
      QMenu menu(this);
      menu.setToolTipsVisible(true);
      (this->*fill)(&menu, s);
      menu.exec(at);
    };
  };
  connect(stage_, &Stage::keysMenuWanted, this, popup(&MainWindow::fillKeysMenu));
  connect(stage_, &Stage::screensMenuWanted, this, popup(&MainWindow::fillScreensMenu));
  connect(stage_, &Stage::viewMenuWanted, this, popup(&MainWindow::fillViewMenu));
  go_->searchLogs = [](const QString& text, int most) {
    std::vector<GoAnswer> out;
    // Few enough bytes that a keystroke never waits.
    for (const text::LogHit& hit : text::searchLogs(stateFolder() / "logs", text.toStdString(),
                                                    static_cast<std::size_t>(most), 8U << 20)) {
      GoAnswer a;
      a.kind = GoAnswer::Kind::Log;
      a.title = QString::fromStdString(hit.text).simplified();
      a.does = tr("show in log %1").arg(QString::fromStdString(hit.file.filename().string()));
      a.address = QString::fromStdString(hit.file.string());
      a.line = hit.line;
      out.push_back(std::move(a));
    }
    return out;
  };
  connect(side_, &Side::cureClicked, this, &MainWindow::cure);
}

Sheet* MainWindow::sheet() {
  if (sheet_ != nullptr) return sheet_;
  sheet_ = new Sheet(desk_.records(), centre_);
  centre_->addWidget(sheet_);
  connect(sheet_, &Sheet::closed, this, &MainWindow::showStage);
  connect(sheet_, &Sheet::openWanted, this, &MainWindow::openEndpoint);
  connect(sheet_, &Sheet::credentialWanted, this, &MainWindow::showCredentials);
  connect(sheet_, &Sheet::draftChanged, this, &MainWindow::refreshSide);
  connect(sheet_, &Sheet::folderKept, this, [this] { say(tr("Kept.")); });
  connect(sheet_, &Sheet::kept, this, [this](Id m) {
    roster_->select(m);
    say(tr("Kept."));
  });
  return sheet_;
}

void MainWindow::recordsChanged() {
  roster_->setSnapshot(desk_.records().shared(), desk_.records().loaded());
  go_->setSnapshot(desk_.records().shared());
  refreshFirstStart();
  refreshActions();
  refreshSide();
}

/// Shown while nothing is kept and nothing is open.
void MainWindow::refreshFirstStart() {
  const bool empty =
      desk_.records().loaded() && desk_.records().snapshot().machines.empty() && stage_->sessions().empty();
  if (empty && firstStart_ == nullptr) {
    firstStart_ = new FirstStart(stage_);
    connect(firstStart_, &FirstStart::wanted, this, [this](const QString& name) { action(name)->trigger(); });
  }
  if (firstStart_ == nullptr) return;
  firstStart_->setVisible(empty);
  if (empty) firstStart_->raise();
}

OpenSession* MainWindow::current() const { return stage_->focusedSession(); }

MachineNow MainWindow::nowOf(const Machine& machine) const {
  MachineNow now;
  const Snapshot& s = desk_.records().snapshot();
  QString clash;
  const Reached* best = nullptr;
  bool anyUsable = false;
  for (const Endpoint* e : s.endpointsOf(machine.id)) {
    if (OpenSession* open = desk_.sessionOf(e->id)) {
      now.openEndpoints.insert(e->id);
      const SessionStatus& status = open->status();
      if (const host::StartView* start = open->starting()) {
        now.state = start->failure ? State::Trouble : State::Starting;
        now.sentence =
            start->failure
                ? QString::fromStdString(start->failure->detail())
                : tr("starting · %1")
                      .arg(StartTimeline::clockWords(std::chrono::seconds(open->secondsInStage())));
        continue;
      }
      now.state = open->isLive() ? State::Answering : status.problem ? State::Trouble : State::Starting;
      now.sentence = open->question() ? tr("asks something in its pane")
                     : open->isLive() ? (open->route().sealed ? tr("open · sealed") : tr("open · plain line"))
                                      : QString::fromStdString(status.sentence);
    }
    if (!canOpen(e->scheme())) continue;
    anyUsable = true;
    const Reached& known = desk_.reach().of(e->id);
    if (best == nullptr || known.result.answers) best = &known;
    // Of two with one address the older record is believed; the newer one is told of.
    if (const QString other = desk_.clashOf(*e); !other.isEmpty() && s.sharingAddress(*e).front()->id < e->id)
      clash = tr("port %1 is also set on %2").arg(parseAddress(e->address).port).arg(other);
  }
  if (!now.openEndpoints.isEmpty()) return now;
  if (best != nullptr && best->checked) {
    now.state = best->result.answers         ? State::Answering
                : best->result.untried       ? State::NeverReached
                : best->result.listens       ? State::NotAnswering
                : best->lastAnswer.isValid() ? State::Off
                                             : State::NeverReached;
    now.sentence = best->result.answers ? QString::fromStdString(best->result.sentence)
                                        : tr("%1").arg(QString::fromStdString(best->result.sentence));
  } else if (best != nullptr && best->lastAnswer.isValid()) {
    now.state = State::Off;
    now.sentence = tr("last answered %1").arg(QLocale().toString(best->lastAnswer, QLocale::ShortFormat));
  } else {
    now.sentence = anyUsable ? tr("never reached") : tr("never reached · no engine for it yet");
  }
  hostedNow(machine, now);
  if (!clash.isEmpty()) {
    now.state = State::Trouble;
    now.sentence = clash;
  }
  return now;
}

/// How many machines of a group, and of those inside it, stand how.
std::vector<SideCheck> MainWindow::statesIn(Id folder) const {
  const Snapshot& s = desk_.records().snapshot();
  std::map<State, int> counts;
  for (const auto& [id, m] : s.machines) {
    const auto path = s.pathOf(m.folder);
    if (std::any_of(path.begin(), path.end(), [folder](const Folder* f) { return f->id == folder; }))
      ++counts[nowOf(m).state];
  }
  std::vector<SideCheck> out;
  for (const auto& [state, count] : counts)
    out.push_back({state, tr("%1 %2").arg(count).arg(wordsFor(state))});
  if (out.empty()) out.push_back({State::NeverReached, tr("none yet")});
  return out;
}

void MainWindow::refreshSide() {
  side_->setAbout(aboutOf(centre_->currentWidget() == sheet_ ? sheet_->machine() : currentMachine()));
  if (centre_->currentWidget() == sheet_) {
    if (const auto draft = sheet_->draftEndpoint()) {
      side_->setRoute(tr("What will happen"), desk_.route(*draft, sheet_->machineName()));
      std::vector<SideCheck> checks;
      const Reached& known = desk_.reach().of(draft->id);
      checks.push_back(
          {known.checked && !known.result.untried ? (known.result.answers ? State::Answering : State::Trouble)
                                                  : State::NeverReached,
           known.checked ? QString::fromStdString(known.result.sentence) : tr("the host was not tried yet")});
      const std::vector<RecordCheck> found = sheet_->checks();
      for (const RecordCheck& c : found)
        checks.push_back({c.trouble ? State::Trouble : State::NotAnswering,
                          QString::fromStdString(c.sentence + (c.cure.empty() ? "" : ". " + c.cure))});
      if (found.empty()) checks.push_back({State::Answering, tr("no other machine uses this port")});
      side_->setChecks(tr("Before the first open"), checks);
    }
    if (sheet_->editsFolder()) {
      side_->setRoute({}, {});
      side_->setChecks(tr("Its machines now"), statesIn(sheet_->folder()));
    }
    side_->setFigures(nullptr);
    return;
  }
  side_->setChecks({}, {});
  OpenSession* session = current();
  const auto asked = desk_.records().snapshot().endpoints.find(whyEndpoint_);
  const bool why = !findings_.empty() && asked != desk_.records().snapshot().endpoints.end() &&
                   asked->second.machine == roster_->selected();
  const bool rosterLeads = roster_->hasFocus() || session == nullptr || why;
  if (rosterLeads && roster_->selected() != 0) {
    const Snapshot& s = desk_.records().snapshot();
    for (const Endpoint* e : s.endpointsOf(roster_->selected())) {
      if (why && e->id != whyEndpoint_) continue;
      const auto machine = s.machines.find(e->machine);
      const QString name = QString::fromStdString(machine->second.name);
      side_->setRoute(tr("Route to %1 · %2").arg(name, QString::fromStdString(e->label)),
                      desk_.route(*e, name));
      showFindings(e->id);
      side_->setAbout(aboutOf(e->machine));
      side_->setFigures(desk_.sessionOf(e->id));
      return;
    }
  }
  if (session != nullptr) {
    auto hops = desk_.route(*session);
    side_->setRoute(tr("Route to %1 · %2").arg(session->machine(), session->label()), hops);
    showFindings(session->endpoint());
  } else {
    side_->setRoute({}, {});
  }
  side_->setFigures(session);
}

/// Notes, who else is there, what happened lately: what fills the side below the figures.
std::vector<SideAbout> MainWindow::aboutOf(Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return {};
  std::vector<SideAbout> out;
  if (sharing_ != nullptr)
    if (const QStringList who = sharing_->visitorsOf(machine); !who.isEmpty())
      out.push_back({tr("Here through the gateway"), who});
  if (const QString notes = QString::fromStdString(found->second.notes).trimmed(); !notes.isEmpty())
    out.push_back({tr("Notes"), notes.split('\n')});
  if (lately_.title.isEmpty() || latelyOf_ != machine) {
    latelyOf_ = machine;
    lately_ = {tr("Lately"), {}};
    try {
      for (const JournalEntry& e : desk_.records().store().journal(kJournalLooked)) {
        if (e.machine != found->second.name || lately_.lines.size() >= kLately) continue;
        const QDateTime when =
            QDateTime::fromString(QString::fromStdString(e.when), Qt::ISODate).toLocalTime();
        lately_.lines << tr("%1 · %2").arg(
            when.date() == QDate::currentDate() ? when.toString("HH:mm") : when.toString("d MMM HH:mm"),
            whatHappened(e.text));
      }
    } catch (const Error&) {
      lately_.lines.clear();  // told of where the journal itself is looked at
    }
  }
  if (!lately_.lines.isEmpty()) out.push_back(lately_);
  return out;
}

void MainWindow::say(const QString& sentence) {
  saying_->setText(sentence);
  saying_->show();
  sayTimer_.start(8000);
}

void MainWindow::showStage() {
  centre_->setCurrentIndex(0);
  refreshSide();
}

void MainWindow::choose(const GoAnswer& answer) {
  switch (answer.kind) {
    case GoAnswer::Kind::OpenEndpoint: openEndpoint(answer.id); break;
    case GoAnswer::Kind::OpenAddress: openAddress(answer.address); break;
    case GoAnswer::Kind::Sheet: editMachine(answer.id); break;
    case GoAnswer::Kind::Log: showLog(answer.address, answer.line); break;
    case GoAnswer::Kind::Action:
      if (answer.action) answer.action->trigger();
      break;
  }
}

void MainWindow::editMachine(Id machine, const QString& address) {
  sheet()->edit(machine, address);
  if (machine != 0) roster_->select(machine);
  centre_->setCurrentWidget(sheet());
  if (machine == 0)
    if (auto* name = sheet()->findChild<QLineEdit*>("machineName")) name->setFocus();
  refreshSide();
}

void MainWindow::editGroup(Id folder, Id parent) {
  sheet()->editFolder(folder, parent);
  centre_->setCurrentWidget(sheet());
  if (auto* name = sheet()->findChild<QLineEdit*>("machineName"); name != nullptr && folder == 0)
    name->setFocus();
  refreshSide();
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

void MainWindow::showTrusted() {
  if (trusted_ == nullptr) {
    trusted_ = new TrustView(desk_.records().store(), centre_);
    centre_->addWidget(trusted_);
    connect(trusted_, &TrustView::said, this, &MainWindow::say);
    connect(trusted_, &TrustView::closed, this, &MainWindow::showStage);
  }
  try {
    trusted_->refresh();
    centre_->setCurrentWidget(trusted_);
    trusted_->table()->setFocus();
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::showImport() {
  if (import_ == nullptr) {
    import_ = new ImportView(desk_.records(), centre_);
    centre_->addWidget(import_);
    connect(import_, &ImportView::said, this, &MainWindow::say);
    connect(import_, &ImportView::closed, this, &MainWindow::showStage);
  }
  import_->look();
  centre_->setCurrentWidget(import_);
  import_->table()->setFocus();
}

void MainWindow::showJournal() {
  if (journal_ == nullptr) {
    journal_ = new JournalView(centre_);
    centre_->addWidget(journal_);
    connect(journal_, &JournalView::logWanted, this, [this](const QString& file) { showLog(file, 0); });
    connect(journal_, &JournalView::closed, this, &MainWindow::showStage);
    connect(&desk_, &Desk::journalChanged, journal_, [this] {
      if (centre_->currentWidget() == journal_) refreshJournal();
    });
  }
  refreshJournal();
  centre_->setCurrentWidget(journal_);
  journal_->table()->setFocus();
}

void MainWindow::refreshJournal() {
  constexpr int kMostEntries = 500;
  try {
    journal_->showEntries(desk_.records().store().journal(kMostEntries));
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::cure(const QString& action) {
  if (action == "stock") return showStock();
  if (action == "start") {
    const auto way = desk_.records().snapshot().endpoints.find(whyEndpoint_);
    if (way != desk_.records().snapshot().endpoints.end()) startAndOpen(way->second.machine);
    return;
  }
  if (action == "drift") return followHost(whyEndpoint_);
  if (action == "again") return consolePasswordAgain(whyEndpoint_);
  if (action.startsWith("via:")) {
    const QString via = action.mid(4);
    if (desk_.records().commit(tr("put a tunnel before it"), [&](StoreWriter& w) {
          w.set({OwnerKind::WayIn, whyEndpoint_}, "route.via", via.toStdString());
        }))
      say(tr("It goes through %1 from now on. Ctrl+Z takes it back.").arg(via));
    return;
  }
  if (action == "retry") {
    if (OpenSession* s = current()) s->session().retry();
    return;
  }
  if (action == "sameMachine") {
    if (const OpenSession* s = current())
      desk_.reach().noteName(s->endpoint(), QString::fromStdString(s->route().machineName));
    return refreshSide();
  }
  if (!action.startsWith("port:")) return;
  Id machine = roster_->selected();
  if (centre_->currentWidget() == sheet_) machine = sheet_->machine();
  if (machine == 0 && current() != nullptr)
    if (const auto e = desk_.records().snapshot().endpoints.find(current()->endpoint());
        e != desk_.records().snapshot().endpoints.end())
      machine = e->second.machine;
  if (centre_->currentWidget() != sheet_) editMachine(machine);
  if (const auto draft = sheet()->draftEndpoint()) {
    Address address = parseAddress(draft->address);
    address.port = action.mid(5).toInt();
    sheet_->useAddress(QString::fromStdString(address.uri()));
  }
}

void MainWindow::closeEvent(QCloseEvent* event) {
  if (centre_->currentWidget() == sheet_ && sheet_->dirty()) {
    const auto button = QMessageBox::question(
        this, tr("Kettle Window"),
        tr("The sheet of %1 holds changes that were not kept.").arg(sheet_->machineName()),
        QMessageBox::Discard | QMessageBox::Cancel, QMessageBox::Cancel);
    if (button != QMessageBox::Discard) {
      event->ignore();
      return;
    }
  }
  save();
  for (const auto& w : windows_)
    if (w) w->close();
  event->accept();
}

}  // namespace kw::desktop

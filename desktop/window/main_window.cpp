#include "desktop/window/main_window.hpp"
#include "desktop/app/counts.hpp"
#include "desktop/app/vault_guard.hpp"
#include "desktop/window/first_start.hpp"

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
#include "desktop/files/files_panel.hpp"
#include "desktop/hosts/change_over.hpp"
#include "desktop/hosts/stock_view.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/pages/trust_view.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/record/credentials_view.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "picture/png.hpp"
#include "text/log_writer.hpp"

namespace kw::desktop {

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
  guard_ = new VaultGuard(desk_.records().tools().vault, this);
  connect(guard_, &VaultGuard::locked, this, [this](const QString& why) {
    say(tr("Kept passwords are locked: %1.").arg(why));
    refreshActions();
  });
  restore();
  refreshActions();
  refreshSide();
  roster_->setFocus();
}

MainWindow::~MainWindow() {
  // What is inside goes after the members that its signals would find.
  disconnect(qApp, nullptr, this, nullptr);
  for (const QObject* inside : findChildren<QObject*>()) disconnect(inside, nullptr, this, nullptr);
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
    markWhatIsWorkedOn();
    refreshSide();
    refreshActions();
  });
  // Whoever looks about in the roster and then goes on typing in a sheet finds its machine marked again.
  connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
    if (sheet_ != nullptr && now != nullptr && sheet_->isAncestorOf(now)) markWhatIsWorkedOn();
  });
  connect(stage_, &Stage::endWanted, this, &MainWindow::endSession);
  stage_->hasConsole = [this](OpenSession* s) { return consoleBeside(s) != nullptr; };
  connect(stage_, &Stage::consoleWanted, this, [this](OpenSession* s) {
    const Endpoint* console = consoleBeside(s);
    if (console == nullptr) return;
    const bool makesRoom = stage_->panes().size() < 2;
    if (makesRoom) stage_->arrange(2);
    const Id id = console->id, awaited = s->endpoint();
    openEndpoint(id);
    if (OpenSession* shown = desk_.sessionOf(id)) changeOver_->watch(shown, awaited, makesRoom);
  });
  changeOver_ = new ChangeOver(desk_, *stage_, this);
  connect(changeOver_, &ChangeOver::endWanted, this, &MainWindow::endSession);
  connect(changeOver_, &ChangeOver::said, this, &MainWindow::say);
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
    // Few enough bytes that the answer still belongs to what is typed.
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

void MainWindow::say(const QString& sentence) {
  saying_->setText(sentence);
  saying_->show();
  sayTimer_.start(8000);
}

/// The roster's mark follows what is edited, or else the focused pane, so that all speak of one machine.
void MainWindow::markWhatIsWorkedOn() {
  Id machine = 0;
  if (sheet_ != nullptr && centre_->currentWidget() == sheet_) {
    machine = sheet_->machine();
  } else if (current() != nullptr) {
    const auto& endpoints = desk_.records().snapshot().endpoints;
    if (const auto e = endpoints.find(current()->endpoint()); e != endpoints.end())
      machine = e->second.machine;
  }
  if (machine != 0 && machine != roster_->selected()) roster_->select(machine);
}

void MainWindow::showStage() {
  centre_->setCurrentIndex(0);
  markWhatIsWorkedOn();
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

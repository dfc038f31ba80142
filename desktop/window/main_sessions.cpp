// Opening, showing and ending sessions; files of machines; the clipboard.
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
#include <QScreen>
#include <QSplitter>
#include <QStackedWidget>
#include <QStandardPaths>
#include <QToolButton>
#include <QVBoxLayout>
#include "base/file.hpp"
#include "desktop/files/clip_fetch.hpp"
#include "desktop/files/files_panel.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/model/clip_mime.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/picture/screens_plan.hpp"
#include "desktop/record/own_commands.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/side.hpp"
#include "desktop/window/spout.hpp"
#include "desktop/window/wished_screens.hpp"
#include "picture/png.hpp"
#include "record/catalogue.hpp"
#include "text/log_writer.hpp"

namespace kw::desktop {

void MainWindow::connectSession(OpenSession* session) {
  connect(session, &OpenSession::ended, this, [this, session] {
    stage_->remove(session);
    for (const auto& w : windows_)
      if (w && w->session() == session) w->close();
    runAfter(session->endpoint());
  });
  connect(session, &OpenSession::clipArrived, this, [this, session](std::shared_ptr<Clip> clip) {
    if (session->copiedFiles)
      say(tr("Files were copied on %1: Session, Fetch copied files, brings them here.")
              .arg(session->machine()));
    // Files alone have nothing that could be pasted here before they are fetched.
    if (clip->forms() != std::set<ClipForm>{ClipForm::Files})
      QApplication::clipboard()->setMimeData(new ClipMime(std::move(clip)));
  });
  connect(new WishedScreens(session), &WishedScreens::furtherScreen, this,
          [this, session](int number, QScreen* monitor) { showFurtherScreen(session, number, monitor); });
  connect(session, &OpenSession::rang, this, [this, session] {
    QApplication::alert(this);
    say(tr("%1 rang its bell").arg(session->machine()));
  });
  connect(session, &OpenSession::wordSeen, this,
          [this, session](const QString& pattern, const QString& line) {
            if (session == current() && isActiveWindow()) session->lookedAt();
            QApplication::alert(this);
            say(tr("%1: “%2” seen in “%3”").arg(session->machine(), pattern, line.simplified().left(80)));
          });
}

namespace {

/// A command for the password may come from a colleague's hand: it runs only when somebody here agreed to it.
bool agreedToSignIn(const Snapshot& records, Id endpoint, OwnCommands& commands) {
  const Owner owner{OwnerKind::WayIn, endpoint};
  if (records.resolve(owner, "signin.from").value != "command") return true;
  const std::string line = records.resolve(owner, "signin.command").value;
  return line.empty() || commands.agreed(line);
}

}  // namespace

void MainWindow::openEndpoint(Id endpoint) {
  const bool fresh = desk_.sessionOf(endpoint) == nullptr;
  if (fresh && !agreedToSignIn(desk_.records().snapshot(), endpoint, *ownCommands())) return;
  if (fresh && !runBefore(endpoint)) return;
  OpenSession* session = desk_.open(endpoint);
  if (session == nullptr) return;
  if (fresh) connectSession(session);
  lastTime_->hide();
  showStage();
  stage_->show(session);
  if (!fresh) return;
  const std::string where =
      desk_.records().snapshot().resolve({OwnerKind::WayIn, endpoint}, "screen.open").value;
  if (where == "full") openFullScreen(session);
  if (where == "window") openScreenWindow(session, 0);
}

void MainWindow::openAddress(const QString& address) {
  OpenSession* session = desk_.openAddress(address);
  if (session == nullptr) return;
  connectSession(session);
  lastTime_->hide();
  showStage();
  stage_->show(session);
}

void MainWindow::openMachine(const QString& name) {
  if (QFileInfo(name).isFile()) return openFile(name);
  const Snapshot& s = desk_.records().snapshot();
  const Machine* machine = s.machineNamed(name.toStdString());
  if (machine == nullptr) {
    openAddress(name);
    return;
  }
  for (const Endpoint* e : s.endpointsOf(machine->id))
    if (canOpen(e->scheme())) {
      openEndpoint(e->id);
      return;
    }
  say(tr("%1 has no way in that this version can open.").arg(name));
}

void MainWindow::endSession(OpenSession* session) {
  if (session == nullptr) return;
  // A session that is over already only needs to be put away.
  if (session->status().stage == SessionStage::Ended) {
    stage_->remove(session);
    for (const auto& w : windows_)
      if (w && w->session() == session) w->close();
    desk_.discard(session);
    return;
  }
  session->end();
}

ScreenWindow* MainWindow::openFullScreen(OpenSession* session) {
  for (const auto& w : windows_)
    if (w && w->session() == session && w->screen() == 0) {
      w->setFullScreen(true);
      w->raise();
      return w;
    }
  auto* window = openScreenWindow(session, 0);
  window->setFullScreen(true);
  return window;
}

/// The pane that showed all of them shows the first from now on.
void MainWindow::showFurtherScreen(OpenSession* session, int number, QScreen* monitor) {
  for (Pane* p : stage_->panes())
    if (p->session() == session && p->view()->screen() == 0) p->view()->setScreen(1);
  ScreenWindow* window = openScreenWindow(session, number);
  if (monitor == nullptr) return;
  window->move(monitor->geometry().topLeft());
  window->setFullScreen(true);
}

ScreenWindow* MainWindow::openScreenWindow(OpenSession* session, int screen) {
  auto* window = new ScreenWindow(session, screen, false);
  window->setSpoutPlace(spoutEdge_, spoutShare_);
  window->moreEntries = [this, session = QPointer<OpenSession>(session), window] {
    return session ? spoutEntries(session, window) : std::vector<SpoutEntry>();
  };
  connect(window, &ScreenWindow::endWanted, this, &MainWindow::endSession);
  connect(window, &ScreenWindow::spoutMoved, this,
          [this](int edge, double share) { spoutEdge_ = edge, spoutShare_ = share; });
  connect(window, &ScreenWindow::backToWindow, this, [this](OpenSession* s) {
    if (s != nullptr) stage_->show(s);
    activateWindow();
  });
  windows_.removeAll(QPointer<ScreenWindow>());
  windows_.append(window);
  return window;
}

void MainWindow::savePicture(OpenSession* session, QString file) {
  if (session == nullptr || !session->hasPicture()) return;
  if (file.isEmpty()) {
    const QString folder = QStandardPaths::writableLocation(QStandardPaths::PicturesLocation);
    const QString name =
        session->machine() + QDateTime::currentDateTime().toString(" yyyy-MM-dd HH.mm.ss") + ".png";
    const QPointer<OpenSession> kept(session);
    file = QFileDialog::getSaveFileName(this, tr("Save the picture"), folder + "/" + name,
                                        tr("PNG pictures (*.png)"));
    if (file.isEmpty()) return;
    if (!kept) return say(tr("The session ended meanwhile; there is no picture any more."));
  }
  if (session->text() != nullptr) {
    for (Pane* p : stage_->panes())
      if (p->session() == session)
        return say((p->textView()->canvas()->image().save(file) ? tr("Saved %1") : tr("%1 cannot be written"))
                       .arg(file));
    return say(tr("%1 is not on the stage: bring it there first, then its picture can be saved.")
                   .arg(session->machine()));
  }
  try {
    const auto picture = session->picture();
    Framebuffer copy;
    {
      auto lock = picture->lock();
      copy = picture->cropped(picture->rect());
    }
    savePng(copy, file.toStdString());
    say(tr("Saved %1").arg(file));
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

Id MainWindow::currentMachine() const {
  const Snapshot& s = desk_.records().snapshot();
  if (current() != nullptr && !roster_->hasFocus())
    if (const auto e = s.endpoints.find(current()->endpoint()); e != s.endpoints.end())
      return e->second.machine;
  return roster_->selected();
}

const Endpoint* MainWindow::sshWayOf(Id machine) const {
  if (machine == 0) return nullptr;
  for (const Endpoint* e : desk_.records().snapshot().endpointsOf(machine))
    if (const WayKind* kind = findWayKind(e->scheme()); kind != nullptr && kind->carriesFiles) return e;
  return nullptr;
}

void MainWindow::openFiles(Id machine) {
  const Endpoint* way = sshWayOf(machine);
  if (way == nullptr) return;
  if (files_ == nullptr) {
    files_ = new FilesPanel(desk_.runtime(), desk_.tools(), stageAndFiles_);
    stageAndFiles_->addWidget(files_);
    stageAndFiles_->setSizes({420, 280});
    connect(files_, &FilesPanel::closed, files_, &QWidget::hide);
  }
  files_->show();
  showStage();
  const Snapshot& s = desk_.records().snapshot();
  const Owner owner{OwnerKind::WayIn, way->id};
  try {
    files_->openFor(QString::fromStdString(s.machines.at(machine).name), parseAddress(way->address),
                    settingsOf(s, owner), owner);
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

void MainWindow::clipboardChanged() {
  // Only the machine one works with gets it, not every open one.
  OpenSession* s = current();
  if (s == nullptr || !s->isLive() || !s->shown.clipboardToMachine || s->viewOnly()) return;
  if (auto clip = clipOfDesktop()) s->session().offerClip(std::move(clip));
}

void MainWindow::fetchCopiedFiles(OpenSession* session, QString folder) {
  if (session == nullptr || !session->copiedFiles) return;
  const auto clip = session->copiedFiles;
  const QString machine = session->machine();
  if (folder.isEmpty())
    folder =
        QFileDialog::getExistingDirectory(this, tr("Where shall the files from %1 go?").arg(machine),
                                          QStandardPaths::writableLocation(QStandardPaths::DownloadLocation));
  if (folder.isEmpty()) return;
  auto* fetch = new ClipFetch(desk_.runtime().strand(), clip, machine, folder, this);
  connect(fetch, &ClipFetch::failed, this, &MainWindow::say);
  connect(fetch, &ClipFetch::fetched, this, [this, folder](const QStringList& saved) {
    QApplication::clipboard()->setMimeData(fetchedFilesMime(saved));
    say(tr("Fetched into %1; they can be pasted, too.").arg(folder));
  });
}

void MainWindow::openScreensPlan(OpenSession* session) {
  auto* plan = new ScreensPlan(session, this);
  plan->setAttribute(Qt::WA_DeleteOnClose);
  connect(session, &QObject::destroyed, plan, &QWidget::close);
  connect(plan, &ScreensPlan::windowWanted, this, [this, session = QPointer(session)](int screen) {
    if (session) openScreenWindow(session, screen);
  });
  plan->move(stage_->mapTo(this, QPoint(std::max(0, stage_->width() - plan->width() - 16), 48)));
  plan->show();
  plan->raise();
  plan->setFocus();
}

}  // namespace kw::desktop

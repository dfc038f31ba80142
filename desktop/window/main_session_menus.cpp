// Menus about one session: view, keys, screens, picture, and what the spout offers.
#include <QInputDialog>
#include <QMenu>

#include "desktop/model/while_open.hpp"
#include "desktop/picture/picture_view.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "desktop/window/screen_window.hpp"
#include "desktop/window/spout.hpp"
#include "session/keys.hpp"

namespace kw::desktop {

void MainWindow::fillViewMenu(QMenu* menu, OpenSession* session) {
  session->text() != nullptr ? fillTextMenu(menu, session) : fillPictureMenu(menu, session);
}

void MainWindow::setFit(const QString& word) {
  if (stage_->focusedPane() != nullptr) stage_->focusedPane()->view()->setFitMode(fitModeFrom(word));
  if (current() != nullptr) current()->shown.fit = word.toStdString();
  refreshActions();
}

void MainWindow::fillKeysMenu(QMenu* menu, OpenSession* session) {
  const bool can = session != nullptr && session->isLive() && !session->viewOnly();
  if (session != nullptr && session->text() != nullptr) return fillSendMenu(menu, session);
  const auto key = [&](const QString& text, const QString& chord, QMenu* into) {
    QAction* a = into->addAction(text, this, [session = QPointer<OpenSession>(session), chord] {
      if (session) session->sendChord(chord);
    });
    a->setEnabled(can);
  };
  key("Ctrl+Alt+Delete", "ctrl+alt+delete", menu);
  key("Ctrl+Alt+Backspace", "ctrl+alt+backspace", menu);
  QMenu* consoles = menu->addMenu(tr("Ctrl+Alt+F1 … F12"));
  for (int i = 1; i <= 12; ++i)
    key("Ctrl+Alt+F" + QString::number(i), "ctrl+alt+f" + QString::number(i), consoles);
  menu->addSeparator();
  key(tr("Super"), "super", menu);
  key("Alt+Tab", "alt+tab", menu);
  key("Alt+F4", "alt+f4", menu);
  key(tr("Print"), "print", menu);
  key(tr("Escape"), "esc", menu);
  if (session != nullptr && !session->shown.ownKeys.empty()) {
    menu->addSeparator();
    for (const QString& own : QString::fromStdString(session->shown.ownKeys).split(',', Qt::SkipEmptyParts))
      key(own.trimmed(), own.trimmed(), menu);
  }
  menu->addSeparator();
  QAction* other = menu->addAction(tr("Other keys…"), this, [this, session = QPointer<OpenSession>(session)] {
    bool done = false;
    const QString chord = QInputDialog::getText(this, tr("Send keys"), tr("Keys, joined by +:"),
                                                QLineEdit::Normal, "ctrl+alt+f7", &done);
    if (done && session) session->sendChord(chord);
  });
  other->setEnabled(can);
}

void MainWindow::fillScreensMenu(QMenu* menu, OpenSession* session) {
  Pane* pane = nullptr;
  for (Pane* p : stage_->panes())
    if (p->session() == session) pane = p;
  const auto count = static_cast<int>(session->screens().size());
  if (pane != nullptr) {
    const auto choice = [&](const QString& text, int number) {
      QAction* a = menu->addAction(text, pane, [pane, number] { pane->view()->setScreen(number); });
      a->setCheckable(true);
      a->setChecked(pane->view()->screen() == number);
    };
    choice(tr("All screens here"), 0);
    for (int i = 1; i <= count; ++i) choice(tr("Only screen %1 here").arg(i), i);
    menu->addSeparator();
  }
  for (int i = 1; i <= count; ++i) {
    const Rect area = session->screens()[static_cast<std::size_t>(i) - 1].area;
    menu->addAction(tr("Screen %1 (%2 × %3) in a window of its own").arg(i).arg(area.width).arg(area.height),
                    this, whileOpen(session, [this, i](OpenSession* s) { openScreenWindow(s, i); }));
  }
  if (!session->offers().empty()) {
    menu->addSeparator();
    for (const ScreenOffer& s : session->offers()) {
      const int number = static_cast<int>(s.id) + 1;
      QAction* a = menu->addAction(
          s.on ? tr("Switch screen %1 off").arg(number) : tr("Switch screen %1 on").arg(number), session,
          [session, s] {
            session->session().switchScreen(s.id, s.on ? Size{} : Size{1024, 768});
          });
      if (s.on && count < 2) {
        a->setEnabled(false);
        a->setToolTip(tr("The last screen stays on."));
      }
    }
    menu->addAction(tr("Screens plan…"), this,
                    whileOpen(session, [this](OpenSession* s) { openScreensPlan(s); }));
    menu->addSeparator();
  }
  menu->addAction(tr("Every screen in its own window"), this,
                  whileOpen(session, [this, count](OpenSession* s) {
                    for (int i = 1; i <= count; ++i) openScreenWindow(s, i);
                  }));
}

void MainWindow::fillPictureMenu(QMenu* menu, OpenSession* session) {
  for (const char* name : {"fitShrink", "fitFill", "fitActual", "fitWhole"}) menu->addAction(actions_[name]);
  menu->addSeparator();
  QAction* follow = menu->addAction(tr("Machine follows the pane's size"), session, [session] {
    session->shown.followsPane = !session->shown.followsPane;
    session->shown.ownSize.reset();
    session->shown.likeMonitor = false;
    emit session->changed();
  });
  follow->setCheckable(true);
  follow->setChecked(session->shown.followsPane);
  follow->setEnabled(session->capabilities().resize.can);
  follow->setToolTip(QString::fromStdString(session->capabilities().resize.why));
  QMenu* colours = menu->addMenu(tr("Colours"));
  for (int bits : {32, 16, 8})
    colours->addAction(tr("%1-bit").arg(bits), session,
                       [session, bits] { session->session().setColours(bits); });
  QMenu* quality = menu->addMenu(tr("Quality"));
  const std::pair<QString, const char*> levels[] = {
      {tr("Lossless"), "lossless"}, {tr("High"), "high"}, {tr("Medium"), "medium"}, {tr("Low"), "low"}};
  for (const auto& [text, word] : levels)
    quality->addAction(text, session, [session, w = word] {
      const QualityLevels l = qualityLevels(w);
      session->session().setQuality(l.quality, l.compression);
    });
  menu->addSeparator();
  for (const char* name : {"look", "savePicture", "refresh", "full", "ownWindow"})
    menu->addAction(actions_[name]);
}

std::vector<SpoutEntry> MainWindow::spoutEntries(OpenSession* session, ScreenWindow* window) {
  std::vector<SpoutEntry> out;
  const bool keys = session->isLive() && !session->viewOnly();
  const auto popup = [this, session](auto fill) {
    return whileOpen(session, [this, fill](OpenSession* s) {
      QMenu menu(this);
      (this->*fill)(&menu, s);
      menu.exec(QCursor::pos());
    });
  };
  if (window == nullptr) {
    out.push_back(
        {tr("Full screen"), whileOpen(session, [this](OpenSession* s) { openFullScreen(s); }), true, {}});
    out.push_back({tr("Go to another machine"), [this] { go_->setFocus(); }, true, {}});
  }
  out.push_back({tr("Screens…"), popup(&MainWindow::fillScreensMenu), session->capabilities().screens.can,
                 QString::fromStdString(session->capabilities().screens.why)});
  out.push_back({tr("Keys…"), popup(&MainWindow::fillKeysMenu), keys,
                 session->viewOnly() ? tr("only looking") : tr("not live")});
  out.push_back({tr("Send Ctrl+Alt+Delete"),
                 whileOpen(session, [](OpenSession* s) { s->sendChord("ctrl+alt+delete"); }),
                 keys,
                 {}});
  const auto endpoint = desk_.records().snapshot().endpoints.find(session->endpoint());
  const Id machine = endpoint == desk_.records().snapshot().endpoints.end() ? 0 : endpoint->second.machine;
  out.push_back({tr("Files"), [this, machine] { openFiles(machine); }, sshWayOf(machine) != nullptr,
                 tr("Files go over SSH; this machine has no such way in.")});
  out.push_back({tr("Save the picture…"),
                 whileOpen(session, [this](OpenSession* s) { savePicture(s); }),
                 session->hasPicture(),
                 {}});
  if (window == nullptr)
    out.push_back(
        {tr("End the session"), whileOpen(session, [this](OpenSession* s) { endSession(s); }), true, {}});
  return out;
}

}  // namespace kw::desktop

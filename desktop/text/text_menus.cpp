// Menus of text panes: sending, finding, line settings, log.
#include <QActionGroup>
#include <QApplication>
#include <QClipboard>
#include <QDesktopServices>
#include <QFileDialog>
#include <QInputDialog>
#include <QMenu>
#include <QPainter>
#include <QPlainTextEdit>
#include <QStandardPaths>
#include <QTextBlock>

#include "base/file.hpp"
#include "desktop/look/own_colours.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/model/while_open.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/text/text_schemes.hpp"
#include "desktop/window/main_window.hpp"

namespace kw::desktop {

TextView* MainWindow::currentText() const {
  Pane* pane = stage_->focusedPane();
  return pane != nullptr && pane->showsText() ? pane->textView() : nullptr;
}

void MainWindow::buildTextMenu(QMenu* session) {
  session->addSeparator();
  QMenu* text = session->addMenu(tr("&Text"));
  text->setToolTipsVisible(true);
  add(text, "copy", tr("&Copy"), {}, [this] {
    if (currentText() != nullptr) currentText()->canvas()->copy();
  });
  add(text, "copyColours", tr("Copy with co&lours"), {}, [this] {
    if (currentText() != nullptr) currentText()->canvas()->copy(true);
  });
  add(text, "paste", tr("&Paste"), {}, [this] {
    if (currentText() != nullptr) currentText()->paste(QApplication::clipboard()->text());
  });
  add(text, "find", tr("&Find in the text…"), QKeySequence("Ctrl+Shift+F"), [this] {
    if (currentText() != nullptr) currentText()->openFind();
  });
  add(text, "break", tr("Send a &break"), {}, [this] {
    OpenSession* s = current();
    if (s != nullptr && s->text() != nullptr)
      s->text()->sendBreak(std::chrono::milliseconds(s->shown.breakLength));
  });
  add(text, "mark", tr("Set a &mark in the log…"), {}, [this] {
    bool done = false;
    const QString note =
        QInputDialog::getText(this, tr("Mark in the log"), tr("Note:"), QLineEdit::Normal, {}, &done);
    if (done && current() != nullptr && current()->text() != nullptr)
      current()->text()->markLog(note.toStdString());
  });
  add(text, "doctor", tr("Try usual line &settings…"), {}, [this] {
    if (current() != nullptr && current()->text() != nullptr) tryUsualSettings(current());
  });
}

void MainWindow::refreshTextActions() {
  OpenSession* s = current();
  const bool text = s != nullptr && s->text() != nullptr;
  const QString none =
      s == nullptr ? tr("No session is in the focused pane.") : tr("This session is a picture, not text.");
  const bool selected = currentText() != nullptr && currentText()->canvas()->hasSelection();
  for (const char* name : {"copy", "copyColours"})
    allow(name, text && selected, text ? tr("No text is chosen.") : none);
  allow("find", text, none);
  allow("paste", text && s->isLive() && !s->viewOnly(), text ? tr("The session is not live.") : none);
  const Capabilities can = text ? s->capabilities() : Capabilities{};
  const bool live = text && s->isLive();
  const QString notLive = text ? tr("The session is not live.") : none;
  allow("break", live && can.breakSignal.can, live ? QString::fromStdString(can.breakSignal.why) : notLive);
  allow("doctor", live && can.lineSettings.can,
        live ? QString::fromStdString(can.lineSettings.why) : notLive);
  const bool logging = text && !s->text()->logFile().empty();
  allow("mark", logging, text ? tr("No log is being kept.") : none);
}

void MainWindow::fillSendMenu(QMenu* menu, OpenSession* session) {
  const bool can = session->isLive() && !session->viewOnly();
  TextConsole* console = session->text();
  menu->addAction(actions_["break"]);
  menu->addSeparator();
  const std::tuple<QString, std::string> keys[] = {{tr("Ctrl+C"), "\x03"}, {tr("Ctrl+D"), "\x04"},
                                                   {tr("Ctrl+Z"), "\x1a"}, {tr("Ctrl+\\"), "\x1c"},
                                                   {tr("Ctrl+]"), "\x1d"}, {tr("Escape"), "\x1b"}};
  QMenu* characters = menu->addMenu(tr("Control characters"));
  for (const auto& [name, bytes] : keys)
    characters->addAction(name, session, [console, b = bytes] { console->sendBytes(b); });
  characters->setEnabled(can);
  menu->addSeparator();
  const auto choose = [this](const QString& title) { return QFileDialog::getOpenFileName(this, title); };
  const auto sending = [&](const QString& name, auto act) {
    QAction* a = menu->addAction(name, session, [choose, act, name, kept = QPointer<OpenSession>(session)] {
      const QString file = choose(name);
      if (!file.isEmpty() && kept) act(*kept->text(), file.toStdString());
    });
    a->setEnabled(can);
  };
  using text::TransferKind;
  sending(tr("Send a file as text…"), [](TextConsole& c, const std::string& f) { c.sendAsText(f); });
  sending(tr("Send by XMODEM…"),
          [](TextConsole& c, const std::string& f) { c.sendFile(TransferKind::Xmodem, f); });
  sending(tr("Send by XMODEM-1K…"),
          [](TextConsole& c, const std::string& f) { c.sendFile(TransferKind::Xmodem1k, f); });
  sending(tr("Send by YMODEM…"),
          [](TextConsole& c, const std::string& f) { c.sendFile(TransferKind::Ymodem, f); });
  menu->addSeparator();
  const std::pair<QString, TransferKind> receiving[] = {{tr("Receive by XMODEM…"), TransferKind::Xmodem1k},
                                                        {tr("Receive by YMODEM…"), TransferKind::Ymodem}};
  for (const auto& [name, kind] : receiving) {
    QAction* a =
        menu->addAction(name, session, [this, kept = QPointer<OpenSession>(session), n = name, k = kind] {
          const QString folder = QFileDialog::getExistingDirectory(
              this, n, QStandardPaths::writableLocation(QStandardPaths::DownloadLocation));
          if (!folder.isEmpty() && kept) kept->text()->receiveFiles(k, folder.toStdString());
        });
    a->setEnabled(can);
  }
}

namespace {

/// A scheme at a glance: its ground with text and some of its colours.
QIcon swatch(const TextScheme& s) {
  QPixmap p(36, 16);
  p.fill(s.ground);
  QPainter paint(&p);
  int x = 3;
  for (const QColor& c : {s.text, s.named[2], s.named[3], s.named[4], s.named[1]}) {
    paint.fillRect(QRect(x, 4, 5, 8), c);
    x += 6;
  }
  return QIcon(p);
}

}  // namespace

void MainWindow::fillTextMenu(QMenu* menu, OpenSession* session) {
  TextView* view = nullptr;
  for (Pane* p : stage_->panes())
    if (p->session() == session) view = p->textView();
  const auto relook = [view, session] {
    if (view != nullptr) view->canvas()->applyLook();
    emit session->changed();
  };
  refreshActions();
  for (const char* name : {"copy", "copyColours", "paste", "find"}) menu->addAction(actions_[name]);
  menu->addSeparator();
  QMenu* schemes = menu->addMenu(tr("Colours of text"));
  for (const TextScheme& s : everyTextScheme()) {
    QAction* a = schemes->addAction(swatch(s), s.name, session, [session, relook, key = s.key] {
      session->shown.textScheme = key.toStdString();
      relook();
    });
    a->setCheckable(true);
    a->setChecked(s.key == QString::fromStdString(session->shown.textScheme));
  }
  schemes->addSeparator();
  schemes->addAction(actions_["colours"]);
  QMenu* size = menu->addMenu(tr("Font size"));
  for (int points : {8, 9, 10, 11, 12, 14, 16, 20}) {
    QAction* a = size->addAction(tr("%1 pt").arg(points), session, [session, relook, points] {
      session->shown.textSize = points;
      relook();
    });
    a->setCheckable(true);
    a->setChecked(points == session->shown.textSize);
  }
  if (session->capabilities().lineSettings.can) fillLineMenu(menu->addMenu(tr("Line")), session);
  QMenu* log = menu->addMenu(tr("Log"));
  const std::string file = session->text()->logFile();
  if (file.empty()) {
    log->addAction(tr("Begin a log of plain text"), this,
                   whileOpen(session, [this](OpenSession* s) { logSession(s, false); }));
    log->addAction(tr("Begin a log of every byte"), this,
                   whileOpen(session, [this](OpenSession* s) { logSession(s, true); }));
  } else {
    log->addAction(actions_["mark"]);
    log->addAction(tr("Show it"), this, [this, file] { showLog(QString::fromStdString(file), 0); });
    log->addAction(tr("End it"), session, [session] { session->text()->logTo({}); });
  }
  menu->addSeparator();
  menu->addAction(tr("Forget the rows above"), session, [session] {
    session->text()->terminal().echo("\x1b[3J");
    session->session().refresh();
  });
  menu->addAction(tr("Reset the terminal"), session, [session] {
    session->text()->terminal().reset(false);
    session->session().refresh();
  });
  menu->addSeparator();
  for (const char* name : {"look", "savePicture", "full", "ownWindow"}) menu->addAction(actions_[name]);
}

void MainWindow::fillLineMenu(QMenu* menu, OpenSession* session) {
  LineSettings now;
  const QStringList words = QString::fromStdString(session->line().settings).split(' ');
  if (words.size() >= 2) {
    now.speed = words[0].toInt();
    setFrame(now, words[1].toStdString());
  }
  if (words.size() >= 3)
    now.flow = words[2] == "RTS/CTS"   ? FlowControl::RtsCts
               : words[2] == "DTR/DSR" ? FlowControl::DtrDsr
                                       : FlowControl::XonXoff;
  const auto choice = [&](QMenu* into, const QString& name, const LineSettings& wanted) {
    QAction* a = into->addAction(name, session, [session, wanted] { session->text()->changeLine(wanted); });
    a->setCheckable(true);
    a->setChecked(wanted == now);
  };
  QMenu* speed = menu->addMenu(tr("Speed"));
  for (int s : {300, 1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200, 230400, 460800, 921600, 1500000}) {
    LineSettings wanted = now;
    wanted.speed = s;
    choice(speed, QString::number(s), wanted);
  }
  speed->addAction(tr("Another…"), this, [this, kept = QPointer<OpenSession>(session), now] {
    bool done = false;
    const int s =
        QInputDialog::getInt(this, tr("Speed"), tr("Bits a second:"), now.speed, 1, 20'000'000, 1, &done);
    LineSettings wanted = now;
    wanted.speed = s;
    if (done && kept) kept->text()->changeLine(wanted);
  });
  QMenu* frame = menu->addMenu(tr("Frame"));
  for (const char* f : {"8N1", "8E1", "8O1", "8N2", "7N1", "7E1", "7O1", "7E2", "7M1", "7S1", "5N1.5"}) {
    LineSettings wanted = now;
    setFrame(wanted, f);
    choice(frame, f, wanted);
  }
  QMenu* flow = menu->addMenu(tr("Flow control"));
  const std::pair<QString, FlowControl> flows[] = {{tr("None"), FlowControl::None},
                                                   {"RTS/CTS", FlowControl::RtsCts},
                                                   {"DTR/DSR", FlowControl::DtrDsr},
                                                   {"XON/XOFF", FlowControl::XonXoff}};
  for (const auto& [name, f] : flows) {
    LineSettings wanted = now;
    wanted.flow = f;
    choice(flow, name, wanted);
  }
  menu->addSeparator();
  const LineFacts& facts = session->line();
  menu->addAction(facts.rts ? tr("Put RTS off") : tr("Put RTS on"), session,
                  [session, on = !facts.rts] { session->text()->setRts(on); });
  menu->addAction(facts.dtr ? tr("Put DTR off") : tr("Put DTR on"), session,
                  [session, on = !facts.dtr] { session->text()->setDtr(on); });
  menu->addAction(actions_["break"]);
  menu->addSeparator();
  menu->addAction(actions_["doctor"]);
}

void MainWindow::tryUsualSettings(OpenSession* session) {
  const QPointer<OpenSession> kept(session);
  DoctorOptions options;
  session->text()->tryUsualSettings(options, [this, kept](DoctorReport report) {
    QMetaObject::invokeMethod(
        this,
        [this, kept, report] {
          if (!kept) return;
          say(kept->machine() + ": " + QString::fromStdString(report.sentence()));
          if (!report.proposal) return;
          // Taken at once; the way back is one choice in the line menu, and the sheet is not changed.
          kept->text()->changeLine(*report.proposal);
        },
        Qt::QueuedConnection);
  });
}

void MainWindow::logSession(OpenSession* session, bool raw) {
  text::LogOptions options;
  options.folder = stateFolder() / "logs";
  options.name = session->machine().toStdString();
  options.form = raw ? text::LogForm::Raw : text::LogForm::Plain;
  session->text()->logTo(options);
}

/// The log in a plain window of its own, at a line.
void MainWindow::showLog(const QString& file, int line) {
  try {
    const Bytes bytes = readFile(file.toStdString());
    auto* view = new QPlainTextEdit;
    view->setAttribute(Qt::WA_DeleteOnClose);
    view->setReadOnly(true);
    view->setFont(monoFont(9));
    view->setPlainText(QString::fromStdString(cleanUtf8(textOf(bytes))));
    view->setWindowTitle(file.section('/', -1));
    view->resize(900, 600);
    if (line > 0) {
      QTextCursor at(view->document()->findBlockByNumber(line - 1));
      at.select(QTextCursor::LineUnderCursor);
      view->setTextCursor(at);
    }
    view->show();
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
  }
}

}  // namespace kw::desktop

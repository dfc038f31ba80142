// The stock's page: what a machine's power and console menus offer, and what they ask.
#include "desktop/hosts/stock_view.hpp"

#include <QAbstractButton>
#include <QHostAddress>
#include <QInputDialog>
#include <QMenu>
#include <QMessageBox>

#include "desktop/look/theme.hpp"
#include "host/console.hpp"

namespace kw::desktop {

namespace {
/// Where a console gets a port of its own from.
constexpr int kFirstOwnPort = 5901;

QString text(const std::string& s) { return QString::fromStdString(s); }
}  // namespace

void StockView::fillPowerMenu(QMenu* menu, const StockLine& line) {
  menu->setToolTipsVisible(true);
  const auto& watched = desk_.hosts().all().at(line.host);
  const host::HostAbilities& can = watched.view.abilities;
  const host::Running state = line.row.machine.state;
  const bool live = watched.view.stage == host::HostStage::Live,
             runs = state == host::Running::On || state == host::Running::Stopping;
  const auto add = [&](host::PowerAct act, const QString& words, const Ability& ability, bool now,
                       const QString& loses) {
    QAction* a = menu->addAction(words, this,
                                 [this, id = line.host, machine = line.row.machine.id,
                                  name = text(line.row.machine.name), act, loses] {
                                   if (!loses.isEmpty()) {
                                     const auto answer = QMessageBox::warning(
                                         this, name, loses, QMessageBox::Ok | QMessageBox::Cancel,
                                         QMessageBox::Cancel);
                                     if (answer != QMessageBox::Ok) return;
                                   }
                                   desk_.hosts().power(id, machine, name, act);
                                 });
    a->setEnabled(live && ability.can && now);
    a->setToolTip(!live          ? tr("The host is not reached now.")
                  : !ability.can ? text(ability.why)
                  : !now         ? tr("Not in its state now.")
                                 : QString());
  };
  const QString lost =
      tr("What %1 has not saved is lost, and its disk may be damaged.").arg(text(line.row.machine.name));
  add(host::PowerAct::Start, tr("Start"), can.start,
      state == host::Running::Off || state == host::Running::Crashed, {});
  menu->addSeparator();
  add(host::PowerAct::ShutDown, tr("Ask it to shut down"), can.power, state == host::Running::On, {});
  add(host::PowerAct::Restart, tr("Ask it to restart"), can.restart, state == host::Running::On, {});
  menu->addSeparator();
  add(host::PowerAct::Pause, tr("Pause"), can.pause, state == host::Running::On, {});
  add(host::PowerAct::Resume, tr("Go on"), can.pause, state == host::Running::Paused, {});
  menu->addSeparator();
  add(host::PowerAct::Off, tr("Force it off…"), can.power, runs || state == host::Running::Paused,
      tr("Forcing it off is like pulling the plug. ") + lost);
  add(host::PowerAct::Reset, tr("Reset…"), can.power, runs, tr("A reset does not ask the guest. ") + lost);
}

void StockView::fillConsoleMenu(QMenu* menu, const StockLine& line) {
  menu->setToolTipsVisible(true);
  const auto& watched = desk_.hosts().all().at(line.host);
  const host::HostAbilities& can = watched.view.abilities;
  const host::StockMachine& m = line.row.machine;
  const bool live = watched.view.stage == host::HostStage::Live, hasConsole = !m.consoles.empty();
  const auto add = [&](const QString& words, const Ability& ability, bool now, const QString& whyNot,
                       void (StockView::*act)(const StockLine&)) {
    QAction* a = menu->addAction(words, this, [this, act, line] { (this->*act)(line); });
    a->setEnabled(live && ability.can && now);
    a->setToolTip(!live          ? tr("The host is not reached now.")
                  : !ability.can ? text(ability.why)
                  : !now         ? whyNot
                                 : QString());
  };
  const QString atOnce = tr("at once"), later = tr("needs a full stop and start");
  const QString placeWhen = can.portCounts == host::When::AtOnce ? atOnce : later;
  add(tr("Set its password… (%1)").arg(atOnce), can.password,
      hasConsole && m.state == host::Running::On && line.row.record != 0,
      line.row.record == 0 ? tr("Adopt the machine first; the password is kept with its way in.")
                           : tr("Its host keeps a password only while it runs."),
      &StockView::askPassword);
  add(tr("A port of its own… (%1)").arg(placeWhen), can.port, hasConsole, tr("It has no console."),
      &StockView::askPort);
  add(tr("Where it listens… (%1)").arg(placeWhen), can.listen, hasConsole, tr("It has no console."),
      &StockView::askListen);
  add(tr("A serial port… (%1)").arg(later), can.serial, true, {}, &StockView::askSerial);
}

host::ConsoleChange StockView::changeOf(const StockLine& line) const {
  host::ConsoleChange change;
  if (!line.row.machine.consoles.empty()) change.scheme = line.row.machine.consoles.front().scheme;
  return change;
}

void StockView::askPassword(const StockLine& line) {
  const QString name = text(line.row.machine.name);
  bool done = false;
  const QString given =
      QInputDialog::getText(this, name,
                            tr("Password of the console (eight characters count for VNC). It is kept, "
                               "sealed, and set again at each start from here:"),
                            QLineEdit::Password, {}, &done);
  if (!done || given.isEmpty()) return;
  try {
    host::setConsolePassword(desk_.tools(), desk_.records().snapshot(), line.row.record, given.toStdString());
    desk_.records().reload();
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return;
  }
  host::ConsoleChange change = changeOf(line);
  change.password = given.toStdString();
  desk_.hosts().change(line.host, line.row.machine.id, name, change,
                       tr("%1: the password counts from now on.").arg(name));
}

void StockView::askPort(const StockLine& line) {
  const auto& now = desk_.hosts().all().at(line.host);
  const QString name = text(line.row.machine.name);
  const host::ConsoleFacts& c = line.row.machine.consoles.front();
  const int free = host::freePortFor(*now.view.stock, desk_.records().snapshot(), c.listen, kFirstOwnPort);
  bool done = false;
  const int port = QInputDialog::getInt(
      this, name, tr("Port (%1 is free on this host, as far as stock and records know):").arg(free),
      c.automatic || c.port == 0 ? free : c.port, 1, 65535, 1, &done);
  if (!done) return;
  host::ConsoleChange change = changeOf(line);
  change.port = port;
  place(line, change, tr("listens on port %1").arg(port));
}

void StockView::askListen(const StockLine& line) {
  const QString name = text(line.row.machine.name);
  const host::ConsoleFacts& c = line.row.machine.consoles.front();
  QStringList choices{"127.0.0.1", "0.0.0.0", "::"};
  if (!c.listen.empty() && !choices.contains(text(c.listen))) choices.prepend(text(c.listen));
  bool done = false;
  const QString given =
      QInputDialog::getItem(this, name,
                            tr("Address of the host on which its console listens.\n"
                               "127.0.0.1: only the host itself reaches it, others through a jump on it.\n"
                               "0.0.0.0: whoever reaches the host; set a password first."),
                            choices, std::max<int>(0, static_cast<int>(choices.indexOf(text(c.listen)))),
                            true, &done)
          .trimmed();
  if (!done) return;
  if (QHostAddress(given).isNull()) {
    emit said(tr("\"%1\" is no numeric address.").arg(given));
    return;
  }
  host::ConsoleChange change = changeOf(line);
  change.listen = given.toStdString();
  place(line, change, tr("listens on %1").arg(given));
}

void StockView::askSerial(const StockLine& line) {
  const QString name = text(line.row.machine.name);
  bool done = false;
  const QString path =
      QInputDialog::getText(this, name, tr("Path of its socket on the host:"), QLineEdit::Normal,
                            text(host::serialPathFor(line.row.machine)), &done);
  if (!done || path.isEmpty()) return;
  host::ConsoleChange change = changeOf(line);
  change.addSerial = path.toStdString();
  changeForNextStart(line, change, tr("has a serial port at %1").arg(path));
}

void StockView::place(const StockLine& line, const host::ConsoleChange& change, const QString& becomes) {
  const host::HostAbilities& can = desk_.hosts().all().at(line.host).view.abilities;
  if (can.portCounts != host::When::AtOnce) return changeForNextStart(line, change, becomes);
  const QString name = text(line.row.machine.name);
  desk_.hosts().change(line.host, line.row.machine.id, name, change, tr("%1 %2 now.").arg(name, becomes));
}

void StockView::changeForNextStart(const StockLine& line, const host::ConsoleChange& change,
                                   const QString& becomes) {
  const QString name = text(line.row.machine.name);
  const host::StockMachine& m = line.row.machine;
  if (m.state == host::Running::Off || m.state == host::Running::Crashed) {
    desk_.hosts().change(line.host, m.id, name, change,
                         tr("%1 %2 from its next start on.").arg(name, becomes));
    return;
  }
  QMessageBox box(QMessageBox::NoIcon, name,
                  tr("%1 %2 after a full stop and start. When shall that be?").arg(name, becomes),
                  QMessageBox::Cancel, this);
  box.setInformativeText(
      tr("Asked to shut down, it loses nothing. Forced off, it loses what it has not saved."));
  const QAbstractButton* later = box.addButton(tr("Later, by whoever stops it"), QMessageBox::AcceptRole);
  const QAbstractButton* asked =
      box.addButton(tr("Now: ask it to shut down, then start"), QMessageBox::AcceptRole);
  const QAbstractButton* forced =
      box.addButton(tr("Now: force it off, then start"), QMessageBox::DestructiveRole);
  box.exec();
  const QAbstractButton* chosen = box.clickedButton();
  if (chosen != later && chosen != asked && chosen != forced) return;
  std::function<void(Hosts&)> then;
  if (chosen != later)
    then = [hostId = line.host, id = m.id, name,
            stop = chosen == asked ? host::PowerAct::ShutDown : host::PowerAct::Off](Hosts& h) {
      h.stopAndStart(hostId, id, name, stop);
    };
  desk_.hosts().change(line.host, m.id, name, change,
                       tr("%1 %2 after its next full stop and start.").arg(name, becomes), std::move(then));
}

}  // namespace kw::desktop

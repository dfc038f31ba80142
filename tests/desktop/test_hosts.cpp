// Hosts in the real window: the stock, adopting, what differs, starting and opening, power, why.
#include <QClipboard>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>

#include "base/file.hpp"
#include "desktop/hosts/stock_delegate.hpp"
#include "desktop/hosts/stock_view.hpp"
#include "host/console.hpp"
#include "lab/scenario.hpp"
#include "lab/ssh_server.hpp"
#include "tests/desktop/window_bench.hpp"
#include "tests/peers/peer.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// The bench's two machines on a host of the lab: the first linked, the second in nobody's roster.
struct HostBench : WindowBench {
  HostBench() : WindowBench(2) {
    std::vector<lab::HostedMachine> hosted;
    for (const auto& c : consoles) {
      lab::HostedMachine m;
      m.host = "orchard", m.name = c->plan().guest.name, m.id = lab::idForName(m.name), m.console = c.get();
      hosted.push_back(m);
    }
    socket = (folder.path / "hosts.sock").string();
    api = std::make_unique<lab::HostApi>(apiRuntime.strand(), socket, hosted);
    tools.store->commit("host", [&](StoreWriter& w) {
      w.removeMachine(machineIds[1]);
      w.set({OwnerKind::Machine, machineIds[0]}, "host.id", lab::idForName("palm-house-01"));
      HostRecord h;
      h.name = "orchard", h.folder = groupId, h.address = address();
      w.put(h);
    });
  }
  ~HostBench() {
    window.reset();
    desk.reset();
    api.reset();
    apiRuntime.stop();
  }
  [[nodiscard]] std::string address() const {
    return std::string("command:") + KW_BUILD + "/lab/kettle-lab host --socket " + socket + " orchard";
  }
  StockView& openStock() {
    open();
    window->action("stock")->trigger();
    StockView* view = window->stock();
    REQUIRE(shown([&] { return view->model().count(StockFilter::All) == 2; }));
    return *view;
  }
  QPushButton* button(const QString& name) { return window->findChild<QPushButton*>(name); }

  std::string socket;
  Runtime apiRuntime{1};
  std::unique_ptr<lab::HostApi> api;
};

QAction* entry(QWidget* in, const QString& menu, const QString& words) {
  auto* button = in->findChild<QPushButton*>(menu);
  if (button == nullptr) return nullptr;
  for (QAction* a : button->findChild<QMenu*>()->actions())
    if (a->text().startsWith(words)) return a;
  return nullptr;
}

}  // namespace

TEST_CASE("The stock shows what a host runs, live; narrowed, chosen, copied", "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  CHECK(view.model().count(StockFilter::NotInRoster) == 1);
  CHECK(view.model().count(StockFilter::Running) == 2);
  REQUIRE(view.model().rowCount() == 3);
  CHECK(view.model().line(0) == nullptr);  // the host's own line
  CHECK(view.model().index(0, 0).data().toString() == "orchard");
  view.choose(lab::idForName("palm-house-01"));
  CHECK(view.table()->selectionModel()->selectedRows().size() == 1);
  QTest::keyClick(view.table(), Qt::Key_C, Qt::ControlModifier);
  CHECK(QApplication::clipboard()->text().startsWith("palm-house-01\trunning"));
  // A change of the host leaves the choice where it is.
  b.api->powerFor("orchard", lab::idForName("palm-house-02"), "off");
  CHECK(shown([&] { return view.model().count(StockFilter::Running) == 1; }, 3000));
  REQUIRE(view.table()->selectionModel()->selectedRows().size() == 1);
  CHECK(view.table()->selectionModel()->selectedRows()[0].data().toString() == "palm-house-01");
  auto* narrow = b.window->findChild<QLineEdit*>("narrowStock");
  narrow->setText(QString::fromStdString(lab::idForName("palm-house-02")).left(9));
  CHECK(view.model().rowCount() == 2);
  narrow->setText("nothing like this");
  CHECK(view.model().rowCount() == 0);
  CHECK_FALSE(view.table()->isVisible());
}

TEST_CASE("Adopting from the stock makes a record that opens, after a preview, in one undo",
          "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  b.button("adopt")->click();
  QPushButton* go = b.button("adoptNow");
  REQUIRE(go != nullptr);
  CHECK(b.desk->records().snapshot().machines.size() == 1);  // a preview changes nothing
  go->click();
  REQUIRE(b.desk->records().snapshot().machines.size() == 2);
  const Machine* made = b.desk->records().snapshot().machineNamed("palm-house-02");
  REQUIRE(made != nullptr);
  CHECK(made->folder == b.groupId);
  CHECK(view.model().count(StockFilter::NotInRoster) == 0);
  b.window->openMachine("palm-house-02");
  OpenSession* s = b.window->stage()->focusedSession();
  REQUIRE(s != nullptr);
  CHECK(shown([&] { return s->isLive(); }));
  b.window->endSession(s);
  CHECK(shown([&] { return b.desk->sessions().isEmpty(); }));
  b.window->action("undo")->trigger();
  CHECK(b.desk->records().snapshot().machines.size() == 1);
}

TEST_CASE("A port that was changed on the host is told, and taken with one click", "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  view.choose(lab::idForName("palm-house-01"));
  CHECK(view.model().count(StockFilter::Differ) == 0);
  b.consoles[0]->usePort(0);  // another free one
  b.api->tell();
  REQUIRE(shown([&] { return view.model().count(StockFilter::Differ) == 1; }, 3000));
  const int row = view.model().rowOf(lab::idForName("palm-house-01"));
  const QModelIndex cell = view.model().index(row, StockModel::kRecord);
  view.table()->scrollTo(cell);
  const QRectF cure = StockDelegate::cureRect(cell, view.table()->visualRect(cell));
  REQUIRE_FALSE(cure.isEmpty());
  QTest::mouseClick(view.table()->viewport(), Qt::LeftButton, {}, cure.center().toPoint());
  CHECK(view.model().count(StockFilter::Differ) == 0);
  const Endpoint* way = b.desk->records().snapshot().endpointsOf(b.machineIds[0])[0];
  CHECK(parseAddress(way->address).port == b.consoles[0]->port());
}

TEST_CASE("Start and open: one action from off to picture, with its steps; stop waiting ends it",
          "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  b.api->powerFor("orchard", lab::idForName("palm-house-01"), "off");
  REQUIRE(shown([&] { return view.model().count(StockFilter::Running) == 1; }, 3000));
  view.choose(lab::idForName("palm-house-01"));
  SECTION("to the picture") {
    auto* start = b.button("startAndOpen");
    REQUIRE(start != nullptr);
    CHECK(start->text() == "Start and open");
    start->click();
    OpenSession* s = b.window->stage()->focusedSession();
    REQUIRE(s != nullptr);
    CHECK(s->starting() != nullptr);
    CHECK(shown([&] { return s->isLive() && s->hasPicture(); }));
    CHECK(s->starting() == nullptr);
    CHECK(UsualStarts(stateFolder() / "starts.json").secondsOf(b.machineIds[0]) >= 1);
  }
  SECTION("stopped") {
    b.tools.store->commit("elsewhere", [&](StoreWriter& w) {
      Endpoint e = b.desk->records().snapshot().endpoints.at(b.endpoints[0]);
      e.address = "vnc://127.0.0.1:1";
      w.put(e);
    });
    b.desk->records().reload();
    b.window->startAndOpen(b.machineIds[0]);
    OpenSession* s = b.window->stage()->focusedSession();
    REQUIRE(s != nullptr);
    REQUIRE(shown([&] {
      return s->starting() != nullptr && s->starting()->steps.size() > 3 &&
             s->starting()->steps[3].state == host::StepState::Now;
    }));
    auto* stop = b.button("stopWaiting");
    REQUIRE(stop != nullptr);
    stop->click();
    CHECK(shown([&] { return b.desk->sessions().isEmpty(); }));
  }
}

TEST_CASE("While a service is awaited its console is looked at; when it answers, one changes over",
          "[window][hosts]") {
  HostBench b;
  const std::string wish = GENERATE("ask", "declined", "self", "stay");
  CAPTURE(wish);
  // The machine's own service, which is the first way in, is not there yet.
  const std::uint16_t port = b.consoles[1]->port();
  b.consoles[1]->stop();
  Id service = 0;
  b.tools.store->commit("service", [&](StoreWriter& w) {
    Endpoint e;
    e.machine = b.machineIds[0], e.label = "service", e.position = -1;
    e.address = "vnc://127.0.0.1:" + std::to_string(port);
    w.put(e);
    service = e.id;
    w.set({OwnerKind::WayIn, service}, "host.changeover", wish == "declined" ? "ask" : wish);
  });
  StockView& view = b.openStock();
  REQUIRE(shown([&] { return view.model().count(StockFilter::Running) >= 1; }, 3000));
  b.window->startAndOpen(b.machineIds[0]);
  Stage& stage = *b.window->stage();
  REQUIRE(stage.focusedSession() != nullptr);
  REQUIRE(stage.focusedSession()->endpoint() == service);
  REQUIRE(shown([&] {
    const auto* start = stage.focusedSession()->starting();
    return start != nullptr && start->steps.size() > 3 && start->steps[3].state == host::StepState::Now;
  }));
  REQUIRE(shown([&] { return b.button("consoleMeanwhile") != nullptr; }));
  b.button("consoleMeanwhile")->click();
  REQUIRE(shown([&] {
    const OpenSession* console = stage.sessionOf(b.endpoints[0]);
    return console != nullptr && console->hasPicture();
  }));
  CHECK(stage.panes().size() == 2);
  lab::ConsolePlan plan = b.consoles[1]->plan();
  plan.port = port;
  lab::Console late(b.runtime.strand(), systemClock(), b.fonts, plan);
  late.start(true);
  b.desk->sessionOf(service)->lookNow();
  REQUIRE(shown([&] {
    const OpenSession* s = stage.sessionOf(service);
    return s != nullptr && s->hasPicture();
  }));
  const auto consoleGone = [&] { return stage.sessionOf(b.endpoints[0]) == nullptr; };
  const auto offer = [&]() -> QPushButton* {
    for (Pane* pane : stage.panes())
      for (auto* button : pane->findChildren<QPushButton*>("offerAct"))
        if (button->isVisible()) return button;
    return nullptr;
  };
  if (wish == "self") {
    CHECK(shown(consoleGone));
    CHECK(stage.panes().size() == 1);
    CHECK(stage.focusedSession()->endpoint() == service);
  } else if (wish == "stay") {
    // Whatever is offered comes with the same turn of the event loop as the picture's news.
    QApplication::processEvents();
    CHECK(offer() == nullptr);
    CHECK_FALSE(consoleGone());
  } else {
    REQUIRE(shown([&] { return offer() != nullptr; }));
    if (wish == "declined") {
      offer()->parentWidget()->findChild<QPushButton*>("offerStay")->click();
      CHECK(offer() == nullptr);
      CHECK_FALSE(consoleGone());
    } else {
      offer()->click();
      CHECK(shown(consoleGone));
      CHECK(stage.panes().size() == 1);
      CHECK(stage.focusedSession()->endpoint() == service);
    }
  }
  b.window.reset();
  b.desk.reset();
  late.stop();
}

TEST_CASE("Power and console of a machine: what cannot be says why, what loses work asks first",
          "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  view.choose(lab::idForName("palm-house-01"));
  QAction* pause = entry(&view, "powerMenu", "Pause");
  REQUIRE(pause != nullptr);
  CHECK_FALSE(pause->isEnabled());
  CHECK(pause->toolTip().contains("cannot be paused"));
  CHECK_FALSE(entry(&view, "powerMenu", "Start")->isEnabled());
  CHECK(entry(&view, "powerMenu", "Force it off")->isEnabled());
  CHECK(entry(&view, "consoleMenu", "Set its password")->isEnabled());
  CHECK_FALSE(entry(&view, "consoleMenu", "A serial port")->isEnabled());
  entry(&view, "powerMenu", "Ask it to shut down")->trigger();
  CHECK(shown([&] { return view.model().count(StockFilter::Running) == 1; }, 5000));
  // The roster says so, too, and the menus follow.
  b.window->showStage();
  b.window->roster()->select(b.machineIds[0]);
  CHECK(shown([&] { return b.window->action("powerStart")->isEnabled(); }));
  CHECK_FALSE(b.window->action("powerDown")->isEnabled());
  b.window->action("powerStart")->trigger();
  CHECK(shown(
      [&] {
        return !b.window->action("powerStart")->isEnabled() && b.window->action("powerDown")->isEnabled();
      },
      5000));
}

TEST_CASE("A host is added on the stock's page; an address that cannot be says why", "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  b.button("addHost")->click();
  auto* name = b.window->findChild<QLineEdit*>("hostName");
  auto* address = b.window->findChild<QLineEdit*>("hostAddress");
  REQUIRE(name != nullptr);
  name->setText("fernery");
  address->setText("nonsense");
  b.button("keepHost")->click();
  CHECK(shown([&] {
    for (auto* label : view.findChildren<QLabel*>("bad"))
      if (label->isVisible() && label->text().contains("libvirt:")) return true;
    return false;
  }));
  address->setText("command:/nowhere/at-all");
  b.button("keepHost")->click();
  REQUIRE(b.desk->records().snapshot().hostNamed("fernery") != nullptr);
  CHECK(shown([&] {
    for (int r = 0; r < view.model().rowCount(); ++r)
      if (view.model().index(r, 0).data(StockModel::kSecondLine).toString().contains("cannot be started"))
        return true;
    return false;
  }));
}

TEST_CASE("Why a way in does not open is shown at the side, with cures that work", "[window][hosts]") {
  HostBench b;
  b.open();
  REQUIRE(shown(
      [&] { return b.desk->hosts().of(b.machineIds[0]) && b.desk->hosts().of(b.machineIds[0])->machine; }));
  b.consoles[0]->usePort(0);
  b.api->tell();
  REQUIRE(shown([&] {
    return b.desk->hosts().of(b.machineIds[0])->machine->consoles[0].port == b.consoles[0]->port();
  }));
  b.window->lookWhy(b.endpoints[0]);
  REQUIRE(shown([&] { return b.window->side()->checks().size() > 2; }));
  const auto& checks = b.window->side()->checks();
  const auto drift =
      std::find_if(checks.begin(), checks.end(), [](const SideCheck& c) { return c.action == "drift"; });
  REQUIRE(drift != checks.end());
  emit b.window->side()->cureClicked("drift");
  const Endpoint* way = b.desk->records().snapshot().endpointsOf(b.machineIds[0])[0];
  CHECK(parseAddress(way->address).port == b.consoles[0]->port());
}

TEST_CASE("A service that listens inside the machine only: looked at through its SSH, reached by a tunnel",
          "[window][hosts]") {
  if (!lab::SshServer::available()) return;
  WindowBench b(1);
  const int port = freeTcpPort();
  // The machine is 127.0.0.3, where only its SSH listens; its screen listens on 127.0.0.1.
  lab::SshServerPlan plan;
  plan.folder = b.folder.path / "ssh", plan.address = "127.0.0.3",
  plan.port = static_cast<std::uint16_t>(port);
  const lab::SshServer ssh(plan);
  Endpoint screen = b.tools.store->load().endpoints.at(b.endpoints[0]);
  b.tools.store->commit("ways", [&](StoreWriter& w) {
    screen.address = "vnc://127.0.0.3:" + std::to_string(b.consoles[0]->port());
    w.put(screen);
    Endpoint shell;
    shell.machine = b.machineIds[0], shell.label = "shell";
    shell.address = "ssh://" + lab::SshServer::user() + "@127.0.0.3:" + std::to_string(port);
    w.put(shell);
    const Owner own{OwnerKind::WayIn, shell.id};
    w.set(own, "ssh.keys", ssh.clientKey().string());
    for (const char* off : {"ssh.agent", "ssh.useconfig"}) w.set(own, off, "off");
    w.set(own, "ssh.knownhosts", (b.folder.path / "known_hosts").string());
  });
  b.open();
  const auto action = [&](const QString& begin) {
    for (const SideCheck& c : b.window->side()->checks())
      if (c.action.startsWith(begin)) return c.action;
    return QString();
  };
  const auto told = [&](const QString& part) {
    for (const SideCheck& c : b.window->side()->checks())
      if (c.text.contains(part)) return true;
    return false;
  };
  b.window->lookWhy(b.endpoints[0]);
  REQUIRE(shown([&] { return action("inside") == "inside"; }));
  // Its key is not known yet, and a look asks nobody.
  emit b.window->side()->cureClicked("inside");
  REQUIRE(shown([&] { return told("could not be looked at from inside"); }));
  CHECK(QApplication::activeModalWidget() == nullptr);
  b.tools.store->pin("ssh 127.0.0.3:" + std::to_string(port), ssh.hostKeySha256());
  emit b.window->side()->cureClicked("inside");
  REQUIRE(shown([&] { return told("127.0.0.1 only"); }));
  const QString tunnel = action("tunnel:");
  CHECK(tunnel == "tunnel:127.0.0.1 palm-house-01");
  emit b.window->side()->cureClicked(tunnel);
  b.openLive(0);
}

TEST_CASE("50,000 machines of stock narrow at once", "[window][hosts]") {
  WindowBench b(1);
  b.open();
  StockModel model;
  std::map<Id, Hosts::Watched> hosts;
  Hosts::Watched& w = hosts[1];
  w.record.id = 1, w.record.name = "orchard";
  w.view.stage = host::HostStage::Live;
  auto stock = std::make_shared<host::Stock>();
  for (int i = 0; i < 50'000; ++i) {
    host::StockMachine m;
    m.name = "palm-house-" + std::to_string(i);
    m.id = lab::idForName(m.name);
    (*stock)[m.id] = m;
  }
  w.view.stock = stock;
  model.setStock(hosts, b.desk->records().snapshot());
  CHECK(model.rowCount() == 50'001);
  model.setNarrow("palm-house-4999");
  CHECK(model.rowCount() == 12);  // itself, …90 to …99, and the host's line
}

TEST_CASE("Several machines are switched together, one progress, what fails named", "[window][hosts]") {
  HostBench b;
  Id other = 0;
  b.tools.store->commit("link the other", [&](StoreWriter& w) {
    for (const char* name : {"palm-house-02", "palm-house-99"}) {
      Machine m;
      m.folder = b.groupId, m.name = name, m.host = "orchard";
      w.put(m);
      w.set({OwnerKind::Machine, m.id}, "host.id", lab::idForName(name));
      other = other == 0 ? m.id : other;
    }
  });
  MainWindow& window = b.open();
  QStringList told;
  QObject::connect(&window.desk().hosts(), &Hosts::said, [&](const QString& s) { told << s; });
  const auto state = [&](Id id) {
    const auto hosted = window.desk().hosts().of(id);
    return hosted && hosted->machine ? hosted->machine->state : host::Running::Unknown;
  };
  REQUIRE(shown(
      [&] { return state(b.machineIds[0]) == host::Running::On && state(other) == host::Running::On; }));
  QTest::keyClick(window.roster(), Qt::Key_A, Qt::ControlModifier);
  REQUIRE(window.roster()->chosen().size() == 3);
  window.powerOfMany(window.roster()->chosen(), host::PowerAct::ShutDown);
  REQUIRE(
      shown([&] { return !told.isEmpty() && told.back().endsWith('.') && told.back().contains(" of 3"); }));
  CHECK(told.size() == 4);
  CHECK(told.back().contains("2 of 3"));
  CHECK(told.back().contains("palm-house-99"));
  CHECK(shown(
      [&] { return state(b.machineIds[0]) == host::Running::Off && state(other) == host::Running::Off; }));
  QMenu menu;
  emit window.roster()->menuOfManyWanted(&menu, window.roster()->chosen());
  CHECK(menu.actions().size() == 1);
}

TEST_CASE("A change that needs a full stop: asked to shut down, then started with its timeline",
          "[window][hosts]") {
  HostBench b;
  b.openStock();
  const auto hosted = b.desk->hosts().of(b.machineIds[0]);
  REQUIRE(hosted);
  const auto state = [&] { return b.desk->hosts().of(b.machineIds[0])->machine->state; };
  REQUIRE(shown([&] { return state() == host::Running::On; }, 5000));
  bool wasOff = false;
  QObject::connect(&b.desk->hosts(), &Hosts::changed,
                   [&] { wasOff = wasOff || state() == host::Running::Off; });
  const auto act = GENERATE(host::PowerAct::ShutDown, host::PowerAct::Off);
  b.desk->hosts().stopAndStart(hosted->host->record().id, hosted->id, "palm-house-01", act);
  REQUIRE(shown([&] { return wasOff && state() == host::Running::On; }, 8000));
  OpenSession* s = b.window->stage()->focusedSession();
  REQUIRE(s != nullptr);
  CHECK(shown([&] { return s->isLive() && s->hasPicture(); }));
}

TEST_CASE("A console's address is asked for with what it means; a wrong one is refused", "[window][hosts]") {
  HostBench b;
  StockView& view = b.openStock();
  view.choose(lab::idForName("palm-house-01"));
  QAction* listens = entry(&view, "consoleMenu", "Where it listens");
  REQUIRE(listens != nullptr);
  // The lab's hosts do not move consoles, and say so.
  CHECK_FALSE(listens->isEnabled());
  CHECK_FALSE(listens->toolTip().isEmpty());
}

TEST_CASE("The side's notes are those of the machine whose way it shows", "[window][hosts]") {
  WindowBench b(2);
  const Snapshot before = b.tools.store->load();
  b.tools.store->commit("notes", [&](StoreWriter& w) {
    for (const Id id : b.machineIds) {
      Machine m = before.machines.at(id);
      m.notes = "Note of " + m.name;
      w.put(m);
    }
  });
  b.open();
  b.window->openEndpoint(b.endpoints[0]);
  OpenSession* s = b.window->stage()->sessionOf(b.endpoints[0]);
  REQUIRE(shown([&] { return s->isLive() && b.window->stage()->focusedSession() == s; }));
  const auto noteIs = [&](const QString& words) {
    for (const SideAbout& a : b.window->side()->about())
      if (a.lines.contains(words)) return true;
    return false;
  };
  CHECK(shown([&] { return noteIs("Note of palm-house-01"); }));
  b.window->lookWhy(b.endpoints[1]);
  CHECK(shown([&] { return noteIs("Note of palm-house-02") && !noteIs("Note of palm-house-01"); }));
}

TEST_CASE("A console that forgot its password gets it again with a click on what was found",
          "[window][hosts]") {
  HostBench b;
  b.open();
  REQUIRE(shown(
      [&] { return b.desk->hosts().of(b.machineIds[0]) && b.desk->hosts().of(b.machineIds[0])->machine; }));
  host::setConsolePassword(b.desk->tools(), b.desk->records().snapshot(), b.machineIds[0], "plum42");
  b.desk->records().reload();
  b.window->lookWhy(b.endpoints[0]);
  const auto again = [&] {
    const auto& checks = b.window->side()->checks();
    return std::any_of(checks.begin(), checks.end(), [](const SideCheck& c) { return c.action == "again"; });
  };
  REQUIRE(shown(again, 8000));
  emit b.window->side()->cureClicked("again");
  CHECK(shown([&] { return b.consoles[0]->password() == "plum42"; }));
}

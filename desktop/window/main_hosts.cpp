// What the window does with hosts: the stock, starting and opening, power, and why something does not open.
#include <QMenu>
#include <QMessageBox>
#include <QSplitter>
#include <QStackedWidget>

#include "desktop/app/counts.hpp"
#include "desktop/hosts/stock_view.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/main_window.hpp"
#include "host/console.hpp"
#include "picture/black.hpp"
#include "record/catalogue.hpp"

namespace kw::desktop {

void MainWindow::showStock() {
  if (stock_ == nullptr) {
    stock_ = new StockView(desk_, centre_);
    centre_->addWidget(stock_);
    connect(stock_, &StockView::said, this, &MainWindow::say);
    connect(stock_, &StockView::closed, this, &MainWindow::showStage);
    connect(stock_, &StockView::startWanted, this, &MainWindow::startAndOpen);
    connect(stock_, &StockView::sheetWanted, this, [this](Id m) { editMachine(m); });
  }
  // The page is wider than others and takes the side's place; afterwards all is as it was.
  if (side_->isVisible()) sizesWithSide_ = split_->sizes();
  centre_->setCurrentWidget(stock_);
  stock_->table()->setFocus();
}

void MainWindow::showSharing() {
  if (sharing_ == nullptr) {
    sharing_ = new SharingView(desk_, centre_);
    sharing_->useAddress(gateAddress_, gateAccount_);
    centre_->addWidget(sharing_);
    connect(sharing_, &SharingView::visitsChanged, this, &MainWindow::refreshSide);
    connect(sharing_, &SharingView::said, this, &MainWindow::say);
    connect(sharing_, &SharingView::closed, this, &MainWindow::showStage);
  }
  centre_->setCurrentWidget(sharing_);
}

void MainWindow::hostsChanged() {
  roster_->statesChanged();
  refreshSide();
  refreshActions();
}

void MainWindow::startAndOpen(Id machine) {
  if (machine == 0) return;
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return;
  const auto hosted = desk_.hosts().of(machine);
  const QString name = QString::fromStdString(found->second.name);
  if (!hosted) {
    say(tr("No host is known for %1. Adopt it from the stock, or give its ID on the sheet's page Host.")
            .arg(name));
    return;
  }
  const Endpoint* way = nullptr;
  for (const Endpoint* e : s.endpointsOf(machine))
    if (canOpen(e->scheme()) &&
        (way == nullptr || (!isOfForm(way->scheme(), Form::Screen) && isOfForm(e->scheme(), Form::Screen))))
      way = e;
  if (way == nullptr) {
    say(tr("%1 has no way in that this version can open.").arg(name));
    return;
  }
  const bool runs = hosted->machine && hosted->machine->state == host::Running::On;
  if (runs && desk_.reach().of(way->id).result.answers) return openEndpoint(way->id);
  const bool fresh = desk_.sessionOf(way->id) == nullptr;
  OpenSession* session = desk_.startAndOpen(way->id);
  if (session == nullptr) return;
  if (fresh) connectSession(session);
  showStage();
  stage_->show(session);
}

const Endpoint* MainWindow::consoleBeside(const OpenSession* session) const {
  const Snapshot& s = desk_.records().snapshot();
  const auto mine = s.endpoints.find(session->endpoint());
  if (mine == s.endpoints.end()) return nullptr;
  const auto hosted = desk_.hosts().of(mine->second.machine);
  if (!hosted || !hosted->machine) return nullptr;
  std::set<std::string> offered;
  for (const host::OfferedWay& way : host::offeredWays(*hosted->machine, {hosted->host->record().name, {}})) {
    const Address a = parseAddress(way.address);
    offered.insert(a.host + ":" + std::to_string(a.port) + a.path);
  }
  for (const Endpoint* e : s.endpointsOf(mine->second.machine)) {
    if (e->id == session->endpoint() || !canOpen(e->scheme())) continue;
    try {
      const Address a = parseAddress(e->address);
      if (offered.contains(a.host + ":" + std::to_string(a.port) + a.path)) return e;
    } catch (const Error&) {
      continue;  // a broken address is shown as such on its sheet
    }
  }
  return nullptr;
}

void MainWindow::hostedNow(const Machine& machine, MachineNow& now) const {
  const auto hosted = desk_.hosts().of(machine.id);
  if (!hosted || !hosted->hostLive) return;
  const QString host = QString::fromStdString(machine.host);
  if (!hosted->machine) {
    now.state = State::Trouble;
    now.sentence = tr("gone from %1").arg(host);
    return;
  }
  const host::StockMachine& m = *hosted->machine;
  const QString since = sinceWords(m.since);
  switch (m.state) {
    case host::Running::Off:
      now.state = State::Off;
      now.sentence = since.isEmpty() ? tr("off") : tr("off for %1").arg(since);
      break;
    case host::Running::Crashed:
      now.state = State::Trouble;
      now.sentence = tr("crashed, says %1").arg(host);
      break;
    case host::Running::Paused:
      now.state = State::Starting;
      now.sentence = tr("paused");
      break;
    case host::Running::Stopping:
      now.state = State::Starting;
      now.sentence = tr("shutting down");
      break;
    case host::Running::On:
      if (now.state == State::Answering) break;
      now.sentence = now.state == State::NeverReached && desk_.reach().of(0).checked
                         ? tr("running")
                         : tr("running · %1").arg(now.sentence);
      now.state = State::NotAnswering;
      break;
    case host::Running::Unknown: break;
  }
}

void MainWindow::buildPowerMenu(QMenu* session) {
  QMenu* power = session->addMenu(tr("Po&wer"));
  power->setToolTipsVisible(true);
  add(power, "powerStart", tr("&Start"), {}, [this] { powerOfMachine(host::PowerAct::Start); });
  power->addSeparator();
  add(power, "powerDown", tr("Ask the machine to shut &down"), {},
      [this] { askForPower(PowerWish::ShutDown); });
  add(power, "powerReboot", tr("Ask the machine to &restart"), {},
      [this] { askForPower(PowerWish::Reboot); });
  power->addSeparator();
  add(power, "powerPause", tr("&Pause"), {}, [this] { powerOfMachine(host::PowerAct::Pause); });
  add(power, "powerResume", tr("&Go on"), {}, [this] { powerOfMachine(host::PowerAct::Resume); });
  power->addSeparator();
  add(power, "powerOff", tr("Force it &off…"), {}, [this] { powerOfMachine(host::PowerAct::Off); });
  add(power, "powerReset", tr("&Force a restart…"), {}, [this] { askForPower(PowerWish::Reset); });
}

void MainWindow::refreshPower(bool console, const QString& consoleWhy) {
  const auto hosted = desk_.hosts().of(currentMachine());
  const bool asked = hosted && hosted->hostLive && hosted->machine;
  const QString noHost = tr("No host is known for this machine, or it is not reached now.");
  const host::Running state = asked ? hosted->machine->state : host::Running::Unknown;
  const host::HostAbilities can = asked ? hosted->host->view().abilities : host::HostAbilities{};
  const QString notNow = tr("Not in its state now.");
  const auto by = [&](const char* name, const Ability& ability, bool now) {
    allow(name, asked && ability.can && now,
          !asked         ? noHost
          : !ability.can ? QString::fromStdString(ability.why)
                         : notNow);
  };
  const bool on = state == host::Running::On;
  by("powerStart", can.start, state == host::Running::Off || state == host::Running::Crashed);
  by("powerPause", can.pause, on);
  by("powerResume", can.pause, state == host::Running::Paused);
  by("powerOff", can.power, on || state == host::Running::Stopping || state == host::Running::Paused);
  // These three a console itself may do, too.
  const std::tuple<const char*, Ability> both[] = {
      {"powerDown", can.power}, {"powerReboot", can.restart}, {"powerReset", can.power}};
  for (const auto& [name, ability] : both) {
    if (asked)
      by(name, ability, on);
    else
      allow(name, console, consoleWhy);
  }
  allow("startAndOpen", hosted.has_value(), noHost);
}

void MainWindow::powerOfMachine(host::PowerAct act) {
  const Id machine = currentMachine();
  const auto hosted = desk_.hosts().of(machine);
  if (!hosted) return;
  const QString name = QString::fromStdString(desk_.records().snapshot().machines.at(machine).name);
  if (host::losesWork(act)) {
    const auto button = QMessageBox::warning(
        this, name,
        tr("To %1 %2 does not ask the guest: what it has not saved is lost, and its disk may be damaged.")
            .arg(wordsFor(act), name),
        QMessageBox::Ok | QMessageBox::Cancel, QMessageBox::Cancel);
    if (button != QMessageBox::Ok) return;
  }
  desk_.hosts().power(hosted->host->record().id, hosted->id, name, act);
}

void MainWindow::fillPowerOfMany(QMenu* menu, const std::vector<Id>& machines) {
  QMenu* power = menu->addMenu(tr("Power of all of them"));
  using host::PowerAct;
  for (const PowerAct act : {PowerAct::Start, PowerAct::ShutDown, PowerAct::Restart, PowerAct::Pause,
                             PowerAct::Resume, PowerAct::Off, PowerAct::Reset})
    power->addAction(host::losesWork(act) ? tr("%1…").arg(wordsFor(act)) : wordsFor(act), this,
                     [this, machines, act] { powerOfMany(machines, act); });
  power->addSeparator();
  power->addAction(tr("Stop asking further ones"), this, [this] { desk_.hosts().stopMany(); });
}

void MainWindow::powerOfMany(const std::vector<Id>& machines, host::PowerAct act) {
  if (host::losesWork(act)) {
    const QString count = machineCount(static_cast<int>(machines.size()));
    const auto button = QMessageBox::warning(this, count,
                                             tr("To %1 %2 does not ask the guests: what they have not saved "
                                                "is lost, and their disks may be damaged.")
                                                 .arg(wordsFor(act), count),
                                             QMessageBox::Ok | QMessageBox::Cancel, QMessageBox::Cancel);
    if (button != QMessageBox::Ok) return;
  }
  desk_.hosts().powerMany(machines, act);
}

namespace {
std::optional<host::OpenPicture> openPictureOf(const OpenSession& session) {
  if (!session.isLive() || !session.hasPicture() || session.text() != nullptr) return std::nullopt;
  host::OpenPicture out;
  out.size = session.pictureSize();
  out.wanted = session.room;
  out.follows = session.shown.followsPane && session.screens().size() <= 1;
  if (!session.capabilities().resize.can) out.resizeWhy = session.capabilities().resize.why;
  out.black = isBlack(*session.picture());
  out.unchanged = session.unchangedFor();
  return out;
}
}  // namespace

namespace {
/// Asks nobody: what is not known yet ends the look.
class NobodyAsker : public Asker {
 public:
  Task<Answer> ask(Question) override { co_return Answer{}; }
  void doing(const std::string&) override {}
};
}  // namespace

void MainWindow::lookWhy(Id endpoint, bool inside) {
  const auto records = desk_.records().shared();
  const auto way = records->endpoints.find(endpoint);
  if (way == records->endpoints.end()) {
    say(tr("Choose a machine of the roster first."));
    return;
  }
  host::WhyTools tools;
  tools.store = desk_.tools().store;
  if (const auto hosted = desk_.hosts().of(way->second.machine)) tools.host = hosted->host;
  if (inside) tools.inside = host::InsideTools{desk_.tools(), std::make_shared<NobodyAsker>()};
  if (const OpenSession* open = desk_.sessionOf(endpoint)) tools.open = openPictureOf(*open);
  Address address;
  try {
    address = parseAddress(way->second.address);
  } catch (const Error& e) {
    say(QString::fromUtf8(e.what()));
    return;
  }
  sideWanted_ = true;
  side_->show();
  whyEndpoint_ = endpoint;
  roster_->select(way->second.machine);
  findings_ = {{"looking", host::Weight::Remark, tr("looking…").toStdString(), {}, {}}};
  refreshSide();
  spawn(desk_.runtime().strand(),
        [target = QPointer<MainWindow>(this), records, endpoint, address, tools]() -> Task<void> {
          const auto found = co_await host::whyNot(records, endpoint, address, tools);
          QMetaObject::invokeMethod(
              qApp,
              [target, endpoint, found] {
                if (target) target->takeFindings(endpoint, found);
              },
              Qt::QueuedConnection);
        });
}

void MainWindow::takeFindings(Id endpoint, const std::vector<host::Finding>& found) {
  if (endpoint != whyEndpoint_) return;
  findings_ = found;
  refreshSide();
}

void MainWindow::showFindings(Id endpoint) {
  if (endpoint == 0 || endpoint != whyEndpoint_ || findings_.empty()) return;
  std::vector<SideCheck> checks;
  for (const host::Finding& f : findings_)
    checks.push_back({f.weight == host::Weight::Good      ? State::Answering
                      : f.weight == host::Weight::Trouble ? State::Trouble
                                                          : State::NeverReached,
                      QString::fromStdString(f.sentence), QString::fromStdString(f.cure),
                      QString::fromStdString(f.change)});
  side_->setChecks(tr("What was found"), checks);
}

/// Gives the host the console's kept password, which it forgot at the machine's last stop.
void MainWindow::consolePasswordAgain(Id endpoint) {
  const auto records = desk_.records().shared();
  const auto way = records->endpoints.find(endpoint);
  if (way == records->endpoints.end()) return;
  const auto hosted = desk_.hosts().of(way->second.machine);
  const auto change = host::passwordAgain(*records, desk_.tools(), way->second.machine);
  if (!hosted || !change) {
    say(hosted ? tr("No password of this console is kept here.") : tr("Its host cannot be asked now."));
    return;
  }
  const QString name = QString::fromStdString(records->machines.at(way->second.machine).name);
  desk_.hosts().change(hosted->host->record().id, hosted->id, name, *change,
                       tr("%1: the password counts again.").arg(name));
}

/// Takes the port that the host says.
void MainWindow::followHost(Id endpoint) {
  const auto records = desk_.records().shared();
  const auto way = records->endpoints.find(endpoint);
  if (way == records->endpoints.end()) return;
  const auto hosted = desk_.hosts().of(way->second.machine);
  if (!hosted || !hosted->machine) return;
  for (const host::StockRow& row :
       host::stockRows(*records, {hosted->host->record().name, {}}, {{hosted->id, *hosted->machine}})) {
    if (row.record != way->second.machine || row.gone) continue;
    for (const host::Drift& d : row.drift)
      if (d.kind == host::DriftKind::Port && d.wayIn == endpoint &&
          desk_.records().commit(tr("follow the host"), [&](StoreWriter& w) {
            host::cureDrift(w, *records, row.record, hosted->id, d);
          })) {
        findings_.clear();
        refreshSide();
        say(tr("Taken from the host. Ctrl+Z takes it back."));
        return;
      }
  }
}

}  // namespace kw::desktop

#include "desktop/model/desk.hpp"

#include <QHostInfo>
#include <utility>

#include "base/file.hpp"
#include "desk/ports.hpp"
#include "host/console.hpp"
#include "route/opening.hpp"
#include "route/sign_in_source.hpp"

namespace kw::desktop {

Desk::Desk(OpeningTools tools, Records::Loading loading, QObject* parent)
    : QObject(parent),
      records_(tools, loading, this),
      reach_(runtime_, this),
      hosts_(runtime_, records_, this),
      tools_(std::move(tools)),
      starts_(stateFolder() / "starts.json") {
  if (!tools_.ssh) tools_.ssh = std::make_shared<SshPool>([this] { return runtime_.strand(); });
  reach_.jumpOf = [this](const Endpoint& e) { return jumpOf(e); };
}

Desk::~Desk() {
  // Sessions end before the threads that carry them.
  const QList<OpenSession*> open = std::exchange(sessions_, {});
  bool writes = true;  // a store that is away would be waited for at each of them
  for (OpenSession* s : open) {
    writes = writes && noted(s, [](VisitNotes& visit) {
               return visit.note(Told::Ended, "the window was closed"), true;
             });
    delete s;
  }
}

std::optional<Address> Desk::jumpOf(const Endpoint& endpoint) const {
  return nearestJump(records_.snapshot(), endpoint.id);
}

OpenSession* Desk::sessionOf(Id endpoint) const {
  for (OpenSession* s : sessions_)
    if (s->endpoint() == endpoint && endpoint != 0) return s;
  return nullptr;
}

OpenSession* Desk::open(Id id) { return make(id, true); }

OpenSession* Desk::make(Id id, bool startsNow) {
  if (OpenSession* have = sessionOf(id)) return have;
  if (!records_.snapshot().endpoints.contains(id)) return nullptr;
  return begin([&] { return openedWayIn(runtime_.strand(), records_.shared(), id, tools_); }, startsNow);
}

OpenSession* Desk::openAddress(const QString& text) {
  return begin([&] { return openedAddress(runtime_.strand(), text.toStdString(), tools_); });
}

OpenSession* Desk::openOnce(const exchange::Entry& entry) {
  OpeningTools tools = tools_;
  tools.records = records_.shared();
  return begin([&] { return openedOnce(runtime_.strand(), entry, tools); });
}

OpenSession* Desk::begin(const std::function<Opened()>& open, bool startsNow) {
  try {
    return show(open(), startsNow);
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return nullptr;
  }
}

OpenSession* Desk::show(const Opened& what, bool startsNow) {
  auto* session = new OpenSession(what.session, QString::fromStdString(what.machine),
                                  QString::fromStdString(what.label), what.wayIn, this);
  session->shown = shownAs(what.setting);
  session->credentialUsers = [this](const std::string& name) {
    return usersOfCredential(records_.snapshot(), name);
  };
  if (session->shown.onlyLook) session->setViewOnly(true);
  if (session->shown.playsSound && session->text() == nullptr) session->setSound(true);
  sessions_.append(session);
  visits_.emplace(session, VisitNotes(tools_.store, what.machine, session->visit()));
  noted(session, [&](VisitNotes& visit) { return visit.note(Told::Opened, what.address), true; });
  follow(session);
  if (startsNow) session->start();
  emit sessionsChanged();
  return session;
}

/// What is remembered and written while it is open.
void Desk::follow(OpenSession* session) {
  connect(session, &OpenSession::changed, this, [this, session, told = false]() mutable {
    if (session->isLive() && !std::exchange(told, true)) reach_.noteAnswer(session->endpoint());
    const std::string& itself = session->route().machineName;
    if (session->isLive() && !itself.empty() && reach_.of(session->endpoint()).calledItself.isEmpty())
      reach_.noteName(session->endpoint(), QString::fromStdString(itself));
    noted(session, [&](VisitNotes& visit) { return visit.status(session->status()); });
    emit sessionsChanged();
  });
  // A log that is begun, by the sheet or by hand, is in the journal with its file.
  if (session->text() != nullptr)
    connect(session, &OpenSession::figuresChanged, this, [this, session] {
      noted(session, [&](VisitNotes& visit) { return visit.log(session->text()->logFile()); });
    });
  connect(session, &OpenSession::ended, this, [this, session] { discard(session); });
}

OpenSession* Desk::startAndOpen(Id id) {
  if (OpenSession* have = sessionOf(id)) return have;
  const auto records = records_.shared();
  const auto found = records->endpoints.find(id);
  if (found == records->endpoints.end()) return nullptr;
  const Endpoint way = found->second;
  const auto hosted = hosts_.of(way.machine);
  if (!hosted) {
    emit said(tr("No host is known for this machine. Adopt it from the stock, or give its ID on the sheet."));
    return nullptr;
  }
  OpenSession* session = make(id, false);
  if (session == nullptr) return nullptr;
  const SettingReader setting = settingsOf(*records, {OwnerKind::WayIn, id});
  host::StartPlan plan;
  plan.host = hosted->host;
  plan.id = hosted->id;
  plan.limit = std::chrono::seconds(wholeOf(setting, "host.wait"));
  plan.service = "its " + way.label;
  plan.again = host::passwordAgain(*records, tools_, way.machine);
  const host::HostPlace place{hosted->host->record().name, {}};
  plan.addressNow = [records, way, place](const host::StockMachine& m) {
    return host::addressNow(*records, way, m, place);
  };
  const auto errand = std::make_shared<host::StartErrand>(runtime_.strand(), tools_.clock, std::move(plan));
  session->usualStart = starts_.secondsOf(way.machine);
  note(session, Told::Note, "start asked of " + place.name);
  connect(session, &OpenSession::startOver, this,
          [this, session, id] { startIsOver(session, id, *session->starting()); });
  session->startWith(errand);
  return session;
}

void Desk::startIsOver(OpenSession* session, Id endpoint, const host::StartView& view) {
  if (view.failure) {
    note(session, Told::Trouble, std::string("start: ") + view.failure->what());
    return;
  }
  const Snapshot& s = records_.snapshot();
  const auto way = s.endpoints.find(endpoint);
  if (way == s.endpoints.end()) return discard(session);
  const int seconds = static_cast<int>(std::chrono::duration_cast<std::chrono::seconds>(view.took).count());
  // One that ran already says nothing about how long a start takes.
  if (!view.steps.empty() && view.steps.front().remark.empty())
    starts_.remember(way->second.machine, seconds);
  note(session, Told::Note, "answers after " + std::to_string(seconds) + " s");
  if (view.address && view.address->uri() != way->second.address) {
    Endpoint fresh = way->second;
    fresh.address = view.address->uri();
    records_.commit(tr("%1 follows its host").arg(session->machine()), [&](StoreWriter& w) { w.put(fresh); });
    discard(session);
    emit openAnew(endpoint);
    return;
  }
  session->start();
}

void Desk::discard(OpenSession* session) {
  if (!sessions_.removeOne(session)) return;
  noted(session, [&](VisitNotes& visit) { return visit.ended(session->status()), true; });
  visits_.erase(session);
  session->deleteLater();
  emit sessionsChanged();
}

void Desk::note(OpenSession* session, Told told, const std::string& what) {
  noted(session, [&](VisitNotes& visit) { return visit.note(told, what), true; });
}

bool Desk::noted(OpenSession* session, const std::function<bool(VisitNotes&)>& write) {
  const auto visit = visits_.find(session);
  if (visit == visits_.end()) return true;
  try {
    if (write(visit->second)) emit journalChanged();
    return true;
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return false;
  }
}

namespace {

Hop desk() {
  Hop hop;
  hop.name = QObject::tr("This desk");
  hop.remark = QHostInfo::localHostName();
  hop.state = State::Answering;
  return hop;
}

QString cureFor(const QString& sentence, std::optional<ErrorKind> kind) {
  if (!kind) return {};
  const QString cure = QString::fromStdString(Error(*kind, sentence.toStdString()).cure());
  return cure;
}

}  // namespace

QString Desk::hostOf(Id endpoint) const {
  const Snapshot& s = records_.snapshot();
  const auto e = s.endpoints.find(endpoint);
  const auto m = e == s.endpoints.end() ? s.machines.end() : s.machines.find(e->second.machine);
  return m == s.machines.end() ? QString() : QString::fromStdString(m->second.host);
}

std::vector<Hop> Desk::route(const OpenSession& session) const {
  if (session.starting() != nullptr)
    if (const auto way = records_.snapshot().endpoints.find(session.endpoint());
        way != records_.snapshot().endpoints.end())
      return route(way->second, session.machine());
  const RouteFacts& facts = session.route();
  const SessionStatus& status = session.status();
  Hop first = desk();
  Hop peer, machine;
  peer.name = facts.port > 0 ? QString::fromStdString(facts.host) + " : " + QString::number(facts.port)
                             : QString::fromStdString(facts.host);
  peer.remark = QString::fromStdString(facts.address == facts.host ? "" : facts.address);
  if (const QString host = hostOf(session.endpoint()); !host.isEmpty())
    peer.remark = tr("host %1").arg(host) + (peer.remark.isEmpty() ? "" : " · ") + peer.remark;
  machine.name = session.machine();
  const double ms = std::chrono::duration<double, std::milli>(facts.answersIn).count();
  std::vector<Hop> jumps;
  for (const HopFacts& h : facts.hops) {
    Hop hop;
    hop.name = QString::fromStdString(h.name);
    hop.remark = tr("SSH jump");
    hop.state = h.reached ? State::Answering : State::Trouble;
    hop.pipe = h.reached ? Pipe::Plain : Pipe::Broken;
    hop.found = tr("beyond it, as the machine itself seals it");
    jumps.push_back(hop);
  }
  const auto whole = [&]() -> std::vector<Hop> {
    std::vector<Hop> out{first};
    for (std::size_t i = 0; i < jumps.size(); ++i) {
      // The stretch before a jump is SSH's; the one behind the last jump is what the session itself has.
      Hop& before = out.back();
      const Hop own = before;
      if (facts.hops[i].reached)
        before.pipe = Pipe::Sealed,
        before.found = tr("sealed: SSH · %1").arg(QString::fromStdString(facts.hops[i].found)),
        before.cure.clear();
      Hop jump = jumps[i];
      jump.pipe = own.pipe, jump.found = own.found, jump.cure = own.cure, jump.cureAction = own.cureAction;
      out.push_back(jump);
    }
    out.push_back(peer);
    out.push_back(machine);
    return out;
  };
  if (session.isLive()) {
    first.pipe = facts.sealed ? Pipe::Sealed : Pipe::Plain;
    const bool local = facts.address.empty() && session.text() != nullptr;
    first.found = facts.sealed ? tr("sealed: %1").arg(QString::fromStdString(facts.security))
                  : local      ? tr("on this desk, plain")
                               : tr("plain, not encrypted");
    if (ms > 0) first.found += tr(" · answers in %1 ms").arg(ms, 0, 'f', ms < 10 ? 1 : 0);
    if (!facts.sealed)
      first.found += facts.security == "none" ? tr(" · no password asked")
                                              : tr(" · %1").arg(QString::fromStdString(facts.security));
    peer.state = machine.state = State::Answering;
    peer.pipe = Pipe::Sealed;
    peer.found = tr("inside the host");
    const Size size = session.pictureSize();
    if (session.text() != nullptr)
      machine.remark = session.line().settings.empty()
                           ? tr("text")
                           : tr("text · %1").arg(QString::fromStdString(session.line().settings));
    else
      machine.remark = tr("screen %1 × %2").arg(size.width).arg(size.height);
    if (session.screens().size() > 1) machine.remark += tr(" · %1 screens").arg(session.screens().size());
    const QString itself = QString::fromStdString(facts.machineName);
    if (!itself.isEmpty() && !itself.contains(session.machine()) && session.endpoint() != 0) {
      // Most services name themselves otherwise than a record does. Only a name that changes is a reason to
      // ask.
      const QString before = reach_.of(session.endpoint()).calledItself;
      machine.remark += tr(" · calls itself \"%1\"").arg(itself);
      if (!before.isEmpty() && before != itself) {
        machine.remark += tr(", and \"%1\" before: is this the right machine?").arg(before);
        machine.state = State::Trouble;
        peer.cure = tr("Yes, it is");
        peer.cureAction = QStringLiteral("sameMachine");
      }
    }
  } else if (status.problem) {
    const bool reached = facts.reached;
    first.pipe = Pipe::Broken;
    first.found = QString::fromStdString(status.sentence);
    first.cure = status.stage == SessionStage::Ended || status.stage == SessionStage::Waiting
                     ? tr("Try again now")
                     : QString();
    first.cureAction = first.cure.isEmpty() ? QString() : QStringLiteral("retry");
    peer.state = reached ? State::NotAnswering : State::Trouble;
    peer.remark = QString::fromStdString(status.cure);
    peer.pipe = Pipe::Untried;
    peer.found = tr("not tried");
    machine.state = State::NeverReached;
  } else {
    first.pipe = facts.reached ? Pipe::Plain : Pipe::Broken;
    first.found = QString::fromStdString(status.sentence);
    peer.state = State::Starting;
    peer.pipe = Pipe::Untried;
    peer.found = tr("not there yet");
    machine.state = State::NeverReached;
  }
  return whole();
}

std::vector<Hop> Desk::route(const Endpoint& endpoint, const QString& machineName) const {
  if (OpenSession* open = sessionOf(endpoint.id); open != nullptr && open->starting() == nullptr)
    return route(*open);
  Hop first = desk();
  Hop peer, machine;
  machine.name = machineName;
  Address address;
  try {
    address = parseAddress(endpoint.address);
  } catch (const Error& e) {
    first.pipe = Pipe::Broken;
    first.found = QString::fromUtf8(e.what());
    return {first, machine};
  }
  peer.name = address.port > 0 ? QString::fromStdString(address.host) + " : " + QString::number(address.port)
                               : QString::fromStdString(address.path);
  const Reached& known = reach_.of(endpoint.id);
  first.pipe = Pipe::Untried;
  first.found = tr("not tried");
  if (!canOpen(address.scheme)) {
    first.found = tr("this version has no engine for %1 yet").arg(QString::fromStdString(address.scheme));
  } else if (known.checked && known.result.answers) {
    first.pipe = Pipe::Plain;
    first.found = QString::fromStdString(known.result.sentence) + tr(" · sealed or plain shows when opened");
    peer.state = State::Answering;
    peer.remark = address.port > 0 ? tr("console port") : tr("on this desk");
  } else if (known.checked) {
    first.found = QString::fromStdString(known.result.sentence);
    first.cure = cureFor(first.found, known.result.problem);
    first.pipe = known.result.untried ? Pipe::Untried : Pipe::Broken;
    peer.state = known.result.listens   ? State::NotAnswering
                 : known.result.untried ? State::NeverReached
                                        : State::Trouble;
  }
  if (const auto jump = jumpOf(endpoint)) {
    Hop hop;
    hop.name = QString::fromStdString(jump->forPeople());
    hop.remark = tr("SSH jump");
    hop.state = known.checked && !known.result.problem ? State::Answering
                : known.checked                        ? State::Trouble
                                                       : State::NeverReached;
    hop.pipe = Pipe::Untried;
    hop.found = tr("tried when opened");
    peer.pipe = Pipe::Untried;
    peer.found = tr("not tried");
    peer.state = State::NeverReached;
    return {first, hop, peer, machine};
  }
  const QString clash = QString::fromStdString(clashOf(records_.snapshot(), endpoint).value_or(""));
  peer.pipe = Pipe::Untried;
  peer.found = known.result.answers ? tr("not opened yet") : tr("not tried");
  if (!clash.isEmpty()) {
    peer.pipe = Pipe::Broken;
    peer.state = State::Trouble;
    peer.remark = tr("taken: %1 uses %2 too").arg(clash).arg(address.port);
    peer.found = tr("one of the two shows the wrong machine");
    const int next = freePortFrom(records_.snapshot(), address);
    peer.cure = tr("Use %1, the next free port").arg(next);
    peer.cureAction = "port:" + QString::number(next);
  }
  return {first, peer, machine};
}

}  // namespace kw::desktop

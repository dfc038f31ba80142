#include "desktop/model/desk.hpp"

#include <QFile>
#include <QHostInfo>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <utility>

#include "base/file.hpp"
#include "host/console.hpp"
#include "record/setting.hpp"
#include "route/opening.hpp"
#include "route/sign_in_source.hpp"

namespace kw::desktop {

Desk::Desk(OpeningTools tools, Records::Loading loading, QObject* parent)
    : QObject(parent),
      records_(tools, loading, this),
      reach_(runtime_, this),
      hosts_(runtime_, records_, this),
      tools_(std::move(tools)) {
  if (!tools_.ssh) tools_.ssh = std::make_shared<SshPool>([this] { return runtime_.strand(); });
  reach_.jumpOf = [this](const Endpoint& e) { return jumpOf(e); };
}

Desk::~Desk() {
  // Sessions end before the threads that carry them.
  const QList<OpenSession*> open = std::exchange(sessions_, {});
  bool writes = true;  // a store that is away would be waited for at each of them
  for (OpenSession* s : open) {
    writes = writes && write({s->machine().toStdString(), "the window was closed", Told::Ended, s->visit()});
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
  const Snapshot& records = records_.snapshot();
  const auto found = records.endpoints.find(id);
  if (found == records.endpoints.end()) return nullptr;
  const Endpoint& endpoint = found->second;
  const Owner owner{OwnerKind::WayIn, id};
  const std::string machine = records.machines.at(endpoint.machine).name;
  try {
    const SettingReader setting = settingsOf(records, owner);
    const Address address = parseAddress(endpoint.address);
    OpeningTools tools = tools_;
    tools.records = records_.shared();
    auto session = makeSession(runtime_.strand(), address, machine, setting, tools, owner);
    const QString label = QString::fromStdString(endpoint.label + " · " + kindOf(address, setting));
    return start(std::move(session), {QString::fromStdString(machine), label, id, endpoint.address}, setting,
                 startsNow);
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return nullptr;
  }
}

OpenSession* Desk::openAddress(const QString& text) {
  try {
    const Address address = parseAddress(text.toStdString());
    const SettingReader setting = builtInSettings();
    auto session = makeSession(runtime_.strand(), address, address.forPeople(), setting, tools_, {});
    const QString name = QString::fromStdString(
        address.host.empty() ? address.path : address.host + ":" + std::to_string(address.port));
    const std::string label =
        (session->text() != nullptr ? "line · " : "screen · ") + kindOf(address, setting);
    return start(std::move(session), {name, QString::fromStdString(label), 0, address.forPeople()}, setting);
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return nullptr;
  }
}

OpenSession* Desk::openOnce(const exchange::Entry& entry) {
  try {
    const exchange::EntryWay& way = entry.ways.front();
    const Address address = parseAddress(way.address);
    const SettingReader setting = overlaid(builtInSettings(), way.settings);
    OpeningTools tools = tools_;
    tools.records = records_.shared();
    if (entry.password) tools.givenPassword = entry.password;
    auto session = makeSession(runtime_.strand(), address, entry.name, setting, tools, {});
    const QString name = QString::fromStdString(entry.name);
    const QString label = QString::fromStdString("file · " + kindOf(address, setting));
    return start(std::move(session), {name, label, 0, address.forPeople() + " from " + entry.from}, setting);
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return nullptr;
  }
}

OpenSession* Desk::start(std::shared_ptr<Session> core, const Opened& what, const SettingReader& setting,
                         bool startsNow) {
  auto* session = new OpenSession(std::move(core), what.machine, what.label, what.endpoint, this);
  const std::string clipboard = setting("clipboard.way");
  session->clipboardToMachine = clipboard == "both" || clipboard == "to";
  session->clipboardFromMachine = clipboard == "both" || clipboard == "from";
  session->takesShortcuts = setting("keyboard.desktop") == "on";
  session->sendsPositions = setting("keyboard.positions") == "on";
  session->releaseChord = QString::fromStdString(setting("keyboard.release"));
  session->credentialUsers = [this](const std::string& name) {
    return usersOfCredential(records_.snapshot(), name);
  };
  session->ownKeys = QString::fromStdString(setting("keyboard.own"));
  const std::string size = setting("screen.size");
  session->followsPane = size == "follow";
  session->likeMonitor = size == "monitor";
  if (const auto measure = measureFrom(setting("screen.fixed")); measure && size == "fixed")
    session->ownSize = Size{measure->first, measure->second};
  session->fitMode = QString::fromStdString(setting("screen.fit"));
  session->paintsPerSecond = wholeOf(setting, "screen.refresh");
  session->textSchemeKey = QString::fromStdString(setting("text.scheme"));
  session->textInk = QString::fromStdString(setting("text.ink"));
  session->textGround = QString::fromStdString(setting("text.ground"));
  session->textFont = QString::fromStdString(setting("text.font"));
  session->textSize = wholeOf(setting, "text.size");
  session->warnsOfPaste = setting("text.warn") == "on";
  session->breakLength = wholeOf(setting, "line.break");
  if (setting("screen.viewonly") == "on") session->setViewOnly(true);
  if (setting("sound.play") == "on" && session->text() == nullptr) session->setSound(true);
  sessions_.append(session);
  note(*session, Told::Opened, what.way);
  connect(session, &OpenSession::changed, this, [this, session, told = false, trouble = false]() mutable {
    if (session->isLive() && !told) {
      told = true;
      reach_.noteAnswer(session->endpoint());
    }
    const std::string& itself = session->route().machineName;
    if (session->isLive() && !itself.empty() && reach_.of(session->endpoint()).calledItself.isEmpty())
      reach_.noteName(session->endpoint(), QString::fromStdString(itself));
    // Once for each trouble, however often it is tried again.
    if (session->status().problem && !std::exchange(trouble, true))
      note(*session, Told::Trouble, session->status().sentence);
    if (session->isLive()) trouble = false;
    emit sessionsChanged();
  });
  // A log that is begun, by the sheet or by hand, is in the journal with its file.
  if (session->text() != nullptr)
    connect(session, &OpenSession::figuresChanged, this, [this, session, known = std::string()]() mutable {
      const std::string file = session->text()->logFile();
      if (file == known) return;
      known = file;
      if (!file.empty()) note(*session, Told::Log, file);
    });
  connect(session, &OpenSession::ended, this, [this, session] { discard(session); });
  if (startsNow) session->start();
  emit sessionsChanged();
  return session;
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
  session->usualStart = usualStartSeconds(way.machine);
  note(*session, Told::Note, "start asked of " + place.name);
  connect(session, &OpenSession::startOver, this,
          [this, session, id] { startIsOver(session, id, *session->starting()); });
  session->startWith(errand);
  return session;
}

void Desk::startIsOver(OpenSession* session, Id endpoint, const host::StartView& view) {
  if (view.failure) {
    note(*session, Told::Trouble, std::string("start: ") + view.failure->what());
    return;
  }
  const Snapshot& s = records_.snapshot();
  const auto way = s.endpoints.find(endpoint);
  if (way == s.endpoints.end()) return discard(session);
  const int seconds = static_cast<int>(std::chrono::duration_cast<std::chrono::seconds>(view.took).count());
  // One that ran already says nothing about how long a start takes.
  if (!view.steps.empty() && view.steps.front().remark.empty()) rememberStart(way->second.machine, seconds);
  note(*session, Told::Note, "answers after " + std::to_string(seconds) + " s");
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

namespace {
QString startsFile() { return QString::fromStdString((stateFolder() / "starts.json").string()); }
constexpr int kRememberedStarts = 5;

QJsonObject rememberedStarts() {
  QFile file(startsFile());
  return file.open(QIODevice::ReadOnly) ? QJsonDocument::fromJson(file.readAll()).object() : QJsonObject();
}
}  // namespace

int Desk::usualStartSeconds(Id machine) const {
  std::vector<int> took;
  for (const QJsonValue& v : rememberedStarts()[QString::number(machine)].toArray())
    took.push_back(v.toInt());
  if (took.empty()) return 0;
  std::sort(took.begin(), took.end());
  return std::max(1, took[took.size() / 2]);
}

void Desk::rememberStart(Id machine, int seconds) {
  QJsonObject all = rememberedStarts();
  QJsonArray mine = all[QString::number(machine)].toArray();
  mine.append(seconds);
  while (mine.size() > kRememberedStarts) mine.removeFirst();
  all[QString::number(machine)] = mine;
  try {
    std::error_code ignored;
    std::filesystem::create_directories(stateFolder(), ignored);
    const std::string text = QJsonDocument(all).toJson(QJsonDocument::Compact).toStdString();
    writeFileSafely(startsFile().toStdString(), viewOf(text));
  } catch (const Error&) {
    // Only a guess is lost.
  }
}

namespace {
std::string endOf(const OpenSession& session) {
  if (session.status().problem) return session.status().sentence;
  return session.wasLive() ? "closed" : "given up";
}
}  // namespace

void Desk::discard(OpenSession* session) {
  if (!sessions_.removeOne(session)) return;
  note(*session, Told::Ended, endOf(*session));
  session->deleteLater();
  emit sessionsChanged();
}

void Desk::note(const OpenSession& session, Told told, const std::string& what) {
  write({session.machine().toStdString(), what, told, session.visit()});
  emit journalChanged();
}

bool Desk::write(const JournalEntry& entry) {
  if (!tools_.store) return false;
  try {
    tools_.store->journal(entry);
    return true;
  } catch (const Error& e) {
    emit said(QString::fromUtf8(e.what()));
    return false;
  }
}

QString Desk::clashOf(const Endpoint& endpoint) const {
  const auto others = records_.snapshot().sharingAddress(endpoint);
  if (others.empty()) return {};
  const auto machine = records_.snapshot().machines.find(others.front()->machine);
  return machine == records_.snapshot().machines.end() ? QString()
                                                       : QString::fromStdString(machine->second.name);
}

int Desk::freePort(const Address& address) const {
  std::set<int> taken;
  for (const auto& [id, e] : records_.snapshot().endpoints) {
    try {
      const Address other = parseAddress(e.address);
      if (other.host == address.host) taken.insert(other.port);
    } catch (const Error&) {
      continue;
    }
  }
  int port = address.port;
  while (port < 65535 && taken.contains(port)) ++port;
  return port;
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
  const QString clash = clashOf(endpoint);
  peer.pipe = Pipe::Untried;
  peer.found = known.result.answers ? tr("not opened yet") : tr("not tried");
  if (!clash.isEmpty()) {
    peer.pipe = Pipe::Broken;
    peer.state = State::Trouble;
    peer.remark = tr("taken: %1 uses %2 too").arg(clash).arg(address.port);
    peer.found = tr("one of the two shows the wrong machine");
    const int next = freePort(address);
    peer.cure = tr("Use %1, the next free port").arg(next);
    peer.cureAction = "port:" + QString::number(next);
  }
  return {first, peer, machine};
}

}  // namespace kw::desktop

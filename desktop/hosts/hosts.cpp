#include "desktop/hosts/hosts.hpp"

namespace kw::desktop {

Hosts::Hosts(Runtime& runtime, Records& records, QObject* parent)
    : QObject(parent),
      runtime_(runtime),
      records_(records),
      mailbox_(std::make_shared<Mailbox<Hosts>>(this)) {
  announce_.setSingleShot(true);
  announce_.setInterval(40);
  connect(&announce_, &QTimer::timeout, this, &Hosts::take);
  connect(&records_, &Records::changed, this, &Hosts::recordsChanged);
  recordsChanged();
}

Hosts::~Hosts() {
  mailbox_->close();
  for (auto& [id, w] : watched_)
    if (w.host) w.host->end();
}

void Hosts::recordsChanged() {
  const auto& now = records_.snapshot().hosts;
  for (auto at = watched_.begin(); at != watched_.end();) {
    const auto same = now.find(at->first);
    const bool keep = same != now.end() && same->second.address == at->second.record.address;
    if (keep) {
      at->second.record = same->second;
      ++at;
      continue;
    }
    if (at->second.host) at->second.host->end();
    at = watched_.erase(at);
  }
  for (const auto& [id, record] : now)
    if (!watched_.contains(id)) watch(record);
  announce_.start();
}

void Hosts::watch(const HostRecord& record) {
  Watched& w = watched_[record.id];
  w.record = record;
  try {
    host::AdapterTools tools{runtime_.strand(), systemClock(), {}, {}};
    if (const auto kept = keptSignIn(records_.tools(), {OwnerKind::Host, record.id})) {
      tools.user = kept->user;
      tools.password = kept->password;
    }
    w.host = std::make_shared<host::Host>(record, tools);
    w.host->observe([mailbox = mailbox_] {
      mailbox->put([](Hosts& h) {
        if (!h.announce_.isActive()) h.announce_.start();
      });
    });
    w.host->start();
  } catch (const Error& e) {
    w.problem = QString::fromUtf8(e.what());
  }
}

void Hosts::take() {
  for (auto& [id, w] : watched_)
    if (w.host) w.view = w.host->view();
  startStopped();
  emit changed();
}

std::optional<HostedRecord> Hosts::of(Id machine) const {
  const Snapshot& s = records_.snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end() || found->second.host.empty()) return std::nullopt;
  const HostRecord* record = s.hostNamed(found->second.host);
  if (record == nullptr) return std::nullopt;
  const auto w = watched_.find(record->id);
  if (w == watched_.end() || !w->second.host) return std::nullopt;
  HostedRecord out;
  out.host = w->second.host;
  out.id = host::idOnHost(s, machine);
  if (out.id.empty()) return std::nullopt;
  out.hostLive = w->second.view.stage == host::HostStage::Live;
  if (const auto there = w->second.view.stock->find(out.id); there != w->second.view.stock->end())
    out.machine = there->second;
  return out;
}

void Hosts::ordered(const QString& what, const QString& done,
                    const std::function<void(host::Host::Done)>& give, std::function<void(Hosts&)> then) {
  give([mailbox = mailbox_, what, done, then = std::move(then)](std::exception_ptr failure) {
    const QString sentence =
        failure ? QString("%1: %2").arg(what, QString::fromStdString(messageOf(failure))) : done;
    mailbox->put([sentence, then, good = !failure](Hosts& h) {
      emit h.said(sentence);
      if (good && then) then(h);
    });
  });
}

void Hosts::power(Id hostRecord, const std::string& id, const QString& name, host::PowerAct act) {
  const auto w = watched_.find(hostRecord);
  if (w == watched_.end() || !w->second.host) return;
  const QString what = tr("%1, %2").arg(name, wordsFor(act));
  ordered(what, tr("%1: %2 was told.").arg(what, QString::fromStdString(w->second.record.name)),
          [&](host::Host::Done done) { w->second.host->power(id, act, std::move(done)); });
}

void Hosts::firstPassword(Id machine,
                          std::function<void(const QString& sealed, const QString& problem)> told) {
  const auto hosted = of(machine);
  if (!hosted || !hosted->host) return told({}, tr("No host is known for this machine."));
  const auto sealed = std::make_shared<std::string>();
  hosted->host->firstPassword(
      hosted->id, sealed, [mailbox = mailbox_, sealed, told = std::move(told)](std::exception_ptr failure) {
        const QString problem = failure ? QString::fromStdString(messageOf(failure)) : QString();
        mailbox->put([sealed, told, problem](Hosts&) {
          told(problem.isEmpty() ? QString::fromStdString(*sealed) : QString(), problem);
        });
      });
}

struct Hosts::Many {
  host::PowerAct act;
  int round = 0;
  std::vector<std::pair<HostedRecord, QString>> todo;  ///< what is asked, and the machine's name
  std::size_t next = 0;
  int asked = 0, done = 0;
  QStringList failed;
};

void Hosts::powerMany(const std::vector<Id>& machines, host::PowerAct act) {
  const auto many = std::make_shared<Many>();
  many->act = act;
  many->round = ++manyRound_;
  many->asked = static_cast<int>(machines.size());
  for (const Id id : machines) {
    const auto found = records_.snapshot().machines.find(id);
    if (found == records_.snapshot().machines.end()) continue;
    const QString name = QString::fromStdString(found->second.name);
    if (auto hosted = of(id))
      many->todo.emplace_back(std::move(*hosted), name);
    else
      many->failed << tr("%1 (no host is known for it)").arg(name);
  }
  nextOfMany(many);
}

void Hosts::nextOfMany(const std::shared_ptr<Many>& many) {
  const auto all = static_cast<int>(many->todo.size());
  const bool stopped = many->round != manyRound_;
  if (stopped || many->next == many->todo.size()) {
    QString sentence = tr("%1: %2 of %3 told").arg(wordsFor(many->act)).arg(many->done).arg(many->asked);
    if (stopped) sentence += tr(", then stopped");
    if (!many->failed.isEmpty()) sentence += tr("; not: %1").arg(many->failed.join(", "));
    emit said(sentence + ".");
    return;
  }
  const auto& [hosted, name] = many->todo[many->next++];
  emit said(tr("%1: %2, %3 of %4…").arg(wordsFor(many->act), name).arg(many->next).arg(all));
  hosted.host->power(hosted.id, many->act,
                     [mailbox = mailbox_, many, name = name](std::exception_ptr failure) {
                       const QString wrong = failure ? QString::fromStdString(messageOf(failure)) : QString();
                       mailbox->put([many, name, wrong](Hosts& h) {
                         if (wrong.isEmpty())
                           ++many->done;
                         else
                           many->failed << tr("%1 (%2)").arg(name, wrong);
                         h.nextOfMany(many);
                       });
                     });
}

void Hosts::change(Id hostRecord, const std::string& id, const QString& name,
                   const host::ConsoleChange& change, const QString& done, std::function<void(Hosts&)> then) {
  const auto w = watched_.find(hostRecord);
  if (w == watched_.end() || !w->second.host) return;
  const auto give = [&](host::Host::Done told) { w->second.host->change(id, change, std::move(told)); };
  ordered(name, done, give, std::move(then));
}

namespace {
constexpr int kLongestStop = 5 * 60 * 1000;  ///< milliseconds
}

void Hosts::stopAndStart(Id hostRecord, const std::string& id, const QString& name, host::PowerAct stop) {
  stopping_[{hostRecord, id}] = {name, QDeadlineTimer(kLongestStop)};
  QTimer::singleShot(kLongestStop + 1, this, &Hosts::startStopped);
  power(hostRecord, id, name, stop);
}

void Hosts::startStopped() {
  for (auto it = stopping_.begin(); it != stopping_.end();) {
    const auto [hostRecord, id] = it->first;
    const Stopping plan = it->second;
    const auto w = watched_.find(hostRecord);
    const auto machine = w == watched_.end() ? host::Stock::const_iterator() : w->second.view.stock->find(id);
    const bool known = w != watched_.end() && machine != w->second.view.stock->end();
    const bool off = known && machine->second.state == host::Running::Off;
    if (known && !off && !plan.until.hasExpired()) {
      ++it;
      continue;
    }
    it = stopping_.erase(it);
    if (off)
      startAgain(hostRecord, id, plan.name);
    else
      emit said(tr("%1 did not stop within five minutes; what was changed counts after its next full stop.")
                    .arg(plan.name));
  }
}

/// With its timeline and the console's password, when it is in the roster.
void Hosts::startAgain(Id hostRecord, const std::string& id, const QString& name) {
  const Snapshot& s = records_.snapshot();
  for (const auto& [record, m] : s.machines)
    if (m.host == watched_.at(hostRecord).record.name && host::idOnHost(s, record) == id)
      return emit startWanted(record);
  power(hostRecord, id, name, host::PowerAct::Start);
}

QString wordsFor(host::PowerAct act) {
  switch (act) {
    case host::PowerAct::Start: return Hosts::tr("start");
    case host::PowerAct::ShutDown: return Hosts::tr("ask to shut down");
    case host::PowerAct::Off: return Hosts::tr("force off");
    case host::PowerAct::Restart: return Hosts::tr("ask to restart");
    case host::PowerAct::Reset: return Hosts::tr("reset");
    case host::PowerAct::Pause: return Hosts::tr("pause");
    case host::PowerAct::Resume: return Hosts::tr("go on");
  }
  return {};
}

}  // namespace kw::desktop

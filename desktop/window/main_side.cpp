// The window's side: routes, states, findings with their cures, what is known of a machine.
#include "desktop/window/main_window.hpp"

#include <QApplication>
#include <QLocale>
#include <QStackedWidget>

#include "desk/ports.hpp"
#include "desktop/hosts/start_timeline.hpp"
#include "desktop/sharing/sharing_view.hpp"
#include "desktop/sheet/sheet.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/stage/stage.hpp"
#include "desktop/window/side.hpp"
#include "record/visits.hpp"

namespace kw::desktop {

namespace {
constexpr int kJournalLooked = 200;  ///< entries, for what happened to a machine lately
constexpr int kLately = 6;
}  // namespace

MachineNow MainWindow::nowOf(const Machine& machine) const {
  MachineNow now;
  const Snapshot& s = desk_.records().snapshot();
  QString clash;
  const Reached* best = nullptr;
  bool anyUsable = false;
  for (const Endpoint* e : s.endpointsOf(machine.id)) {
    if (OpenSession* open = desk_.sessionOf(e->id)) {
      now.openEndpoints.insert(e->id);
      const SessionStatus& status = open->status();
      if (const host::StartView* start = open->starting()) {
        now.state = start->failure ? State::Trouble : State::Starting;
        now.sentence =
            start->failure
                ? QString::fromStdString(start->failure->detail())
                : tr("starting · %1")
                      .arg(StartTimeline::clockWords(std::chrono::seconds(open->secondsInStage())));
        continue;
      }
      now.state = open->isLive() ? State::Answering : status.problem ? State::Trouble : State::Starting;
      now.sentence = open->question() ? tr("asks something in its pane")
                     : open->isLive() ? (open->route().sealed ? tr("open · sealed") : tr("open · plain line"))
                                      : QString::fromStdString(status.sentence);
    }
    if (!canOpen(e->scheme())) continue;
    anyUsable = true;
    const Reached& known = desk_.reach().of(e->id);
    if (best == nullptr || known.result.answers) best = &known;
    // Of two with one address the older record is believed; the newer one is told of.
    if (const auto other = clashOf(s, *e); other && s.sharingAddress(*e).front()->id < e->id)
      clash = tr("port %1 is also set on %2")
                  .arg(parseAddress(e->address).port)
                  .arg(QString::fromStdString(*other));
  }
  if (!now.openEndpoints.isEmpty()) return now;
  if (best != nullptr && best->checked) {
    now.state = best->result.answers         ? State::Answering
                : best->result.untried       ? State::NeverReached
                : best->result.listens       ? State::NotAnswering
                : best->lastAnswer.isValid() ? State::Off
                                             : State::NeverReached;
    now.sentence = best->result.answers ? QString::fromStdString(best->result.sentence)
                                        : tr("%1").arg(QString::fromStdString(best->result.sentence));
  } else if (best != nullptr && best->lastAnswer.isValid()) {
    now.state = State::Off;
    now.sentence = tr("last answered %1").arg(QLocale().toString(best->lastAnswer, QLocale::ShortFormat));
  } else {
    now.sentence = anyUsable ? tr("never reached") : tr("never reached · no engine for it yet");
  }
  hostedNow(machine, now);
  if (!clash.isEmpty()) {
    now.state = State::Trouble;
    now.sentence = clash;
  }
  return now;
}

/// How many machines of a group, and of those inside it, stand how.
std::vector<SideCheck> MainWindow::statesIn(Id folder) const {
  const Snapshot& s = desk_.records().snapshot();
  std::map<State, int> counts;
  for (const auto& [id, m] : s.machines) {
    const auto path = s.pathOf(m.folder);
    if (std::any_of(path.begin(), path.end(), [folder](const Folder* f) { return f->id == folder; }))
      ++counts[nowOf(m).state];
  }
  std::vector<SideCheck> out;
  for (const auto& [state, count] : counts)
    out.push_back({state, tr("%1 %2").arg(count).arg(wordsFor(state))});
  if (out.empty()) out.push_back({State::NeverReached, tr("none yet")});
  return out;
}

void MainWindow::refreshSide() {
  side_->setAbout(aboutOf(centre_->currentWidget() == sheet_ ? sheet_->machine() : currentMachine()));
  if (centre_->currentWidget() == sheet_) {
    if (const auto draft = sheet_->draftEndpoint()) {
      side_->setRoute(tr("What will happen"), desk_.route(*draft, sheet_->machineName()));
      std::vector<SideCheck> checks;
      const Reached& known = desk_.reach().of(draft->id);
      checks.push_back(
          {known.checked && !known.result.untried ? (known.result.answers ? State::Answering : State::Trouble)
                                                  : State::NeverReached,
           known.checked ? QString::fromStdString(known.result.sentence) : tr("the host was not tried yet")});
      const std::vector<RecordCheck> found = sheet_->checks();
      for (const RecordCheck& c : found)
        checks.push_back({c.trouble ? State::Trouble : State::NotAnswering,
                          QString::fromStdString(c.sentence + (c.cure.empty() ? "" : ". " + c.cure))});
      if (found.empty()) checks.push_back({State::Answering, tr("no other machine uses this port")});
      side_->setChecks(tr("Before the first open"), checks);
    }
    if (sheet_->editsFolder()) {
      side_->setRoute({}, {});
      side_->setChecks(tr("Its machines now"), statesIn(sheet_->folder()));
    }
    side_->setFigures(nullptr);
    return;
  }
  side_->setChecks({}, {});
  OpenSession* session = current();
  const auto asked = desk_.records().snapshot().endpoints.find(whyEndpoint_);
  const bool why = !findings_.empty() && asked != desk_.records().snapshot().endpoints.end() &&
                   asked->second.machine == roster_->selected();
  const bool rosterLeads = roster_->hasFocus() || session == nullptr || why;
  if (rosterLeads && roster_->selected() != 0) {
    const Snapshot& s = desk_.records().snapshot();
    for (const Endpoint* e : s.endpointsOf(roster_->selected())) {
      if (why && e->id != whyEndpoint_) continue;
      const auto machine = s.machines.find(e->machine);
      const QString name = QString::fromStdString(machine->second.name);
      side_->setRoute(tr("Route to %1 · %2").arg(name, QString::fromStdString(e->label)),
                      desk_.route(*e, name));
      showFindings(e->id);
      side_->setAbout(aboutOf(e->machine));
      side_->setFigures(desk_.sessionOf(e->id));
      return;
    }
  }
  if (session != nullptr) {
    auto hops = desk_.route(*session);
    side_->setRoute(tr("Route to %1 · %2").arg(session->machine(), session->label()), hops);
    showFindings(session->endpoint());
  } else {
    side_->setRoute({}, {});
  }
  side_->setFigures(session);
}

/// Notes, who else is there, what happened lately: what fills the side below the figures.
std::vector<SideAbout> MainWindow::aboutOf(Id machine) {
  const Snapshot& s = desk_.records().snapshot();
  const auto found = s.machines.find(machine);
  if (found == s.machines.end()) return {};
  std::vector<SideAbout> out;
  if (sharing_ != nullptr)
    if (const QStringList who = sharing_->visitorsOf(machine); !who.isEmpty())
      out.push_back({tr("Here through the gateway"), who});
  if (const QString notes = QString::fromStdString(found->second.notes).trimmed(); !notes.isEmpty())
    out.push_back({tr("Notes"), notes.split('\n')});
  if (lately_.title.isEmpty() || latelyOf_ != machine) {
    latelyOf_ = machine;
    lately_ = {tr("Lately"), {}};
    try {
      for (const JournalEntry& e : desk_.records().store().journal(kJournalLooked)) {
        if (e.machine != found->second.name || lately_.lines.size() >= kLately) continue;
        const QDateTime when =
            QDateTime::fromString(QString::fromStdString(e.when), Qt::ISODate).toLocalTime();
        lately_.lines << tr("%1 · %2").arg(
            when.date() == QDate::currentDate() ? when.toString("HH:mm") : when.toString("d MMM HH:mm"),
            QString::fromStdString(sentenceOf(e)));
      }
    } catch (const Error&) {
      lately_.lines.clear();  // told of where the journal itself is looked at
    }
  }
  if (!lately_.lines.isEmpty()) out.push_back(lately_);
  return out;
}

void MainWindow::cure(const QString& action) {
  if (action == "stock") return showStock();
  if (action == "start") {
    const auto way = desk_.records().snapshot().endpoints.find(whyEndpoint_);
    if (way != desk_.records().snapshot().endpoints.end()) startAndOpen(way->second.machine);
    return;
  }
  if (action == "drift") return followHost(whyEndpoint_);
  if (action == "size") {
    if (OpenSession* open = desk_.sessionOf(whyEndpoint_); open != nullptr && !open->room.empty())
      open->session().requestSize(open->room);
    return;
  }
  if (action == "inside") return lookWhy(whyEndpoint_, true);
  if (action == "again") return consolePasswordAgain(whyEndpoint_);
  if (action.startsWith("via:")) {
    const QString via = action.mid(4);
    if (desk_.records().commit(tr("put a tunnel before it"), [&](StoreWriter& w) {
          w.set({OwnerKind::WayIn, whyEndpoint_}, "route.via", via.toStdString());
        }))
      say(tr("It goes through %1 from now on. Ctrl+Z takes it back.").arg(via));
    return;
  }
  if (action.startsWith("tunnel:")) {
    const std::string change = action.toStdString();
    const auto way = desk_.records().snapshot().endpoints.find(whyEndpoint_);
    if (way == desk_.records().snapshot().endpoints.end()) return;
    const Endpoint before = way->second;
    if (desk_.records().commit(tr("go through a tunnel into the machine"),
                               [&](StoreWriter& w) { host::goThroughTunnel(w, before, change); }))
      say(tr("It goes through %1 from now on. Ctrl+Z takes it back.")
              .arg(QString::fromStdString(host::jumpOfTunnel(change))));
    return;
  }
  if (action == "retry") {
    if (OpenSession* s = current()) s->session().retry();
    return;
  }
  if (action == "sameMachine") {
    if (const OpenSession* s = current())
      desk_.reach().noteName(s->endpoint(), QString::fromStdString(s->route().machineName));
    return refreshSide();
  }
  if (!action.startsWith("port:")) return;
  Id machine = roster_->selected();
  if (centre_->currentWidget() == sheet_) machine = sheet_->machine();
  if (machine == 0 && current() != nullptr)
    if (const auto e = desk_.records().snapshot().endpoints.find(current()->endpoint());
        e != desk_.records().snapshot().endpoints.end())
      machine = e->second.machine;
  if (centre_->currentWidget() != sheet_) editMachine(machine);
  if (const auto draft = sheet()->draftEndpoint()) {
    Address address = parseAddress(draft->address);
    address.port = action.mid(5).toInt();
    sheet_->useAddress(QString::fromStdString(address.uri()));
  }
}

}  // namespace kw::desktop

// What lies behind the window: records, threads, reach, open sessions.
#pragma once
#include <QObject>
#include <memory>

#include "base/runtime.hpp"
#include "desk/opened.hpp"
#include "desk/usual_starts.hpp"
#include "desk/visit_notes.hpp"
#include "desktop/hosts/hosts.hpp"
#include "desktop/model/open_session.hpp"
#include "desktop/model/reach.hpp"
#include "desktop/model/records.hpp"
#include "desktop/window/side.hpp"

namespace kw::desktop {

class Desk : public QObject {
  Q_OBJECT
 public:
  explicit Desk(OpeningTools tools, Records::Loading loading = Records::Loading::Now,
                QObject* parent = nullptr);
  ~Desk() override;

  [[nodiscard]] Records& records() { return records_; }
  [[nodiscard]] Reach& reach() { return reach_; }
  [[nodiscard]] Hosts& hosts() { return hosts_; }
  [[nodiscard]] const Hosts& hosts() const { return hosts_; }
  [[nodiscard]] Runtime& runtime() { return runtime_; }
  [[nodiscard]] const OpeningTools& tools() const { return tools_; }

  /// The open session of a way in, or a new one that is starting. Null (and `said`) when it cannot be opened.
  OpenSession* open(Id endpoint);
  OpenSession* openAddress(const QString& address);
  /// What a file names, with its settings and the password it hands over; nothing is kept.
  OpenSession* openOnce(const exchange::Entry& entry);
  /// Like open(), but asks the machine's host to start it first and waits until the way in answers. Null (and
  /// `said`) when the machine is not linked to a host.
  OpenSession* startAndOpen(Id endpoint);
  [[nodiscard]] const QList<OpenSession*>& sessions() const { return sessions_; }
  [[nodiscard]] OpenSession* sessionOf(Id endpoint) const;
  /// The hops of a way in as they stand now: from the open session, or from the last check.
  [[nodiscard]] std::vector<Hop> route(const Endpoint& endpoint, const QString& machine) const;
  [[nodiscard]] std::vector<Hop> route(const OpenSession& session) const;
  void discard(OpenSession* session);

 signals:
  void said(const QString& sentence);
  void sessionsChanged();
  void journalChanged();
  /// The way in of a started machine is elsewhere now; its record was changed, and it is to be opened anew.
  void openAnew(Id endpoint);

 private:
  void startIsOver(OpenSession* session, Id endpoint, const host::StartView& view);
  OpenSession* make(Id endpoint, bool startsNow);
  /// Null (and `said`) when it throws.
  OpenSession* begin(const std::function<Opened()>& open, bool startsNow = true);
  OpenSession* show(const Opened& what, bool startsNow);
  void follow(OpenSession* session);
  /// Into the journal, as part of the session's visit.
  void note(OpenSession* session, Told told, const std::string& what);
  /// `write` says whether it wrote. False when the journal cannot be written, which is said; nothing else
  /// fails.
  bool noted(OpenSession* session, const std::function<bool(VisitNotes&)>& write);
  [[nodiscard]] std::optional<Address> jumpOf(const Endpoint& endpoint) const;
  [[nodiscard]] QString hostOf(Id endpoint) const;

  Runtime runtime_{2};
  Records records_;
  Reach reach_;
  Hosts hosts_;
  OpeningTools tools_;
  UsualStarts starts_;
  QList<OpenSession*> sessions_;
  std::map<OpenSession*, VisitNotes> visits_;
};

}  // namespace kw::desktop

// The hosts of the records as the window sees them: each watched, told of on the interface thread.
#pragma once
#include <QDeadlineTimer>
#include <QObject>
#include <QTimer>
#include <map>
#include <memory>
#include <optional>

#include "base/runtime.hpp"
#include "desktop/model/mailbox.hpp"
#include "desktop/model/records.hpp"
#include "host/adopt.hpp"
#include "host/host.hpp"

namespace kw::desktop {

/// A record's machine on its host.
struct HostedRecord {
  std::shared_ptr<host::Host> host;
  std::string id;  ///< on the host
  std::optional<host::StockMachine>
      machine;  ///< as last told; nothing when the host has not, or has it no more
  bool hostLive = false;
};

class Hosts : public QObject {
  Q_OBJECT
 public:
  Hosts(Runtime& runtime, Records& records, QObject* parent = nullptr);
  ~Hosts() override;

  /// By record; views are those of the last `changed`.
  struct Watched {
    HostRecord record;
    std::shared_ptr<host::Host> host;  ///< null when its address makes no sense
    host::HostView view;
    QString problem;  ///< why there is no host
  };
  [[nodiscard]] const std::map<Id, Watched>& all() const { return watched_; }
  [[nodiscard]] std::optional<HostedRecord> of(Id machine) const;
  [[nodiscard]] static host::HostPlace placeOf(const Watched& w) { return {w.record.name, {}}; }

  /// Orders; failures and outcomes are told by `said`.
  void power(Id hostRecord, const std::string& id, const QString& name, host::PowerAct act);
  /// Several machines, one after the other for each host; `said` counts along, and names what failed at the
  /// end.
  void powerMany(const std::vector<Id>& machines, host::PowerAct act);
  /// No further machine of powerMany() is asked.
  void stopMany() { ++manyRound_; }
  /// Off (or asked to shut down), then started when the host says that it is off. `said` tells each step, and
  /// when it does not stop within five minutes.
  void stopAndStart(Id hostRecord, const std::string& id, const QString& name, host::PowerAct stop);
  /// `then`: when the host has taken it.
  void change(Id hostRecord, const std::string& id, const QString& name, const host::ConsoleChange& change,
              const QString& done, std::function<void(Hosts&)> then = {});
  /// What the host keeps of it: encrypted, as base64, or why it cannot be had. Told on the interface thread,
  /// unless the window is gone by then.
  void firstPassword(Id machine, std::function<void(const QString& sealed, const QString& problem)> told);

 signals:
  void changed();
  void said(const QString& sentence);
  /// A machine of the roster that was stopped from here is off and shall be started.
  void startWanted(Id machine);

 private:
  void recordsChanged();
  void take();
  void watch(const HostRecord& record);
  void ordered(const QString& what, const QString& done, const std::function<void(host::Host::Done)>& give,
               std::function<void(Hosts&)> then = {});

  Runtime& runtime_;
  Records& records_;
  std::shared_ptr<Mailbox<Hosts>> mailbox_;
  struct Many;
  void nextOfMany(const std::shared_ptr<Many>& many);
  int manyRound_ = 0;
  /// Machines that are started when they are off, by host and ID.
  struct Stopping {
    QString name;
    QDeadlineTimer until;
  };
  void startStopped();
  void startAgain(Id hostRecord, const std::string& id, const QString& name);
  std::map<std::pair<Id, std::string>, Stopping> stopping_;
  std::map<Id, Watched> watched_;
  QTimer announce_;
};

/// "start", "ask to shut down", … as menus have it.
QString wordsFor(host::PowerAct act);

}  // namespace kw::desktop

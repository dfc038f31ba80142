// What is known of each way in right now: checked in the background, a few at a time, only what is looked at.
#pragma once
#include <QDateTime>
#include <QHash>
#include <QObject>
#include <QTimer>
#include <deque>
#include <functional>
#include <memory>
#include <optional>
#include <set>

#include "base/runtime.hpp"
#include "desktop/model/mailbox.hpp"
#include "record/model.hpp"
#include "route/checker.hpp"

namespace kw::desktop {

struct Reached {
  bool checked = false;  ///< in this run
  CheckResult result;
  QDateTime lastAnswer;  ///< also from earlier runs; invalid: never
  QString calledItself;  ///< what the machine said its name was when it was first opened, or since somebody
                         ///< said yes
};

class Reach : public QObject {
  Q_OBJECT
 public:
  /// The first jump on the way to a way in, if there is one: then that is what is checked.
  std::function<std::optional<Address>(const Endpoint&)> jumpOf;
  explicit Reach(Runtime& runtime, QObject* parent = nullptr);
  ~Reach() override;
  [[nodiscard]] const Reached& of(Id endpoint) const;
  /// These are on screen now: they are checked at once and again every half minute.
  void watch(const std::vector<const Endpoint*>& endpoints);
  void noteAnswer(Id endpoint);
  void noteName(Id endpoint, const QString& name);
  [[nodiscard]] QJsonObject remembered() const;
  void restore(const QJsonObject& saved);
  void setEnabled(bool on) { enabled_ = on; }

 signals:
  void changed();

 private:
  void startNext();
  void take(Id endpoint, const CheckResult& result);

  Runtime& runtime_;
  std::shared_ptr<Mailbox<Reach>> mailbox_;
  QHash<Id, Reached> known_;
  std::vector<std::pair<Id, Address>> watched_;
  std::deque<std::pair<Id, Address>> queue_;
  QTimer again_, announce_;
  int running_ = 0;
  bool enabled_ = true;
};

}  // namespace kw::desktop

#include "desktop/model/reach.hpp"

#include <QJsonObject>
#include <mutex>

#include "base/error.hpp"
#include "route/opening.hpp"

namespace kw::desktop {

namespace {
constexpr int kAtOnce = 8;
constexpr auto kLimit = std::chrono::seconds(3);
constexpr int kAgainEvery = 30'000;  // milliseconds
}  // namespace

Reach::Reach(Runtime& runtime, QObject* parent)
    : QObject(parent), runtime_(runtime), mailbox_(std::make_shared<Mailbox<Reach>>(this)) {
  again_.setInterval(kAgainEvery);
  connect(&again_, &QTimer::timeout, this, [this] {
    queue_.assign(watched_.begin(), watched_.end());
    startNext();
  });
  again_.start();
  announce_.setSingleShot(true);
  announce_.setInterval(50);
  connect(&announce_, &QTimer::timeout, this, &Reach::changed);
}

Reach::~Reach() { mailbox_->close(); }

const Reached& Reach::of(Id endpoint) const {
  static const Reached nothing;
  const auto found = known_.constFind(endpoint);
  return found == known_.constEnd() ? nothing : *found;
}

void Reach::watch(const std::vector<const Endpoint*>& endpoints) {
  if (!enabled_) return;
  std::vector<std::pair<Id, Address>> wanted;
  for (const Endpoint* e : endpoints) {
    if (!canOpen(e->scheme())) continue;
    try {
      Address address = parseAddress(e->address);
      if (const auto jump = jumpOf ? jumpOf(*e) : std::nullopt) {
        address = *jump;
        address.options["jump"] = "yes";
      }
      wanted.emplace_back(e->id, std::move(address));
    } catch (const Error&) {
      continue;  // a broken address is shown as such on its sheet
    }
  }
  if (wanted == watched_) return;
  watched_ = std::move(wanted);
  for (const auto& [id, address] : watched_)
    if (!of(id).checked) queue_.emplace_back(id, address);
  startNext();
}

void Reach::startNext() {
  while (running_ < kAtOnce && !queue_.empty()) {
    const auto [id, address] = queue_.front();
    queue_.pop_front();
    ++running_;
    spawn(runtime_.strand(), [mailbox = mailbox_, id = id, address = address]() -> Task<void> {
      CheckResult result = co_await checkAddress(address, kLimit);
      if (address.options.contains("jump")) {  // what lies behind it is tried when opened
        result.sentence = "behind " + address.host + ", which " + result.sentence;
        result.answers = result.listens = false;
        result.untried = true;
      }
      mailbox->put([id, result](Reach& r) { r.take(id, result); });
    });
  }
}

void Reach::take(Id endpoint, const CheckResult& result) {
  --running_;
  Reached& known = known_[endpoint];
  known.checked = true;
  known.result = result;
  if (result.answers) known.lastAnswer = QDateTime::currentDateTime();
  announce_.start();
  startNext();
}

void Reach::noteAnswer(Id endpoint) {
  Reached& known = known_[endpoint];
  known.lastAnswer = QDateTime::currentDateTime();
  announce_.start();
}

void Reach::noteName(Id endpoint, const QString& name) {
  known_[endpoint].calledItself = name;
  announce_.start();
}

namespace {
const QString kName = QStringLiteral("name:");
}

QJsonObject Reach::remembered() const {
  QJsonObject out;
  for (auto at = known_.begin(); at != known_.end(); ++at) {
    if (at->lastAnswer.isValid()) out[QString::number(at.key())] = at->lastAnswer.toString(Qt::ISODate);
    if (!at->calledItself.isEmpty()) out[kName + QString::number(at.key())] = at->calledItself;
  }
  return out;
}

void Reach::restore(const QJsonObject& saved) {
  for (auto at = saved.begin(); at != saved.end(); ++at) {
    const QString value = at.value().toString();
    if (at.key().startsWith(kName))
      known_[at.key().mid(kName.size()).toLongLong()].calledItself = value;
    else
      known_[at.key().toLongLong()].lastAnswer = QDateTime::fromString(value, Qt::ISODate);
  }
}

}  // namespace kw::desktop

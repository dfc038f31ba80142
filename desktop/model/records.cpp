#include "desktop/model/records.hpp"

#include <QThreadPool>
#include <mutex>

#include "route/team_bundle.hpp"

namespace kw::desktop {

namespace {
constexpr int kLookEvery = 500;     ///< milliseconds: a colleague's change is seen within a second
constexpr int kLookAnyway = 5'000;  ///< where the store itself tells of changes

/// Colleagues can share with this desk from now on. Without the right to write nobody can, and nothing else
/// is wrong.
void introduce(const OpeningTools& tools) {
  try {
    publishDesk(tools);
  } catch (const Error&) {
  }
}

}  // namespace

Records::Records(OpeningTools tools, Loading loading, QObject* parent)
    : QObject(parent),
      tools_(std::move(tools)),
      snapshot_(std::make_shared<Snapshot>()),
      mailbox_(std::make_shared<Mailbox<Records>>(this)) {
  if (loading == Loading::Now) {
    snapshot_ = std::make_shared<Snapshot>(tools_.store->load());
    introduce(tools_);
    loaded_ = true;
  } else {
    // Not before the window is there: both would hinder each other.
    QTimer::singleShot(0, this, &Records::loadAside);
  }
  // Another process (the command line, a colleague's window) may write too. Some stores say so themselves.
  watch_ = tools_.store->watch([mailbox = mailbox_] { mailbox->put([](Records& r) { r.lookAside(); }); });
  poll_.setInterval(watch_ ? kLookAnyway : kLookEvery);
  connect(&poll_, &QTimer::timeout, this, &Records::lookAside);
  poll_.start();
}

/// On a thread of its own: a database may take long to answer, or not answer at all.
void Records::lookAside() {
  if (!loaded_) return;
  if (std::exchange(looking_, true)) {
    lookAgain_ = true;  // what came after the look began is not missed
    return;
  }
  QThreadPool::globalInstance()->start([mailbox = mailbox_, store = tools_.store, known = snapshot_] {
    std::shared_ptr<Snapshot> fresh;
    QString failure;
    try {
      fresh = store->changesSince(*known);
    } catch (const Error& e) {
      failure = QString::fromUtf8(e.what());
    }
    mailbox->put([fresh, failure](Records& r) { r.taken(fresh, failure); });
  });
}

void Records::taken(std::shared_ptr<Snapshot> fresh, const QString& failure) {
  looking_ = false;
  if (std::exchange(lookAgain_, false)) QTimer::singleShot(0, this, &Records::lookAside);
  if (!failure.isEmpty()) {
    // Told once; what is open goes on, and it is looked again.
    if (!std::exchange(lost_, true)) emit failed(failure);
    return;
  }
  if (std::exchange(lost_, false)) emit said(tr("The records are reached again."));
  if (!fresh || fresh->revision == snapshot_->revision) return;
  snapshot_ = std::move(fresh);
  emit changed();
}

void Records::loadAside() {
  loader_ = std::thread([this, store = tools_.store, tools = tools_] {
    std::shared_ptr<Snapshot> snapshot;
    QString failure;
    try {
      snapshot = std::make_shared<Snapshot>(store->load());
      introduce(tools);
    } catch (const Error& e) {
      failure = QString::fromUtf8(e.what());
    }
    // The destructor waits for this thread, so this object is still there.
    QMetaObject::invokeMethod(
        this,
        [this, snapshot, failure] {
          loaded_ = true;
          if (!snapshot) {
            emit failed(failure);
            return;
          }
          snapshot_ = snapshot;
          emit changed();
        },
        Qt::QueuedConnection);
  });
}

Records::~Records() {
  mailbox_->close();
  watch_.reset();
  if (loader_.joinable()) loader_.join();
}

void Records::reload() {
  // Only what changed is read.
  if (auto fresh =
          loaded_ ? tools_.store->changesSince(*snapshot_) : std::make_shared<Snapshot>(tools_.store->load()))
    snapshot_ = std::move(fresh);
  emit changed();
}

Records::Written Records::write(const QString& title, const std::function<void(StoreWriter&)>& work,
                                bool tellsStale) {
  try {
    tools_.store->commit(title.toStdString(), work);
    reload();
    return Written::Yes;
  } catch (const StaleError& e) {
    if (tellsStale) emit failed(QString::fromUtf8(e.what()));
    try {
      reload();
    } catch (const Error&) {
      return Written::No;
    }
    return Written::Stale;
  } catch (const Error& e) {
    emit failed(QString::fromUtf8(e.what()));
    return Written::No;
  }
}

QString Records::undoTitle() {
  try {
    return QString::fromStdString(tools_.store->undoTitle());
  } catch (const Error&) {
    return {};
  }
}

void Records::undo() {
  try {
    const QString title = QString::fromStdString(tools_.store->undo());
    reload();
    emit said(title.isEmpty() ? tr("Nothing to undo") : tr("Undone: %1").arg(title));
  } catch (const Error& e) {
    emit failed(QString::fromUtf8(e.what()));
  }
}

}  // namespace kw::desktop

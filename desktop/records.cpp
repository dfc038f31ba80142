#include "desktop/records.hpp"

namespace kw::desktop {

Records::Records(OpeningTools tools, Loading loading, QObject* parent)
    : QObject(parent), tools_(std::move(tools)), snapshot_(std::make_shared<Snapshot>()) {
  if (loading == Loading::Now) {
    snapshot_ = std::make_shared<Snapshot>(tools_.store->load());
    loaded_ = true;
  } else {
    // Not before the window is there: both would hinder each other.
    QTimer::singleShot(0, this, &Records::loadAside);
  }
  // Another process (the command line, a colleague's window) may write too.
  poll_.setInterval(1500);
  connect(&poll_, &QTimer::timeout, this, [this] {
    try {
      if (loaded_ && tools_.store->changedSince(*snapshot_)) reload();
    } catch (const Error& e) {
      poll_.stop();
      emit failed(QString::fromUtf8(e.what()));
    }
  });
  poll_.start();
}

void Records::loadAside() {
  loader_ = std::thread([this, store = tools_.store] {
    std::shared_ptr<Snapshot> snapshot;
    QString failure;
    try {
      snapshot = std::make_shared<Snapshot>(store->load());
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
  if (loader_.joinable()) loader_.join();
}

void Records::reload() {
  snapshot_ = std::make_shared<Snapshot>(tools_.store->load());
  emit changed();
}

bool Records::commit(const QString& title, const std::function<void(StoreWriter&)>& work) {
  try {
    tools_.store->commit(title.toStdString(), work);
    reload();
    return true;
  } catch (const Error& e) {
    emit failed(QString::fromUtf8(e.what()));
    return false;
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

#include "desktop/app/single_instance.hpp"

#include <QLocalSocket>

#include "base/file.hpp"

namespace kw::desktop {

namespace {
constexpr qint64 kMostMessage = 4096;
constexpr int kAnswerWithin = 1500;  // milliseconds
}  // namespace

SingleInstance::SingleInstance(QObject* parent) : QObject(parent) {
  path_ = QString::fromStdString((runtimeFolder() / "kettle-window.socket").string());
  server_.setSocketOptions(QLocalServer::UserAccessOption);
  connect(&server_, &QLocalServer::newConnection, this, [this] {
    while (QLocalSocket* visitor = server_.nextPendingConnection()) {
      connect(visitor, &QLocalSocket::readyRead, this, [this, visitor] {
        if (!visitor->canReadLine() && visitor->bytesAvailable() < kMostMessage) return;
        const QString message = QString::fromUtf8(visitor->readLine(kMostMessage)).trimmed();
        visitor->write("taken\n");
        visitor->flush();
        visitor->disconnectFromServer();
        emit arrived(message);
      });
      connect(visitor, &QLocalSocket::disconnected, visitor, &QObject::deleteLater);
    }
  });
}

bool SingleInstance::handOver(const QString& message) {
  QLocalSocket socket;
  socket.connectToServer(path_);
  if (!socket.waitForConnected(kAnswerWithin)) return false;
  socket.write(message.toUtf8().replace('\n', ' ') + "\n");
  socket.flush();
  // Only an instance that really answers counts; a hung or foreign one does not swallow the start.
  return socket.waitForReadyRead(kAnswerWithin) && socket.readAll().startsWith("taken");
}

bool SingleInstance::listen() {
  if (server_.listen(path_)) return true;
  QLocalServer::removeServer(path_);  // left behind by an instance that was killed
  return server_.listen(path_);
}

}  // namespace kw::desktop

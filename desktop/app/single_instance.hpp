// One window per user and runtime folder: a second start hands its address over and ends.
#pragma once
#include <QLocalServer>
#include <QObject>
#include <QString>

namespace kw::desktop {

class SingleInstance : public QObject {
  Q_OBJECT
 public:
  explicit SingleInstance(QObject* parent = nullptr);
  /// True when another instance took `message` over; this one should end then.
  bool handOver(const QString& message);
  /// Becomes the one instance; `arrived` follows for every hand-over.
  bool listen();

 signals:
  void arrived(const QString& message);

 private:
  QString path_;
  QLocalServer server_;
};

}  // namespace kw::desktop

// What an empty window says to somebody who has nothing kept yet: three ways to begin, each one press.
#pragma once
#include <QWidget>

namespace kw::desktop {

class FirstStart : public QWidget {
  Q_OBJECT
 public:
  /// Covers `stage` and follows its size.
  explicit FirstStart(QWidget* stage);

 signals:
  /// The name of an action of the window: "go", "new", "importFiles", "stock".
  void wanted(const QString& action);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;
  void paintEvent(QPaintEvent*) override;
};

}  // namespace kw::desktop

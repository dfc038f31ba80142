// Labels show what they are given, letter by letter: names, questions and reasons come from machines, and
// none of them may dress up as ours. Whoever means rich text says so.
#pragma once
#include <QEvent>
#include <QLabel>

namespace kw::desktop {

/// Watches the application's labels; those whose form is left open become plain before they are shown.
class PlainLabels : public QObject {
 public:
  using QObject::QObject;

 protected:
  bool eventFilter(QObject* object, QEvent* event) override {
    if (event->type() == QEvent::Polish)
      if (auto* label = qobject_cast<QLabel*>(object);
          label != nullptr && label->textFormat() == Qt::AutoText)
        label->setTextFormat(Qt::PlainText);
    return QObject::eventFilter(object, event);
  }
};

}  // namespace kw::desktop

// A machine's console is looked at while its own service is awaited: when that answers, the console's pane
// offers to change over, or it is done by itself, as the way in's sheet says.
#pragma once
#include <QPointer>
#include <functional>

#include "desktop/model/desk.hpp"

namespace kw::desktop {

class Pane;
class Stage;

class ChangeOver : public QObject {
  Q_OBJECT
 public:
  ChangeOver(Desk& desk, Stage& stage, QObject* parent);
  /// `console` is shown until `awaited` is live. `madeRoom`: its pane was made for it, and goes with it.
  void watch(OpenSession* console, Id awaited, bool madeRoom);

 signals:
  /// The console is to be ended now; the awaited session has the stage.
  void endWanted(kw::desktop::OpenSession* console);
  void said(const QString& sentence);

 private:
  struct Pair {
    QPointer<OpenSession> console;
    Id awaited;
    bool madeRoom;
  };
  void look();
  void answer(const Pair& pair, OpenSession* service);
  [[nodiscard]] Pane* paneOf(const Pair& pair) const;
  void changeTo(const Pair& pair, OpenSession* service);

  Desk& desk_;
  Stage& stage_;
  std::vector<Pair> pairs_;
};

}  // namespace kw::desktop

// The row of live small pictures of the open sessions that are on no pane, and the choice of panes.
#pragma once
#include <QTimer>
#include <QWidget>
#include <vector>

#include "desktop/model/open_session.hpp"

class QScrollArea;
class QToolButton;

namespace kw::desktop {

class StripTile;

class Strip : public QWidget {
  Q_OBJECT
 public:
  explicit Strip(QWidget* parent = nullptr);
  void setSessions(const std::vector<OpenSession*>& sessions, int panes, bool anyOpen);
  [[nodiscard]] int count() const { return static_cast<int>(tiles_.size()); }
  [[nodiscard]] OpenSession* sessionAt(int index) const;

 signals:
  void chosen(kw::desktop::OpenSession* session);
  void endWanted(kw::desktop::OpenSession* session);
  void arrangeWanted(int panes);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  QScrollArea* area_;
  QWidget* row_;
  std::vector<StripTile*> tiles_;
  std::vector<QToolButton*> choices_;
};

}  // namespace kw::desktop

// The side: the route from this desk to the machine, hop by hop, with what was found; live figures below.
#pragma once
#include <QPointer>
#include <QWidget>
#include <optional>
#include <vector>

#include "desktop/look/glyphs.hpp"
#include "desktop/model/open_session.hpp"

namespace kw::desktop {

struct Hop {
  QString name, remark;
  State state = State::NeverReached;
  // The stretch that follows it:
  std::optional<Pipe> pipe;
  QString found;             ///< beside the stretch
  QString cure, cureAction;  ///< something to click: words, and what it means ("port:5904", "retry")
};

/// A short line of what was found.
struct SideCheck {
  State state = State::NeverReached;
  QString text;
  QString cure = {}, action = {};  ///< below it; something to click when there is an action
};

/// Something worth knowing about the machine: its notes, who else is there, what happened lately.
struct SideAbout {
  QString title;
  QStringList lines;
  bool operator==(const SideAbout&) const = default;
};

class Side : public QWidget {
  Q_OBJECT
 public:
  explicit Side(QWidget* parent = nullptr);
  void setRoute(const QString& title, const std::vector<Hop>& hops);
  /// Null hides the figures.
  void setFigures(OpenSession* session);
  /// Short lines below the route: checks before the first open.
  void setChecks(const QString& title, const std::vector<SideCheck>& checks);
  /// In the room that is left below everything else.
  void setAbout(std::vector<SideAbout> about);
  [[nodiscard]] const std::vector<SideAbout>& about() const { return about_; }
  [[nodiscard]] const std::vector<SideCheck>& checks() const { return checks_; }
  [[nodiscard]] const std::vector<Hop>& hops() const { return hops_; }

 signals:
  void cureClicked(const QString& action);

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;

 private:
  qreal paintRoute(QPainter& painter, qreal y);
  qreal paintFigures(QPainter& painter, qreal y);
  qreal paintChecks(QPainter& painter, qreal y);
  void paintAbout(QPainter& painter, qreal y);

  QString title_, checksTitle_;
  std::vector<Hop> hops_;
  std::vector<SideCheck> checks_;
  std::vector<SideAbout> about_;
  QPointer<OpenSession> session_;
  std::vector<std::pair<QRectF, QString>> clickable_;
};

}  // namespace kw::desktop

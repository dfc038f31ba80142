// The spout: in full screen, a small round handle at a screen edge. It is dragged along all four edges, opens
// on hover or on the release chord, and never covers a corner.
#pragma once
#include <QMenu>
#include <QTimer>
#include <QWidget>
#include <functional>

namespace kw::desktop {

struct SpoutEntry {
  QString text;
  std::function<void()> act;
  bool enabled = true;
  QString why;  ///< when it is not
};

class Spout : public QWidget {
  Q_OBJECT
 public:
  explicit Spout(QWidget* parent);
  /// The entries are asked for each time the spout opens.
  void setContents(std::function<QString()> title, std::function<std::vector<SpoutEntry>()> entries);
  /// Where on the edges it rests: edge 0 top, 1 right, 2 bottom, 3 left; `share` 0..1 along it.
  void setPlace(int edge, double share);
  [[nodiscard]] int edge() const { return edge_; }
  [[nodiscard]] double share() const { return share_; }
  void open();
  void shut();
  [[nodiscard]] bool isOpen() const { return panel_ != nullptr && panel_->isVisible(); }
  [[nodiscard]] QWidget* panel() const { return panel_; }

 signals:
  void placeChanged(int edge, double share);

 protected:
  void paintEvent(QPaintEvent* event) override;
  void enterEvent(QEnterEvent* event) override;
  void leaveEvent(QEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void settle();
  std::function<QString()> title_;
  std::function<std::vector<SpoutEntry>()> entries_;
  QWidget* panel_ = nullptr;
  QTimer hover_, away_;
  int edge_ = 1;
  double share_ = 0.3;
  bool dragging_ = false, pressed_ = false;
  QPoint pressAt_;
};

}  // namespace kw::desktop

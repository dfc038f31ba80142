// The screens plan: a machine's screens as tiles. Drag places them, a double click opens one in a window of
// its own, the word on a tile switches it.
#pragma once
#include <QFrame>
#include <QPointer>

#include "desktop/model/open_session.hpp"

namespace kw::desktop {

class ScreensPlan : public QFrame {
  Q_OBJECT
 public:
  explicit ScreensPlan(OpenSession* session, QWidget* parent = nullptr);
  [[nodiscard]] QSize sizeHint() const override { return {560, 260}; }
  /// Where the tile of a screen is drawn; empty when there is none. For tests.
  [[nodiscard]] QRect tile(std::uint32_t id) const;
  [[nodiscard]] QRect switchOf(std::uint32_t id) const;

 signals:
  /// Counted from 1 among the screens that are on.
  void windowWanted(int screen);

 protected:
  void paintEvent(QPaintEvent*) override;
  void mousePressEvent(QMouseEvent* e) override;
  void mouseMoveEvent(QMouseEvent* e) override;
  void mouseReleaseEvent(QMouseEvent* e) override;
  void mouseDoubleClickEvent(QMouseEvent* e) override;
  void keyPressEvent(QKeyEvent* e) override;
  void focusOutEvent(QFocusEvent* e) override;

 private:
  struct Tile {
    ScreenOffer screen;
    QRect rect;
  };
  void layOut();
  [[nodiscard]] const Tile* at(QPoint p) const;
  void place(std::uint32_t dragged, int dropX);
  void toggle(const ScreenOffer& screen);
  void arrange(std::vector<ScreenOffer> order);
  QPointer<OpenSession> session_;
  std::vector<Tile> tiles_;
  std::optional<std::uint32_t> dragged_;
  QPoint grabbed_, moved_;
  int chosen_ = 0;  ///< by keyboard
};

}  // namespace kw::desktop

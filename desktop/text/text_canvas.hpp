// The part of a text pane where text stands: paints, takes keys and mouse, selects.
#pragma once
#include <QPixmap>
#include <QPointer>
#include <QTimer>
#include <QWidget>

#include "desktop/model/open_session.hpp"
#include "desktop/picture/release_chord.hpp"
#include "desktop/text/text_painter.hpp"

namespace kw::desktop {

class TextCanvas : public QWidget {
  Q_OBJECT
 public:
  explicit TextCanvas(QWidget* parent = nullptr);
  void setSession(OpenSession* session);
  /// Scheme and font as the session has them now.
  void applyLook();
  void setStale(bool stale);

  /// The first row shown; with `follow`, the newest text stays in sight.
  void scrollTo(std::int64_t row);
  void scrollBy(int rows);
  [[nodiscard]] std::int64_t firstRow() const { return view_.firstRow; }
  [[nodiscard]] std::int64_t oldestRow() const { return view_.oldestRow; }
  [[nodiscard]] std::int64_t lastFirstRow() const { return view_.screenTop; }
  [[nodiscard]] bool follows() const { return follow_; }
  [[nodiscard]] int rowsShown() const;
  void showRow(std::int64_t row);

  void setFinds(const std::vector<text::TextFind>& finds, int current);
  [[nodiscard]] QString selectedText(bool colours = false) const;
  [[nodiscard]] bool hasSelection() const { return selected_; }
  void selectAll();
  void copy(bool colours = false);
  /// What the view shows, for saving.
  [[nodiscard]] QImage image() const;
  /// Takes what is new at once, without waiting for the next frame.
  void takeText();
  [[nodiscard]] qint64 lastPaintNanoseconds() const { return lastPaint_; }
  void flash();

 signals:
  void scrolled();
  void releaseChordPressed();
  void focused();
  void pasteWanted(const QString& text);
  void findWanted();

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  void showEvent(QShowEvent* event) override;
  bool event(QEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void keyReleaseEvent(QKeyEvent* event) override;
  void inputMethodEvent(QInputMethodEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseDoubleClickEvent(QMouseEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void focusInEvent(QFocusEvent* event) override;
  void focusOutEvent(QFocusEvent* event) override;

 private:
  struct Spot {
    std::int64_t row = 0;
    int column = 0;
  };
  enum class Unit { Character, Word, Line };
  [[nodiscard]] text::Terminal* terminal() const;
  [[nodiscard]] Spot spotAt(QPointF at) const;
  [[nodiscard]] text::TextRange range() const;
  [[nodiscard]] TextPainter::Marks marksOf(std::int64_t row) const;
  void repaintRows();
  [[nodiscard]] double squeeze() const;
  /// On the screen, of an absolute row.
  [[nodiscard]] double columnWidth(std::int64_t row) const;
  void fitTerminal();
  void extendSelection(Spot to);
  void clearSelection();
  bool handledHere(const QKeyEvent& event);
  void sendMouse(const QMouseEvent& event, text::MouseEvent::Kind kind);
  [[nodiscard]] bool programWantsMouse(Qt::KeyboardModifiers held) const;
  void openLink(Spot at);

  QPointer<OpenSession> session_;
  TextPainter painter_;
  text::TextView view_;
  QPixmap canvas_;
  std::vector<text::Row> painted_;
  std::vector<TextPainter::Marks> paintedMarks_;
  int paintedColumns_ = 0;
  bool everything_ = true;  ///< nothing that was painted can be kept
  QTimer frame_, flash_, scrollOut_;
  bool follow_ = true, stale_ = false, flashing_ = false;
  bool selected_ = false, selecting_ = false, block_ = false;
  Unit unit_ = Unit::Character;
  Spot anchor_, head_;
  text::TextRange anchorRange_;
  std::vector<text::TextFind> finds_;
  int currentFind_ = -1;
  qint64 lastPaint_ = 0, lastClick_ = 0;
  ReleaseChord chord_;
  int wheelRest_ = 0, scrollOutBy_ = 0;
};

}  // namespace kw::desktop

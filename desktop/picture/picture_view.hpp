// Paints a session's picture (all of it, or one screen) and sends keys and pointer.
#pragma once
#include <QImage>
#include <QPointer>
#include <QThreadPool>
#include <QTimer>
#include <QWidget>
#include <map>
#include <memory>

#include "desktop/model/open_session.hpp"
#include "desktop/picture/release_chord.hpp"
#include "picture/scale.hpp"
#include "session/keys.hpp"

namespace kw::desktop {

enum class FitMode { Shrink, Fill, Actual, Whole };
FitMode fitModeFrom(const QString& word);
QString wordOf(FitMode mode);

class PictureView : public QWidget {
  Q_OBJECT
 public:
  explicit PictureView(QWidget* parent = nullptr);
  ~PictureView() override;

  void setSession(OpenSession* session);
  [[nodiscard]] OpenSession* session() const { return session_; }
  /// 0 shows the whole picture, 1 and up one screen of it.
  void setScreen(int number);
  [[nodiscard]] int screen() const { return screenNumber_; }
  void setFitMode(FitMode mode);
  [[nodiscard]] FitMode fitMode() const { return mode_; }
  /// Shown grey: the line is lost and this is the last picture.
  void setStale(bool stale);

  [[nodiscard]] Point toPicture(QPointF widgetPoint) const;
  [[nodiscard]] QRectF pictureArea() const;
  /// Nanoseconds the last paint took; for the bench.
  [[nodiscard]] qint64 lastPaintNanoseconds() const { return lastPaint_; }
  /// Nothing is being scaled: what is painted now is all that was told of.
  [[nodiscard]] bool upToDate() const { return !scaling_; }
  /// Lets go of keys that are held down over there.
  void releaseKeys();

 signals:
  void releaseChordPressed();
  void focused();

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;
  bool event(QEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void keyReleaseEvent(QKeyEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void wheelEvent(QWheelEvent* event) override;
  void focusInEvent(QFocusEvent* event) override;
  void focusOutEvent(QFocusEvent* event) override;

 private:
  [[nodiscard]] Rect sourceArea() const;
  void relayout();
  void takeDamage(const QRegion& region);
  void paintDamage();
  /// The size or place of what is scaled changed: all of it, at once.
  void scaleAll(Rect source, Size target);
  /// What changed, on another thread; painted when it is there.
  void scaleAside(const QRegion& damage);
  void beginScaling();
  void takeScaled(const std::shared_ptr<const Scaler>& scaler, const std::vector<Rect>& parts);
  void updateCursor();
  void sendPointer(QMouseEvent* event);
  void panTowards(QPointF at);
  void wantPictureSize();
  void wantScreenSize(Size wanted);

  QPointer<OpenSession> session_;
  int screenNumber_ = 0;
  Size askedSize_;  ///< of its own or the monitor's, since the session is live
  FitMode mode_ = FitMode::Shrink;
  bool stale_ = false;
  double scale_ = 1;  ///< device pixels of the pane per pixel of the picture
  QRectF area_;       ///< where the picture lies, in widget coordinates
  QPointF pan_;       ///< Actual and Whole: the picture pixel at the pane's top left
  QImage scaled_;     ///< the scaled picture, in device pixels; unused at one to one
  std::shared_ptr<const Scaler> scaler_;
  std::shared_ptr<QImage> aside_;  ///< as large; the other thread's while scaling_
  QRegion waiting_;                ///< damage that came meanwhile
  bool scaling_ = false;
  QThreadPool thread_;
  QRegion pendingDamage_;
  QTimer paintTimer_, panTimer_, sizeTimer_;
  QPointF panStep_;
  qint64 lastPaint_ = 0;
  std::map<quint64, KeyStroke> held_;  ///< by physical key
  unsigned buttons_ = 0;
  ReleaseChord chord_;
  QPoint lastRelative_;
  int wheelRest_ = 0;
};

}  // namespace kw::desktop

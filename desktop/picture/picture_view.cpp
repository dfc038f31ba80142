#include "desktop/picture/picture_view.hpp"

#include "desktop/picture/monitor_pixels.hpp"

#include <QElapsedTimer>
#include <QPaintEvent>
#include <QPainter>
#include <cmath>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

FitMode fitModeFrom(const QString& word) {
  if (word == "fill") return FitMode::Fill;
  if (word == "actual") return FitMode::Actual;
  if (word == "whole") return FitMode::Whole;
  return FitMode::Shrink;
}

QString wordOf(FitMode mode) {
  switch (mode) {
    case FitMode::Shrink: return "shrink";
    case FitMode::Fill: return "fill";
    case FitMode::Actual: return "actual";
    case FitMode::Whole: return "whole";
  }
  return {};
}

PictureView::PictureView(QWidget* parent) : QWidget(parent) {
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setAttribute(Qt::WA_OpaquePaintEvent);
  setAttribute(Qt::WA_InputMethodEnabled, false);
  setMinimumSize(80, 60);
  setAccessibleName(tr("Picture of the machine"));
  paintTimer_.setSingleShot(true);
  connect(&paintTimer_, &QTimer::timeout, this, &PictureView::paintDamage);
  panTimer_.setInterval(16);
  connect(&panTimer_, &QTimer::timeout, this, [this] {
    pan_ += panStep_;
    relayout();
    update();
  });
  thread_.setMaxThreadCount(1);
  sizeTimer_.setSingleShot(true);
  sizeTimer_.setInterval(300);
  connect(&sizeTimer_, &QTimer::timeout, this, &PictureView::wantPictureSize);
}

PictureView::~PictureView() {
  thread_.waitForDone();
  releaseKeys();
}

void PictureView::setSession(OpenSession* session) {
  if (session_ == session) return;
  releaseKeys();
  if (session_) session_->disconnect(this);
  session_ = session;
  scaler_.reset();
  scaled_ = {};
  pan_ = {};
  if (session_) {
    mode_ = fitModeFrom(QString::fromStdString(session_->shown.fit));
    connect(session, &OpenSession::damaged, this, &PictureView::takeDamage);
    connect(session, &OpenSession::pictureResized, this, [this] {
      relayout();
      sizeTimer_.start();
      update();
    });
    connect(session, &OpenSession::pointerShapeChanged, this, &PictureView::updateCursor);
    connect(session, &OpenSession::changed, this, [this] { sizeTimer_.start(); });
    setAccessibleName(tr("Picture of %1").arg(session->machine()));
  }
  relayout();
  updateCursor();
  update();
}

void PictureView::setScreen(int number) {
  screenNumber_ = number;
  scaler_.reset();
  relayout();
  update();
}

void PictureView::setFitMode(FitMode mode) {
  mode_ = mode;
  pan_ = {};
  relayout();
  updateCursor();
  update();
}

void PictureView::setStale(bool stale) {
  if (stale == stale_) return;
  stale_ = stale;
  update();
}

Rect PictureView::sourceArea() const {
  if (!session_ || !session_->hasPicture()) return {};
  const Size size = session_->pictureSize();
  const auto& screens = session_->screens();
  if (screenNumber_ > 0 && static_cast<std::size_t>(screenNumber_) <= screens.size())
    return screens[static_cast<std::size_t>(screenNumber_) - 1].area.intersected(
        {0, 0, size.width, size.height});
  return {0, 0, size.width, size.height};
}

QRectF PictureView::pictureArea() const { return area_; }

/// Works out scale and place for the size, mode and picture there are now.
void PictureView::relayout() {
  const Rect source = sourceArea();
  if (source.empty() || width() <= 0 || height() <= 0) {
    area_ = {};
    return;
  }
  const double ratio = devicePixelRatioF();
  const double paneWidth = width() * ratio, paneHeight = height() * ratio;
  const double fit = std::min(paneWidth / source.width, paneHeight / source.height);
  switch (mode_) {
    case FitMode::Shrink: scale_ = std::min(1.0, fit); break;
    case FitMode::Fill: scale_ = fit; break;
    case FitMode::Actual: scale_ = 1; break;
    case FitMode::Whole: scale_ = std::max(1.0, std::floor(fit)); break;
  }
  const double w = std::max(1.0, std::round(source.width * scale_)),
               h = std::max(1.0, std::round(source.height * scale_));
  const auto place = [](double pane, double picture, double& pan, double scale) {
    if (picture <= pane) {
      pan = 0;
      return std::floor((pane - picture) / 2);
    }
    pan = std::clamp(pan, 0.0, (picture - pane) / scale);
    return -std::round(pan * scale);
  };
  double panX = pan_.x(), panY = pan_.y();
  const double x = place(paneWidth, w, panX, scale_), y = place(paneHeight, h, panY, scale_);
  pan_ = {panX, panY};
  area_ = QRectF(x / ratio, y / ratio, w / ratio, h / ratio);
  if (scale_ != 1 && (mode_ == FitMode::Shrink || mode_ == FitMode::Fill)) {
    const Size target{static_cast<int>(w), static_cast<int>(h)};
    if (!scaler_ || scaler_->source() != source || scaler_->target() != target) {
      scaleAll(source, target);
      scaled_.setDevicePixelRatio(ratio);
    }
  } else {
    scaler_.reset();
    scaled_ = {};
  }
}

void PictureView::takeDamage(const QRegion& region) {
  pendingDamage_ += region;
  if (pendingDamage_.rectCount() > 64) pendingDamage_ = pendingDamage_.boundingRect();
  if (!isVisible() || paintTimer_.isActive()) return;
  const int perSecond = session_ ? session_->shown.paintsPerSecond : 60;
  if (perSecond >= 60)
    paintDamage();
  else
    paintTimer_.start(1000 / perSecond);
}

void PictureView::paintDamage() {
  const QRegion damage = pendingDamage_;
  pendingDamage_ = {};
  if (damage.isEmpty() || !session_) return;
  if (scaler_) return scaleAside(damage);
  const Rect source = sourceArea();
  if (source.empty()) return;
  const double perPixel = area_.width() / source.width;
  QRegion dirty;
  for (const QRect& r : damage) {
    const QRectF target(area_.x() + (r.x() - source.x) * perPixel, area_.y() + (r.y() - source.y) * perPixel,
                        r.width() * perPixel, r.height() * perPixel);
    dirty += target.toAlignedRect().adjusted(-2, -2, 2, 2);
  }
  update(dirty & rect());
}

void PictureView::paintEvent(QPaintEvent* event) {
  QElapsedTimer timer;
  timer.start();
  QPainter painter(this);
  const Rect source = sourceArea();
  const QColor around = scheme().dark ? QColor(0x16, 0x19, 0x1c) : QColor(0xd6, 0xd0, 0xc4);
  if (source.empty() || area_.isEmpty()) {
    painter.fillRect(event->rect(), around);
    return;
  }
  const QRegion outside = QRegion(event->rect()) - area_.toAlignedRect();
  for (const QRect& r : outside) painter.fillRect(r, around);
  if (scaler_) {
    const double ratio = devicePixelRatioF();
    for (const QRect& r : event->region()) {
      const QRectF target = QRectF(r).intersected(area_);
      const QRectF from((target.x() - area_.x()) * ratio, (target.y() - area_.y()) * ratio,
                        target.width() * ratio, target.height() * ratio);
      painter.drawImage(target, scaled_, from);
    }
  } else {
    const auto picture = session_->picture();
    auto lock = picture->lock();
    if (!picture->rect().contains(source)) {
      painter.fillRect(event->rect(), around);
      return;
    }
    const QImage image(reinterpret_cast<const uchar*>(picture->row(source.y) + source.x), source.width,
                       source.height, static_cast<qsizetype>(picture->stride() * sizeof(Pixel)),
                       QImage::Format_RGB32);
    const double perPixel = source.width / area_.width();
    for (const QRect& r : event->region()) {
      // Whole source pixels around the damage, so that edges never blur.
      const QRectF hit = QRectF(r).intersected(area_);
      if (hit.isEmpty()) continue;
      const QRect from = QRectF((hit.x() - area_.x()) * perPixel, (hit.y() - area_.y()) * perPixel,
                                hit.width() * perPixel, hit.height() * perPixel)
                             .toAlignedRect()
                             .intersected(image.rect());
      const QRectF target(area_.x() + from.x() / perPixel, area_.y() + from.y() / perPixel,
                          from.width() / perPixel, from.height() / perPixel);
      painter.drawImage(target, image, from);
    }
  }
  if (stale_) {
    QColor veil = scheme().ground;
    veil.setAlpha(165);
    painter.fillRect(event->rect(), veil);
  }
  lastPaint_ = timer.nsecsElapsed();
}

void PictureView::resizeEvent(QResizeEvent*) {
  relayout();
  sizeTimer_.start();
}

/// Asks the machine for the pane's size, when its record says so and it can.
void PictureView::wantPictureSize() {
  if (!session_ || !isVisible()) return;
  const double ratio = devicePixelRatioF();
  Size wanted{static_cast<int>(width() * ratio), static_cast<int>(height() * ratio)};
  if (screenNumber_ == 0) session_->room = wanted;
  if (!session_->isLive()) askedSize_ = {};
  if (!session_->isLive() || !session_->capabilities().resize.can) return;
  if (!session_->shown.followsPane) {
    if (screenNumber_ > 0 || session_->screens().size() > 1) return;
    if (!session_->shown.ownSize && !session_->shown.likeMonitor) return;
    wanted = session_->shown.ownSize.value_or(monitorPixels(*QWidget::screen()));
    // A machine may give another size than it was asked for: it is asked once.
    if (std::exchange(askedSize_, wanted) == wanted) return;
  }
  if (wanted.width < 160 || wanted.height < 120 || wanted == sourceArea().size()) return;
  // One screen of several follows the window that shows it, where the machine's screens can be placed.
  if (screenNumber_ > 0 || session_->screens().size() > 1) {
    if (screenNumber_ > 0) wantScreenSize(wanted);
    return;
  }
  session_->session().requestSize(wanted);
}

namespace {
/// One screen of another size; those right of it and below it move along, so that nobody changes sides.
std::vector<ScreenOffer> withSize(std::vector<ScreenOffer> plan, std::size_t which, Size size) {
  const Rect before = plan[which].area;
  for (ScreenOffer& s : plan) {
    if (s.area.x >= before.right()) s.area.x += size.width - before.width;
    if (s.area.y >= before.bottom()) s.area.y += size.height - before.height;
  }
  plan[which].area.width = size.width, plan[which].area.height = size.height;
  return plan;
}
}  // namespace

void PictureView::wantScreenSize(Size wanted) {
  const std::vector<ScreenOffer> plan = session_->offers();
  int number = 0;
  for (std::size_t i = 0; i < plan.size(); ++i)
    if (plan[i].on && ++number == screenNumber_)
      return session_->session().arrangeScreens(withSize(plan, i, {wanted.width & ~7, wanted.height}));
}

void PictureView::updateCursor() {
  if (!session_) {
    unsetCursor();
    return;
  }
  if (session_->pointerIsRelative()) {
    setCursor(Qt::BlankCursor);
    return;
  }
  const PointerShape& shape = session_->pointerShape();
  if (shape.size.empty()) {
    setCursor(Qt::CrossCursor);
    return;
  }
  QImage image(shape.size.width, shape.size.height, QImage::Format_ARGB32_Premultiplied);
  for (int y = 0; y < shape.size.height; ++y)
    std::memcpy(image.scanLine(y), shape.pixels.data() + std::ptrdiff_t{y} * shape.size.width,
                static_cast<std::size_t>(shape.size.width) * sizeof(Pixel));
  // The pointer grows with the picture but never gets too small to see.
  const double factor = std::clamp(scale_, 0.75, 4.0);
  if (factor != 1)
    image = image.scaled(static_cast<int>(shape.size.width * factor),
                         static_cast<int>(shape.size.height * factor), Qt::IgnoreAspectRatio,
                         Qt::SmoothTransformation);
  QPixmap pixmap = QPixmap::fromImage(image);
  pixmap.setDevicePixelRatio(devicePixelRatioF());
  setCursor(QCursor(pixmap, static_cast<int>(shape.hotspot.x * factor / devicePixelRatioF()),
                    static_cast<int>(shape.hotspot.y * factor / devicePixelRatioF())));
}

Point PictureView::toPicture(QPointF at) const {
  const Rect source = sourceArea();
  if (source.empty() || area_.isEmpty()) return {};
  const double x = (at.x() - area_.x()) * source.width / area_.width();
  const double y = (at.y() - area_.y()) * source.height / area_.height();
  return {source.x + std::clamp(static_cast<int>(std::floor(x)), 0, source.width - 1),
          source.y + std::clamp(static_cast<int>(std::floor(y)), 0, source.height - 1)};
}

}  // namespace kw::desktop

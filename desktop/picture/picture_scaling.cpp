// The picture smaller or larger than it is. What changes is scaled on a thread of its own: one stretch of
// work at a time, whose result the interface thread copies before the next begins, so that nothing is shared
// while it is written.
#include "desktop/picture/picture_view.hpp"

namespace kw::desktop {

namespace {

std::size_t strideOf(const QImage& image) {
  return static_cast<std::size_t>(image.bytesPerLine()) / sizeof(Pixel);
}

/// The parts of the target that were made; none when a new size is on its way to the interface thread.
std::vector<Rect> scaleInto(QImage& target, const Scaler& scaler, const Framebuffer& picture,
                            const QRegion& damage) {
  std::vector<Rect> parts;
  if (!picture.rect().contains(scaler.source())) return parts;
  for (const QRect& r : damage) {
    const Rect part = scaler.targetOf({r.x(), r.y(), r.width(), r.height()});
    if (part.empty()) continue;
    scaler.scale(picture, part, reinterpret_cast<Pixel*>(target.bits()), strideOf(target));
    parts.push_back(part);
  }
  return parts;
}

void copyPart(const QImage& from, QImage& to, const Rect& part) {
  for (int y = part.y; y < part.bottom(); ++y)
    std::copy_n(reinterpret_cast<const Pixel*>(from.constScanLine(y)) + part.x, part.width,
                reinterpret_cast<Pixel*>(to.scanLine(y)) + part.x);
}

}  // namespace

void PictureView::scaleAll(Rect source, Size target) {
  scaler_ = std::make_shared<Scaler>(source, target);
  scaled_ = QImage(target.width, target.height, QImage::Format_RGB32);
  aside_.reset();
  waiting_ = {};
  const auto picture = session_->picture();
  const auto lock = picture->lock();
  scaleInto(scaled_, *scaler_, *picture, QRect(source.x, source.y, source.width, source.height));
}

void PictureView::scaleAside(const QRegion& damage) {
  waiting_ += damage;
  if (!scaling_) beginScaling();
}

void PictureView::beginScaling() {
  if (!scaler_ || !session_ || waiting_.isEmpty()) return;
  scaling_ = true;
  if (!aside_) aside_ = std::make_shared<QImage>(scaled_.size(), scaled_.format());
  thread_.start([this, damage = std::exchange(waiting_, {}), scaler = scaler_, target = aside_,
                 picture = session_->picture()] {
    std::vector<Rect> parts;
    {
      const auto lock = picture->lock();
      parts = scaleInto(*target, *scaler, *picture, damage);
    }
    // The view waits for this thread before it goes.
    QMetaObject::invokeMethod(
        this, [this, scaler, parts = std::move(parts)] { takeScaled(scaler, parts); }, Qt::QueuedConnection);
  });
}

void PictureView::takeScaled(const std::shared_ptr<const Scaler>& scaler, const std::vector<Rect>& parts) {
  scaling_ = false;
  // Of a size that it has no more, nothing is wanted.
  if (scaler == scaler_) {
    const double ratio = devicePixelRatioF();
    QRegion dirty;
    for (const Rect& part : parts) {
      copyPart(*aside_, scaled_, part);
      dirty += QRectF(area_.x() + part.x / ratio, area_.y() + part.y / ratio, part.width / ratio,
                      part.height / ratio)
                   .toAlignedRect()
                   .adjusted(-1, -1, 1, 1);
    }
    update(dirty & rect());
  }
  beginScaling();
}

}  // namespace kw::desktop

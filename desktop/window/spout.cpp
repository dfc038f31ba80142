#include "desktop/window/spout.hpp"

#include <QApplication>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QPushButton>
#include <QVBoxLayout>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kSize = 34;
constexpr int kCorner = 72;  ///< no nearer to a corner than this
constexpr int kInset = 6;
}  // namespace

Spout::Spout(QWidget* parent) : QWidget(parent) {
  setFixedSize(kSize, kSize);
  setCursor(Qt::PointingHandCursor);
  setAccessibleName(tr("Spout: what can be done here"));
  setToolTip(tr("Drag me along the edges"));
  parent->installEventFilter(this);
  hover_.setSingleShot(true);
  hover_.setInterval(250);
  connect(&hover_, &QTimer::timeout, this, &Spout::open);
  away_.setInterval(400);
  connect(&away_, &QTimer::timeout, this, [this] {
    if (!isOpen() || panel_->underMouse() || underMouse() || panel_->hasFocus()) return;
    for (QWidget* w : panel_->findChildren<QWidget*>())
      if (w->hasFocus()) return;
    shut();
  });
  settle();
}

void Spout::setContents(std::function<QString()> title, std::function<std::vector<SpoutEntry>()> entries) {
  title_ = std::move(title);
  entries_ = std::move(entries);
}

void Spout::setPlace(int edge, double share) {
  edge_ = std::clamp(edge, 0, 3);
  share_ = std::clamp(share, 0.0, 1.0);
  settle();
}

void Spout::settle() {
  const QSize size = parentWidget()->size();
  const auto along = [&](int length) {
    const int room = std::max(0, length - 2 * kCorner - kSize);
    return std::min(kCorner, std::max(0, (length - kSize) / 2)) + static_cast<int>(share_ * room);
  };
  switch (edge_) {
    case 0: move(along(size.width()), kInset); break;
    case 1: move(size.width() - kSize - kInset, along(size.height())); break;
    case 2: move(along(size.width()), size.height() - kSize - kInset); break;
    default: move(kInset, along(size.height())); break;
  }
  raise();
}

void Spout::open() {
  if (!entries_) return;
  shut();
  panel_ = new QFrame(parentWidget());
  panel_->setObjectName("card");
  panel_->installEventFilter(this);
  auto* column = new QVBoxLayout(panel_);
  column->setContentsMargins(14, 12, 14, 12);
  column->setSpacing(3);
  auto* title = new QLabel(title_ ? title_() : QString(), panel_);
  title->setObjectName("heading");
  title->setTextFormat(Qt::PlainText);
  column->addWidget(title);
  QPushButton* first = nullptr;
  for (const SpoutEntry& entry : entries_()) {
    auto* button = new QPushButton(
        entry.enabled || entry.why.isEmpty() ? entry.text : entry.text + " — " + entry.why, panel_);
    button->setStyleSheet(
        "QPushButton{border:1px solid transparent;text-align:left;padding:5px 8px;}"
        "QPushButton:focus{border:1px solid " +
        scheme().copper.name() + ";}");
    button->setEnabled(entry.enabled);
    button->setToolTip(entry.why);
    connect(button, &QPushButton::clicked, this, [this, act = entry.act] {
      shut();
      if (act) act();
    });
    column->addWidget(button);
    if (first == nullptr && entry.enabled) first = button;
  }
  panel_->adjustSize();
  QPoint at = geometry().center();
  const QSize size = panel_->sizeHint();
  if (edge_ == 0) at += QPoint(-size.width() / 2, kSize / 2 + 6);
  if (edge_ == 1) at += QPoint(-size.width() - kSize / 2 - 6, -size.height() / 2);
  if (edge_ == 2) at += QPoint(-size.width() / 2, -size.height() - kSize / 2 - 6);
  if (edge_ == 3) at += QPoint(kSize / 2 + 6, -size.height() / 2);
  at.setX(std::clamp(at.x(), 4, std::max(4, parentWidget()->width() - size.width() - 4)));
  at.setY(std::clamp(at.y(), 4, std::max(4, parentWidget()->height() - size.height() - 4)));
  panel_->setGeometry(QRect(at, size));
  panel_->show();
  panel_->raise();
  if (first != nullptr) first->setFocus();
  away_.start();
}

void Spout::shut() {
  away_.stop();
  if (panel_ == nullptr) return;
  panel_->hide();
  panel_->deleteLater();
  panel_ = nullptr;
}

void Spout::paintEvent(QPaintEvent*) {
  const Scheme& s = scheme();
  QPainter p(this);
  p.setRenderHint(QPainter::Antialiasing);
  QColor ground = s.panel;
  ground.setAlpha(underMouse() || isOpen() ? 255 : 170);
  p.setPen(QPen(s.copper, 1.5));
  p.setBrush(ground);
  p.drawEllipse(QRectF(rect()).adjusted(2, 2, -2, -2));
  // A drop, as from a watering can's spout.
  QPainterPath drop;
  const QPointF c = QRectF(rect()).center();
  drop.moveTo(c.x(), c.y() - 8);
  drop.cubicTo(c.x() + 2, c.y() - 3, c.x() + 6, c.y() - 1, c.x() + 6, c.y() + 3);
  drop.cubicTo(c.x() + 6, c.y() + 9, c.x() - 6, c.y() + 9, c.x() - 6, c.y() + 3);
  drop.cubicTo(c.x() - 6, c.y() - 1, c.x() - 2, c.y() - 3, c.x(), c.y() - 8);
  p.setPen(Qt::NoPen);
  p.setBrush(s.copper);
  p.drawPath(drop);
}

void Spout::enterEvent(QEnterEvent*) {
  update();
  if (!pressed_) hover_.start();
}
void Spout::leaveEvent(QEvent*) {
  update();
  hover_.stop();
}

void Spout::mousePressEvent(QMouseEvent* event) {
  hover_.stop();
  pressed_ = true;
  dragging_ = false;
  pressAt_ = event->globalPosition().toPoint();
}

void Spout::mouseMoveEvent(QMouseEvent* event) {
  if (!pressed_) return;
  if (!dragging_ &&
      (event->globalPosition().toPoint() - pressAt_).manhattanLength() < QApplication::startDragDistance())
    return;
  dragging_ = true;
  shut();
  const QPoint at = parentWidget()->mapFromGlobal(event->globalPosition().toPoint());
  const double w = parentWidget()->width(), h = parentWidget()->height();
  const double distances[] = {static_cast<double>(at.y()), w - at.x(), h - at.y(),
                              static_cast<double>(at.x())};
  const int nearest =
      static_cast<int>(std::min_element(std::begin(distances), std::end(distances)) - distances);
  const bool level = nearest == 0 || nearest == 2;
  const double length = level ? w : h, position = level ? at.x() : at.y();
  setPlace(nearest, (position - kCorner - kSize / 2.0) / std::max(1.0, length - 2 * kCorner - kSize));
}

void Spout::mouseReleaseEvent(QMouseEvent*) {
  pressed_ = false;
  if (dragging_)
    emit placeChanged(edge_, share_);
  else
    isOpen() ? shut() : open();
  dragging_ = false;
}

bool Spout::eventFilter(QObject* watched, QEvent* event) {
  if (watched == parentWidget() && event->type() == QEvent::Resize) settle();
  if (watched == panel_ && event->type() == QEvent::KeyPress &&
      static_cast<QKeyEvent*>(event)->key() == Qt::Key_Escape) {
    shut();
    return true;
  }
  return QWidget::eventFilter(watched, event);
}

}  // namespace kw::desktop

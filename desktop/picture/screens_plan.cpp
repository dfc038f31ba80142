#include "desktop/picture/screens_plan.hpp"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kTop = 62, kLeft = 20, kGap = 8, kTallest = 130, kOffWidth = 110;
}

ScreensPlan::ScreensPlan(OpenSession* session, QWidget* parent) : QFrame(parent), session_(session) {
  setObjectName("card");
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setAccessibleName(tr("Screens plan of %1").arg(session->machine()));
  resize(sizeHint());
  connect(session, &OpenSession::changed, this, [this] {
    if (!dragged_) layOut();
  });
  layOut();
}

/// Lit screens from left to right as they lie, to one scale; then those that are off.
void ScreensPlan::layOut() {
  tiles_.clear();
  if (!session_) return;
  std::vector<ScreenOffer> on, off;
  for (const ScreenOffer& s : session_->offers()) (s.on ? on : off).push_back(s);
  std::sort(on.begin(), on.end(), [](const auto& a, const auto& b) { return a.area.x < b.area.x; });
  int width = 0, height = 1;
  for (const ScreenOffer& s : on) width += s.area.width, height = std::max(height, s.area.height);
  const int room = this->width() - 2 * kLeft - static_cast<int>(off.size()) * (kOffWidth + kGap) -
                   static_cast<int>(on.size()) * kGap;
  const double scale =
      std::min(static_cast<double>(room) / std::max(1, width), static_cast<double>(kTallest) / height);
  int x = kLeft;
  for (const ScreenOffer& s : on) {
    const QSize size(std::max(96, static_cast<int>(s.area.width * scale)),
                     std::max(64, static_cast<int>(s.area.height * scale)));
    tiles_.push_back({s, QRect(QPoint(x, kTop), size)});
    x += size.width() + kGap;
  }
  for (const ScreenOffer& s : off) {
    tiles_.push_back({s, QRect(x, kTop, kOffWidth, 84)});
    x += kOffWidth + kGap;
  }
  chosen_ = std::clamp(chosen_, 0, std::max(0, static_cast<int>(tiles_.size()) - 1));
  update();
}

QRect ScreensPlan::tile(std::uint32_t id) const {
  for (const Tile& t : tiles_)
    if (t.screen.id == id) return t.rect;
  return {};
}

QRect ScreensPlan::switchOf(std::uint32_t id) const {
  const QRect r = tile(id);
  return r.isEmpty() ? QRect() : QRect(r.left() + 6, r.bottom() - 24, 86, 20);
}

void ScreensPlan::paintEvent(QPaintEvent* event) {
  QFrame::paintEvent(event);
  QPainter p(this);
  p.setRenderHint(QPainter::Antialiasing);
  const Scheme& s = scheme();
  p.fillRect(rect(), s.raised);
  p.setPen(s.line);
  p.drawRect(rect().adjusted(0, 0, -1, -1));
  p.setPen(s.text);
  p.setFont(windowFont(11, QFont::DemiBold));
  p.drawText(QRect(kLeft, 14, 200, 24), Qt::AlignVCenter, tr("Screens plan"));
  p.setFont(windowFont(9));
  p.setPen(s.quiet);
  p.drawText(QRect(160, 14, width() - 160 - kLeft, 24), Qt::AlignVCenter | Qt::AlignRight,
             tr("drag to place · double click: a window of its own"));
  for (std::size_t i = 0; i < tiles_.size(); ++i) {
    const Tile& t = tiles_[i];
    QRect r = t.rect;
    if (dragged_ && *dragged_ == t.screen.id) r.translate(moved_.x(), 0);
    const bool chosen = static_cast<int>(i) == chosen_ && hasFocus();
    QColor inside = t.screen.on ? s.teal : s.ground;
    inside.setAlpha(t.screen.on ? 40 : 255);
    p.setBrush(inside);
    p.setPen(QPen(chosen        ? s.copper
                  : t.screen.on ? s.teal
                                : s.line,
                  chosen ? 2 : 1, t.screen.on ? Qt::SolidLine : Qt::DashLine));
    p.drawRoundedRect(r, 3, 3);
    p.setPen(t.screen.on ? s.text : s.quiet);
    p.setFont(windowFont(10, QFont::DemiBold));
    p.drawText(
        r.adjusted(8, 6, -4, 0), Qt::AlignTop | Qt::AlignLeft,
        t.screen.on ? tr("Screen %1").arg(t.screen.id + 1) : tr("Screen %1, off").arg(t.screen.id + 1));
    p.setFont(windowFont(9));
    p.setPen(s.quiet);
    if (t.screen.on)
      p.drawText(r.adjusted(8, 26, -4, 0), Qt::AlignTop | Qt::AlignLeft,
                 tr("%1 × %2").arg(t.screen.area.width).arg(t.screen.area.height));
    const bool last = t.screen.on && std::count_if(tiles_.begin(), tiles_.end(),
                                                   [](const Tile& other) { return other.screen.on; }) < 2;
    QFont link = windowFont(9);
    link.setUnderline(!last);
    p.setFont(link);
    p.setPen(last ? s.quiet : s.copper);
    p.drawText(switchOf(t.screen.id).translated(r.topLeft() - t.rect.topLeft()),
               Qt::AlignVCenter | Qt::AlignLeft,
               last          ? tr("the last one")
               : t.screen.on ? tr("switch off")
                             : tr("switch on"));
  }
  p.setFont(windowFont(9));
  p.setPen(s.quiet);
  p.drawText(
      QRect(kLeft, height() - 40, width() - 2 * kLeft, 28), Qt::AlignVCenter | Qt::TextWordWrap,
      tr("A screen in a window of its own takes that window's size when the machine follows the pane."));
}

const ScreensPlan::Tile* ScreensPlan::at(QPoint p) const {
  for (const Tile& t : tiles_)
    if (t.rect.contains(p)) return &t;
  return nullptr;
}

void ScreensPlan::mousePressEvent(QMouseEvent* e) {
  const QPoint p = e->position().toPoint();
  const Tile* t = at(p);
  if (t == nullptr) return;
  if (switchOf(t->screen.id).contains(p)) return toggle(t->screen);
  if (!t->screen.on) return;
  dragged_ = t->screen.id;
  grabbed_ = p;
  moved_ = {};
}

void ScreensPlan::mouseMoveEvent(QMouseEvent* e) {
  if (dragged_) moved_ = e->position().toPoint() - grabbed_;
  const Tile* t = at(e->position().toPoint());
  setCursor(t != nullptr && switchOf(t->screen.id).contains(e->position().toPoint()) ? Qt::PointingHandCursor
                                                                                     : Qt::ArrowCursor);
  update();
}

void ScreensPlan::mouseReleaseEvent(QMouseEvent*) {
  if (!dragged_) return;
  const std::uint32_t id = *dragged_;
  const int centre = tile(id).center().x() + moved_.x();
  const bool far = moved_.manhattanLength() > 12;
  dragged_.reset();
  if (far) place(id, centre);
  layOut();
}

void ScreensPlan::mouseDoubleClickEvent(QMouseEvent* e) {
  const Tile* t = at(e->position().toPoint());
  if (t == nullptr || !t->screen.on) return;
  int number = 0;
  for (const ScreenOffer& s : session_->offers()) {
    if (s.on) ++number;
    if (s.id == t->screen.id) break;
  }
  emit windowWanted(number);
  close();
}

void ScreensPlan::keyPressEvent(QKeyEvent* e) {
  const int most = static_cast<int>(tiles_.size()) - 1;
  if (most < 0 || e->key() == Qt::Key_Escape) {
    close();
    return;
  }
  const Tile chosen = tiles_[static_cast<std::size_t>(chosen_)];
  const bool move = (e->modifiers() & Qt::ControlModifier) != 0;
  if (e->key() == Qt::Key_Left || e->key() == Qt::Key_Right) {
    const int step = e->key() == Qt::Key_Left ? -1 : 1;
    if (move && chosen.screen.on)
      place(chosen.screen.id, chosen.rect.center().x() + step * (chosen.rect.width() + kGap + 4));
    else
      chosen_ = std::clamp(chosen_ + step, 0, most);
  } else if (e->key() == Qt::Key_Space || e->key() == Qt::Key_Return) {
    toggle(chosen.screen);
  } else {
    return QFrame::keyPressEvent(e);
  }
  update();
}

void ScreensPlan::focusOutEvent(QFocusEvent* e) {
  // It lies over the picture only while one works with it.
  if (e->reason() != Qt::ActiveWindowFocusReason) close();
}

void ScreensPlan::place(std::uint32_t dragged, int dropX) {
  std::vector<std::pair<int, ScreenOffer>> byPlace;
  for (const Tile& t : tiles_)
    if (t.screen.on) byPlace.emplace_back(t.screen.id == dragged ? dropX : t.rect.center().x(), t.screen);
  std::sort(byPlace.begin(), byPlace.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  std::vector<ScreenOffer> order;
  for (const auto& [x, s] : byPlace) order.push_back(s);
  arrange(std::move(order));
}

/// In this order from the left, without gaps.
void ScreensPlan::arrange(std::vector<ScreenOffer> order) {
  int x = 0;
  for (ScreenOffer& s : order) {
    s.area.x = x;
    s.area.y = 0;
    x += s.area.width;
  }
  for (const Tile& t : tiles_)
    if (!t.screen.on) order.push_back(t.screen);
  std::sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.id < b.id; });
  if (session_) session_->session().arrangeScreens(std::move(order));
}

void ScreensPlan::toggle(const ScreenOffer& screen) {
  if (session_) session_->session().switchScreen(screen.id, screen.on ? Size{} : Size{1024, 768});
}

}  // namespace kw::desktop

#include "desktop/stage/strip.hpp"

#include <QApplication>
#include <QDrag>
#include <QHBoxLayout>
#include <QImage>
#include <QKeyEvent>
#include <QLabel>
#include <QMenu>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollArea>
#include <QScrollBar>
#include <QToolButton>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/stage/pane.hpp"
#include "desktop/text/text_painter.hpp"
#include "picture/scale.hpp"

namespace kw::desktop {

namespace {
constexpr int kTileWidth = 124, kTileHeight = 82, kCaption = 19;
constexpr int kRefreshEvery = 500;  // milliseconds
}  // namespace

/// One small live picture.
class StripTile : public QWidget {
 public:
  StripTile(OpenSession* session, Strip* strip) : QWidget(strip), session_(session), strip_(strip) {
    setFixedSize(kTileWidth, kTileHeight);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(session->machine());
    setToolTip(tr("%1 · %2\nClick to bring it onto the stage, drag it to the edge of a pane to split")
                   .arg(session->machine(), session->label()));
    timer_.setInterval(kRefreshEvery);
    connect(&timer_, &QTimer::timeout, this, [this] {
      if (dirty_) refreshPicture();
    });
    connect(session, &OpenSession::damaged, this, [this] { dirty_ = true; });
    connect(session, &OpenSession::textChanged, this, [this] { dirty_ = true; });
    connect(session, &OpenSession::changed, this, [this] {
      dirty_ = true;
      update();
    });
    timer_.start();
    refreshPicture();
  }
  [[nodiscard]] OpenSession* session() const { return session_; }

 protected:
  void paintEvent(QPaintEvent*) override {
    if (!session_) return;
    QPainter p(this);
    p.setRenderHint(QPainter::Antialiasing);
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    const Scheme& s = scheme();
    const bool live = session_->isLive();
    p.setPen(QPen(hasFocus() ? s.copper : live ? s.line : s.amber, 1));
    p.setBrush(s.dark ? QColor(0x16, 0x19, 0x1c) : s.field);
    p.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4);
    const QRect inside(1, 1, width() - 2, height() - kCaption - 1);
    if (!small_.isNull()) {
      const QSize fitted = (QSizeF(small_.size()) / small_.devicePixelRatio()).toSize();
      p.drawImage(
          QPoint(inside.center().x() - fitted.width() / 2 + 1, inside.center().y() - fitted.height() / 2 + 1),
          small_);
    }
    if (session_->unseenWords() > 0) {  // a watch word came up while nobody looked
      p.setPen(QPen(s.amber, 2));
      p.setBrush(Qt::NoBrush);
      p.drawRoundedRect(QRectF(rect()).adjusted(1, 1, -1, -1), 4, 4);
      drawState(p, QPointF(width() - 12, 12), 11, State::Trouble);
    }
    if (!live) {
      QColor veil = s.ground;
      veil.setAlpha(190);
      p.fillRect(inside, veil);
      p.setPen(s.amber);
      p.setFont(windowFont(8));
      p.drawText(inside.adjusted(6, 4, -6, -4), Qt::AlignCenter | Qt::TextWordWrap,
                 session_->question()                                ? tr("asks something")
                 : session_->status().stage == SessionStage::Waiting ? tr("waiting to try again")
                 : session_->status().stage == SessionStage::Ended   ? tr("over")
                                                                     : tr("connecting…"));
    }
    p.setFont(windowFont(8));
    p.setPen(s.text);
    const QRect caption(7, height() - kCaption, width() - 14, kCaption);
    const QString kind = session_->label().section(" · ", -1);
    const int kindWidth = p.fontMetrics().horizontalAdvance(kind);
    p.drawText(
        caption.adjusted(0, 0, -kindWidth - 6, 0), Qt::AlignVCenter,
        p.fontMetrics().elidedText(session_->machine(), Qt::ElideMiddle, caption.width() - kindWidth - 6));
    p.setPen(s.quiet);
    p.drawText(caption, Qt::AlignVCenter | Qt::AlignRight, kind);
  }
  void mousePressEvent(QMouseEvent* e) override {
    start_ = e->position().toPoint();
    if (e->button() == Qt::RightButton && session_) {
      QMenu menu;
      menu.addAction(tr("Bring onto the stage"), strip_, [this] { emit strip_->chosen(session_); });
      menu.addAction(tr("End this session"), strip_, [this] { emit strip_->endWanted(session_); });
      menu.exec(e->globalPosition().toPoint());
    }
  }
  void mouseReleaseEvent(QMouseEvent* e) override {
    if (e->button() == Qt::LeftButton && session_) emit strip_->chosen(session_);
  }
  void mouseMoveEvent(QMouseEvent* e) override {
    if (!(e->buttons() & Qt::LeftButton) || !session_) return;
    if ((e->position().toPoint() - start_).manhattanLength() < QApplication::startDragDistance()) return;
    auto* drag = new QDrag(this);
    auto* mime = new QMimeData;
    mime->setData(kSessionMime, QByteArray::number(reinterpret_cast<quintptr>(session_.data())));
    drag->setMimeData(mime);
    drag->setPixmap(grab());
    drag->exec(Qt::MoveAction);
  }
  void keyPressEvent(QKeyEvent* e) override {
    if ((e->key() == Qt::Key_Return || e->key() == Qt::Key_Space) && session_)
      emit strip_->chosen(session_);
    else
      QWidget::keyPressEvent(e);
  }

 private:
  void refreshPicture() {
    dirty_ = false;
    if (!session_ || !session_->hasPicture()) return;
    const double ratio = devicePixelRatioF();
    if (TextConsole* console = session_->text()) {
      console->textSeen();
      small_ = smallTextPicture(console->terminal(), textSchemeOf(session_->shown),
                                {kTileWidth - 2, kTileHeight - kCaption - 2}, ratio);
      update();
      return;
    }
    const auto picture = session_->picture();
    auto lock = picture->lock();
    const Size from = picture->size();
    if (from.empty()) return;
    const double fit =
        std::min((kTileWidth - 2) * ratio / from.width, (kTileHeight - kCaption - 2) * ratio / from.height);
    const Size to{std::max(1, static_cast<int>(from.width * fit)),
                  std::max(1, static_cast<int>(from.height * fit))};
    if (small_.size() != QSize(to.width, to.height))
      small_ = QImage(to.width, to.height, QImage::Format_RGB32);
    small_.setDevicePixelRatio(ratio);
    Scaler(picture->rect(), to)
        .scale(*picture, {0, 0, to.width, to.height}, reinterpret_cast<Pixel*>(small_.bits()),
               static_cast<std::size_t>(small_.bytesPerLine()) / sizeof(Pixel));
    update();
  }

  QPointer<OpenSession> session_;
  Strip* strip_;
  QImage small_;
  QTimer timer_;
  QPoint start_;
  bool dirty_ = true;
};

Strip::Strip(QWidget* parent) : QWidget(parent) {
  setFixedHeight(kTileHeight + 16);
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(4, 6, 6, 10);
  row->setSpacing(8);
  area_ = new QScrollArea(this);
  QScrollArea* area = area_;
  area->setWidgetResizable(true);
  area->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  area->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  area->viewport()->installEventFilter(this);
  row_ = new QWidget(area);
  auto* tiles = new QHBoxLayout(row_);
  tiles->setContentsMargins(0, 0, 0, 0);
  tiles->setSpacing(8);
  tiles->addStretch();
  area->setWidget(row_);
  row->addWidget(area, 1);
  const std::pair<int, QString> kinds[] = {{1, tr("one")}, {2, tr("two")}, {4, tr("four")}};
  for (const auto& [panes, word] : kinds) {
    auto* b = new QToolButton(this);
    b->setText(word);
    b->setCheckable(true);
    b->setToolTip(tr("Show %1 pane(s)").arg(panes));
    b->setProperty("panes", panes);
    connect(b, &QToolButton::clicked, this, [this, n = panes] { emit arrangeWanted(n); });
    row->addWidget(b, 0, Qt::AlignVCenter);
    choices_.push_back(b);
  }
  hide();
}

bool Strip::eventFilter(QObject* watched, QEvent* event) {
  if (event->type() != QEvent::Wheel) return QWidget::eventFilter(watched, event);
  // A row scrolls sideways, whichever way the wheel turns.
  const QPoint turn = static_cast<QWheelEvent*>(event)->angleDelta();
  QScrollBar* bar = area_->horizontalScrollBar();
  bar->setValue(bar->value() - (turn.y() != 0 ? turn.y() : turn.x()));
  return true;
}

void Strip::setSessions(const std::vector<OpenSession*>& sessions, int panes, bool anyOpen) {
  setVisible(anyOpen);
  for (QToolButton* b : choices_) b->setChecked(b->property("panes").toInt() == panes);
  bool same = sessions.size() == tiles_.size();
  for (std::size_t i = 0; same && i < sessions.size(); ++i) same = tiles_[i]->session() == sessions[i];
  if (same) return;
  for (StripTile* t : tiles_) {
    t->hide();
    t->deleteLater();
  }
  tiles_.clear();
  auto* layout = static_cast<QHBoxLayout*>(row_->layout());
  for (OpenSession* s : sessions) {
    auto* tile = new StripTile(s, this);
    layout->insertWidget(static_cast<int>(tiles_.size()), tile);
    tiles_.push_back(tile);
  }
}

OpenSession* Strip::sessionAt(int index) const { return tiles_[static_cast<std::size_t>(index)]->session(); }

}  // namespace kw::desktop

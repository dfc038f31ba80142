#include "desktop/stage/pane.hpp"

#include <QApplication>
#include <QDrag>
#include <QDragEnterEvent>
#include <QHBoxLayout>
#include <QLabel>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QToolButton>

#include "desktop/look/glyphs.hpp"
#include "desktop/look/theme.hpp"
#include "desktop/stage/story_card.hpp"
#include "desktop/text/line_lamps.hpp"

namespace kw::desktop {

namespace {

constexpr int kHeaderHeight = 28;

State stateOf(const SessionStatus& status) {
  switch (status.stage) {
    case SessionStage::Idle: return State::NeverReached;
    case SessionStage::Connecting:
    case SessionStage::SigningIn: return State::Starting;
    case SessionStage::Live: return State::Answering;
    case SessionStage::Waiting: return State::Trouble;
    case SessionStage::Ended: return status.problem ? State::Trouble : State::Off;
  }
  return State::Off;
}

/// A state glyph and, beside it, whether the line is sealed.
class HeaderGlyph : public QWidget {
 public:
  explicit HeaderGlyph(QWidget* parent) : QWidget(parent) { setFixedSize(18, kHeaderHeight); }
  void setStateGlyph(State state) {
    state_ = state;
    update();
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    QPainter p(this);
    drawState(p, QPointF(width() / 2.0, height() / 2.0), 11, state_);
  }

 private:
  State state_ = State::NeverReached;
};

class SealMark : public QWidget {
 public:
  explicit SealMark(QWidget* parent) : QWidget(parent) { setFixedSize(12, kHeaderHeight); }
  void setSealed(bool reached, bool sealed) {
    reached_ = reached, sealed_ = sealed;
    update();
  }

 protected:
  void paintEvent(QPaintEvent*) override {
    if (!reached_) return;
    QPainter p(this);
    drawPipe(p, QPointF(6, 7), kHeaderHeight - 14, sealed_ ? Pipe::Sealed : Pipe::Plain);
  }

 private:
  bool reached_ = false, sealed_ = false;
};

}  // namespace

Pane::Pane(QWidget* parent) : QFrame(parent) {
  setAcceptDrops(true);
  setMinimumSize(150, 110);
  auto* column = new QVBoxLayout(this);
  column->setContentsMargins(1, 1, 1, 1);
  column->setSpacing(0);
  header_ = new QWidget(this);
  header_->setFixedHeight(kHeaderHeight);
  // The header never decides how narrow a pane may be; layOutHeader() drops what has no room.
  header_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
  auto* row = new QHBoxLayout(header_);
  row->setContentsMargins(8, 0, 4, 0);
  row->setSpacing(4);
  auto* glyph = new HeaderGlyph(header_);
  glyph->setObjectName("glyph");
  name_ = new QLabel(header_);
  name_->setFont(windowFont(10, QFont::DemiBold));
  name_->setTextFormat(Qt::PlainText);
  label_ = new QLabel(header_);
  label_->setObjectName("quiet");
  auto* seal = new SealMark(header_);
  seal->setObjectName("seal");
  remark_ = new QLabel(header_);
  remark_->setTextFormat(Qt::PlainText);
  figure_ = new QLabel(header_);
  figure_->setObjectName("quiet");
  row->addWidget(glyph);
  row->addWidget(name_);
  row->addWidget(label_);
  lamps_ = new LineLamps(header_);
  row->addWidget(seal);
  row->addWidget(lamps_);
  row->addWidget(remark_, 1);
  row->addWidget(figure_);
  const auto button = [&](const QString& text, const QString& icon, const QString& tip) {
    auto* b = new QToolButton(header_);
    b->setText(text);
    b->setToolTip(tip);
    b->setAccessibleName(tip);
    b->setFocusPolicy(Qt::TabFocus);
    if (!icon.isEmpty()) {
      b->setProperty("lineIcon", icon);
      b->setIconSize({15, 15});
    }
    row->addWidget(b);
    return b;
  };
  keys_ = button(tr("keys"), {}, tr("Send keys that this desk would keep for itself"));
  screens_ = button(tr("screens"), {}, tr("Screens of this machine"));
  viewButton_ = button(tr("view"), {}, tr("How the picture is shown"));
  sound_ = button({}, "sound", tr("Mute this machine"));
  full_ = button({}, "full", tr("Full screen (F11)"));
  end_ = button({}, "end", tr("End this session; the machine goes on"));
  column->addWidget(header_);
  buildOffer();
  column->addWidget(offer_);
  body_ = new QWidget(this);
  auto* faces = new QVBoxLayout(body_);
  faces->setContentsMargins(0, 0, 0, 0);
  view_ = new PictureView(body_);
  text_ = new TextView(body_);
  faces->addWidget(view_, 1);
  faces->addWidget(text_, 1);
  column->addWidget(body_, 1);
  story_ = new StoryCard(body_);
  body_->installEventFilter(this);
  header_->installEventFilter(this);

  connect(view_, &PictureView::focused, this, &Pane::focused);
  connect(view_, &PictureView::releaseChordPressed, this, &Pane::releaseChordPressed);
  connect(text_->canvas(), &TextCanvas::focused, this, &Pane::focused);
  connect(text_->canvas(), &TextCanvas::releaseChordPressed, this, &Pane::releaseChordPressed);
  connect(story_, &StoryCard::endWanted, this, &Pane::endWanted);
  connect(story_, &StoryCard::fitted, this, &Pane::placeStory);
  const auto below = [](QToolButton* b) { return b->mapToGlobal(QPoint(0, b->height())); };
  connect(keys_, &QToolButton::clicked, this, [=, this] { emit keysMenuWanted(below(keys_)); });
  connect(screens_, &QToolButton::clicked, this, [=, this] { emit screensMenuWanted(below(screens_)); });
  connect(viewButton_, &QToolButton::clicked, this, [=, this] { emit viewMenuWanted(below(viewButton_)); });
  connect(full_, &QToolButton::clicked, this, &Pane::fullScreenWanted);
  connect(end_, &QToolButton::clicked, this, &Pane::endWanted);
  connect(sound_, &QToolButton::clicked, this, [this] {
    if (session_) session_->setMuted(!session_->muted());
  });
  tick_.setInterval(500);
  connect(&tick_, &QTimer::timeout, this, [this] { story_->refresh(); });
  setSession(nullptr);
}

void Pane::buildOffer() {
  offer_ = new QWidget(this);
  offer_->setObjectName("offer");
  offer_->setAttribute(Qt::WA_StyledBackground);
  auto* row = new QHBoxLayout(offer_);
  row->setContentsMargins(10, 4, 6, 4);
  row->setSpacing(8);
  offerText_ = new QLabel(offer_);
  offerText_->setTextFormat(Qt::PlainText);
  offerText_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
  offerAct_ = new QPushButton(offer_);
  offerAct_->setProperty("own", true);
  offerAct_->setObjectName("offerAct");
  auto* stay = new QPushButton(tr("Stay here"), offer_);
  stay->setObjectName("offerStay");
  row->addWidget(offerText_, 1);
  row->addWidget(offerAct_);
  row->addWidget(stay);
  offer_->hide();
  connect(offerAct_, &QPushButton::clicked, this, [this] {
    offer_->hide();
    if (const auto act = std::exchange(offered_, {})) act();
  });
  connect(stay, &QPushButton::clicked, this, [this] {
    offer_->hide();
    offered_ = {};
    face()->setFocus();
  });
}

void Pane::offer(const QString& sentence, const QString& act, std::function<void()> done) {
  offerText_->setText(sentence);
  offerText_->setToolTip(sentence);
  offerAct_->setText(act);
  offered_ = std::move(done);
  offer_->show();
}

void Pane::setSession(OpenSession* session) {
  offer_->hide();
  offered_ = {};
  if (session_) session_->disconnect(this);
  session_ = session;
  const bool showText = session != nullptr && session->text() != nullptr;
  view_->setSession(showText ? nullptr : session);
  text_->setSession(session);
  view_->setVisible(session != nullptr && !showText);
  text_->setVisible(showText);
  body_->setVisible(session != nullptr);
  header_->setVisible(session != nullptr);
  if (session != nullptr) {
    connect(session, &OpenSession::changed, this, &Pane::refresh);
    connect(session, &OpenSession::pictureResized, this, &Pane::refresh);
    connect(session, &OpenSession::figuresChanged, this, &Pane::refresh);
    connect(session, &QObject::destroyed, this, [this] { setSession(nullptr); });
  }
  story_->setSession(session);
  refresh();
  update();
}

QWidget* Pane::face() const { return showsText() ? static_cast<QWidget*>(text_->canvas()) : view_; }

void Pane::setFocusMark(bool focused) {
  if (focusMark_ == focused) return;
  focusMark_ = focused;
  update();
}

void Pane::refresh() {
  if (!session_) {
    tick_.stop();
    return;
  }
  const SessionStatus& status = session_->status();
  static_cast<HeaderGlyph*>(header_->findChild<QWidget*>("glyph"))
      ->setStateGlyph(session_->starting() != nullptr && !session_->starting()->failure ? State::Starting
                                                                                        : stateOf(status));
  auto* seal = static_cast<SealMark*>(header_->findChild<QWidget*>("seal"));
  const RouteFacts& route = session_->route();
  seal->setSealed(session_->isLive(), route.sealed);
  seal->setToolTip(route.sealed ? tr("Sealed: %1").arg(QString::fromStdString(route.security))
                                : tr("Plain: what passes here is not encrypted"));
  label_->setText(session_->label());
  if (!session_->line().settings.empty())
    label_->setText(session_->label().section(" · ", 0, 0) + " · " +
                    QString::fromStdString(session_->line().settings));
  remark_->setText(session_->remarkText().isEmpty() && session_->viewOnly() ? tr("only looking")
                                                                            : session_->remarkText());
  const double ms = session_->latencies().empty() ? 0 : session_->latencies().back();
  figure_->setText(session_->isLive() && ms > 0 ? tr("%1 ms").arg(ms, 0, 'f', 0) : QString());
  figure_->setToolTip(tr("From a key to the changed picture"));
  const Capabilities& can = session_->capabilities();
  keys_->setEnabled(session_->isLive() && !session_->viewOnly());
  keys_->setToolTip(session_->viewOnly() ? tr("Only looking: keys are not sent")
                                         : tr("Send keys that this desk would keep for itself"));
  screens_->setEnabled(can.screens.can);
  screens_->setToolTip(can.screens.can ? tr("Screens of this machine")
                                       : QString::fromStdString(can.screens.why));
  sound_->setVisible(session_->soundWanted());
  const Scheme& s = scheme();
  sound_->setIcon(lineIcon(session_->muted() ? "mute" : "sound", s.quiet));
  sound_->setToolTip(session_->muted() ? tr("Hear this machine") : tr("Mute this machine"));
  full_->setIcon(lineIcon("full", s.quiet));
  end_->setIcon(lineIcon("end", s.quiet));
  const bool stale = session_->hasPicture() && !session_->isLive();
  view_->setStale(stale);
  text_->canvas()->setStale(stale);
  lamps_->show(session_->line());
  const bool textual = showsText();
  keys_->setText(textual ? tr("send") : tr("keys"));
  if (textual) keys_->setToolTip(tr("Send keys, a break, or a file"));
  viewButton_->setText(textual ? tr("text") : tr("view"));
  viewButton_->setToolTip(textual ? tr("Find, colours, log, line") : tr("How the picture is shown"));
  if (focusMark_) session_->lookedAt();
  story_->refresh();
  const bool moving = session_->starting() != nullptr || status.stage == SessionStage::Connecting ||
                      status.stage == SessionStage::SigningIn || status.stage == SessionStage::Waiting;
  if (moving && !tick_.isActive()) tick_.start();
  if (!moving) tick_.stop();
  layOutHeader();
}

/// In a narrow pane the least important parts of the header go first.
void Pane::layOutHeader() {
  const int room = width();
  const QString name = session_ ? session_->machine() : QString();
  const int nameWidth = name_->fontMetrics().horizontalAdvance(name) + 4;
  name_->setText(
      name_->fontMetrics().elidedText(name, Qt::ElideMiddle, std::max(30, std::min(nameWidth, room - 136))));
  int left = room - 136 - nameWidth;
  const auto give = [&](QWidget* part, int width) {
    left -= width + 6;
    part->setVisible(left >= 0);
  };
  give(keys_, keys_->sizeHint().width());
  give(label_, label_->sizeHint().width());
  give(viewButton_, viewButton_->sizeHint().width());
  if (session_ && !session_->text())
    give(screens_, screens_->sizeHint().width());
  else
    screens_->hide();
  if (lamps_->any())
    give(lamps_, lamps_->sizeHint().width());
  else
    lamps_->hide();
  give(figure_, figure_->sizeHint().width());
}

void Pane::placeStory() {
  const int width = std::min(460, std::max(200, body_->width() - 24));
  const int height = std::min(story_->heightFor(width), body_->height());
  story_->setGeometry((body_->width() - width) / 2, std::max(0, (body_->height() - height) / 2), width,
                      height);
}

void Pane::resizeEvent(QResizeEvent* event) {
  QFrame::resizeEvent(event);
  layOutHeader();
  if (story_->isVisible()) placeStory();
}

void Pane::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.setRenderHint(QPainter::Antialiasing);
  const Scheme& s = scheme();
  p.setPen(QPen(focusMark_ && session_ ? s.copper : s.line, 1));
  p.setBrush(session_ ? s.panel : s.ground);
  p.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 5, 5);
  if (!session_) {
    p.setPen(s.quiet);
    p.drawText(rect().adjusted(16, 16, -16, -16), Qt::AlignCenter | Qt::TextWordWrap,
               tr("An empty pane.\nOpen a machine from the roster, drag one here from the strip,\nor press "
                  "Ctrl+G."));
  }
  if (dropEdge_ >= 0) {
    QRectF half = QRectF(rect()).adjusted(4, 4, -4, -4);
    if (dropEdge_ == Qt::LeftEdge) half.setRight(half.center().x());
    if (dropEdge_ == Qt::RightEdge) half.setLeft(half.center().x());
    if (dropEdge_ == Qt::TopEdge) half.setBottom(half.center().y());
    if (dropEdge_ == Qt::BottomEdge) half.setTop(half.center().y());
    QColor tint = s.copper;
    tint.setAlpha(90);
    p.setBrush(tint);
    p.setPen(QPen(s.copper, 2));
    p.drawRoundedRect(half, 5, 5);
  }
}

bool Pane::eventFilter(QObject* watched, QEvent* event) {
  if (watched == body_ && event->type() == QEvent::Resize && story_->isVisible()) placeStory();
  if (watched == header_ && event->type() == QEvent::MouseButtonPress) {
    dragStart_ = static_cast<QMouseEvent*>(event)->globalPosition().toPoint();
    face()->setFocus();
    emit focused();
  }
  if (watched == header_ && event->type() == QEvent::MouseMove)
    mouseMoveEvent(static_cast<QMouseEvent*>(event));
  if (watched == header_ && event->type() == QEvent::MouseButtonDblClick) emit fullScreenWanted();
  return QFrame::eventFilter(watched, event);
}

void Pane::mousePressEvent(QMouseEvent*) { emit focused(); }

void Pane::mouseMoveEvent(QMouseEvent* event) {
  if (!session_ || !(event->buttons() & Qt::LeftButton)) return;
  if ((event->globalPosition().toPoint() - dragStart_).manhattanLength() < QApplication::startDragDistance())
    return;
  auto* drag = new QDrag(this);
  auto* mime = new QMimeData;
  mime->setData(kSessionMime, QByteArray::number(reinterpret_cast<quintptr>(session_.data())));
  drag->setMimeData(mime);
  drag->setPixmap(header_->grab());
  drag->exec(Qt::MoveAction);
}

/// An edge within a quarter of the pane, else 0 for its middle.
int Pane::edgeAt(QPoint at) const {
  if (!session_) return 0;
  const double x = static_cast<double>(at.x()) / std::max(1, width()),
               y = static_cast<double>(at.y()) / std::max(1, height());
  const double nearest = std::min({x, 1 - x, y, 1 - y});
  if (nearest > 0.25) return 0;
  if (nearest == x) return Qt::LeftEdge;
  if (nearest == 1 - x) return Qt::RightEdge;
  return nearest == y ? Qt::TopEdge : Qt::BottomEdge;
}

void Pane::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasFormat(kSessionMime)) event->acceptProposedAction();
}

void Pane::dragMoveEvent(QDragMoveEvent* event) {
  dropEdge_ = edgeAt(event->position().toPoint());
  update();
  event->acceptProposedAction();
}

void Pane::dragLeaveEvent(QDragLeaveEvent*) {
  dropEdge_ = -1;
  update();
}

void Pane::dropEvent(QDropEvent* event) {
  const int edge = edgeAt(event->position().toPoint());
  dropEdge_ = -1;
  update();
  const auto pointer = event->mimeData()->data(kSessionMime).toULongLong();
  event->acceptProposedAction();
  emit sessionDropped(reinterpret_cast<OpenSession*>(pointer), edge);
}

}  // namespace kw::desktop

#include "desktop/text/text_canvas.hpp"

#include <QApplication>
#include <QClipboard>
#include <QDateTime>
#include <QDesktopServices>
#include <QElapsedTimer>
#include <QKeyEvent>
#include <QMimeData>
#include <QPainter>
#include <QUrl>

#include <cmath>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kMargin = 4;
constexpr int kFlashMs = 140;
}  // namespace

TextCanvas::TextCanvas(QWidget* parent) : QWidget(parent) {
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setAttribute(Qt::WA_OpaquePaintEvent);
  setAttribute(Qt::WA_InputMethodEnabled);
  setCursor(Qt::IBeamCursor);
  setAccessibleName(tr("Text of the machine"));
  frame_.setSingleShot(true);
  connect(&frame_, &QTimer::timeout, this, &TextCanvas::takeText);
  flash_.setSingleShot(true);
  connect(&flash_, &QTimer::timeout, this, [this] {
    flashing_ = false;
    update();
  });
  scrollOut_.setInterval(50);
  connect(&scrollOut_, &QTimer::timeout, this, [this] { scrollBy(scrollOutBy_); });
}

text::Terminal* TextCanvas::terminal() const {
  TextConsole* console = session_ ? session_->text() : nullptr;
  return console != nullptr ? &console->terminal() : nullptr;
}

void TextCanvas::setSession(OpenSession* session) {
  if (session_) session_->disconnect(this);
  session_ = session != nullptr && session->text() != nullptr ? session : nullptr;
  clearSelection();
  follow_ = true;
  finds_.clear();
  if (session_) {
    connect(session_, &OpenSession::textChanged, this, [this] {
      if (!frame_.isActive())
        frame_.start(1000 / std::clamp(session_ ? session_->shown.paintsPerSecond : 60, 1, 240));
    });
    connect(session_, &OpenSession::rang, this, &TextCanvas::flash);
    applyLook();
    takeText();
  }
  update();
}

void TextCanvas::applyLook() {
  if (!session_) return;
  painter_.setFont(QString::fromStdString(session_->shown.textFont), session_->shown.textSize);
  painter_.setScheme(textSchemeOf(session_->shown));
  everything_ = true;
  fitTerminal();
  takeText();
}

void TextCanvas::setStale(bool stale) {
  if (stale_ == stale) return;
  stale_ = stale;
  update();
}

int TextCanvas::rowsShown() const { return std::max(1, (height() - 2 * kMargin) / painter_.cell().height()); }

/// The terminal has as many rows and columns as fit.
void TextCanvas::fitTerminal() {
  if (!session_ || !isVisible()) return;
  const int columns = std::max(2, (width() - 2 * kMargin) / painter_.cell().width());
  session_->text()->resizeText(rowsShown(), columns);
}

/// Below 1 when a program asked for more columns than fit: they are drawn narrower.
double TextCanvas::squeeze() const {
  const double wanted = std::max(1, view_.columns) * painter_.cell().width();
  return std::min(1.0, (width() - 2 * kMargin) / wanted);
}

double TextCanvas::columnWidth(std::int64_t row) const {
  const auto i = static_cast<std::size_t>(row - view_.firstRow);
  const bool large = i < view_.rows.size() && view_.rows[i].size != text::RowSize::Normal;
  return painter_.cell().width() * squeeze() * (large ? 2 : 1);
}

void TextCanvas::takeText() {
  text::Terminal* t = terminal();
  if (t == nullptr) return;
  session_->text()->textSeen();
  const auto before = std::tuple(view_.firstRow, view_.oldestRow, view_.screenTop);
  view_ = follow_ ? t->screen() : t->view(view_.firstRow, rowsShown());
  if (view_.alternate) follow_ = true;
  if (follow_ && static_cast<int>(view_.rows.size()) < rowsShown())
    view_ = t->view(view_.screenTop, rowsShown());
  if (before != std::tuple(view_.firstRow, view_.oldestRow, view_.screenTop)) emit scrolled();
  repaintRows();
}

TextPainter::Marks TextCanvas::marksOf(std::int64_t row) const {
  TextPainter::Marks marks;
  if (selected_) {
    const text::TextRange r = range();
    if (row >= r.fromRow && row <= r.toRow) {
      marks.selectFrom = r.block || row == r.fromRow ? r.fromColumn : 0;
      marks.selectTo = r.block || row == r.toRow ? r.toColumn + 1 : view_.columns;
    }
  }
  // Finds are in order of rows.
  auto at = std::lower_bound(finds_.begin(), finds_.end(), row,
                             [](const text::TextFind& f, std::int64_t wanted) { return f.toRow < wanted; });
  for (; at != finds_.end() && at->row <= row; ++at) {
    if (at - finds_.begin() == currentFind_) marks.currentFind = static_cast<int>(marks.finds.size());
    marks.finds.emplace_back(at->row == row ? at->column : 0,
                             at->toRow == row ? at->toColumn + 1 : view_.columns);
  }
  return marks;
}

/// Paints the rows that differ from what is on the canvas.
void TextCanvas::repaintRows() {
  text::Terminal* t = terminal();
  if (t == nullptr) return;
  QElapsedTimer timer;
  timer.start();
  const double ratio = devicePixelRatioF();
  const QSize wanted = size() * ratio;
  if (canvas_.size() != wanted) {
    canvas_ = QPixmap(wanted);
    canvas_.setDevicePixelRatio(ratio);
    everything_ = true;
  }
  if (canvas_.isNull()) return;
  QPainter p(&canvas_);
  const int h = painter_.cell().height();
  if (std::exchange(paintedColumns_, view_.columns) != view_.columns) everything_ = true;
  if (everything_) {
    canvas_.fill(painter_.scheme().colour(text::kOwnColour, view_.reverse, false));
    painted_.clear();
    paintedMarks_.clear();
    everything_ = false;
  }
  const auto count = static_cast<std::size_t>(rowsShown());
  const bool knows = painted_.size() == count;
  painted_.resize(count);
  paintedMarks_.resize(count);
  QRegion changed;
  for (std::size_t i = 0; i < count; ++i) {
    static const text::Row kNothing;
    const text::Row& row = i < view_.rows.size() ? view_.rows[i] : kNothing;
    TextPainter::Marks marks = marksOf(view_.firstRow + static_cast<std::int64_t>(i));
    if (knows && painted_[i].cells == row.cells && painted_[i].size == row.size && paintedMarks_[i] == marks)
      continue;
    p.save();
    p.translate(kMargin, kMargin + static_cast<int>(i) * h);
    p.scale(squeeze(), 1);
    painter_.paintRow(p, row, view_.columns, *t, view_.reverse, marks);
    p.restore();
    painted_[i] = row;
    paintedMarks_[i] = std::move(marks);
    changed += QRect(0, kMargin + static_cast<int>(i) * h, width(), h);
  }
  p.end();
  lastPaint_ = timer.nsecsElapsed();
  update();
}

void TextCanvas::paintEvent(QPaintEvent* event) {
  QPainter p(this);
  p.setClipRegion(event->region());
  p.fillRect(rect(), painter_.scheme().ground);
  if (!session_) return;
  p.drawPixmap(0, 0, canvas_);
  const std::int64_t row = view_.cursorRow - view_.firstRow;
  if (view_.cursorVisible && !stale_ && row >= 0 && row < rowsShown()) {
    const double w = columnWidth(view_.cursorRow);
    const int h = painter_.cell().height();
    painter_.paintCursor(
        p,
        QRectF(kMargin + view_.cursorColumn * w, kMargin + static_cast<int>(row) * h, w, h).toAlignedRect(),
        view_.cursorShape, hasFocus());
  }
  if (stale_) {
    QColor veil = painter_.scheme().ground;
    veil.setAlpha(150);
    p.fillRect(rect(), veil);
  }
  if (flashing_) {
    p.setPen(QPen(painter_.scheme().cursor, 3));
    p.drawRect(rect().adjusted(1, 1, -2, -2));
  }
}

QImage TextCanvas::image() const { return canvas_.toImage(); }

void TextCanvas::flash() {
  flashing_ = true;
  flash_.start(kFlashMs);
  update();
}

void TextCanvas::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  everything_ = true;
  clearSelection();
  fitTerminal();
  takeText();
}

/// While it was hidden behind a picture or a story its size did not count.
void TextCanvas::showEvent(QShowEvent* event) {
  QWidget::showEvent(event);
  fitTerminal();
  takeText();
}

void TextCanvas::scrollTo(std::int64_t row) {
  if (terminal() == nullptr) return;
  follow_ = row >= view_.screenTop;
  view_.firstRow = std::max(row, view_.oldestRow);
  takeText();
  emit scrolled();
}

void TextCanvas::scrollBy(int rows) { scrollTo(view_.firstRow + rows); }

void TextCanvas::showRow(std::int64_t row) {
  if (row < view_.firstRow || row >= view_.firstRow + rowsShown())
    scrollTo(std::max<std::int64_t>(view_.oldestRow, row - rowsShown() / 2));
}

void TextCanvas::setFinds(const std::vector<text::TextFind>& finds, int current) {
  finds_ = finds;
  currentFind_ = current;
  repaintRows();
}

// Selecting.

TextCanvas::Spot TextCanvas::spotAt(QPointF at) const {
  const QSize cell = painter_.cell();
  const int row =
      std::clamp(static_cast<int>(std::floor((at.y() - kMargin) / cell.height())), 0, rowsShown() - 1);
  const int column =
      std::clamp(static_cast<int>(std::floor((at.x() - kMargin) / columnWidth(view_.firstRow + row))), 0,
                 std::max(0, view_.columns - 1));
  return {view_.firstRow + row, column};
}

text::TextRange TextCanvas::range() const {
  text::TextRange r;
  r.block = block_;
  if (block_) {
    r.fromRow = std::min(anchor_.row, head_.row), r.toRow = std::max(anchor_.row, head_.row);
    r.fromColumn = std::min(anchor_.column, head_.column),
    r.toColumn = std::max(anchor_.column, head_.column);
    return r;
  }
  const text::Terminal* t = terminal();
  text::TextRange a{anchor_.row, anchor_.row, anchor_.column, anchor_.column, false},
      b{head_.row, head_.row, head_.column, head_.column, false};
  if (t != nullptr && unit_ == Unit::Word)
    a = t->wordAt(anchor_.row, anchor_.column), b = t->wordAt(head_.row, head_.column);
  if (t != nullptr && unit_ == Unit::Line) a = t->lineAt(anchor_.row), b = t->lineAt(head_.row);
  const auto before = [](std::int64_t r1, int c1, std::int64_t r2, int c2) {
    return std::pair(r1, c1) < std::pair(r2, c2);
  };
  r = a;
  if (before(b.fromRow, b.fromColumn, a.fromRow, a.fromColumn))
    r.fromRow = b.fromRow, r.fromColumn = b.fromColumn;
  if (before(a.toRow, a.toColumn, b.toRow, b.toColumn)) r.toRow = b.toRow, r.toColumn = b.toColumn;
  return r;
}

void TextCanvas::clearSelection() {
  selected_ = selecting_ = false;
  scrollOut_.stop();
}

void TextCanvas::extendSelection(Spot to) {
  head_ = to;
  selected_ = selected_ || unit_ != Unit::Character || to.row != anchor_.row || to.column != anchor_.column;
  repaintRows();
}

void TextCanvas::selectAll() {
  unit_ = Unit::Character;
  block_ = false;
  anchor_ = {view_.oldestRow, 0};
  head_ = {view_.screenTop + view_.screenRows - 1, std::max(0, view_.columns - 1)};
  selected_ = true;
  repaintRows();
}

QString TextCanvas::selectedText(bool colours) const {
  const text::Terminal* t = terminal();
  if (t == nullptr || !selected_) return {};
  return QString::fromStdString(colours ? t->ansiIn(range()) : t->textIn(range()));
}

void TextCanvas::copy(bool colours) {
  const QString text = selectedText(colours);
  if (!text.isEmpty()) QApplication::clipboard()->setText(text);
}

bool TextCanvas::programWantsMouse(Qt::KeyboardModifiers held) const {
  return view_.input.mouse != text::MouseWish::None && !(held & Qt::ShiftModifier) && session_ &&
         !session_->viewOnly();
}

void TextCanvas::sendMouse(const QMouseEvent& event, text::MouseEvent::Kind kind) {
  const Spot at = spotAt(event.position());
  text::MouseEvent e;
  e.kind = kind;
  e.row = static_cast<int>(at.row - view_.screenTop);
  e.column = at.column;
  const Qt::MouseButton button = kind == text::MouseEvent::Kind::Move
                                     ? (event.buttons() & Qt::LeftButton     ? Qt::LeftButton
                                        : event.buttons() & Qt::MiddleButton ? Qt::MiddleButton
                                        : event.buttons() & Qt::RightButton  ? Qt::RightButton
                                                                             : Qt::NoButton)
                                     : event.button();
  e.button = button == Qt::LeftButton     ? 1
             : button == Qt::MiddleButton ? 2
             : button == Qt::RightButton  ? 3
                                          : 0;
  const auto held = event.modifiers();
  if (e.row >= 0)
    terminal()->mouse(
        e, {bool(held & Qt::ShiftModifier), bool(held & Qt::AltModifier), bool(held & Qt::ControlModifier)});
}

void TextCanvas::openLink(Spot at) {
  const auto i = static_cast<std::size_t>(at.row - view_.firstRow);
  if (i >= view_.rows.size() || static_cast<std::size_t>(at.column) >= view_.rows[i].cells.size()) return;
  const std::uint16_t link = view_.rows[i].cells[static_cast<std::size_t>(at.column)].link;
  const QUrl url(QString::fromStdString(terminal()->linkTarget(link)));
  // The text is foreign: nothing but a page is opened from it.
  if (url.scheme() == "https" || url.scheme() == "http") QDesktopServices::openUrl(url);
}

void TextCanvas::mousePressEvent(QMouseEvent* event) {
  setFocus();
  emit focused();
  if (terminal() == nullptr) return;
  if (programWantsMouse(event->modifiers())) return sendMouse(*event, text::MouseEvent::Kind::Press);
  const Spot at = spotAt(event->position());
  if (event->button() == Qt::MiddleButton) {
    QClipboard* c = QApplication::clipboard();
    emit pasteWanted(c->text(c->supportsSelection() ? QClipboard::Selection : QClipboard::Clipboard));
    return;
  }
  if (event->button() != Qt::LeftButton) return;
  if (event->modifiers() & Qt::ControlModifier) return openLink(at);
  const bool third = QDateTime::currentMSecsSinceEpoch() - lastClick_ < QApplication::doubleClickInterval();
  if ((event->modifiers() & Qt::ShiftModifier) && selected_) {
    selecting_ = true;
    return extendSelection(at);
  }
  clearSelection();
  selecting_ = true;
  block_ = event->modifiers() & Qt::AltModifier;
  unit_ = third ? Unit::Line : Unit::Character;
  anchor_ = head_ = at;
  lastClick_ = 0;
  extendSelection(at);
}

void TextCanvas::mouseDoubleClickEvent(QMouseEvent* event) {
  if (terminal() == nullptr || event->button() != Qt::LeftButton) return;
  if (programWantsMouse(event->modifiers())) return sendMouse(*event, text::MouseEvent::Kind::Press);
  lastClick_ = QDateTime::currentMSecsSinceEpoch();
  selecting_ = true;
  unit_ = Unit::Word;
  anchor_ = spotAt(event->position());
  extendSelection(anchor_);
}

void TextCanvas::mouseMoveEvent(QMouseEvent* event) {
  if (terminal() == nullptr) return;
  if (selecting_) {
    scrollOutBy_ = event->position().y() < 0 ? -1 : event->position().y() >= height() ? 1 : 0;
    scrollOutBy_ != 0 ? scrollOut_.start() : scrollOut_.stop();
    return extendSelection(spotAt(event->position()));
  }
  if (programWantsMouse(event->modifiers())) return sendMouse(*event, text::MouseEvent::Kind::Move);
  const Spot at = spotAt(event->position());
  const auto i = static_cast<std::size_t>(at.row - view_.firstRow);
  QString tip;
  if (i < view_.rows.size() && static_cast<std::size_t>(at.column) < view_.rows[i].cells.size())
    if (const std::uint16_t link = view_.rows[i].cells[static_cast<std::size_t>(at.column)].link; link != 0)
      tip = tr("%1\nCtrl+click opens it").arg(QString::fromStdString(terminal()->linkTarget(link)));
  if (tip != toolTip()) setToolTip(tip);
}

void TextCanvas::mouseReleaseEvent(QMouseEvent* event) {
  if (terminal() == nullptr) return;
  if (!selecting_) {
    if (programWantsMouse(event->modifiers())) sendMouse(*event, text::MouseEvent::Kind::Release);
    return;
  }
  selecting_ = false;
  scrollOut_.stop();
  QClipboard* clipboard = QApplication::clipboard();
  if (selected_ && clipboard->supportsSelection()) clipboard->setText(selectedText(), QClipboard::Selection);
}

void TextCanvas::wheelEvent(QWheelEvent* event) {
  if (terminal() == nullptr) return;
  wheelRest_ += event->angleDelta().y();
  const int steps = wheelRest_ / 40;
  wheelRest_ -= steps * 40;
  if (steps == 0) return;
  if (event->modifiers() & Qt::ControlModifier) {
    session_->shown.textSize = std::clamp(session_->shown.textSize + (steps > 0 ? 1 : -1), 6, 48);
    return applyLook();
  }
  if (programWantsMouse(event->modifiers())) {
    const Spot at = spotAt(event->position());
    terminal()->mouse({text::MouseEvent::Kind::Press, static_cast<int>(at.row - view_.screenTop), at.column,
                       steps > 0 ? 4 : 5},
                      {});
  } else if (view_.alternate && view_.input.wheelKeys && !session_->viewOnly()) {
    for (int i = 0; i < std::abs(steps); ++i)
      terminal()->key(steps > 0 ? text::TextKey::Up : text::TextKey::Down, {});
  } else {
    scrollBy(-steps);
  }
}

void TextCanvas::focusInEvent(QFocusEvent* event) {
  QWidget::focusInEvent(event);
  fitTerminal();  // another window may have had it in another size
  if (terminal() != nullptr) terminal()->focus(true);
  emit focused();
  update();
}

void TextCanvas::focusOutEvent(QFocusEvent* event) {
  QWidget::focusOutEvent(event);
  chord_.forget();
  if (terminal() != nullptr) terminal()->focus(false);
  update();
}

}  // namespace kw::desktop

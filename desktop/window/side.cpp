#include "desktop/window/side.hpp"

#include <QLocale>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

namespace {
constexpr int kLeft = 16, kText = 40, kRight = 12;

QString bytesPerSecond(double n) {
  if (n >= 1e6) return QObject::tr("%1 MB/s").arg(n / 1e6, 0, 'f', 1);
  if (n >= 1e3) return QObject::tr("%1 kB/s").arg(n / 1e3, 0, 'f', 0);
  return QObject::tr("%1 B/s").arg(n, 0, 'f', 0);
}
}  // namespace

Side::Side(QWidget* parent) : QWidget(parent) {
  setObjectName("panel");
  setMouseTracking(true);
  setMinimumWidth(200);
  setAccessibleName(tr("Route and figures"));
}

void Side::setRoute(const QString& title, const std::vector<Hop>& hops) {
  title_ = title;
  hops_ = hops;
  QString spoken = title;
  for (const Hop& h : hops)
    spoken += ". " + h.name + ", " + wordsFor(h.state) + (h.found.isEmpty() ? "" : ", " + h.found);
  setAccessibleDescription(spoken);
  update();
}

void Side::setFigures(OpenSession* session) {
  if (session_ == session) {
    update();
    return;
  }
  if (session_) session_->disconnect(this);
  session_ = session;
  if (session != nullptr) connect(session, &OpenSession::figuresChanged, this, qOverload<>(&QWidget::update));
  update();
}

void Side::setChecks(const QString& title, const std::vector<SideCheck>& checks) {
  checksTitle_ = title;
  checks_ = checks;
  update();
}

void Side::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), scheme().panel);
  clickable_.clear();
  qreal y = 18;
  if (hops_.empty() && !checks_.empty()) {
    paintChecks(p, y - 4);
    return;
  }
  if (hops_.empty()) {
    p.setPen(scheme().quiet);
    p.drawText(rect().adjusted(kLeft, 18, -kRight, 0), Qt::AlignTop | Qt::TextWordWrap,
               tr("Choose a machine to see the way to it, and what was found on that way."));
    return;
  }
  y = paintRoute(p, y);
  if (!checks_.empty()) y = paintChecks(p, y + 14);
  if (session_ && session_->isLive()) y = paintFigures(p, y + 14);
  paintAbout(p, y + 16);
}

void Side::setAbout(std::vector<SideAbout> about) {
  if (about == about_) return;
  about_ = std::move(about);
  update();
}

void Side::paintAbout(QPainter& p, qreal y) {
  const Scheme& s = scheme();
  const qreal bottom = height() - 12;
  for (const SideAbout& section : about_) {
    if (y + 44 > bottom) return;
    p.setFont(windowFont(9, QFont::DemiBold));
    p.setPen(headingColour());
    p.drawText(QPointF(kLeft, y + 12), section.title);
    y += 22;
    p.setFont(windowFont(8.5));
    for (const QString& line : section.lines) {
      const int room = width() - kLeft - kRight;
      // What does not break into words is cut in its middle, not wrapped.
      const bool oneWord = p.fontMetrics().horizontalAdvance(line.section(' ', -1)) > room;
      const QString shown = oneWord ? p.fontMetrics().elidedText(line, Qt::ElideMiddle, room) : line;
      const QRectF box = p.boundingRect(QRectF(kLeft, y, room, 400), Qt::TextWordWrap, shown);
      if (box.bottom() > bottom) return;
      p.setPen(s.quiet);
      p.drawText(box, Qt::TextWordWrap, shown);
      y = box.bottom() + 4;
    }
    y += 12;
  }
}

qreal Side::paintRoute(QPainter& p, qreal y) {
  const Scheme& s = scheme();
  const qreal room = width() - kText - kRight;
  p.setFont(windowFont(9, QFont::DemiBold));
  p.setPen(headingColour());
  p.drawText(QRectF(kLeft, y - 4, width() - kLeft - kRight, 20), Qt::AlignVCenter,
             p.fontMetrics().elidedText(title_, Qt::ElideRight, width() - kLeft - kRight));
  y += 26;
  const auto paragraph = [&](const QString& text, const QFont& font, const QColor& colour, qreal top) {
    p.setFont(font);
    p.setPen(colour);
    const QRectF box = p.boundingRect(QRectF(kText, top, room, 400), Qt::TextWordWrap, text);
    p.drawText(box, Qt::TextWordWrap, text);
    return box;
  };
  for (const Hop& hop : hops_) {
    drawState(p, QPointF(kLeft + 8, y + 9), 12, hop.state);
    y = paragraph(hop.name, windowFont(10, QFont::DemiBold), s.text, y).bottom();
    if (!hop.remark.isEmpty()) y = paragraph(hop.remark, windowFont(8.5), s.quiet, y + 1).bottom();
    y += 4;
    if (!hop.pipe) continue;
    const qreal top = y;
    const QColor colour = *hop.pipe == Pipe::Sealed   ? s.teal
                          : *hop.pipe == Pipe::Plain  ? s.amber
                          : *hop.pipe == Pipe::Broken ? s.brick
                                                      : s.quiet;
    y += 7;
    if (!hop.found.isEmpty()) y = paragraph(hop.found, windowFont(8.5), colour, y).bottom();
    if (!hop.cure.isEmpty()) {
      const QRectF box =
          paragraph(hop.cure, windowFont(8.5), hop.cureAction.isEmpty() ? s.quiet : s.copper, y + 2);
      if (!hop.cureAction.isEmpty()) {
        p.drawLine(QPointF(box.left(), box.bottom()), QPointF(box.right(), box.bottom()));
        clickable_.emplace_back(box.adjusted(-2, -2, 2, 2), hop.cureAction);
      }
      y = box.bottom();
    }
    y = std::max(y + 7, top + 30);
    drawPipe(p, QPointF(kLeft + 8, top), y - top, *hop.pipe);
    y += 4;
  }
  return y;
}

qreal Side::paintChecks(QPainter& p, qreal y) {
  const Scheme& s = scheme();
  p.setFont(windowFont(9, QFont::DemiBold));
  p.setPen(headingColour());
  p.drawText(QPointF(kLeft, y + 12), checksTitle_);
  y += 24;
  const QRectF room(kText, 0, width() - kText - kRight, 400);
  for (const SideCheck& check : checks_) {
    p.setFont(windowFont(9));
    const QRectF box = p.boundingRect(room.translated(0, y), Qt::TextWordWrap, check.text);
    drawState(p, QPointF(kLeft + 8, y + 8), 10, check.state);
    p.setPen(s.text);
    p.drawText(box, Qt::TextWordWrap, check.text);
    y = box.bottom() + 2;
    if (!check.cure.isEmpty()) {
      p.setFont(windowFont(8.5));
      const QRectF cure = p.boundingRect(room.translated(0, y), Qt::TextWordWrap, check.cure);
      p.setPen(check.action.isEmpty() ? s.quiet : s.copper);
      p.drawText(cure, Qt::TextWordWrap, check.cure);
      if (!check.action.isEmpty()) {
        p.drawLine(cure.bottomLeft(), cure.bottomRight());
        clickable_.emplace_back(cure.adjusted(-2, -2, 2, 2), check.action);
      }
      y = cure.bottom() + 2;
    }
    y += 5;
  }
  return y;
}

qreal Side::paintFigures(QPainter& p, qreal y) {
  const Scheme& s = scheme();
  const Figures& f = session_->figures();
  p.setFont(windowFont(9, QFont::DemiBold));
  p.setPen(headingColour());
  p.drawText(QPointF(kLeft, y + 12), tr("Now"));
  y += 24;
  const double ms = std::chrono::duration<double, std::milli>(f.keyToPicture).count();
  const Size size = session_->pictureSize();
  std::vector<std::pair<QString, QString>> rows = {
      {tr("Picture"),
       tr("%1 × %2 · %3 fps").arg(size.width).arg(size.height).arg(f.framesPerSecond, 0, 'f', 0)},
      {tr("Encoding"), f.encodings.empty() ? tr("still") : QString::fromStdString(f.encodings)},
      {tr("Data"),
       tr("%1 in · %2 out").arg(bytesPerSecond(f.bytesInPerSecond), bytesPerSecond(f.bytesOutPerSecond))},
      {tr("In all"), QLocale().formattedDataSize(static_cast<qint64>(f.bytesIn))},
      {tr("Key to picture"), ms > 0 ? tr("%1 ms").arg(ms, 0, 'f', 0) : tr("no key yet")},
  };
  if (f.roundTrip.count() > 0)
    rows.emplace_back(
        tr("Line, as it says"),
        f.lineBitsPerSecond > 0
            ? tr("%1 ms · %2 Mbit/s")
                  .arg(std::chrono::duration<double, std::milli>(f.roundTrip).count(), 0, 'f', 0)
                  .arg(f.lineBitsPerSecond / 1e6, 0, 'f', 0)
            : tr("%1 ms").arg(std::chrono::duration<double, std::milli>(f.roundTrip).count(), 0, 'f', 0));
  if (f.soundBytes > 0)
    rows.emplace_back(tr("Sound"), QLocale().formattedDataSize(static_cast<qint64>(f.soundBytes)));
  if (TextConsole* console = session_->text()) {
    const text::TextView screen = console->terminal().screen();
    const std::string log = console->logFile().filename();
    rows = {{tr("Screen"), tr("%1 columns, %2 rows").arg(screen.columns).arg(screen.screenRows)},
            {tr("Kept above"), tr("%L1 rows").arg(console->terminal().scrollbackRows())},
            {tr("Data"), rows[2].second},
            {tr("In all"), rows[3].second},
            {tr("Log"), log.empty() ? tr("none") : QString::fromStdString(log)}};
  }
  p.setFont(windowFont(9));
  for (const auto& [what, value] : rows) {
    const QRectF line(kLeft, y, width() - kLeft - kRight, 20);
    p.setPen(s.quiet);
    p.drawText(line, Qt::AlignVCenter, what);
    p.setPen(s.text);
    const int room = static_cast<int>(line.width()) - p.fontMetrics().horizontalAdvance(what) - 10;
    p.drawText(line, Qt::AlignVCenter | Qt::AlignRight,
               p.fontMetrics().elidedText(value, Qt::ElideRight, room));
    y += 22;
  }
  if (session_->text() != nullptr) return y + 6;
  const std::vector<double>& curve = session_->latencies();
  const QRectF plot(kLeft, y + 6, width() - kLeft - kRight, 36);
  p.setRenderHint(QPainter::Antialiasing);
  p.setPen(s.line);
  p.drawLine(plot.bottomLeft(), plot.bottomRight());
  const double most = std::max(20.0, curve.empty() ? 0.0 : *std::max_element(curve.begin(), curve.end()));
  QPainterPath path;
  bool begun = false;
  for (std::size_t i = 0; i < curve.size(); ++i) {
    if (curve[i] <= 0) continue;  // no key yet
    const QPointF at(plot.left() + plot.width() * static_cast<double>(i) / 59.0,
                     plot.bottom() - plot.height() * curve[i] / most);
    begun ? path.lineTo(at) : path.moveTo(at);
    begun = true;
  }
  p.setPen(QPen(s.copper, 1.5));
  p.setBrush(Qt::NoBrush);
  p.drawPath(path);
  return plot.bottom() + 6;
}

void Side::mousePressEvent(QMouseEvent* event) {
  for (const auto& [rect, action] : clickable_)
    if (rect.contains(event->position())) {
      emit cureClicked(action);
      return;
    }
}

void Side::mouseMoveEvent(QMouseEvent* event) {
  const bool over = std::any_of(clickable_.begin(), clickable_.end(),
                                [&](const auto& c) { return c.first.contains(event->position()); });
  setCursor(over ? Qt::PointingHandCursor : Qt::ArrowCursor);
}

}  // namespace kw::desktop

#include "desktop/look/glyphs.hpp"

#include <QFile>
#include <QFontMetricsF>
#include <QPainterPath>
#include <QSvgRenderer>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

QString wordsFor(State state) {
  switch (state) {
    case State::NeverReached: return QObject::tr("never reached");
    case State::Off: return QObject::tr("off");
    case State::Starting: return QObject::tr("starting");
    case State::NotAnswering: return QObject::tr("running, not answering");
    case State::Answering: return QObject::tr("answering");
    case State::Trouble: return QObject::tr("trouble");
  }
  return {};
}

QColor colourOf(State state) {
  const Scheme& s = scheme();
  switch (state) {
    case State::NeverReached:
    case State::Off: return s.quiet;
    case State::Starting: return s.amber;
    case State::NotAnswering:
    case State::Answering: return s.teal;
    case State::Trouble: return s.brick;
  }
  return s.quiet;
}

void drawState(QPainter& p, QPointF c, qreal size, State state) {
  p.save();
  p.setRenderHint(QPainter::Antialiasing);
  const QColor colour = colourOf(state);
  const qreal r = size / 2 - 1;
  QPen pen(colour, 1.6);
  p.setPen(pen);
  p.setBrush(Qt::NoBrush);
  switch (state) {
    case State::NeverReached:
      pen.setDashPattern({1.6, 1.7});
      p.setPen(pen);
      p.drawEllipse(c, r, r);
      break;
    case State::Off: p.drawEllipse(c, r, r); break;
    case State::Starting: {
      p.drawEllipse(c, r, r);
      p.setBrush(colour);
      p.drawPie(QRectF(c.x() - r, c.y() - r, 2 * r, 2 * r), -90 * 16, 180 * 16);
      break;
    }
    case State::NotAnswering:
      p.drawEllipse(c, r, r);
      p.setBrush(colour);
      p.setPen(Qt::NoPen);
      p.drawEllipse(c, r * 0.42, r * 0.42);
      break;
    case State::Answering:
      p.setBrush(colour);
      p.setPen(Qt::NoPen);
      p.drawEllipse(c, r + 0.6, r + 0.6);
      break;
    case State::Trouble: {
      p.setBrush(colour);
      p.setPen(Qt::NoPen);
      const qreal d = r + 1.4;
      p.drawPolygon(
          QPolygonF({{c.x(), c.y() - d}, {c.x() + d, c.y()}, {c.x(), c.y() + d}, {c.x() - d, c.y()}}));
      break;
    }
  }
  p.restore();
}

void drawPipe(QPainter& p, QPointF top, qreal length, Pipe pipe) {
  p.save();
  p.setRenderHint(QPainter::Antialiasing);
  const Scheme& s = scheme();
  if (pipe == Pipe::Sealed) {
    p.setPen(QPen(s.teal, 1.6));
    for (qreal dx : {-2.6, 2.6})
      p.drawLine(QPointF(top.x() + dx, top.y()), QPointF(top.x() + dx, top.y() + length));
  } else {
    QPen pen(pipe == Pipe::Plain ? s.amber : pipe == Pipe::Broken ? s.brick : s.quiet, 1.8);
    pen.setDashPattern(pipe == Pipe::Plain ? QVector<qreal>{3, 2.4} : QVector<qreal>{1, 5});
    p.setPen(pen);
    p.drawLine(top, QPointF(top.x(), top.y() + length));
  }
  p.restore();
}

qreal chipWidth(const QString& text) { return QFontMetricsF(monoFont(7.6)).horizontalAdvance(text) + 12; }

qreal drawChip(QPainter& p, QPointF at, const QString& text, bool own, bool faint) {
  p.save();
  p.setRenderHint(QPainter::Antialiasing);
  const Scheme& s = scheme();
  const qreal width = chipWidth(text);
  const QRectF box(at.x() + 0.5, at.y() + 0.5, width - 1, kChipHeight - 1);
  QPen edge(own ? s.copper : s.line, 1);
  if (faint) edge.setStyle(Qt::DotLine);
  p.setPen(edge);
  p.setBrush(Qt::NoBrush);
  p.drawRoundedRect(box, 3, 3);
  p.setFont(monoFont(7.6));
  p.setPen(own ? s.copper : faint ? s.quiet : s.text);
  p.drawText(box, Qt::AlignCenter, text);
  p.restore();
  return width;
}

QIcon lineIcon(const QString& name, const QColor& colour) {
  QFile file(":/icons/" + name + ".svg");
  if (!file.open(QIODevice::ReadOnly)) return {};
  QByteArray svg = file.readAll();
  svg.replace("currentColor", colour.name().toUtf8());
  QSvgRenderer renderer(svg);
  QIcon icon;
  for (int side : {16, 32, 48}) {
    QPixmap pixmap(side, side);
    pixmap.fill(Qt::transparent);
    QPainter painter(&pixmap);
    renderer.render(&painter);
    icon.addPixmap(pixmap);
    icon.addPixmap(pixmap, QIcon::Selected);  // as clear in a chosen row
  }
  return icon;
}

}  // namespace kw::desktop

// Small drawings: state glyphs (never colour alone), pipes of the route, chips, line icons.
#pragma once
#include <QIcon>
#include <QPainter>
#include <QString>

namespace kw::desktop {

/// How a machine or hop stands. Each has a shape of its own.
enum class State {
  NeverReached,  ///< dashed ring
  Off,           ///< ring
  Starting,      ///< ring half filled
  NotAnswering,  ///< ring with dot: running but not answering
  Answering,     ///< disc
  Trouble,       ///< diamond
};
QString wordsFor(State state);
QColor colourOf(State state);
/// Draws into a square of `size` around `centre`.
void drawState(QPainter& painter, QPointF centre, qreal size, State state);

/// A stretch of the route between two hops.
enum class Pipe { Sealed, Plain, Broken, Untried };
void drawPipe(QPainter& painter, QPointF top, qreal length, Pipe pipe);

/// A chip with monospaced text; returns its width. `own` is drawn in copper, `faint` cannot be used.
qreal drawChip(QPainter& painter, QPointF topLeft, const QString& text, bool own, bool faint);
qreal chipWidth(const QString& text);
constexpr qreal kChipHeight = 17;

/// One of the project's own SVG line drawings, in the given colour (16 px grid).
QIcon lineIcon(const QString& name, const QColor& colour);

}  // namespace kw::desktop

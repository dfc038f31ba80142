#include "desktop/text/text_painter.hpp"

#include <QFontMetricsF>
#include <cmath>

#include "desktop/look/theme.hpp"

namespace kw::desktop {

using text::Cell;

TextPainter::TextPainter() : scheme_(textSchemes().front()) { setFont({}, 11); }

void TextPainter::setFont(const QString& family, double points) {
  font_ = family.isEmpty() ? monoFont(points) : QFont(family);
  font_.setPointSizeF(points);
  font_.setStyleHint(QFont::Monospace);
  font_.setKerning(false);
  font_.setFixedPitch(true);
  font_.setStyleStrategy(QFont::PreferAntialias);
  bold_ = italic_ = boldItalic_ = font_;
  bold_.setBold(true);
  italic_.setItalic(true);
  boldItalic_.setBold(true);
  boldItalic_.setItalic(true);
  const QFontMetricsF m(font_);
  cell_ = QSize(std::max(1, static_cast<int>(std::lround(m.horizontalAdvance('M')))),
                std::max(1, static_cast<int>(std::ceil(m.height()))));
  ascent_ = static_cast<int>(std::ceil(m.ascent()));
  // Letters are set at whole columns whatever the font's own width.
  for (QFont* f : {&font_, &bold_, &italic_, &boldItalic_})
    f->setLetterSpacing(QFont::AbsoluteSpacing, cell_.width() - m.horizontalAdvance('M'));
}

TextPainter::Look TextPainter::lookOf(const Cell& cell, bool reverse) const {
  Look look;
  const bool bold = (cell.attrs & text::attr::kBold) != 0;
  look.fg = scheme_.colour(cell.fg, true, bold);
  look.bg = scheme_.colour(cell.bg, false, false);
  if (((cell.attrs & text::attr::kReverse) != 0) != reverse) std::swap(look.fg, look.bg);
  if (cell.attrs & text::attr::kFaint)
    look.fg = QColor((look.fg.red() + look.bg.red()) / 2, (look.fg.green() + look.bg.green()) / 2,
                     (look.fg.blue() + look.bg.blue()) / 2);
  if (cell.attrs & text::attr::kHidden) look.fg = look.bg;
  look.attrs = cell.attrs & static_cast<std::uint16_t>(~text::attr::kWideTail);
  look.link = cell.link != 0;
  return look;
}

void TextPainter::paintRun(QPainter& p, QRect at, const QString& run, const Look& look) const {
  if (!run.trimmed().isEmpty()) {
    const bool bold = look.attrs & text::attr::kBold, italic = look.attrs & text::attr::kItalic;
    p.setFont(bold && italic ? boldItalic_ : bold ? bold_ : italic ? italic_ : font_);
    p.setPen(look.fg);
    p.drawText(QPoint(at.x(), at.y() + ascent_), run);
  }
  using namespace text::attr;
  const int base = at.y() + std::min(ascent_ + 2, cell_.height() - 1);
  if (look.link || (look.attrs & (kUnderline | kDoubleUnderline | kCurlyUnderline))) {
    QPen pen(look.fg, 1);
    if (look.link) pen.setStyle(Qt::DotLine);
    if (look.attrs & kCurlyUnderline) pen.setStyle(Qt::DashLine);
    p.setPen(pen);
    p.drawLine(at.left(), base, at.right(), base);
    if (look.attrs & kDoubleUnderline) p.drawLine(at.left(), base - 2, at.right(), base - 2);
  }
  if (look.attrs & kStrike) {
    p.setPen(look.fg);
    p.drawLine(at.left(), at.y() + cell_.height() / 2, at.right(), at.y() + cell_.height() / 2);
  }
}

void TextPainter::paintRow(QPainter& p, const text::Row& row, int columns, const text::Terminal& terminal,
                           bool reverse, const Marks& marks) const {
  const int w = cell_.width(), h = cell_.height();
  const QPoint at(0, 0);
  if (row.size != text::RowSize::Normal) {
    p.fillRect(QRect(0, 0, columns * w, h), lookOf(Cell{}, reverse).bg);
    p.setClipRect(QRect(0, 0, columns * w, h));
    if (row.size == text::RowSize::TallBottom) p.translate(0, -h);
    p.scale(2, row.size == text::RowSize::Wide ? 1 : 2);
    columns = std::max(1, columns / 2);
  }
  const Look plain = lookOf(Cell{}, reverse);
  p.fillRect(QRect(at.x(), at.y(), columns * w, h), plain.bg);
  const int used = std::min(columns, static_cast<int>(row.cells.size()));
  const auto ground = [&](int from, int to, const QColor& c) {
    p.fillRect(QRect(at.x() + from * w, at.y(), (to - from) * w, h), c);
  };
  // Grounds first: letters may reach a little over their cell.
  for (int c = 0; c < used;) {
    const Look look = lookOf(row.cells[static_cast<std::size_t>(c)], reverse);
    int end = c + 1;
    while (end < used && lookOf(row.cells[static_cast<std::size_t>(end)], reverse).bg == look.bg) ++end;
    if (look.bg != plain.bg) ground(c, end, look.bg);
    c = end;
  }
  for (std::size_t i = 0; i < marks.finds.size(); ++i)
    ground(marks.finds[i].first, marks.finds[i].second,
           static_cast<int>(i) == marks.currentFind ? scheme_.cursor : scheme_.mark);
  if (marks.selectTo > marks.selectFrom)
    ground(marks.selectFrom, std::min(marks.selectTo, columns), scheme_.selection);
  QString run;
  for (int c = 0; c < used;) {
    const Cell& first = row.cells[static_cast<std::size_t>(c)];
    const Look look = lookOf(first, reverse);
    run.clear();
    int end = c;
    // Only ASCII runs on; anything else is set cell by cell, since fonts differ in its width.
    while (end < used) {
      const Cell& cell = row.cells[static_cast<std::size_t>(end)];
      if (cell.ch >= 0x7F || (cell.attrs & text::attr::kWideTail) || !(lookOf(cell, reverse) == look)) break;
      run += cell.ch < 0x20 ? QChar(' ') : QChar(static_cast<char16_t>(cell.ch));
      ++end;
    }
    if (end == c) {
      if (!(first.attrs & text::attr::kWideTail)) run = QString::fromStdString(terminal.pointsOf(first.ch));
      ++end;
      if (end < used && (row.cells[static_cast<std::size_t>(end)].attrs & text::attr::kWideTail)) ++end;
    }
    paintRun(p, QRect(at.x() + c * w, at.y(), (end - c) * w, h), run, look);
    c = end;
  }
}

void TextPainter::paintCursor(QPainter& p, QRect at, text::CursorShape shape, bool focused) const {
  if (!focused) {
    p.setPen(scheme_.cursor);
    p.setBrush(Qt::NoBrush);
    p.drawRect(at.adjusted(0, 0, -1, -1));
    return;
  }
  if (shape == text::CursorShape::Underline) at.setTop(at.bottom() - 2);
  if (shape == text::CursorShape::Bar) at.setWidth(2);
  QColor c = scheme_.cursor;
  if (shape == text::CursorShape::Block) c.setAlpha(170);
  p.fillRect(at, c);
}

QImage smallTextPicture(const text::Terminal& terminal, const TextScheme& scheme, QSize size, double ratio) {
  QImage image(size * ratio, QImage::Format_RGB32);
  image.setDevicePixelRatio(ratio);
  image.fill(scheme.ground);
  QPainter p(&image);
  const text::TextView v = terminal.screen();
  const int band = 14;  // the last line, readable
  const double w = static_cast<double>(size.width() - 4) / std::max(1, v.columns);
  const double h = static_cast<double>(size.height() - band - 4) / std::max<std::size_t>(1, v.rows.size());
  for (std::size_t r = 0; r < v.rows.size(); ++r)
    for (std::size_t c = 0; c < v.rows[r].cells.size(); ++c) {
      const Cell& cell = v.rows[r].cells[c];
      const bool ink = cell.ch > ' ';
      if (!ink && cell.bg == 0 && !(cell.attrs & text::attr::kReverse)) continue;
      const bool turned = (cell.attrs & text::attr::kReverse) != 0;
      QColor colour = scheme.colour(ink && !turned ? cell.fg
                                    : turned       ? cell.fg
                                                   : cell.bg,
                                    ink || turned, false);
      if (ink && !turned) colour.setAlpha(170);
      p.fillRect(
          QRectF(2 + static_cast<double>(c) * w, 2 + static_cast<double>(r) * h, w, std::max(1.0, h * 0.6)),
          colour);
    }
  p.fillRect(QRect(0, size.height() - band, size.width(), band), scheme.ground);
  p.setFont(monoFont(7));
  p.setPen(scheme.text);
  const QString last = QString::fromStdString(terminal.lastLine()).simplified();
  p.drawText(QRect(4, size.height() - band, size.width() - 8, band), Qt::AlignVCenter,
             p.fontMetrics().elidedText(last, Qt::ElideLeft, size.width() - 8));
  return image;
}

}  // namespace kw::desktop

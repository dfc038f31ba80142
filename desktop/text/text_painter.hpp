// Paints rows of text cells.
#pragma once
#include <QFont>
#include <QPainter>
#include <QSize>

#include "desktop/text/text_schemes.hpp"
#include "text/terminal.hpp"

namespace kw::desktop {

class TextPainter {
 public:
  TextPainter();
  void setFont(const QString& family, double points);
  void setScheme(const TextScheme& scheme) { scheme_ = scheme; }
  [[nodiscard]] const TextScheme& scheme() const { return scheme_; }
  [[nodiscard]] const QFont& font() const { return font_; }
  /// In widget units; whole numbers, so that rows meet without gaps.
  [[nodiscard]] QSize cell() const { return cell_; }

  /// Columns [from, to) that are chosen or found are painted over the cells' own ground.
  struct Marks {
    int selectFrom = 0, selectTo = 0;
    std::vector<std::pair<int, int>> finds;
    int currentFind = -1;  ///< index into finds
    bool operator==(const Marks&) const = default;
  };
  /// At the painter's origin; a row of large characters fills the same place with half as many of them.
  void paintRow(QPainter& p, const text::Row& row, int columns, const text::Terminal& terminal, bool reverse,
                const Marks& marks) const;
  void paintCursor(QPainter& p, QRect at, text::CursorShape shape, bool focused) const;

 private:
  struct Look {
    QColor fg, bg;
    std::uint16_t attrs = 0;
    bool link = false;
    bool operator==(const Look&) const = default;
  };
  [[nodiscard]] Look lookOf(const text::Cell& cell, bool reverse) const;
  void paintRun(QPainter& p, QRect at, const QString& run, const Look& look) const;

  TextScheme scheme_;
  QFont font_, bold_, italic_, boldItalic_;
  QSize cell_;
  int ascent_ = 0;
};

/// A small picture of the whole screen: a texture of its text, and its last line readable below.
QImage smallTextPicture(const text::Terminal& terminal, const TextScheme& scheme, QSize size, double ratio);

}  // namespace kw::desktop

// Colours of text consoles: sixteen named colours, text and ground. Six schemes of our own.
#pragma once
#include <QColor>
#include <QString>
#include <array>
#include <vector>

#include "desk/shown_as.hpp"
#include "text/cell.hpp"

namespace kw::desktop {

struct TextScheme {
  QString key, name;
  QColor text, ground, cursor, selection, mark;
  std::array<QColor, 16>
      named;  ///< black, red, green, yellow, blue, magenta, cyan, white; then the bright ones

  /// What a cell's colour looks like; `bold` makes the first eight bright.
  [[nodiscard]] QColor colour(text::Colour c, bool foreground, bool bold) const;
};

const std::vector<TextScheme>& textSchemes();
/// The scheme with own text and ground put over it; unknown keys give the first.
TextScheme textScheme(const QString& key, const QString& ownText = {}, const QString& ownGround = {});
TextScheme textSchemeOf(const ShownAs& shown);

}  // namespace kw::desktop

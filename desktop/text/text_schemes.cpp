#include "desktop/text/text_schemes.hpp"

#include <QObject>

#include "desktop/look/own_colours.hpp"

namespace kw::desktop {

namespace {

std::array<QColor, 16> colours(std::initializer_list<QRgb> list) {
  std::array<QColor, 16> out;
  std::size_t i = 0;
  for (const QRgb c : list) out[i++] = QColor(c);
  return out;
}

/// 16 to 231: a cube of six steps; 232 to 255: greys (as xterm numbers them).
QColor indexed(unsigned i) {
  if (i >= 232) {
    const int grey = static_cast<int>(8 + (i - 232) * 10);
    return {grey, grey, grey};
  }
  const auto step = [](unsigned v) { return v == 0 ? 0 : static_cast<int>(55 + v * 40); };
  i -= 16;
  return {step(i / 36), step(i / 6 % 6), step(i % 6)};
}

}  // namespace

QColor TextScheme::colour(text::Colour c, bool foreground, bool bold) const {
  if (c == text::kOwnColour) return foreground ? text : ground;
  if (c >> 24 == 2)
    return QColor(static_cast<int>(c >> 16 & 0xFF), static_cast<int>(c >> 8 & 0xFF),
                  static_cast<int>(c & 0xFF));
  const unsigned i = c & 0xFF;
  if (i < 16) return named[bold && foreground && i < 8 ? i + 8 : i];
  return indexed(i);
}

const std::vector<TextScheme>& textSchemes() {
  static const std::vector<TextScheme> list = {
      {"evening", QObject::tr("Evening"), 0xe9e4da, 0x1b1f23, 0xd08748, 0x4a3a2a, 0x6b5a1e,
       colours({0x2a3036, 0xd0604e, 0x7fb069, 0xe0b04c, 0x6a9fd0, 0xb48ac0, 0x5bb8a8, 0xcfc9bd, 0x68727a,
                0xe88474, 0x9fcf88, 0xf0ca78, 0x92bfe8, 0xd0aedb, 0x86d6c8, 0xf6f2ea})},
      {"morning", QObject::tr("Morning"), 0x2b2f33, 0xfbf8f2, 0xa85f24, 0xf0dcc4, 0xf3df9a,
       colours({0x2b2f33, 0xa63a2a, 0x4b7a2f, 0x8a6410, 0x2d62a0, 0x7c4a8c, 0x1f7a6c, 0x8b867c, 0x5d6166,
                0xc4503e, 0x5f9440, 0xa87c1c, 0x3f7cc0, 0x9860aa, 0x2a9684, 0x4a4640})},
      {"fern", QObject::tr("Fern"), 0xc8d8b8, 0x16201a, 0x9fd07a, 0x2c4030, 0x58621c,
       colours({0x22302a, 0xc8705a, 0x84b860, 0xd2bc62, 0x6f9fa8, 0xa88aa8, 0x6cb89a, 0xb8c8a8, 0x56685c,
                0xe08e78, 0xa6d680, 0xe8d68a, 0x96c2cc, 0xc8acc8, 0x94d8bc, 0xe6f0da})},
      {"slate", QObject::tr("Slate"), 0xd4dae2, 0x222a36, 0xe6b673, 0x3c4a60, 0x5e5632,
       colours({0x333d4c, 0xd86f6f, 0x86bd8b, 0xd9b875, 0x7aa6dc, 0xb596d6, 0x73bcc6, 0xc2cad6, 0x6b788c,
                0xec9292, 0xa8d8ac, 0xf0d49c, 0xa2c6f2, 0xd0b8ec, 0x9cdae2, 0xf0f4fa})},
      {"paper", QObject::tr("Paper"), 0x3a342c, 0xefe6d2, 0x8a4b2a, 0xdccba8, 0xe8cf7e,
       colours({0x3a342c, 0x9c3f30, 0x56702c, 0x846018, 0x3a5f88, 0x764a70, 0x2f7068, 0x857b68, 0x655c4e,
                0xb85444, 0x6c8a3a, 0x9c7626, 0x4c78a8, 0x905e8a, 0x3e8a80, 0x4e463a})},
      {"ember", QObject::tr("Ember"), 0xf0b878, 0x1c1512, 0xff9a4a, 0x4c2f1e, 0x6a4a12,
       colours({0x2e221c, 0xd8583c, 0xb8a050, 0xe8a848, 0xb08868, 0xc87868, 0xc8a078, 0xe0b088, 0x7a6252,
                0xf07c5c, 0xd8c070, 0xffc870, 0xd0a888, 0xe89888, 0xe8c098, 0xffe4c4})},
  };
  return list;
}

TextScheme textSchemeOf(const ShownAs& shown) {
  return textScheme(QString::fromStdString(shown.textScheme), QString::fromStdString(shown.textInk),
                    QString::fromStdString(shown.textGround));
}

TextScheme textScheme(const QString& key, const QString& ownText, const QString& ownGround) {
  TextScheme out = textSchemes().front();
  for (const TextScheme& s : everyTextScheme())
    if (s.key == key) out = s;
  if (const QColor c(ownText); c.isValid()) out.text = c;
  if (const QColor c(ownGround); c.isValid()) out.ground = c;
  return out;
}

}  // namespace kw::desktop

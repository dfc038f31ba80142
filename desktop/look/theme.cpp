#include "desktop/look/theme.hpp"

#include <QApplication>
#include <QFontDatabase>
#include <QPalette>
#include <QStyleFactory>
#include <cmath>

#include "desktop/look/plain_labels.hpp"

namespace kw::desktop {

namespace {

const Scheme kEvening{"Evening",
                      true,
                      QColor(0x20, 0x25, 0x2a),
                      QColor(0x27, 0x2d, 0x33),
                      QColor(0x2f, 0x36, 0x3d),
                      QColor(0x3a, 0x42, 0x4a),
                      QColor(0xe9, 0xe4, 0xda),
                      QColor(0x9a, 0xa3, 0xa8),
                      QColor(0xd0, 0x87, 0x48),
                      QColor(0x5b, 0xb8, 0xa8),
                      QColor(0xe0, 0xb0, 0x4c),
                      QColor(0xe4, 0x80, 0x6e),
                      QColor(0x19, 0x1d, 0x21)};
const Scheme kMorning{"Morning",
                      false,
                      QColor(0xf4, 0xf1, 0xea),
                      QColor(0xeb, 0xe6, 0xdc),
                      QColor(0xdf, 0xd9, 0xcc),
                      QColor(0xcf, 0xc8, 0xb9),
                      QColor(0x2b, 0x2f, 0x33),
                      QColor(0x5b, 0x62, 0x67),
                      QColor(0x96, 0x54, 0x1c),
                      QColor(0x1c, 0x6b, 0x5e),
                      QColor(0x80, 0x5a, 0x05),
                      QColor(0xa8, 0x3a, 0x28),
                      QColor(0xfb, 0xf9, 0xf5)};

Scheme own;
const Scheme* current = &kEvening;
SchemeChoice chosen = SchemeChoice::FollowDesktop;

QString firstFamily(const QStringList& wanted, QFontDatabase::SystemFont fallback) {
  const QStringList have = QFontDatabase::families();
  for (const QString& family : wanted)
    if (have.contains(family)) return family;
  return QFontDatabase::systemFont(fallback).family();
}

bool desktopIsDark(const QPalette& before) {
  return before.color(QPalette::Window).lightness() < before.color(QPalette::WindowText).lightness();
}

QColor mixed(const QColor& a, const QColor& b, double shareOfB) {
  const auto part = [shareOfB](int x, int y) {
    return static_cast<int>(std::lround(x + (y - x) * shareOfB));
  };
  return {part(a.red(), b.red()), part(a.green(), b.green()), part(a.blue(), b.blue())};
}

/// What can be read on a filled copper ground.
/// Chosen rows: copper laid thinly over the ground, as in the roster.
QColor calm(const Scheme& s) {
  const double part = s.dark ? 0.16 : 0.2;
  const auto mix = [part](int a, int b) { return static_cast<int>(a * (1 - part) + b * part); };
  return {mix(s.panel.red(), s.copper.red()), mix(s.panel.green(), s.copper.green()),
          mix(s.panel.blue(), s.copper.blue())};
}

QColor onCopper(const Scheme& s) { return s.copper.lightness() > 125 ? QColor(0x19, 0x1d, 0x21) : Qt::white; }

QColor headingOf(const Scheme& s) {
  return &s == &kEvening   ? QColor("#c7b08f")
         : &s == &kMorning ? QColor("#6d4d27")
                           : mixed(s.copper, s.text, 0.5);
}

QPalette paletteOf(const Scheme& s) {
  QPalette p;
  p.setColor(QPalette::Window, s.ground);
  p.setColor(QPalette::WindowText, s.text);
  p.setColor(QPalette::Base, s.field);
  p.setColor(QPalette::AlternateBase, s.panel);
  p.setColor(QPalette::Text, s.text);
  p.setColor(QPalette::Button, s.raised);
  p.setColor(QPalette::ButtonText, s.text);
  p.setColor(QPalette::PlaceholderText, s.quiet);
  p.setColor(QPalette::ToolTipBase, s.raised);
  p.setColor(QPalette::ToolTipText, s.text);
  p.setColor(QPalette::Highlight, s.copper);
  p.setColor(QPalette::HighlightedText, onCopper(s));
  p.setColor(QPalette::Link, s.copper);
  p.setColor(QPalette::Mid, s.line);
  for (auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText})
    p.setColor(QPalette::Disabled, role, s.quiet);
  return p;
}

QString sheetOf(const Scheme& s) {
  QString text = R"(
QMainWindow, QWidget#stagePage { background: @ground; }
QWidget#panel, QMenuBar { background: @panel; }
QMenuBar { padding: 4px 8px; border: none; }
QMenuBar::item { padding: 5px 10px; border-radius: 4px; background: transparent; }
QMenuBar::item:selected { background: @raised; }
QMenu { background: @raised; border: 1px solid @line; padding: 5px; }
QMenu::item { padding: 6px 26px 6px 22px; border-radius: 4px; }
QMenu::item:selected { background: @copper; color: @onCopper; }
QWidget#offer { background: @raised; border-bottom: 1px solid @line; }
QTableView, QTreeView, QListView { selection-background-color: @calm; selection-color: @text; }
QTableView::item:selected, QTreeView::item:selected { background: @calm; color: @text; }
QTreeView#journal::item, QTreeView#journal::item:selected { padding: 5px 4px 5px 2px; }
QTreeView::branch:selected { background: @calm; }
QMenu::item:disabled { color: @quiet; }
QMenu::separator { height: 1px; background: @line; margin: 5px 8px; }
QLineEdit, QComboBox, QAbstractSpinBox, QPlainTextEdit { background: @field; border: 1px solid @line; border-radius: 6px;
  padding: 6px 10px; selection-background-color: @copper; }
QLineEdit:focus, QComboBox:focus, QAbstractSpinBox:focus, QPlainTextEdit:focus { border: 1px solid @copper; }
QComboBox::drop-down { border: none; width: 22px; }
QComboBox::down-arrow { image: url(:/icons/choose.svg); width: 12px; height: 12px; }
QComboBox QAbstractItemView { background: @raised; border: 1px solid @line; selection-background-color: @copper;
  selection-color: @onCopper; }
QPushButton { background: transparent; border: 1px solid @line; border-radius: 5px; padding: 6px 14px; }
QPushButton:hover { background: @raised; }
QPushButton:focus { border: 1px solid @copper; }
QPushButton:disabled { color: @quiet; }
QPushButton[own="true"] { border: 1px solid @copper; color: @copper; }
QPushButton[own="true"]:hover { background: @copper; color: @onCopper; }
QPushButton[chip="true"] { padding: 4px 9px; color: @quiet; }
QPushButton[chip="true"]:checked { border: 1px solid @copper; color: @copper; }
QToolButton { background: transparent; border: 1px solid transparent; border-radius: 4px; padding: 2px 6px;
  color: @quiet; }
QToolButton:hover { color: @text; background: @raised; }
QToolButton:focus { border: 1px solid @copper; }
QToolButton:checked { color: @copper; }
QToolButton:disabled { color: @faint; }
QToolButton::menu-indicator { image: none; }
QLabel#quiet { color: @quiet; }
QLabel#heading { color: @heading; font-weight: 600; }
QLabel#title { font-size: 15pt; font-weight: 600; }
QLabel#bad { color: @brick; }
QLabel#warn { color: @amber; }
QSplitter::handle { background: @ground; }
QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
QScrollBar::handle:vertical { background: @line; border-radius: 4px; min-height: 28px; margin: 1px; }
QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
QScrollBar::handle:horizontal { background: @line; border-radius: 4px; min-width: 28px; margin: 1px; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QHeaderView { background: transparent; }
QHeaderView::section { background: transparent; color: @quiet; border: none; border-bottom: 1px solid @line; padding: 5px 3px; }
QToolTip { background: @raised; color: @text; border: 1px solid @line; padding: 5px; }
QScrollArea { border: none; background: transparent; }
QCheckBox::indicator { width: 15px; height: 15px; border: 1px solid @quiet; border-radius: 4px; background: @field; }
QCheckBox::indicator:checked { background: @copper; border: 1px solid @copper; }
QFrame#card { background: @panel; border: 1px solid @line; border-radius: 8px; }
)";
  const std::pair<const char*, QString> colours[] = {
      {"@ground", s.ground.name()},      {"@panel", s.panel.name()},
      {"@raised", s.raised.name()},      {"@line", s.line.name()},
      {"@text", s.text.name()},          {"@quiet", s.quiet.name()},
      {"@copper", s.copper.name()},      {"@brick", s.brick.name()},
      {"@field", s.field.name()},        {"@faint", mixed(s.quiet, s.ground, 0.45).name()},
      {"@heading", headingOf(s).name()}, {"@onCopper", onCopper(s).name()},
      {"@calm", calm(s).name()},         {"@amber", s.amber.name()},
  };
  for (const auto& [token, value] : colours) text.replace(token, value);
  return text;
}

void applyCurrent(QApplication& app);

}  // namespace

const Scheme& scheme() { return *current; }
QColor markColour(const QString& word) {
  static const std::pair<const char*, QColor> kColours[] = {
      {"moss", QColor(0x7f, 0x9c, 0x4a)}, {"lake", QColor(0x3f, 0x8f, 0xa8)},
      {"plum", QColor(0x8a, 0x5c, 0x90)}, {"straw", QColor(0xd4, 0xb8, 0x5e)},
      {"clay", QColor(0xb8, 0x5f, 0x45)}, {"ash", QColor(0x8b, 0x8f, 0x94)}};
  for (const auto& [name, colour] : kColours)
    if (word == name) return colour;
  return {};
}

QColor inkOn(const QColor& ground) {
  const double light = 0.299 * ground.redF() + 0.587 * ground.greenF() + 0.114 * ground.blueF();
  return light > 0.5 ? QColor(0x1b, 0x1a, 0x18) : QColor(0xf6, 0xf1, 0xe8);
}

QColor headingColour() { return headingOf(*current); }
SchemeChoice schemeChoice() { return chosen; }

QFont windowFont(double points, QFont::Weight weight) {
  static const QString family = firstFamily({"Inter", "Inter Variable"}, QFontDatabase::GeneralFont);
  QFont font(family);
  font.setPointSizeF(points);
  font.setWeight(weight);
  return font;
}

QFont monoFont(double points) {
  static const QString family = firstFamily({"JetBrains Mono"}, QFontDatabase::FixedFont);
  QFont font(family);
  font.setPointSizeF(points);
  return font;
}

void applyScheme(QApplication& app, SchemeChoice choice) {
  static const bool dark = desktopIsDark(QApplication::palette());
  chosen = choice;
  const bool wantDark = choice == SchemeChoice::Evening || (choice == SchemeChoice::FollowDesktop && dark);
  current = wantDark ? &kEvening : &kMorning;
  applyCurrent(app);
}

void applyOwnScheme(QApplication& app, const Scheme& wanted) {
  chosen = SchemeChoice::Own;
  own = wanted;
  current = &own;
  applyCurrent(app);
}

const Scheme& eveningScheme() { return kEvening; }
const Scheme& morningScheme() { return kMorning; }

namespace {
void applyCurrent(QApplication& app) {
  static bool watched = false;
  if (!std::exchange(watched, true)) app.installEventFilter(new PlainLabels(&app));
  app.setStyle(QStyleFactory::create("Fusion"));
  QApplication::setPalette(paletteOf(*current));
  QApplication::setFont(windowFont());
  app.setStyleSheet(sheetOf(*current));
}
}  // namespace

}  // namespace kw::desktop

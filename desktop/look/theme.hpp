// Colours and fonts of the window: the schemes "Evening" (dark) and "Morning" (light).
#pragma once
#include <QColor>
#include <QFont>
#include <QString>

class QApplication;

namespace kw::desktop {

struct Scheme {
  QString name;
  bool dark;
  QColor ground, panel, raised, line, text, quiet, copper, teal, amber, brick, field;
};

enum class SchemeChoice { FollowDesktop, Evening, Morning, Own };

const Scheme& eveningScheme();
const Scheme& morningScheme();

/// Applies palette, style sheet and fonts to the application; may be called again at any time.
void applyScheme(QApplication& app, SchemeChoice choice);
/// The same with a scheme that a user made.
void applyOwnScheme(QApplication& app, const Scheme& own);
/// The scheme in force.
const Scheme& scheme();
SchemeChoice schemeChoice();

/// Of a machine's mark, by the word of the setting "look.colour"; invalid for none.
QColor markColour(const QString& word);
/// Dark or light, whichever reads better on it.
QColor inkOn(const QColor& ground);

/// Of headings: between copper and text.
QColor headingColour();

QFont windowFont(double points = 10, QFont::Weight weight = QFont::Normal);
QFont monoFont(double points = 9);

}  // namespace kw::desktop

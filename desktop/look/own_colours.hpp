// Colour schemes that users made, for the window and for text: kept in colours.json in the configuration
// folder, beside the shipped ones.
#pragma once
#include <QColor>
#include <QString>
#include <vector>

#include "desktop/look/theme.hpp"
#include "desktop/text/text_schemes.hpp"

namespace kw::desktop {

/// A colour of a scheme that can be changed: its name for people, and where it is.
template <typename Of>
struct ColourPart {
  const char* name;
  QColor& (*of)(Of&);
};
const std::vector<ColourPart<TextScheme>>& partsOfText();
const std::vector<ColourPart<Scheme>>& partsOfWindow();

class OwnColours {
 public:
  /// The one of this program; read from disk when first wanted. A file that cannot be read counts as empty
  /// and is not written over until something is changed; then it is put aside as colours.json.broken.
  static OwnColours& all();

  std::vector<TextScheme> text;
  std::vector<Scheme> window;

  /// Throws Error when the disk does not take it.
  void save();
  void load();
  /// "own:" and the name: what a record says for an own scheme.
  static QString keyFor(const QString& name) { return "own:" + name; }
  /// A name that no scheme has yet, from a wish.
  [[nodiscard]] QString freeName(const QString& wish) const;

 private:
  bool broken_ = false;
};

/// The shipped schemes and the own ones.
std::vector<TextScheme> everyTextScheme();

/// WCAG's contrast of two colours, 1 to 21.
double contrast(const QColor& a, const QColor& b);

}  // namespace kw::desktop

#include "desktop/look/own_colours.hpp"

#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <cmath>
#include <filesystem>

#include "base/error.hpp"
#include "base/file.hpp"

namespace kw::desktop {

const std::vector<ColourPart<TextScheme>>& partsOfText() {
  static const std::vector<ColourPart<TextScheme>> parts = [] {
    std::vector<ColourPart<TextScheme>> p = {
        {QT_TRANSLATE_NOOP("Colours", "text"), [](TextScheme& s) -> QColor& { return s.text; }},
        {QT_TRANSLATE_NOOP("Colours", "ground"), [](TextScheme& s) -> QColor& { return s.ground; }},
        {QT_TRANSLATE_NOOP("Colours", "cursor"), [](TextScheme& s) -> QColor& { return s.cursor; }},
        {QT_TRANSLATE_NOOP("Colours", "chosen"), [](TextScheme& s) -> QColor& { return s.selection; }},
        {QT_TRANSLATE_NOOP("Colours", "found"), [](TextScheme& s) -> QColor& { return s.mark; }}};
    constexpr const char* kNames[] = {
        "black",        "red",           "green",       "yellow",         "blue",
        "magenta",      "cyan",          "white",       "bright black",   "bright red",
        "bright green", "bright yellow", "bright blue", "bright magenta", "bright cyan",
        "bright white"};
    const auto add = [&]<std::size_t... I>(std::index_sequence<I...>) {
      ((p.push_back({kNames[I], [](TextScheme& s) -> QColor& { return s.named[I]; }}),
        p.push_back({kNames[I + 8], [](TextScheme& s) -> QColor& { return s.named[I + 8]; }})),
       ...);
    };
    add(std::make_index_sequence<8>());
    return p;
  }();
  return parts;
}

const std::vector<ColourPart<Scheme>>& partsOfWindow() {
  static const std::vector<ColourPart<Scheme>> parts = {
      {QT_TRANSLATE_NOOP("Colours", "ground"), [](Scheme& s) -> QColor& { return s.ground; }},
      {QT_TRANSLATE_NOOP("Colours", "panels"), [](Scheme& s) -> QColor& { return s.panel; }},
      {QT_TRANSLATE_NOOP("Colours", "raised"), [](Scheme& s) -> QColor& { return s.raised; }},
      {QT_TRANSLATE_NOOP("Colours", "lines"), [](Scheme& s) -> QColor& { return s.line; }},
      {QT_TRANSLATE_NOOP("Colours", "fields"), [](Scheme& s) -> QColor& { return s.field; }},
      {QT_TRANSLATE_NOOP("Colours", "text"), [](Scheme& s) -> QColor& { return s.text; }},
      {QT_TRANSLATE_NOOP("Colours", "quiet text"), [](Scheme& s) -> QColor& { return s.quiet; }},
      {QT_TRANSLATE_NOOP("Colours", "focus, own"), [](Scheme& s) -> QColor& { return s.copper; }},
      {QT_TRANSLATE_NOOP("Colours", "good, sealed"), [](Scheme& s) -> QColor& { return s.teal; }},
      {QT_TRANSLATE_NOOP("Colours", "waiting"), [](Scheme& s) -> QColor& { return s.amber; }},
      {QT_TRANSLATE_NOOP("Colours", "broken"), [](Scheme& s) -> QColor& { return s.brick; }}};
  return parts;
}

namespace {

std::filesystem::path fileOfColours() { return configFolder() / "colours.json"; }

template <typename S>
QJsonArray written(std::vector<S> schemes, const std::vector<ColourPart<S>>& parts) {
  QJsonArray out;
  for (S& s : schemes) {
    QJsonObject o{{"name", s.name}};
    for (const auto& part : parts) o[QString::fromLatin1(part.name)] = part.of(s).name();
    out.append(o);
  }
  return out;
}

/// What a file leaves out, or says wrongly, stays as in `usual`.
template <typename S>
std::vector<S> readFrom(const QJsonArray& list, const S& usual, const std::vector<ColourPart<S>>& parts) {
  std::vector<S> out;
  for (const QJsonValue& v : list) {
    S s = usual;
    s.name = v["name"].toString().trimmed().left(60);
    if (s.name.isEmpty()) continue;
    for (const auto& part : parts)
      if (const QColor c(v[QString::fromLatin1(part.name)].toString()); c.isValid()) part.of(s) = c;
    out.push_back(std::move(s));
  }
  return out;
}

}  // namespace

OwnColours& OwnColours::all() {
  static OwnColours own = [] {
    OwnColours o;
    o.load();
    return o;
  }();
  return own;
}

void OwnColours::load() {
  text.clear();
  window.clear();
  broken_ = false;
  std::error_code ignored;
  if (!std::filesystem::exists(fileOfColours(), ignored)) return;
  try {
    const QJsonDocument document =
        QJsonDocument::fromJson(QByteArray::fromStdString(textOf(readFile(fileOfColours()))));
    broken_ = !document.isObject();
    text = readFrom(document["text"].toArray(), textSchemes().front(), partsOfText());
    window = readFrom(document["window"].toArray(), eveningScheme(), partsOfWindow());
  } catch (const Error&) {
    broken_ = true;
  }
  for (TextScheme& s : text) s.key = keyFor(s.name);
  for (Scheme& s : window) s.dark = s.ground.lightness() < s.text.lightness();
}

void OwnColours::save() {
  for (TextScheme& s : text) s.key = keyFor(s.name);
  for (Scheme& s : window) s.dark = s.ground.lightness() < s.text.lightness();
  std::filesystem::create_directories(configFolder());
  if (std::exchange(broken_, false)) {
    std::error_code ignored;
    std::filesystem::rename(fileOfColours(), fileOfColours().string() + ".broken", ignored);
  }
  const QJsonObject all{{"text", written(text, partsOfText())}, {"window", written(window, partsOfWindow())}};
  writeFileSafely(fileOfColours(), viewOf(QJsonDocument(all).toJson().toStdString()));
}

QString OwnColours::freeName(const QString& wish) const {
  const auto taken = [this](const QString& name) {
    for (const TextScheme& s : everyTextScheme())
      if (s.name == name) return true;
    for (const Scheme& s : window)
      if (s.name == name) return true;
    return name == eveningScheme().name || name == "Morning";
  };
  QString name = wish;
  for (int n = 2; taken(name); ++n) name = wish + " " + QString::number(n);
  return name;
}

std::vector<TextScheme> everyTextScheme() {
  std::vector<TextScheme> out = textSchemes();
  const auto& own = OwnColours::all().text;
  out.insert(out.end(), own.begin(), own.end());
  return out;
}

double contrast(const QColor& a, const QColor& b) {
  const auto luminance = [](const QColor& c) {
    const auto linear = [](double v) {
      return v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4);
    };
    return 0.2126 * linear(c.redF()) + 0.7152 * linear(c.greenF()) + 0.0722 * linear(c.blueF());
  };
  const double x = luminance(a), y = luminance(b);
  return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
}

}  // namespace kw::desktop

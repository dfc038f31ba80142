// Small JSON files of the user's configuration folder: what was agreed to, what is remembered.
#pragma once
#include <QJsonDocument>

#include "base/file.hpp"

namespace kw::desktop {

/// An empty document when there is none, or it cannot be read.
inline QJsonDocument readJson(const std::filesystem::path& file) {
  try {
    return QJsonDocument::fromJson(QByteArray::fromStdString(textOf(readFile(file))));
  } catch (const Error&) {
    return {};
  }
}

/// Makes the folder where it is missing; for the user's eyes only. Throws Error{Local}.
inline void writeJson(const std::filesystem::path& file, const QJsonDocument& document) {
  std::error_code ignored;
  std::filesystem::create_directories(file.parent_path(), ignored);
  const std::string text = document.toJson().toStdString();
  writeFileSafely(file, viewOf(text), 0600);
}

}  // namespace kw::desktop

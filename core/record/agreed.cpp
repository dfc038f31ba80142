#include "record/agreed.hpp"

#include <sodium.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/file.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;

std::filesystem::path agreedFile() { return configFolder() / "commands.json"; }

std::string markOf(const std::string& command) {
  Bytes digest(crypto_hash_sha256_BYTES);
  crypto_hash_sha256(digest.data(), viewOf(command).data(), command.size());
  return hex(digest);
}

/// Empty when nothing was agreed to yet, or the file cannot be read.
Json agreedList() {
  std::error_code ignored;
  if (!std::filesystem::exists(agreedFile(), ignored)) return Json::array();
  Json list = Json::parse(textOf(readFile(agreedFile())), nullptr, false);
  return list.is_array() ? list : Json::array();
}

}  // namespace

bool isAgreed(const std::string& command) {
  const Json list = agreedList();
  return std::find(list.begin(), list.end(), Json(markOf(command))) != list.end();
}

void agreeTo(const std::string& command) {
  Json list = agreedList();
  list.push_back(markOf(command));
  std::filesystem::create_directories(agreedFile().parent_path());
  const std::string text = list.dump(1);
  writeFileSafely(agreedFile(), viewOf(text), 0600);
}

}  // namespace kw

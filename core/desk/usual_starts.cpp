#include "desk/usual_starts.hpp"

#include <algorithm>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/file.hpp"

namespace kw {

namespace {

using Json = nlohmann::json;

constexpr std::size_t kRemembered = 5;

Json read(const std::filesystem::path& file) {
  try {
    const Json all = Json::parse(textOf(readFile(file)), nullptr, false);
    return all.is_object() ? all : Json::object();
  } catch (const Error&) {
    return Json::object();
  }
}

std::vector<int> secondsIn(const Json& all, Id machine) {
  std::vector<int> out;
  const auto mine = all.find(std::to_string(machine));
  if (mine == all.end() || !mine->is_array()) return out;
  for (const Json& s : *mine)
    if (s.is_number_integer()) out.push_back(s.get<int>());
  return out;
}

}  // namespace

int UsualStarts::secondsOf(Id machine) const {
  std::vector<int> took = secondsIn(read(file_), machine);
  if (took.empty()) return 0;
  std::sort(took.begin(), took.end());
  return std::max(1, took[took.size() / 2]);
}

void UsualStarts::remember(Id machine, int seconds) {
  Json all = read(file_);
  std::vector<int> took = secondsIn(all, machine);
  took.push_back(seconds);
  if (took.size() > kRemembered) took.erase(took.begin(), took.end() - kRemembered);
  all[std::to_string(machine)] = took;
  try {
    std::error_code ignored;
    std::filesystem::create_directories(file_.parent_path(), ignored);
    const std::string text = all.dump();
    writeFileSafely(file_, viewOf(text));
  } catch (const Error&) {
    // Only a guess is lost.
  }
}

}  // namespace kw

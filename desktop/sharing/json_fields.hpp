// Fields of what a gateway says, which may lack any of them or have another kind.
#pragma once
#include <QString>
#include <nlohmann/json.hpp>

namespace kw::desktop {

inline QString text(const nlohmann::json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_string() ? QString::fromStdString(found->get<std::string>())
                                                   : QString();
}
inline qint64 whole(const nlohmann::json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_number_integer() ? found->get<qint64>() : 0;
}
inline bool yes(const nlohmann::json& json, const char* key) {
  const auto found = json.find(key);
  return found != json.end() && found->is_boolean() && found->get<bool>();
}

}  // namespace kw::desktop

#include "rfb/constants.hpp"

#include <array>
#include <utility>

#include "base/bytes.hpp"

namespace kw::rfb {

namespace {
constexpr std::array<std::pair<std::int32_t, const char*>, 12> kNames{{
    {encoding::kRaw, "Raw"},
    {encoding::kCopyRect, "CopyRect"},
    {encoding::kRre, "RRE"},
    {encoding::kCoRre, "CoRRE"},
    {encoding::kHextile, "Hextile"},
    {encoding::kZlib, "Zlib"},
    {encoding::kTight, "Tight"},
    {encoding::kTightPng, "TightPNG"},
    {encoding::kTrle, "TRLE"},
    {encoding::kZrle, "ZRLE"},
    {encoding::kJpeg, "JPEG"},
    {encoding::kOpenH264, "H264"},
}};
}

std::string nameOfEncoding(std::int32_t encoding) {
  for (const auto& [number, name] : kNames)
    if (number == encoding) return name;
  return std::to_string(encoding);
}

bool encodingFromName(const std::string& name, std::int32_t& out) {
  for (const auto& [number, known] : kNames)
    if (lowered(known) == lowered(name)) {
      out = number;
      return true;
    }
  return false;
}

}  // namespace kw::rfb

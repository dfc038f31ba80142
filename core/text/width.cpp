#include "text/width.hpp"

#include <utf8proc.h>

namespace kw::text {

int widthOf(char32_t point) {
  if (point < 0x300) return 1;
  const auto p = static_cast<utf8proc_int32_t>(point);
  const utf8proc_category_t category = utf8proc_category(p);
  if (category == UTF8PROC_CATEGORY_MN || category == UTF8PROC_CATEGORY_ME ||
      category == UTF8PROC_CATEGORY_CF)
    return 0;
  const int width = utf8proc_charwidth(p);
  return width == 2 ? 2 : 1;
}

}  // namespace kw::text

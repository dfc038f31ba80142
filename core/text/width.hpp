// How many columns a character takes (Unicode UAX 11, by utf8proc's tables).
#pragma once

namespace kw::text {

/// 0 for marks that combine with the character before, 1, or 2 for wide ones.
int widthOf(char32_t point);

}  // namespace kw::text

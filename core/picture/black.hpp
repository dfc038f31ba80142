// Whether a picture shows anything at all.
#pragma once
#include "picture/framebuffer.hpp"

namespace kw {

/// Black, or as nearly as a lossy picture of black is. Locks the picture.
bool isBlack(const Framebuffer& picture);

}  // namespace kw

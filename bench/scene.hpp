// What several parts of the bench share: a desktop to pack, and what memory it takes.
#pragma once
#include "picture/framebuffer.hpp"

namespace kw::bench {

/// A desktop of the lab with a photograph-like part.
Framebuffer desktopScene(Size size);
/// Bytes that are allocated now.
double heapInUse();

}  // namespace kw::bench

// The size of a picture that another thread may just be resizing.
#pragma once
#include "picture/framebuffer.hpp"

namespace kw::gate {

inline Size sizeNow(const Framebuffer& picture) {
  const auto lock = picture.lock();
  return picture.size();
}

}  // namespace kw::gate

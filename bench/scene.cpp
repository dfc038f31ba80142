#include "bench/scene.hpp"

#include <malloc.h>

#include "lab/guest.hpp"

namespace kw::bench {

Framebuffer desktopScene(Size size) {
  lab::GuestPlan plan;
  plan.name = "mist-bench";
  plan.scene = lab::SceneKind::MistBench;
  lab::Guest guest(plan, std::make_shared<lab::Fonts>());
  guest.alreadyRunning(lab::Guest::Time(0));
  guest.resize(size);
  guest.advance(lab::Guest::Time(0));
  Framebuffer f = guest.picture()->cropped(guest.picture()->rect());
  for (int y = size.height * 5 / 9; y < size.height * 25 / 27; ++y)
    for (int x = size.width * 5 / 8; x < size.width * 15 / 16; ++x)
      *f.at(x, y) = rgb(static_cast<unsigned>(x / 4 + (x * 7 + y * 3) % 9) & 255,
                        static_cast<unsigned>(y / 3) & 255, static_cast<unsigned>((x + y) / 6) & 255);
  return f;
}

double heapInUse() { return static_cast<double>(mallinfo2().uordblks + mallinfo2().hblkhd); }

}  // namespace kw::bench

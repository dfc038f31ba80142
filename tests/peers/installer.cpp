#include "tests/peers/installer.hpp"

#include "tests/peers/peer.hpp"

namespace kw::test {

namespace {

std::string folderOf(InstallerKind kind) {
  return std::string("/usr/lib/debian-installer/images/12/amd64/") +
         (kind == InstallerKind::Graphical ? "gtk" : "text") + "/debian-installer/amd64/";
}

/// A page of the installer is large, mostly light grey, and stands still.
bool isPage(const Framebuffer& f) {
  if (f.width() < 640) return false;
  std::int64_t light = 0;
  for (int y = f.height() / 4; y < f.height(); ++y)
    for (int x = 0; x < f.width(); ++x) light += (f.pixel(x, y) >> 16 & 0xff) > 0xc0;
  return light > f.size().area() / 3;
}

bool differs(Viewer& viewer, const Framebuffer& from) {
  return viewer.until(
      [&] {
        const Framebuffer now = viewer.picture();
        if (now.size() != from.size()) return false;
        std::int64_t changed = 0;
        for (int y = 0; y < now.height(); ++y)
          for (int x = 0; x < now.width(); ++x) changed += now.pixel(x, y) != from.pixel(x, y);
        return changed > now.size().area() / 100;
      },
      std::chrono::minutes(2));
}

}  // namespace

bool haveInstaller(InstallerKind kind) {
  return have(folderOf(kind) + "linux") && have(folderOf(kind) + "initrd.gz");
}

std::vector<std::string> installer(InstallerKind kind) {
  return {"-m",      "2048",
          "-smp",    "2",
          "-kernel", folderOf(kind) + "linux",
          "-initrd", folderOf(kind) + "initrd.gz",
          "-append", "vga=788 --- quiet",
          "-device", "qemu-xhci",
          "-device", "usb-tablet"};
}

bool settled(Viewer& viewer) {
  int seen = -1;
  return viewer.until(
      [&] {
        const int now = viewer.damageCount();
        const bool still = now == seen;
        seen = now;
        return still &&
               !viewer.until([&] { return viewer.damageCount() != now; }, std::chrono::milliseconds(1500));
      },
      std::chrono::minutes(2));
}

void driveTwoPages(Viewer& viewer) {
  REQUIRE(viewer.until([&] { return isPage(viewer.picture()); }, std::chrono::minutes(6)));
  REQUIRE(settled(viewer));
  const Framebuffer languages = viewer.picture();
  viewer.press("enter");  // by keyboard: the language
  REQUIRE(differs(viewer, languages));
  REQUIRE(settled(viewer));
  const Framebuffer countries = viewer.picture();
  // By mouse: "Continue", at the bottom right.
  viewer.click({countries.width() - 70, countries.height() - 25});
  CHECK(differs(viewer, countries));
  CHECK(settled(viewer));
}

}  // namespace kw::test

// Pictures that drawing orders draw into without showing them, and parts of the screen that they keep for
// later (MS-RDPEGDI 2.2.2.2.1.3.2, 2.2.2.2.1.3.3, 2.2.2.2.1.1.2.12).
#pragma once
#include <map>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"

namespace kw::rdp {

/// What a client says that it takes: 2.2.7.1.9 TS_OFFSCREEN_CAPABILITYSET; kilobytes and pictures.
constexpr unsigned kOffscreenKilobytes = 7680, kOffscreenEntries = 500;
/// Pixels of the screen that may be kept: 2.2.7.1.3 desktopSaveSize.
constexpr std::uint32_t kSavedPixels = 480 * 480;

class OrderSurfaces {
 public:
  /// All throw Error{ProtocolBroken}.
  void create(LittleReader& in);
  /// Orders draw there from now on.
  void switchTo(unsigned surface);
  /// Null: the screen.
  [[nodiscard]] Framebuffer* target();
  [[nodiscard]] const Framebuffer& surface(unsigned number) const;

  void save(std::uint32_t position, const Framebuffer& picture, const Rect& area);
  /// What was kept at the position, as large as it was; nothing is drawn when there is nothing.
  [[nodiscard]] const Framebuffer* saved(std::uint32_t position) const;
  void clear();

 private:
  static constexpr unsigned kScreen = 0xffff;
  std::map<unsigned, Framebuffer> surfaces_;
  std::int64_t area_ = 0;
  unsigned current_ = kScreen;
  std::map<std::uint32_t, Framebuffer> saved_;
};

}  // namespace kw::rdp

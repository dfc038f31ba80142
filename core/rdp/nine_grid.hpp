// Pictures of which corners keep their size while edges and the middle grow with what they frame
// (MS-RDPEGDI 2.2.2.2.1.1.2.20, 2.2.2.2.1.1.2.21, 2.2.2.2.1.3.4 to 2.2.2.2.1.3.6).
#pragma once
#include <map>
#include <optional>

#include "base/little.hpp"
#include "picture/framebuffer.hpp"

namespace kw::rdp {

/// What a client says that it takes: MS-RDPEGDI 2.2.1.2; kilobytes and pictures.
constexpr unsigned kNineGridKilobytes = 2560, kNineGridEntries = 256;

/// One such picture; `alpha` of its pixels is their highest byte, colours are multiplied by it already.
struct NineGrid {
  // 2.2.2.2.1.3.6.1 flFlags
  static constexpr unsigned kStretch = 0x01, kTile = 0x02, kPerPixelAlpha = 0x04, kTransparent = 0x08,
                            kMustFlip = 0x10, kTrueSize = 0x20;
  Framebuffer picture;
  unsigned flags = 0;
  int left = 0, right = 0, top = 0, bottom = 0;  ///< of the edges that keep their size, in pixels
  Pixel see = 0;                                 ///< with kTransparent: this colour is not drawn

  /// What of the picture's part `source` belongs to `to`, drawn inside of `clip`, which lies on the target.
  void draw(Framebuffer& target, const Rect& to, const Rect& clip, const Rect& source) const;
};

class NineGrids {
 public:
  /// A picture's bytes come in parts (2.2.2.2.1.3.5.1, 2.2.2.2.1.3.5.2), before or after it is named.
  /// All throw Error{ProtocolBroken}.
  void streamFirst(LittleReader& in);
  void streamNext(LittleReader& in);
  /// 2.2.2.2.1.3.4
  void create(LittleReader& in);
  [[nodiscard]] const NineGrid& at(unsigned number) const;
  void clear();

 private:
  struct Stream {
    Size size;
    unsigned flags = 0;
    std::size_t length = 0;
    Bytes data;
  };
  void append(Stream& stream, unsigned flags, LittleReader& in);
  void join();
  void forget(unsigned number);
  /// One that was named and whose picture never came, when another is named.
  void forgetUnseen();

  std::map<unsigned, NineGrid> kept_;
  std::int64_t area_ = 0;
  std::optional<Stream> coming_;
  std::optional<Framebuffer> come_;  ///< whole, and not named yet
  std::optional<unsigned> waiting_;  ///< named, and its picture has not come yet
};

}  // namespace kw::rdp

// The display channel: surfaces, drawing commands, images with their caches, streams, screens.
#pragma once
#include <map>
#include <set>

#include "codec/jpeg.hpp"
#include "spice/canvas.hpp"
#include "spice/channel.hpp"

namespace kw::spice {

struct Head {
  std::uint32_t id = 0;
  Rect area;
  bool operator==(const Head&) const = default;
};

class DisplayEvents {
 public:
  virtual ~DisplayEvents() = default;
  /// The picture of this channel (its primary surface) has a new size; {0, 0}: there is none now.
  virtual void primaryResized() = 0;
  virtual void primaryDamaged(const Region& region) = 0;
  virtual void headsChanged() = 0;
  /// What is in the primary surface now is a whole picture.
  virtual void primaryWhole() = 0;
};

class Display {
 public:
  explicit Display(DisplayEvents& events) : events_(events) {}
  /// The first message of the client, and its preferences.
  static Bytes initMessage(unsigned channelId);
  static std::uint32_t capabilities();
  void take(unsigned type, ByteView body);

  [[nodiscard]] const Surface* primary() const;
  [[nodiscard]] const std::vector<Head>& heads() const { return heads_; }
  [[nodiscard]] std::uint32_t mostHeads() const { return mostHeads_; }
  /// How many images came in each form, and how many commands.
  [[nodiscard]] const std::map<std::string, std::uint64_t>& forms() const { return forms_; }
  [[nodiscard]] std::uint64_t commands() const { return commands_; }

 private:
  struct Base {
    Surface* surface = nullptr;
    std::uint32_t surfaceId = 0;
    Target target;
  };
  struct Stream {
    std::uint32_t surfaceId = 0;
    unsigned codec = 0;
    bool topDown = true;
    Rect dest;
    std::vector<Rect> clip;
    bool clipped = false;
  };

  static bool sizeAllowed(std::uint32_t width, std::uint32_t height);
  Surface& surfaceOf(std::uint32_t id);
  Base readBase(LittleReader& in);
  void readClip(LittleReader& in, const Rect& box, std::vector<Rect>& parts) const;
  static Rect readRect(LittleReader& in);
  static Point readPoint(LittleReader& in);
  Brush readBrush(LittleReader& in);
  Mask readMask(LittleReader& in);
  /// At an offset into the message; null for offset 0.
  ImagePtr imageAt(ByteView message, std::uint32_t offset);
  ImagePtr readImage(LittleReader& in, ByteView message);
  ImagePtr readBitmap(LittleReader& in, ByteView message, Size size);
  std::vector<Pixel> readPalette(LittleReader& in, ByteView message, unsigned flags);
  ImagePtr surfaceImage(std::uint32_t id);
  void remember(std::uint64_t id, const ImagePtr& image);
  void draw(unsigned type, ByteView body);
  void drawText(LittleReader& in, const Base& base, ByteView body);
  Dashes readDashes(LittleReader& in, ByteView body) const;
  Operand readOperand(ByteView body, std::uint32_t image, unsigned filter, unsigned repeat);
  void drawComposite(LittleReader& in, const Base& base, ByteView body);
  void drawStroke(LittleReader& in, const Base& base, ByteView body);
  void createSurface(LittleReader& in);
  void monitors(LittleReader& in);
  void createStream(LittleReader& in);
  void streamData(LittleReader& in, bool sized);
  void touched(const Base& base);

  DisplayEvents& events_;
  std::map<std::uint32_t, Surface> surfaces_;
  std::size_t surfacePixels_ = 0;
  std::map<std::uint64_t, ImagePtr> cache_;
  std::size_t cachePixels_ = 0;
  std::map<std::uint64_t, std::vector<Pixel>> palettes_;
  GlzWindow window_;
  JpegDecoder jpeg_;
  std::map<std::uint32_t, Stream> streams_;
  std::vector<Head> heads_;
  std::uint32_t mostHeads_ = 1;
  std::map<std::string, std::uint64_t> forms_;
  std::uint64_t commands_ = 0;
  ByteView message_;
};

}  // namespace kw::spice

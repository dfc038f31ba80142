#include "rdp/clip_forms.hpp"

#include <algorithm>
#include <cstdio>

#include "picture/png.hpp"
#include "rdp/constants.hpp"

namespace kw::rdp {

namespace {

// Numbers from the range that a system gives to named formats.
constexpr std::uint32_t kOurHtml = 0xc0a1, kOurRtf = 0xc0a2, kOurPng = 0xc0a3, kOurFiles = 0xc0a4;
constexpr std::size_t kShortName = 32;

/// Windows' line ends there, our own here.
std::string withCrLf(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\n' && (i == 0 || text[i - 1] != '\r')) out += '\r';
    out += text[i];
  }
  return out;
}
std::string withLf(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i)
    if (!(text[i] == '\r' && i + 1 < text.size() && text[i + 1] == '\n')) out += text[i];
  return out;
}
Bytes bytesOf(std::string_view text) { return {text.begin(), text.end()}; }

// "HTML Format": a head with the places where document and fragment begin and end, counted in bytes.
constexpr std::string_view kBegin = "<!--StartFragment-->", kEnd = "<!--EndFragment-->";

Bytes wrappedHtml(std::string_view html) {
  constexpr const char* kHead =
      "Version:0.9\r\nStartHTML:%010zu\r\nEndHTML:%010zu\r\nStartFragment:%010zu\r\nEndFragment:%010zu\r\n";
  const std::size_t head = static_cast<std::size_t>(
      std::snprintf(nullptr, 0, kHead, std::size_t{0}, std::size_t{0}, std::size_t{0}, std::size_t{0}));
  const std::string before = "<html><body>" + std::string(kBegin),
                    after = std::string(kEnd) + "</body></html>";
  const std::size_t fragment = head + before.size(), fragmentEnd = fragment + html.size();
  char text[160];
  std::snprintf(text, sizeof text, kHead, head, fragmentEnd + after.size(), fragment, fragmentEnd);
  return bytesOf(text + before + std::string(html) + after);
}

/// Nothing when the head is broken.
std::optional<Bytes> unwrappedHtml(std::string_view text) {
  const auto number = [&](std::string_view key) -> std::size_t {
    const auto at = text.find(key);
    if (at == std::string_view::npos || at > 400) return 0;
    std::size_t v = 0;
    for (std::size_t i = at + key.size();
         i < text.size() && text[i] >= '0' && text[i] <= '9' && v < (1U << 30); ++i)
      v = v * 10 + static_cast<std::size_t>(text[i] - '0');
    return v;
  };
  const std::size_t begin = number("StartFragment:"), end = number("EndFragment:");
  if (begin == 0 || end < begin || end > text.size()) return std::nullopt;
  return bytesOf(text.substr(begin, end - begin));
}

// A device-independent bitmap without its file head.

Bytes bitmapOf(const Framebuffer& picture) {
  LittleWriter out;
  const auto width = static_cast<std::uint32_t>(picture.width()),
             height = static_cast<std::uint32_t>(picture.height());
  out.u32(40)
      .u32(width)
      .u32(height)
      .u16(1)
      .u16(32)
      .u32(0)
      .u32(width * height * 4)
      .u32(2835)
      .u32(2835)
      .u32(0)
      .u32(0);
  for (int y = picture.height() - 1; y >= 0; --y)
    for (int x = 0; x < picture.width(); ++x) out.u32(picture.pixel(x, y) & 0xffffff);
  return out.take();
}

std::optional<Framebuffer> pictureOf(ByteView bitmap) {
  LittleReader in(bitmap, "clipboard picture");
  const std::uint32_t head = in.u32();
  const std::int32_t width = in.s32(), height = in.s32();
  in.skip(2);
  const unsigned bits = in.u16();
  const std::uint32_t packed = in.u32();
  if (head < 40 || head > bitmap.size() || (bits != 24 && bits != 32) || (packed != 0 && packed != 3) ||
      width <= 0 || height == 0 || height < -kMostPictureSide ||
      !pictureSizeAllowed({width, std::abs(height)}))
    return std::nullopt;
  const std::size_t masks = packed == 3 && head == 40 ? 12 : 0;
  const ByteView pixels = bitmap.subspan(std::min(bitmap.size(), head + masks));
  const std::size_t row = (static_cast<std::size_t>(width) * bits / 8 + 3) / 4 * 4;
  const auto rows = static_cast<std::size_t>(std::abs(height));
  if (pixels.size() < row * rows) return std::nullopt;
  Framebuffer out({width, std::abs(height)});
  for (std::size_t y = 0; y < rows; ++y) {
    const Byte* from = pixels.data() + (height > 0 ? rows - 1 - y : y) * row;
    for (int x = 0; x < width; ++x, from += bits / 8)
      *out.at(x, static_cast<int>(y)) = rgb(from[2], from[1], from[0]);
  }
  return out;
}

}  // namespace

std::vector<ClipFormat> readFormatList(ByteView body, bool longNames, bool asciiNames) {
  LittleReader in(body, "clipboard formats");
  std::vector<ClipFormat> out;
  while (in.left() >= 4 && out.size() < 1000) {
    ClipFormat f;
    f.id = in.u32();
    if (longNames) {
      Bytes name;
      while (in.left() >= 2) {
        const ByteView unit = in.bytes(2);
        if (unit[0] == 0 && unit[1] == 0) break;
        name.insert(name.end(), unit.begin(), unit.end());
      }
      f.name = utf16ToUtf8(name);
    } else {
      const ByteView name = in.bytes(std::min(kShortName, in.left()));
      f.name = asciiNames ? textOf(name).substr(0, textOf(name).find('\0')) : utf16ToUtf8(name);
    }
    out.push_back(std::move(f));
  }
  return out;
}

Bytes writeFormatList(const std::vector<ClipFormat>& formats, bool longNames) {
  LittleWriter out;
  for (const ClipFormat& f : formats) {
    Bytes name = utf8ToUtf16(f.name);
    if (!longNames) name.resize(std::min(name.size(), kShortName - 2));
    out.u32(f.id).bytes(name);
    longNames ? out.u16(0) : out.zeros(kShortName - name.size());
  }
  return out.take();
}

std::vector<ClipFormat> formatsFor(const std::set<ClipForm>& forms) {
  std::vector<ClipFormat> out;
  if (forms.contains(ClipForm::Text)) out.push_back({kUnicodeText, ""});
  if (forms.contains(ClipForm::Html)) out.push_back({kOurHtml, kHtmlName});
  if (forms.contains(ClipForm::Rtf)) out.push_back({kOurRtf, kRtfName});
  if (forms.contains(ClipForm::Picture)) {
    out.push_back({kBitmap, ""});
    out.push_back({kOurPng, kPngName});
  }
  if (forms.contains(ClipForm::Files)) out.push_back({kOurFiles, kFilesName});
  return out;
}

std::map<ClipForm, ClipFormat> formsIn(const std::vector<ClipFormat>& formats) {
  std::map<ClipForm, ClipFormat> out;
  for (const ClipFormat& f : formats) {
    if (f.id == kUnicodeText) out[ClipForm::Text] = f;
    if (f.id == kAnsiText) out.try_emplace(ClipForm::Text, f);
    if (f.name == kHtmlName) out[ClipForm::Html] = f;
    if (f.name == kRtfName) out[ClipForm::Rtf] = f;
    if (f.name == kPngName) out[ClipForm::Picture] = f;
    if (f.name == kFilesName) out[ClipForm::Files] = f;
    if (f.id == kBitmap) out.try_emplace(ClipForm::Picture, f);
  }
  return out;
}

std::optional<ClipForm> formOf(std::uint32_t ourFormat) {
  switch (ourFormat) {
    case kUnicodeText:
    case kAnsiText: return ClipForm::Text;
    case kOurHtml: return ClipForm::Html;
    case kOurRtf: return ClipForm::Rtf;
    case kOurPng:
    case kBitmap: return ClipForm::Picture;
    case kOurFiles: return ClipForm::Files;
    default: return std::nullopt;
  }
}

std::optional<Bytes> fromWire(const ClipFormat& format, ByteView bytes) {
  const std::string_view plain(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  if (format.name == kHtmlName) return unwrappedHtml(plain);
  if (format.name == kRtfName) return bytesOf(plain.substr(0, plain.find('\0')));
  if (format.name == kPngName) return Bytes(bytes.begin(), bytes.end());
  if (format.id == kUnicodeText) return bytesOf(withLf(utf16ToUtf8(bytes)));
  if (format.id == kAnsiText) {
    const std::string_view text = plain.substr(0, plain.find('\0'));
    return bytesOf(withLf(latin1ToUtf8(std::string(text))));
  }
  if (format.id != kBitmap) return std::nullopt;
  try {
    const auto picture = pictureOf(bytes);
    if (picture) return encodePng(*picture, 1);
  } catch (const Error&) {  // cut short
  }
  return std::nullopt;
}

std::optional<Bytes> toWire(std::uint32_t ourFormat, const Bytes& content) {
  const std::string_view text(reinterpret_cast<const char*>(content.data()), content.size());
  switch (ourFormat) {
    case kUnicodeText: {
      Bytes out = utf8ToUtf16(withCrLf(text));
      out.insert(out.end(), 2, Byte{0});
      return out;
    }
    case kAnsiText: {
      Bytes out = bytesOf(utf8ToLatin1(withCrLf(text)));
      out.push_back(0);
      return out;
    }
    case kOurHtml: {
      Bytes out = wrappedHtml(text);
      out.push_back(0);
      return out;
    }
    case kOurRtf: {
      Bytes out = content;
      out.push_back(0);
      return out;
    }
    case kOurPng: return content;
    case kBitmap: try { return bitmapOf(decodePng(content));
      } catch (const Error&) {
        return std::nullopt;
      }
    default: return std::nullopt;
  }
}

}  // namespace kw::rdp

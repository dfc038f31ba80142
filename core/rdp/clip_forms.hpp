// Between the forms of a Clip and those of a Windows clipboard (MS-RDPECLIP 1.3.1.2, 2.2.5.2).
#pragma once
#include <map>
#include <optional>

#include "base/clip.hpp"
#include "base/little.hpp"

namespace kw::rdp {

/// Formats that have a number of their own; the others are known by name.
constexpr std::uint32_t kAnsiText = 1, kBitmap = 8, kUnicodeText = 13;
constexpr const char *kHtmlName = "HTML Format", *kRtfName = "Rich Text Format", *kPngName = "PNG",
                     *kFilesName = "FileGroupDescriptorW";

/// One entry of a format list.
struct ClipFormat {
  std::uint32_t id = 0;
  std::string name;
};
/// 2.2.3.1: both kinds of list.
std::vector<ClipFormat> readFormatList(ByteView body, bool longNames, bool asciiNames);
Bytes writeFormatList(const std::vector<ClipFormat>& formats, bool longNames);

/// What is announced for these forms, the numbers of named ones being ours.
std::vector<ClipFormat> formatsFor(const std::set<ClipForm>& forms);
/// Which of their formats is asked for to have each form.
std::map<ClipForm, ClipFormat> formsIn(const std::vector<ClipFormat>& formats);
/// Which form answers a request for one of our formats.
std::optional<ClipForm> formOf(std::uint32_t ourFormat);

/// Nothing when the bytes are not what they say.
std::optional<Bytes> fromWire(const ClipFormat& format, ByteView bytes);
std::optional<Bytes> toWire(std::uint32_t ourFormat, const Bytes& content);

}  // namespace kw::rdp

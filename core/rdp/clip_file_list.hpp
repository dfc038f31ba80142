// A list of copied files as the clipboard's channel carries it (MS-RDPECLIP 2.2.5.2.3).
#pragma once
#include "base/clip.hpp"
#include "base/little.hpp"

namespace kw::rdp {

/// Whether its path fits: 259 units of UTF-16.
bool fitsFileList(const ClipFile& file);
/// Paths are written with backslashes, and cut where they do not fit.
Bytes writeFileList(const std::vector<ClipFile>& files);
/// Nothing when it is cut short or names more than kMostClipFiles. Paths are as the other side wrote them,
/// with slashes: isSafeClipPath() has not looked at them.
std::optional<std::vector<ClipFile>> readFileList(ByteView bytes);

}  // namespace kw::rdp

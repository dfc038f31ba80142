// Pictures to and from PNG files (24-bit RGB out; anything in).
#pragma once
#include <filesystem>

#include "picture/framebuffer.hpp"

namespace kw {

Bytes encodePng(const Framebuffer& picture, int compression = 6);
/// Throws Error{ProtocolBroken} on a broken file or a size outside the limits.
Framebuffer decodePng(ByteView png);
/// Writes beside the target and renames, so that a full disk never leaves half a file. Throws Error{Local}.
void savePng(const Framebuffer& picture, const std::filesystem::path& file);
Framebuffer loadPng(const std::filesystem::path& file);

}  // namespace kw

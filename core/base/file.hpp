// Whole files, written so that a reader sees the old or the new contents and nothing between.
#pragma once
#include <filesystem>

#include "base/bytes.hpp"

namespace kw {

/// Writes a sibling, flushes it to disk, renames it over `file`. `mode` is the permission of the new file.
/// Throws Error{Local} with the system's reason.
void writeFileSafely(const std::filesystem::path& file, ByteView contents, unsigned mode = 0644);
/// Throws Error{Local} when missing, unreadable or longer than `most` bytes.
Bytes readFile(const std::filesystem::path& file, std::size_t most = std::size_t{64} << 20);

/// The XDG folders of this program; environment variables are read at each call.
std::filesystem::path configFolder();   ///< $XDG_CONFIG_HOME/kettle-window
std::filesystem::path dataFolder();     ///< $XDG_DATA_HOME/kettle-window
std::filesystem::path stateFolder();    ///< $XDG_STATE_HOME/kettle-window
std::filesystem::path runtimeFolder();  ///< $XDG_RUNTIME_DIR, or a private folder below /tmp

}  // namespace kw

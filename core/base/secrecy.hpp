// Keeps what a program knows out of files that the system would make of its memory.
#pragma once

namespace kw {

/// No core dump of this process, and nobody else of the same account reads its memory. To be called first in
/// main().
void keepOutOfCoreDumps();

}  // namespace kw

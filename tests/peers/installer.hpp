// Debian's installer in a QEMU guest, driven over a screen.
#pragma once
#include "tests/peers/qemu.hpp"

namespace kw::test {

enum class InstallerKind { Graphical, Text };
bool haveInstaller(InstallerKind kind);
/// Arguments for QEMU; the caller chooses the graphics card, unless it is QEMU's usual one.
std::vector<std::string> installer(InstallerKind kind);

/// Waits for a page of the graphical installer, goes one on by keyboard and one by mouse; the last one stands
/// still then.
void driveTwoPages(Viewer& viewer);
/// Waits until nothing changes for a while.
bool settled(Viewer& viewer);

}  // namespace kw::test

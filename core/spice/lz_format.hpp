// LZ and GLZ: runs and matches over pixels, with the numbers of their headers in network byte order. What
// reading and writing share.
#pragma once
#include <cstddef>
#include <cstdint>

namespace kw::spice::lz {

constexpr std::uint32_t kVersion = 0x00010001;
constexpr std::uint32_t kMagic = 0x20205a4c;  // "  ZL" as it lies
constexpr unsigned kPalette1Le = 1, kPalette1Be = 2, kPalette4Le = 3, kPalette4Be = 4, kPalette8 = 5,
                   kRgb16 = 6, kRgb24 = 7, kRgb32 = 8, kRgba = 9, kXxxa = 10, kA8 = 11;
constexpr unsigned kMostPlain = 32;
constexpr std::size_t kMostDistance = 8191;

}  // namespace kw::spice::lz

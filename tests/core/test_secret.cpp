// Secrets: copies share one place, what they are made of is wiped, and that place is wiped, too.
#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <fstream>

#include "base/secret.hpp"
#include "tests/support.hpp"

using namespace kw;

namespace {

/// Whether this process holds the words anywhere that may be read and written, but for where they are looked
/// for from. The words come in two parts, so that looking leaves none. However large a region is, it is read:
/// the heap of a program that has run a while is larger than any piece.
int placesOf(const std::string& first, const std::string& second) {
  constexpr std::size_t kPiece = std::size_t{16} << 20;
  constexpr std::size_t kNobodysHeap = std::size_t{64} << 30;  // a sanitizer's shadow
  const int memory = open("/proc/self/mem", O_RDONLY | O_CLOEXEC);
  // Outside the heap, and passed over itself.
  auto* copy =
      static_cast<char*>(mmap(nullptr, kPiece, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
  REQUIRE(memory >= 0);
  REQUIRE(copy != MAP_FAILED);
  std::vector<std::pair<std::size_t, std::size_t>> regions;
  {
    std::ifstream maps("/proc/self/maps");
    for (std::string line; std::getline(maps, line);) {
      unsigned long long from = 0, to = 0;
      char rights[5] = {};
      if (std::sscanf(line.c_str(), "%llx-%llx %4s", &from, &to, rights) == 3 && rights[1] == 'w' &&
          line.find("[stack]") == std::string::npos)
        regions.emplace_back(from, to);
      else if (line.ends_with(" 0 ") && rights[0] == 'r')
        regions.emplace_back(from, to);  // without a file: what is kept read-only
    }
  }
  int found = 0;
  const auto own = reinterpret_cast<std::size_t>(copy);
  const std::size_t overlap = first.size() + second.size() - 1;
  const auto lookThrough = [&](std::size_t from, std::size_t to) {
    while (to - from > overlap) {
      const ssize_t got = pread(memory, copy, std::min(kPiece, to - from), static_cast<off_t>(from));
      if (got <= static_cast<ssize_t>(overlap)) return;
      const std::string_view text(copy, static_cast<std::size_t>(got));
      for (auto at = text.find(first); at != std::string_view::npos; at = text.find(first, at + 1))
        if (text.substr(at + first.size()).starts_with(second)) ++found;
      from += text.size() - overlap;
    }
  };
  for (const auto& [from, to] : regions) {
    if (to - from > kNobodysHeap) continue;
    // The system joins neighbouring regions: what lies beside the copy is looked through, the copy is not.
    if (from < own + kPiece && own < to) {
      if (from < own) lookThrough(from, own);
      if (own + kPiece < to) lookThrough(own + kPiece, to);
    } else {
      lookThrough(from, to);
    }
  }
  munmap(copy, kPiece);
  close(memory);
  return found;
}

}  // namespace

TEST_CASE("A secret is compared, copied and moved as text is", "[secret]") {
  const Secret empty, fern("fern"), same(std::string("fern")), moss("moss");
  CHECK(empty.empty());
  CHECK(empty == Secret(""));
  CHECK(empty.view().empty());
  CHECK(*empty.c_str() == 0);
  CHECK(fern == same);
  CHECK_FALSE(fern == moss);
  CHECK(fern == "fern");
  CHECK(fern == std::string("fern"));
  CHECK(fern.size() == 4);
  CHECK(std::string(fern.c_str()) == "fern");
  Secret copy = fern;
  CHECK(copy.view().data() == fern.view().data());
  copy.clear();
  CHECK(copy.empty());
  CHECK(fern == "fern");
  CHECK(Secret(std::string("a\0b", 3)).size() == 3);
}

TEST_CASE("What a secret was made of is wiped, and its place when the last copy goes", "[secret]") {
  const std::string first = "dibber-" + std::to_string(getpid()), second = "-and-trowel-in-the-potting-shed";
  REQUIRE(placesOf(first, second) == 0);
  {
    std::string typed;
    typed.reserve(128);
    // A text that is only emptied loses its first letter, and no more.
    typed.append("words: ").append(first).append(second);
    CHECK(placesOf(first, second) == 1);
    const Secret kept = std::move(typed);
    CHECK(placesOf(first, second) == 1);  // the secret's own
    const Secret other = kept;
    CHECK(placesOf(first, second) == 1);
    CHECK(typed.empty());  // NOLINT: that it is wiped is what is tested
  }
  CHECK(placesOf(first, second) == 0);
}

TEST_CASE("A secret is found, and found wiped, in a large heap, too", "[secret]") {
  // Small pieces, which the allocator takes from one growing heap: more than a hundred mebibytes of it.
  std::vector<std::unique_ptr<std::array<char, 4096>>> heap;
  for (int i = 0; i < 30'000; ++i) heap.push_back(std::make_unique<std::array<char, 4096>>());
  const std::string first = "riddle-" + std::to_string(getpid()),
                    second = "-and-sieve-behind-the-potting-shed";
  REQUIRE(placesOf(first, second) == 0);
  std::string typed;
  typed.reserve(128);
  typed.append("words: ").append(first).append(second);
  CHECK(placesOf(first, second) == 1);
  { const Secret kept = std::move(typed); }
  CHECK(placesOf(first, second) == 0);
}

#include "host/why_open.hpp"

#include "host/why.hpp"

namespace kw::host {

namespace {

std::string sizeText(Size s) { return std::to_string(s.width) + " x " + std::to_string(s.height); }

void stillness(const OpenPicture& open, std::vector<Finding>& out) {
  const auto minutes = std::chrono::duration_cast<std::chrono::minutes>(open.unchanged).count();
  if (open.black)
    out.push_back(
        {"black",
         Weight::Trouble,
         "the picture is black: a screen saver, a screen without a signal, or somebody who is signed in at "
         "the machine's own console",
         "Press Shift, which changes nothing there. If it stays black, look at the machine's console on its "
         "host.",
         {}});
  else if (open.unchanged >= kUnchangedForLong)
    out.push_back({"unchanged",
                   Weight::Remark,
                   "nothing in the picture has changed for " + std::to_string(minutes) +
                       " minutes: nothing happens there, it is locked, or the machine hangs",
                   "Press Shift or move the pointer. If nothing answers, ask its host whether it runs.",
                   {}});
}

/// A round of a few pixels is what machines make of a wish: multiples of eight, even numbers.
bool about(Size a, Size b) { return std::abs(a.width - b.width) < 16 && std::abs(a.height - b.height) < 16; }

void size(const OpenPicture& open, std::vector<Finding>& out) {
  if (!open.follows || open.wanted.empty() || about(open.size, open.wanted)) return;
  const std::string what =
      "the picture still has " + sizeText(open.size) + ", though " + sizeText(open.wanted) + " is wanted";
  if (open.resizeWhy.empty())
    out.push_back({"old-size", Weight::Remark, what, "Ask for the size once more.", "size"});
  else
    out.push_back({"old-size",
                   Weight::Remark,
                   what + ": " + open.resizeWhy,
                   "Show it shrunk or filled (view), or set the size inside the machine.",
                   {}});
}

}  // namespace

void lookAtOpenPicture(const OpenPicture& open, std::vector<Finding>& out) {
  stillness(open, out);
  size(open, out);
}

}  // namespace kw::host

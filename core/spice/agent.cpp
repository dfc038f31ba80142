#include "spice/agent.hpp"

#include <algorithm>

#include "spice/constants.hpp"

namespace kw::spice {

namespace {
// Types of the agent's messages, and bits of its abilities.
constexpr unsigned kMonitorsConfig = 2, kClipboard = 4, kAnnounce = 6, kGrab = 7, kRequest = 8;
constexpr unsigned kCanMonitors = 1, kCanClipboard = 5, kCanSelection = 6, kCanSparse = 7, kCanPositions = 12;
constexpr std::uint32_t kUtf8 = 1;
constexpr std::size_t kPiece = 2048;
constexpr std::uint32_t kOurTokens = 10;
constexpr std::size_t kMostWaiting = 16384;  ///< pieces: 32 MiB

std::string withLf(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i)
    if (!(text[i] == '\r' && i + 1 < text.size() && text[i + 1] == '\n')) out += text[i];
  return out;
}
}  // namespace

void Agent::connected(std::uint32_t tokens) {
  present_ = true;
  tokens_ = tokens;
  taken_ = 0;
  incoming_.clear();
  waiting_.clear();
  announce(true);
}

void Agent::disconnected() {
  present_ = false;
  capabilities_ = 0;
  waiting_.clear();
  events_.abilitiesChanged();
}

void Agent::tokens(std::uint32_t more) {
  tokens_ += more;
  flush();
}

bool Agent::hasClipboard() const { return can(kCanClipboard); }
bool Agent::hasScreens() const { return can(kCanMonitors); }

void Agent::announce(bool request) {
  LittleWriter body;
  body.u32(request ? 1 : 0);
  body.u32(1U << kCanMonitors | 1U << 2 | 1U << kCanClipboard | 1U << kCanSelection | 1U << kCanSparse |
           1U << kCanPositions);
  send(kAnnounce, body.view());
}

/// In pieces of at most 2048 bytes; each needs a token of the server's.
void Agent::send(unsigned type, ByteView body) {
  LittleWriter whole;
  whole.u32(1).u32(type).u64(0).u32(static_cast<std::uint32_t>(body.size())).bytes(body);
  for (std::size_t at = 0; at < whole.size(); at += kPiece) {
    if (waiting_.size() >= kMostWaiting) return;  // an agent that takes nothing gets nothing more
    const ByteView piece = whole.view().subspan(at, std::min(kPiece, whole.size() - at));
    waiting_.emplace_back(piece.begin(), piece.end());
  }
  flush();
}

void Agent::flush() {
  while (tokens_ > 0 && !waiting_.empty()) {
    --tokens_;
    events_.sendData(std::move(waiting_.front()));
    waiting_.pop_front();
  }
}

void Agent::take(ByteView piece) {
  if (++taken_ >= kOurTokens / 2) {
    events_.sendTokens(taken_);
    taken_ = 0;
  }
  incoming_.insert(incoming_.end(), piece.begin(), piece.end());
  while (incoming_.size() >= 20) {
    const std::size_t size = loadLe32(&incoming_[16]);
    if (size > kMostAgentMessage)
      protocolBroken("SPICE agent", "announces " + std::to_string(size) + " bytes");
    if (incoming_.size() < 20 + size) return;
    const Bytes whole(incoming_.begin(), incoming_.begin() + static_cast<std::ptrdiff_t>(20 + size));
    incoming_.erase(incoming_.begin(), incoming_.begin() + static_cast<std::ptrdiff_t>(20 + size));
    message(loadLe32(&whole[4]), ByteView(whole).subspan(20));
  }
}

void Agent::message(unsigned type, ByteView body) {
  LittleReader in(body, "SPICE agent message");
  const auto selection = [&] {
    if (can(kCanSelection)) {
      const unsigned which = in.u8();
      in.skip(3);
      return which;
    }
    return 0U;
  };
  switch (type) {
    case kAnnounce: {
      const bool request = in.u32() != 0;
      capabilities_ = in.left() >= 4 ? in.u32() : 0;
      if (request) announce(false);
      if (hasText_) offerText(text_);
      return events_.abilitiesChanged();
    }
    case kGrab: {
      if (selection() != 0) return;
      bool text = false;
      while (in.left() >= 4) text = in.u32() == kUtf8 || text;
      if (!text) return;
      hasText_ = false;
      LittleWriter wish;
      if (can(kCanSelection)) wish.u32(0);
      wish.u32(kUtf8);
      return send(kRequest, wish.view());
    }
    case kRequest: {
      if (selection() != 0) return;
      const bool wantsText = in.u32() == kUtf8;
      LittleWriter answer;
      if (can(kCanSelection)) answer.u32(0);
      answer.u32(wantsText && hasText_ ? kUtf8 : 0);
      if (wantsText && hasText_) answer.text(text_);
      return send(kClipboard, answer.view());
    }
    case kClipboard:
      if (selection() != 0) return;
      if (in.u32() == kUtf8) events_.textCame(cleanUtf8(withLf(textOf(in.rest()))));
      return;
    default: return;
  }
}

void Agent::offerText(std::string utf8) {
  text_ = std::move(utf8);
  hasText_ = true;
  if (!hasClipboard()) return;
  LittleWriter body;
  if (can(kCanSelection)) body.u32(0);
  body.u32(kUtf8);
  send(kGrab, body.view());
}

void Agent::configure(const std::vector<ScreenWish>& screens) {
  LittleWriter body;
  body.u32(static_cast<std::uint32_t>(screens.size())).u32(1);  // positions count
  for (const ScreenWish& s : screens)
    body.u32(static_cast<std::uint32_t>(s.area.height))
        .u32(static_cast<std::uint32_t>(s.area.width))
        .u32(32)
        .u32(static_cast<std::uint32_t>(s.area.x))
        .u32(static_cast<std::uint32_t>(s.area.y));
  send(kMonitorsConfig, body.view());
}

}  // namespace kw::spice

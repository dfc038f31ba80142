// Whoever is in a room; for the files that make the room.
#pragma once
#include "gate/room.hpp"
#include "gate/text_rows.hpp"

namespace kw::gate {

constexpr std::size_t kMostText = 1 << 20;  // bytes typed, pasted or copied at once

struct Room::Visitor : rfb::ServerEvents {
  Visitor(Room& r, Id n, Person p) : room(r), number(n), person(std::move(p)) {}
  void key(std::uint32_t keysym, std::uint32_t scanCode, bool down) override {
    if (room.hand_ == number && room.session_) room.session_->key(keysym, scanCode, down);
  }
  void pointer(Point at, unsigned buttons) override {
    if (room.hand_ == number && room.session_) room.session_->pointer(at, buttons);
  }
  int layoutWanted(Size size, const std::vector<Screen>&) override {
    if (room.hand_ != number || !room.abilities_.resize.can) return 1;
    room.session_->requestSize(size);
    return 0;
  }

  Room& room;
  Id number;
  Person person;
  std::string from;
  Seconds since = nowSeconds();
  std::function<void(std::string)> tell;
  std::function<void(std::string)> dismiss;
  std::shared_ptr<rfb::Server> picture;
  RowsShown rows;
  std::uint64_t sent = 0, taken = 0;  ///< bytes to the browser and from it
};

}  // namespace kw::gate

// The clipboard over the "cliprdr" channel (MS-RDPECLIP): each side announces what it has; it is fetched when
// somebody pastes. Both sides of the protocol. On one strand, but for the clips it gives out.
#pragma once
#include <deque>
#include <functional>
#include <string>

#include "base/runtime.hpp"
#include "rdp/clip_forms.hpp"

namespace kw::rdp {

class Clipboard {
 public:
  struct Events {
    std::function<void(Bytes)> send;                      ///< a whole message for the channel
    std::function<void(std::shared_ptr<Clip>)> clipCame;  ///< something was copied over there
  };
  Clipboard(const Executor& strand, Events events);
  ~Clipboard();
  void begin();  ///< the server side begins the talk
  void take(ByteView message);
  /// What was copied here; announced now, or once the other side is ready.
  void offer(std::shared_ptr<Clip> clip);

 private:
  class Remote;
  class Answer;
  struct Wish {
    unsigned list = 0;  ///< of which announcement
    ClipFormat format;
    Clip::Got got;
  };
  void sendCapabilities();
  void announce();
  void formats(ByteView body, unsigned flags);
  void request(LittleReader& in);
  void response(ByteView body, bool good);
  void wish(Wish wish);
  void askNext();
  void contentsWanted(LittleReader& in);
  void contentsCame(LittleReader& in, bool good);
  void readFile(unsigned list, std::size_t file, std::uint64_t from, std::uint32_t most, Clip::Got got);
  void forgetReads();

  Executor strand_;
  Events events_;
  std::shared_ptr<Clipboard*> self_;  ///< points to nothing once this is gone
  bool ready_ = false, asking_ = false;
  std::uint32_t theirs_ = 0;  ///< what the other side can do: 2.2.2.1.1.1, generalFlags
  unsigned list_ = 0;
  std::shared_ptr<Clip> offered_;
  /// Those that were listed for the other side, with their places in what is offered.
  std::vector<std::pair<std::size_t, ClipFile>> offeredFiles_;
  std::map<std::uint32_t, Clip::Got> reads_;  ///< of files over there, by their stream's number
  std::uint32_t lastStream_ = 0;
  std::deque<Wish> wishes_;
};

}  // namespace kw::rdp

// The service's end of the graphics pipeline: one surface over the whole desktop, frames of what changed in
// one codec, at most two of them unanswered.
#pragma once
#include <functional>
#include <memory>

#include "picture/framebuffer.hpp"
#include "picture/region.hpp"
#include "rdp/graphics.hpp"

namespace kw::rdp {

enum class PipelineForm { Raw, Planar, Progressive, Clear, RemoteFx };

class GraphicsService {
 public:
  using Send = std::function<void(Bytes)>;
  GraphicsService(std::shared_ptr<Framebuffer> picture, PipelineForm form, Send send)
      : picture_(std::move(picture)), form_(form), send_(std::move(send)) {}
  void take(ByteView message);
  /// The visitor's side is there, and waits for no more than one frame.
  [[nodiscard]] bool ready() const { return agreed_ && sent_ - answered_ < 2; }
  [[nodiscard]] bool agreed() const { return agreed_; }
  /// The desktop has this size and these monitors now.
  void reset(const std::vector<Rect>& monitors);
  /// Under the picture's lock.
  void frame(const Region& damage);

 private:
  void part(const Rect& area);
  [[nodiscard]] Bytes coded(const Rect& area) const;

  std::shared_ptr<Framebuffer> picture_;
  PipelineForm form_;
  Send send_;
  bool agreed_ = false, begun_ = false;
  std::uint32_t sent_ = 0, answered_ = 0;
};

}  // namespace kw::rdp

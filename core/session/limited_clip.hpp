// What was copied, without the forms that a policy keeps back.
#pragma once
#include "base/clip.hpp"
#include "session/policy.hpp"

namespace kw {

class LimitedClip : public Clip {
 public:
  LimitedClip(std::shared_ptr<Clip> whole, const Policy& policy)
      : whole_(std::move(whole)), policy_(policy) {}
  [[nodiscard]] std::set<ClipForm> forms() const override {
    std::set<ClipForm> out = whole_->forms();
    std::erase_if(out, [&](ClipForm form) { return !policy_.mayCarry(form); });
    return out;
  }
  void fetch(ClipForm form, Got got) override {
    if (!policy_.mayCarry(form)) return got(std::nullopt);
    whole_->fetch(form, std::move(got));
  }
  void list(Listed listed) override {
    if (!policy_.mayCarry(ClipForm::Files)) return listed(std::nullopt);
    whole_->list(std::move(listed));
  }
  void read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) override {
    if (!policy_.mayCarry(ClipForm::Files)) return got(std::nullopt);
    whole_->read(file, from, most, std::move(got));
  }

 private:
  std::shared_ptr<Clip> whole_;
  const Policy policy_;
};

}  // namespace kw

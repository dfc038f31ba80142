// Several observers of one session, told in the order they came. Who comes late is told how things stand.
#pragma once
#include <algorithm>

#include "session/session.hpp"

namespace kw {

/// On the session's strand only.
class Observers : public SessionObserver {
 public:
  void add(std::shared_ptr<SessionObserver> observer) {
    tellState(*observer);
    all_.push_back(std::move(observer));
  }
  void remove(const std::shared_ptr<SessionObserver>& observer) {
    all_.erase(std::remove(all_.begin(), all_.end(), observer), all_.end());
  }

  void statusChanged(const SessionStatus& s) override {
    status_ = s;
    each([&](SessionObserver& o) { o.statusChanged(s); });
  }
  void routeChanged(const RouteFacts& r) override {
    route_ = r;
    each([&](SessionObserver& o) { o.routeChanged(r); });
  }
  void capabilitiesChanged(const Capabilities& c) override {
    capabilities_ = c;
    each([&](SessionObserver& o) { o.capabilitiesChanged(c); });
  }
  void pictureResized(Size size, const std::vector<Screen>& screens) override {
    size_ = size, screens_ = screens;
    each([&](SessionObserver& o) { o.pictureResized(size, screens); });
  }
  void screensOffered(const std::vector<ScreenOffer>& list) override {
    offers_ = list;
    each([&](SessionObserver& o) { o.screensOffered(list); });
  }
  void damaged(const Region& region) override {
    each([&](SessionObserver& o) { o.damaged(region); });
  }
  void pointerShapeChanged(const PointerShape& shape) override {
    shape_ = shape;
    each([&](SessionObserver& o) { o.pointerShapeChanged(shape); });
  }
  void pointerMoved(Point at) override {
    each([&](SessionObserver& o) { o.pointerMoved(at); });
  }
  void pointerRelative(bool on) override {
    relative_ = on;
    each([&](SessionObserver& o) { o.pointerRelative(on); });
  }
  void lockKeysChanged(unsigned bits) override {
    each([&](SessionObserver& o) { o.lockKeysChanged(bits); });
  }
  void bell() override {
    each([](SessionObserver& o) { o.bell(); });
  }
  void nameChanged(const std::string& name) override {
    each([&](SessionObserver& o) { o.nameChanged(name); });
  }
  void textChanged() override {
    each([](SessionObserver& o) { o.textChanged(); });
  }
  void textBytes(ByteView bytes) override {
    each([&](SessionObserver& o) { o.textBytes(bytes); });
  }
  void lineChanged(const LineFacts& line) override {
    line_ = line;
    each([&](SessionObserver& o) { o.lineChanged(line); });
  }
  void transferChanged(const TransferFacts& transfer) override {
    each([&](SessionObserver& o) { o.transferChanged(transfer); });
  }
  void watchWordSeen(const std::string& pattern, const std::string& line) override {
    each([&](SessionObserver& o) { o.watchWordSeen(pattern, line); });
  }
  void clipboardText(const std::string& text) override {
    each([&](SessionObserver& o) { o.clipboardText(text); });
  }
  void clipOffered(std::shared_ptr<Clip> clip) override {
    each([&](SessionObserver& o) { o.clipOffered(clip); });
  }
  [[nodiscard]] bool wantsClipText() const override {
    return std::any_of(all_.begin(), all_.end(), [](const auto& o) { return o->wantsClipText(); });
  }
  /// The text of an offer, for those who cannot wait.
  void clipTextFetched(const std::string& text) {
    each([&](SessionObserver& o) {
      if (o.wantsClipText()) o.clipboardText(text);
    });
  }
  void soundBegins(SoundForm form) override {
    each([&](SessionObserver& o) { o.soundBegins(form); });
  }
  void sound(ByteView data) override {
    each([&](SessionObserver& o) { o.sound(data); });
  }
  void soundEnds() override {
    each([](SessionObserver& o) { o.soundEnds(); });
  }
  void figuresChanged(const Figures& figures) override {
    each([&](SessionObserver& o) { o.figuresChanged(figures); });
  }
  void remark(const std::string& text) override {
    each([&](SessionObserver& o) { o.remark(text); });
  }
  /// Whoever answers first decides; with nobody there the answer is no.
  void asked(const Question& question, std::function<void(Answer)> reply) override {
    if (all_.empty()) return reply({});
    each([&](SessionObserver& o) { o.asked(question, reply); });
  }

 private:
  template <typename F>
  void each(F what) {
    const auto now = all_;  // one may leave while being told
    for (const auto& o : now) what(*o);
  }
  void tellState(SessionObserver& o) const {
    if (status_.stage != SessionStage::Idle) o.statusChanged(status_);
    if (!route_.host.empty()) o.routeChanged(route_);
    if (capabilities_) o.capabilitiesChanged(*capabilities_);
    if (!size_.empty()) {
      o.pictureResized(size_, screens_);
      o.damaged(Region(Rect{0, 0, size_.width, size_.height}));
    }
    if (!offers_.empty()) o.screensOffered(offers_);
    if (!shape_.size.empty()) o.pointerShapeChanged(shape_);
    if (relative_) o.pointerRelative(true);
    if (!line_.kind.empty()) o.lineChanged(line_);
  }

  std::vector<std::shared_ptr<SessionObserver>> all_;
  SessionStatus status_;
  RouteFacts route_;
  std::optional<Capabilities> capabilities_;
  Size size_;
  std::vector<Screen> screens_;
  std::vector<ScreenOffer> offers_;
  PointerShape shape_;
  LineFacts line_;
  bool relative_ = false;
};

}  // namespace kw

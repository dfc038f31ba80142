// A session of text, watched from a test's thread.
#pragma once
#include <atomic>
#include <fstream>

#include "base/file.hpp"
#include "session/text_console.hpp"
#include "tests/support.hpp"

namespace kw::test {

class TextWatch {
 public:
  explicit TextWatch(std::shared_ptr<Session> session, Answer answer = {}) : session_(std::move(session)) {
    state_->answer = std::move(answer);
    session_->observe(std::make_shared<Observer>(state_));
    session_->start();
  }
  ~TextWatch() {
    session_->end();
    eventually([&] { return status().stage == SessionStage::Ended; }, std::chrono::seconds(3));
  }
  TextWatch(const TextWatch&) = delete;
  TextWatch& operator=(const TextWatch&) = delete;

  Session& session() { return *session_; }
  TextConsole& console() { return *session_->text(); }
  bool live(std::chrono::milliseconds limit = std::chrono::seconds(10)) {
    eventually(
        [&] {
          return status().stage == SessionStage::Live || status().stage == SessionStage::Ended ||
                 status().problem;
        },
        limit);
    if (status().stage != SessionStage::Live) UNSCOPED_INFO("not live: " << status().sentence);
    return status().stage == SessionStage::Live;
  }
  /// All the text there is, rows above the screen included.
  std::string all() {
    auto& t = console().terminal();
    const text::TextView v = t.screen();
    return t.textIn({0, v.screenTop + v.screenRows, 0, v.columns, false});
  }
  bool shows(const std::string& text, std::chrono::milliseconds limit = std::chrono::seconds(10)) {
    const bool yes = eventually([&] { return all().find(text) != std::string::npos; }, limit);
    if (!yes) UNSCOPED_INFO("on the screen: " << all());
    return yes;
  }
  void send(const std::string& bytes) { console().sendBytes(bytes); }

  SessionStatus status() const { return get(&State::status); }
  TransferFacts transfer() const { return get(&State::transfer); }
  LineFacts line() const { return get(&State::line); }
  Capabilities capabilities() const { return get(&State::capabilities); }
  RouteFacts route() const { return get(&State::route); }
  std::vector<std::string> words() const { return get(&State::words); }
  std::vector<Question> questions() const { return get(&State::questions); }

 private:
  struct State {
    mutable std::mutex mutex;
    SessionStatus status;
    TransferFacts transfer;
    LineFacts line;
    Capabilities capabilities;
    RouteFacts route;
    std::vector<std::string> words;
    std::vector<Question> questions;
    Answer answer;
  };
  template <typename T>
  T get(T State::*member) const {
    const std::lock_guard held(state_->mutex);
    return (*state_).*member;
  }
  class Observer : public SessionObserver {
   public:
    explicit Observer(std::shared_ptr<State> s) : s_(std::move(s)) {}
    void statusChanged(const SessionStatus& v) override {
      set([&] { s_->status = v; });
    }
    void transferChanged(const TransferFacts& v) override {
      set([&] { s_->transfer = v; });
    }
    void lineChanged(const LineFacts& v) override {
      set([&] { s_->line = v; });
    }
    void capabilitiesChanged(const Capabilities& v) override {
      set([&] { s_->capabilities = v; });
    }
    void routeChanged(const RouteFacts& v) override {
      set([&] { s_->route = v; });
    }
    void watchWordSeen(const std::string& p, const std::string& l) override {
      set([&] { s_->words.push_back(p + ": " + l); });
    }
    void asked(const Question& q, std::function<void(Answer)> reply) override {
      Answer a;
      set([&] {
        s_->questions.push_back(q);
        a = s_->answer;
        if (q.again) a.accepted = false;  // one try
      });
      reply(a);
    }

   private:
    template <typename F>
    void set(F what) {
      const std::lock_guard held(s_->mutex);
      what();
    }
    std::shared_ptr<State> s_;
  };
  std::shared_ptr<State> state_ = std::make_shared<State>();
  std::shared_ptr<Session> session_;
};

}  // namespace kw::test

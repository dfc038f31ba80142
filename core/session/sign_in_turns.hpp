// Signing in as every engine does it: a kept password first, then a question, asked again while it is wrong,
// and kept when it worked and was to be kept. What was typed and worked answers the same way of signing in
// again when a lost line comes back. Lives as long as the session; on its strand.
#pragma once
#include <functional>
#include <optional>

#include "credential/sign_in.hpp"
#include "session/session.hpp"

namespace kw {

/// Where sign-ins of a way in are kept; either may be empty.
struct KeptSignIns {
  /// A kept one that may answer this use; nothing when there is none.
  std::function<std::optional<SignIn>(SecretUse)> find;
  /// Keeps one that worked and was to be remembered.
  std::function<void(const SignIn&)> keep;
  /// Asked where `find` has nothing: what a command prints. May be empty.
  std::function<Task<std::optional<SignIn>>()> fetch = {};
  std::string user = {};        ///< who signs in, where the address does not say
  std::string credential = {};  ///< the named one that is kept into; empty: the way in's own
  std::string account = {};     ///< whose account it is, for people
};

struct SignInWish {
  bool wantsUser = false;
  std::string user;   ///< known already, from the address; shown in the question
  std::string label;  ///< the machine
  std::string hint;
  SecretUse use = SecretUse::Unknown;
};

class SignInTurns {
 public:
  explicit SignInTurns(KeptSignIns kept) : kept_(std::move(kept)) {}
  SignInTurns(const SignInTurns&) = delete;
  SignInTurns& operator=(const SignInTurns&) = delete;

  /// Throws Error{SignInFailed} when nobody answers.
  Task<SignIn> next(Asker& asker, SignInWish wish);
  /// To be called before each connection.
  void begin() { asked_ = byPerson_ = declined_ = false; }
  /// The peer took it.
  void worked();
  /// The connection failed so: true when the next turn is to follow at once.
  bool again(const Error& failure);
  /// True once somebody was asked or a kept one was used in this connection.
  [[nodiscard]] bool asked() const { return asked_; }

 private:
  KeptSignIns kept_;
  [[nodiscard]] std::optional<SignIn> knownFor(const SignInWish& wish) const;
  std::optional<SignIn> toKeep_;
  std::optional<SignIn> typed_;   ///< last, by a person
  std::optional<SignIn> worked_;  ///< of those, what the peer took
  std::optional<Error> refusal_;  ///< what the peer said to the last one
  bool asked_ = false, byPerson_ = false, wrongBefore_ = false, declined_ = false;
};

}  // namespace kw

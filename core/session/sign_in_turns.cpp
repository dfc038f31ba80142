#include "session/sign_in_turns.hpp"

namespace kw {

std::optional<SignIn> SignInTurns::knownFor(const SignInWish& wish) const {
  if (kept_.find)
    if (auto kept = kept_.find(wish.use)) return kept;
  if (worked_ && mayAnswer(worked_->use, wish.use) &&
      (wish.user.empty() || wish.user == worked_->user || wish.wantsUser))
    return worked_;
  return std::nullopt;
}

Task<SignIn> SignInTurns::next(Asker& asker, SignInWish wish) {
  asked_ = true;
  if (wish.user.empty()) wish.user = kept_.user;
  if (!wrongBefore_) {
    std::optional<SignIn> kept = knownFor(wish);
    // Like a kept one, it answers nobody who would have it in clear, or has proved nothing.
    if (!kept && kept_.fetch && mayAnswer(SecretUse::Unknown, wish.use)) {
      asker.doing("asking the command for the password");
      kept = co_await kept_.fetch();
    }
    if (kept) {
      if (kept->user.empty()) kept->user = wish.user;
      co_return *kept;
    }
  }
  Question question;
  question.kind = wish.wantsUser ? Question::Kind::UserAndPassword : Question::Kind::Password;
  question.text = (wish.wantsUser ? "Name and password for " : "Password for ") + wish.label;
  question.user = wish.user;
  question.hint = wish.hint;
  question.account = kept_.account;
  question.credential = kept_.credential;
  question.again = wrongBefore_;
  if (refusal_) question.refused = refusal_->detail();
  Answer answer = co_await asker.ask(std::move(question));
  if (!answer.accepted) {
    declined_ = true;
    if (refusal_) throw *refusal_;
    throw Error(ErrorKind::SignInFailed, "no password was given");
  }
  byPerson_ = true;
  SignIn out{wish.wantsUser ? answer.user : wish.user, answer.password, wish.use};
  toKeep_.reset();
  if (answer.remember) toKeep_ = out;
  typed_.reset();
  typed_ = out;
  co_return out;
}

void SignInTurns::worked() {
  wrongBefore_ = false;
  refusal_.reset();
  if (typed_) {
    worked_.reset();
    worked_ = typed_;
    typed_.reset();
  }
  if (toKeep_ && kept_.keep) kept_.keep(*toKeep_);
  toKeep_.reset();
}

bool SignInTurns::again(const Error& failure) {
  if (failure.kind() != ErrorKind::SignInFailed || !asked_ || declined_) return false;
  if (!byPerson_ && wrongBefore_) return false;
  wrongBefore_ = true;
  typed_.reset();
  worked_.reset();
  refusal_ = failure;
  toKeep_.reset();
  return true;
}

}  // namespace kw

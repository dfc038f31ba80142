// NTLM as CredSSP's proof.
#include "rdp/proof.hpp"

namespace kw::rdp {

namespace {

class NtlmProof : public Proof {
 public:
  NtlmProof(NtlmAccount account, std::string workstation)
      : client_(std::move(account), std::move(workstation)) {}
  Task<Bytes> next(Bytes theirs) override {
    if (theirs.empty()) co_return client_.negotiate();
    complete_ = true;
    co_return client_.authenticate(theirs);
  }
  [[nodiscard]] bool complete() const override { return complete_; }
  Bytes seal(ByteView plain) override { return client_.outgoing().wrap(plain); }
  Bytes open(ByteView sealedText) override { return client_.incoming().unwrap(sealedText); }
  [[nodiscard]] std::string name() const override { return "NTLM"; }

 private:
  NtlmClient client_;
  bool complete_ = false;
};

class NtlmCheck : public ProofCheck {
 public:
  NtlmCheck(std::string name, AccountBook accounts)
      : server_(std::move(name)), accounts_(std::move(accounts)) {}
  Bytes next(ByteView theirs) override {
    if (std::exchange(challenged_, true)) {
      check(theirs);
      return {};
    }
    return server_.challenge(theirs);
  }
  [[nodiscard]] bool complete() const override { return complete_; }
  [[nodiscard]] NtlmAccount account() const override { return account_; }
  Bytes seal(ByteView plain) override { return server_.outgoing().wrap(plain); }
  Bytes open(ByteView sealedText) override { return server_.incoming().unwrap(sealedText); }

 private:
  void check(ByteView authenticate) {
    constexpr std::uint32_t kLogonFailure = 0xc000006d;
    account_ = server_.nameIn(authenticate);
    const KnownAccount known = accounts_(account_);
    if (known.refusal != 0) throw Refused{known.refusal};
    if (!server_.check(authenticate, {account_.user, account_.domain, known.password}))
      throw Refused{kLogonFailure};
    complete_ = true;
  }

  NtlmServer server_;
  AccountBook accounts_;
  NtlmAccount account_;
  bool challenged_ = false, complete_ = false;
};

}  // namespace

std::shared_ptr<Proof> ntlmProof(NtlmAccount account, std::string workstation) {
  return std::make_shared<NtlmProof>(std::move(account), std::move(workstation));
}

std::unique_ptr<ProofCheck> ntlmCheck(std::string serviceName, AccountBook accounts) {
  return std::make_unique<NtlmCheck>(std::move(serviceName), std::move(accounts));
}

}  // namespace kw::rdp

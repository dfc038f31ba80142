#include "rdp/kerberos.hpp"

#include <gssapi/gssapi_ext.h>
#include <gssapi/gssapi_krb5.h>
#include <krb5.h>
#include <openssl/crypto.h>
#include <profile.h>

#include <algorithm>
#include <optional>
#include <thread>

#include "base/parking.hpp"
#include "rdp/der.hpp"
#include "rdp/gss_buffer.hpp"

namespace kw::rdp {

namespace {

constexpr Byte kKerberosOid[] = {0x2a, 0x86, 0x48, 0x86, 0xf7,
                                 0x12, 0x01, 0x02, 0x02};            // 1.2.840.113554.1.2.2
constexpr Byte kSpnegoOid[] = {0x2b, 0x06, 0x01, 0x05, 0x05, 0x02};  // 1.3.6.1.5.5.2

gss_OID_desc kerberos() { return {sizeof kKerberosOid, const_cast<Byte*>(kKerberosOid)}; }

/// What the mechanism says about a failure.
std::string wordsOf(OM_uint32 minor) {
  gss_OID_desc mechanism = kerberos();
  OM_uint32 ignored = 0, more = 0;
  gss_buffer_desc text = GSS_C_EMPTY_BUFFER;
  if (gss_display_status(&ignored, minor, GSS_C_MECH_CODE, &mechanism, &more, &text) != GSS_S_COMPLETE)
    return "an unknown failure";
  const Bytes bytes = takeGssBuffer(text);
  return {bytes.begin(), bytes.end()};
}

/// A failed step in words and with its cure (RFC 4120 7.5.9 has most of the reasons).
Error failureOf(OM_uint32 minor, const std::string& realm, const std::string& service) {
  const auto refused = [&](const std::string& what, const std::string& cure) {
    return Error(ErrorKind::SignInFailed, what, realm).withCure(cure);
  };
  switch (static_cast<krb5_error_code>(minor)) {
    case KRB5KDC_ERR_PREAUTH_FAILED:
    case KRB5KRB_AP_ERR_BAD_INTEGRITY:
    case KRB5KDC_ERR_C_PRINCIPAL_UNKNOWN:
      return refused("wrong name or password", "Names and passwords of a realm count capital letters.");
    case KRB5KDC_ERR_KEY_EXP:
      return refused("the password has expired",
                     "Set a new password with the realm's own tool, or let who administers it do so.");
    case KRB5KDC_ERR_NAME_EXP: return refused("the account has expired", "Have the account prolonged.");
    case KRB5KDC_ERR_CLIENT_REVOKED:
      return refused("the account is locked or switched off",
                     "Have the account unlocked; trying on does not help.");
    case KRB5KRB_AP_ERR_SKEW:
    case KRB5_KDCREP_SKEW:
      return refused("the clocks of this computer and of the realm differ too much",
                     "Set both clocks by the same time server.");
    case KRB5KDC_ERR_S_PRINCIPAL_UNKNOWN:
      return Error(ErrorKind::Unreachable, "the realm knows no service " + service, realm)
          .withCure("Use the machine's whole name as its realm has it, or sign in with NTLM.");
    default:
      return Error(ErrorKind::Unreachable, "the realm gives no ticket: " + wordsOf(minor), realm)
          .withCure("Is the realm's key service in krb5.conf, and does it run? Else sign in with NTLM.");
  }
}

Bytes oid(ByteView content) { return der::tagged(0x06, content); }
Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes out;
  for (const Bytes& p : parts) out.insert(out.end(), p.begin(), p.end());
  return out;
}

Bytes mechanismList() { return der::tagged(0x30, oid(kKerberosOid)); }

/// RFC 4178 4.2.1 NegTokenInit inside RFC 2743's frame
Bytes spnegoInit(ByteView ticket) {
  const Bytes body =
      joined({der::tagged(0xa0, mechanismList()), der::tagged(0xa2, der::tagged(0x04, ticket))});
  return der::tagged(0x60, joined({oid(kSpnegoOid), der::tagged(0xa0, der::tagged(0x30, body))}));
}

/// 4.2.2 NegTokenResp
Bytes spnegoAnswer(ByteView token) {
  return der::tagged(0xa1, der::tagged(0x30, der::tagged(0xa2, der::tagged(0x04, token))));
}

struct Negotiated {
  bool rejected = false;
  Bytes token;  ///< of Kerberos
  Bytes listMic;
};

Negotiated readSpnegoAnswer(ByteView bytes) {
  constexpr const char* what = "SPNEGO";
  constexpr Byte kReject = 2;
  der::Reader in(der::Reader(der::Reader(bytes, what).element(0xa1), what).element(0x30), what);
  const auto octets = [](ByteView field) {
    const ByteView v = der::Reader(field, what).element(0x04);
    return Bytes(v.begin(), v.end());
  };
  Negotiated out;
  if (in.peek() == 0xa0) {
    const ByteView state = der::Reader(in.element(0xa0), what).element(0x0a);
    out.rejected = state.size() == 1 && state[0] == kReject;
  }
  if (in.peek() == 0xa1) {
    const ByteView chosen = der::Reader(in.element(0xa1), what).element(0x06);
    if (!std::equal(chosen.begin(), chosen.end(), std::begin(kKerberosOid), std::end(kKerberosOid)))
      protocolBroken(what, "the service chose what was not offered");
  }
  if (in.peek() == 0xa2) out.token = octets(in.element(0xa2));
  if (in.peek() == 0xa3) out.listMic = octets(in.element(0xa3));
  return out;
}

/// The GSSAPI side of one sign-in. One thread at a time; a thread that asks the key service shares it.
class Context {
 public:
  Context(const NtlmAccount& account, const std::string& host)
      : realm_(realmOf(account)),
        name_(account.user.substr(0, account.user.find('@')) + "@" + realm_),
        password_(account.password),
        service_("TERMSRV/" + host) {}
  ~Context() {
    OM_uint32 minor = 0;
    if (context_ != GSS_C_NO_CONTEXT) gss_delete_sec_context(&minor, &context_, GSS_C_NO_BUFFER);
    if (account_ != GSS_C_NO_CREDENTIAL) gss_release_cred(&minor, &account_);
    if (service_name_ != GSS_C_NO_NAME) gss_release_name(&minor, &service_name_);
    forgetPassword();
  }
  Context(const Context&) = delete;
  Context& operator=(const Context&) = delete;

  /// Blocks while the key service is asked. Throws as Proof::next does.
  Bytes step(ByteView theirs) {
    if (service_name_ == GSS_C_NO_NAME) begin();
    gss_OID_desc mechanism = kerberos();
    gss_buffer_desc in = gssBuffer(theirs), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    const OM_uint32 state = gss_init_sec_context(
        &minor, account_, &context_, service_name_, &mechanism,
        GSS_C_MUTUAL_FLAG | GSS_C_CONF_FLAG | GSS_C_INTEG_FLAG | GSS_C_SEQUENCE_FLAG, GSS_C_INDEFINITE,
        GSS_C_NO_CHANNEL_BINDINGS, &in, nullptr, &out, nullptr, nullptr);
    forgetPassword();
    Bytes token = takeGssBuffer(out);
    if (GSS_ERROR(state) != 0) throw failureOf(minor, realm_, service_);
    complete_ = state == GSS_S_COMPLETE;
    return token;
  }
  [[nodiscard]] bool complete() const { return complete_; }

  void checkMic(ByteView message, ByteView mic) {
    gss_buffer_desc text = gssBuffer(message), code = gssBuffer(mic);
    OM_uint32 minor = 0;
    if (gss_verify_mic(&minor, context_, &text, &code, nullptr) != GSS_S_COMPLETE)
      protocolBroken("SPNEGO", "what was offered was altered on the way");
  }
  Bytes seal(ByteView plain) {
    gss_buffer_desc in = gssBuffer(plain), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    int sealed = 0;
    if (gss_wrap(&minor, context_, 1, GSS_C_QOP_DEFAULT, &in, &sealed, &out) != GSS_S_COMPLETE || sealed == 0)
      protocolBroken("Kerberos", "nothing can be sealed: " + wordsOf(minor));
    return takeGssBuffer(out);
  }
  Bytes open(ByteView sealedText) {
    gss_buffer_desc in = gssBuffer(sealedText), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    int sealed = 0;
    const OM_uint32 state = gss_unwrap(&minor, context_, &in, &out, &sealed, nullptr);
    Bytes plain = takeGssBuffer(out);
    if (state != GSS_S_COMPLETE || sealed == 0) protocolBroken("Kerberos", "a sealed message was altered");
    return plain;
  }

 private:
  void begin() {
    OM_uint32 minor = 0;
    gss_OID_desc mechanism = kerberos();
    gss_OID_set_desc wanted{1, &mechanism};
    gss_buffer_desc name = gssBuffer(name_), password{password_.size(), const_cast<char*>(password_.c_str())};
    gss_name_t user = GSS_C_NO_NAME;
    OM_uint32 state = gss_import_name(&minor, &name, const_cast<gss_OID>(GSS_KRB5_NT_PRINCIPAL_NAME), &user);
    if (GSS_ERROR(state) == 0)
      state = gss_acquire_cred_with_password(&minor, user, &password, GSS_C_INDEFINITE, &wanted,
                                             GSS_C_INITIATE, &account_, nullptr, nullptr);
    const OM_uint32 why = minor;
    gss_release_name(&minor, &user);
    if (GSS_ERROR(state) != 0) throw failureOf(why, realm_, service_);
    // With its realm, so that no name server is asked for another form of the name.
    const std::string whole = service_ + "@" + realm_;
    gss_buffer_desc service = gssBuffer(whole);
    state =
        gss_import_name(&minor, &service, const_cast<gss_OID>(GSS_KRB5_NT_PRINCIPAL_NAME), &service_name_);
    if (GSS_ERROR(state) != 0) throw failureOf(minor, realm_, service_);
  }
  void forgetPassword() { password_.clear(); }

  const std::string realm_, name_;
  Secret password_;
  const std::string service_;
  gss_cred_id_t account_ = GSS_C_NO_CREDENTIAL;
  gss_ctx_id_t context_ = GSS_C_NO_CONTEXT;
  gss_name_t service_name_ = GSS_C_NO_NAME;
  bool complete_ = false;
};

class KerberosProof : public Proof {
 public:
  KerberosProof(NtlmAccount account, const std::string& host)
      : context_(std::make_shared<Context>(account, host)) {}

  Task<Bytes> next(Bytes theirs) override {
    if (theirs.empty()) {
      const Bytes ticket = co_await firstStep();
      co_return spnegoInit(ticket);
    }
    const Negotiated answer = readSpnegoAnswer(theirs);
    if (answer.rejected)
      throw Error(ErrorKind::SignInFailed, "the machine does not take tickets of its realm")
          .withCure("Sign in with NTLM, or have the machine's account in the realm looked at.");
    const Bytes token = context_->step(answer.token);  // an answer is only computed with, nobody is asked
    if (context_->complete() && !answer.listMic.empty()) context_->checkMic(mechanismList(), answer.listMic);
    co_return token.empty() ? token : spnegoAnswer(token);
  }
  [[nodiscard]] bool complete() const override { return context_->complete(); }
  Bytes seal(ByteView plain) override { return context_->seal(plain); }
  Bytes open(ByteView sealedText) override { return context_->open(sealedText); }
  void giveUp() override {
    givenUp_ = true;
    asked_->parking.callOn();
  }
  [[nodiscard]] std::string name() const override { return "Kerberos"; }

 private:
  struct Asked {
    Parking parking;
    Bytes ticket;
    std::exception_ptr failure;
  };

  /// The key service may keep one waiting for minutes, and the library cannot be stopped. So its thread goes
  /// its own way when nobody waits any more; it holds all that it touches.
  Task<Bytes> firstStep() {
    std::thread([asked = asked_, context = context_] {
      try {
        asked->ticket = context->step({});
      } catch (...) {
        asked->failure = std::current_exception();
      }
      asked->parking.callOn();
    }).detach();
    const bool called = co_await asked_->parking.wait();
    if (!called || givenUp_) throw Error(ErrorKind::Cancelled, "ended here");
    if (asked_->failure) std::rethrow_exception(asked_->failure);
    co_return asked_->ticket;
  }

  std::shared_ptr<Context> context_;
  std::shared_ptr<Asked> asked_ = std::make_shared<Asked>();
  bool givenUp_ = false;
};

}  // namespace

std::string realmOf(const NtlmAccount& account) {
  std::string realm = account.domain;
  if (const auto at = account.user.find('@'); at != std::string::npos) realm = account.user.substr(at + 1);
  if (realm.find('.') == std::string::npos || realm.front() == '.') return {};
  for (char& c : realm)
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  return realm;
}

bool isRealmKnownHere(const std::string& realm) {
  krb5_context context = nullptr;
  if (realm.empty() || krb5_init_context(&context) != 0) return false;
  bool known = false;
  profile_t profile = nullptr;
  if (krb5_get_profile(context, &profile) == 0) {
    const char* path[] = {"realms", realm.c_str(), "kdc", nullptr};
    char** values = nullptr;
    known = profile_get_values(profile, path, &values) == 0 && values != nullptr && values[0] != nullptr;
    profile_free_list(values);
    profile_release(profile);
  }
  krb5_free_context(context);
  return known;
}

std::shared_ptr<Proof> kerberosProof(NtlmAccount account, const std::string& host) {
  return std::make_shared<KerberosProof>(std::move(account), host);
}

}  // namespace kw::rdp

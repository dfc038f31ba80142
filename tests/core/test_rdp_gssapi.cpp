// Our NTLM against somebody else's: the acceptor that GSSAPI has in Debian's gss-ntlmssp.
#include <gssapi/gssapi_ext.h>
#if defined(__SANITIZE_ADDRESS__)
#include <sanitizer/lsan_interface.h>
#endif

#include <cstdlib>
#include <fstream>

#include "rdp/gss_buffer.hpp"
#include "rdp/ntlm.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

gss_OID_desc ntlmMechanism() {  // 1.3.6.1.4.1.311.2.2.10
  static char bytes[] = "\x2b\x06\x01\x04\x01\x82\x37\x02\x02\x0a";
  return {10, bytes};
}

/// What the acceptor's library keeps for itself is not ours to free, and no leak of ours.
struct TheirMemory {
#if defined(__SANITIZE_ADDRESS__)
  TheirMemory() { __lsan_disable(); }
  ~TheirMemory() { __lsan_enable(); }
#else
  TheirMemory() {}
  ~TheirMemory() {}
#endif
};

/// Knows one account, ALDER\duty with the password fern-house.
class Acceptor {
 public:
  Acceptor() {
    {
      std::ofstream out(folder_.path / "accounts");
      out << "ALDER:duty:fern-house\n";
    }
    setenv("NTLM_USER_FILE", (folder_.path / "accounts").c_str(), 1);
    gss_OID_desc mechanism = ntlmMechanism();
    gss_OID_set_desc wanted{1, &mechanism};
    OM_uint32 minor = 0;
    const TheirMemory theirs;
    known_ = gss_acquire_cred(&minor, GSS_C_NO_NAME, GSS_C_INDEFINITE, &wanted, GSS_C_ACCEPT, &account_,
                              nullptr, nullptr) == GSS_S_COMPLETE;
  }
  ~Acceptor() {
    OM_uint32 minor = 0;
    if (context_ != nullptr) gss_delete_sec_context(&minor, &context_, GSS_C_NO_BUFFER);
    if (name_ != GSS_C_NO_NAME) gss_release_name(&minor, &name_);
    if (account_ != nullptr) gss_release_cred(&minor, &account_);
    unsetenv("NTLM_USER_FILE");
  }
  Acceptor(const Acceptor&) = delete;
  Acceptor& operator=(const Acceptor&) = delete;

  [[nodiscard]] bool known() const { return known_; }
  /// The answer; `state` is what GSSAPI thinks.
  Bytes take(const Bytes& token) {
    gss_buffer_desc in = gssBuffer(token), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    const TheirMemory theirs;
    state = gss_accept_sec_context(&minor, &context_, account_, &in, GSS_C_NO_CHANNEL_BINDINGS, &name_,
                                   nullptr, &out, nullptr, nullptr, nullptr);
    return takeGssBuffer(out);
  }
  std::string visitor() {
    gss_buffer_desc out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    REQUIRE(gss_display_name(&minor, name_, &out, nullptr) == GSS_S_COMPLETE);
    std::string name = textOf(takeGssBuffer(out));
    while (name.ends_with('\0')) name.pop_back();  // this acceptor counts the end of the text too
    return name;
  }
  std::optional<Bytes> opened(const Bytes& sealed) {
    gss_buffer_desc in = gssBuffer(sealed), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    const TheirMemory theirs;
    if (gss_unwrap(&minor, context_, &in, &out, nullptr, nullptr) != GSS_S_COMPLETE) return std::nullopt;
    return takeGssBuffer(out);
  }
  Bytes sealed(const Bytes& plain) {
    gss_buffer_desc in = gssBuffer(plain), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    const TheirMemory theirs;
    REQUIRE(gss_wrap(&minor, context_, 1, GSS_C_QOP_DEFAULT, &in, nullptr, &out) == GSS_S_COMPLETE);
    return takeGssBuffer(out);
  }
  OM_uint32 state = GSS_S_FAILURE;

 private:
  TemporaryFolder folder_;
  gss_cred_id_t account_ = GSS_C_NO_CREDENTIAL;
  gss_ctx_id_t context_ = GSS_C_NO_CONTEXT;
  gss_name_t name_ = GSS_C_NO_NAME;
  bool known_ = false;
};

Bytes bytesOf(const std::string& text) { return {text.begin(), text.end()}; }

}  // namespace

TEST_CASE("NTLM: an acceptor of somebody else's lets the right password in and opens what we seal", "[rdp]") {
  Acceptor service;
  REQUIRE(service.known());
  NtlmClient client({"duty", "ALDER", "fern-house"}, "desk");
  const Bytes challenge = service.take(client.negotiate());
  REQUIRE(service.state == GSS_S_CONTINUE_NEEDED);
  service.take(client.authenticate(challenge));
  REQUIRE(service.state == GSS_S_COMPLETE);
  CHECK(service.visitor() == "ALDER\\duty");
  for (const char* text : {"one", "two", "three"}) {
    CHECK(service.opened(client.outgoing().wrap(viewOf(text))) == bytesOf(text));
    CHECK(client.incoming().unwrap(service.sealed(bytesOf(text))) == bytesOf(text));
  }
  Bytes altered = client.outgoing().wrap(viewOf("four"));
  altered.back() ^= 1;
  CHECK_FALSE(service.opened(altered));
}

TEST_CASE("NTLM: an acceptor of somebody else's refuses a wrong password and an unknown name", "[rdp]") {
  const auto account =
      GENERATE(NtlmAccount{"duty", "ALDER", "orchid"}, NtlmAccount{"moss", "ALDER", "fern-house"});
  Acceptor service;
  REQUIRE(service.known());
  NtlmClient client(account, "desk");
  const Bytes challenge = service.take(client.negotiate());
  REQUIRE(service.state == GSS_S_CONTINUE_NEEDED);
  service.take(client.authenticate(challenge));
  CHECK(GSS_ERROR(service.state) != 0);
}

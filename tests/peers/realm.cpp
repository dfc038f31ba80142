#include "tests/peers/realm.hpp"

#include <arpa/inet.h>
#include <gssapi/gssapi_ext.h>
#include <gssapi/gssapi_krb5.h>
#include <signal.h>

#include <cstdlib>
#include <fstream>

#include "base/file.hpp"
#include "rdp/gss_buffer.hpp"
#include "tests/peers/peer.hpp"

namespace kw::test {

namespace {

constexpr const char* kName = "ALDER-VALE.EXAMPLE";
constexpr const char* kService = "TERMSRV/seed-bank.alder-vale.example";

void runWhole(const std::vector<std::string>& words, const std::filesystem::path& log) {
  if (ended(launch(words, log)) != 0)
    throw std::runtime_error(words[0] + " failed: " + textOf(readFile(log)));
}

bool answers(int port) {
  const int s = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in to{};
  to.sin_family = AF_INET, to.sin_port = htons(static_cast<std::uint16_t>(port));
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  const bool good = connect(s, reinterpret_cast<sockaddr*>(&to), sizeof to) == 0;
  close(s);
  return good;
}

class TicketCheck : public rdp::ProofCheck {
 public:
  ~TicketCheck() override {
    OM_uint32 minor = 0;
    if (context_ != GSS_C_NO_CONTEXT) gss_delete_sec_context(&minor, &context_, GSS_C_NO_BUFFER);
    if (name_ != GSS_C_NO_NAME) gss_release_name(&minor, &name_);
  }
  Bytes next(ByteView theirs) override {
    gss_buffer_desc in = rdp::gssBuffer(theirs), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    state_ = gss_accept_sec_context(&minor, &context_, GSS_C_NO_CREDENTIAL, &in, GSS_C_NO_CHANNEL_BINDINGS,
                                    &name_, nullptr, &out, nullptr, nullptr, nullptr);
    if (GSS_ERROR(state_) != 0) throw rdp::Refused{0xc000006d};
    return rdp::takeGssBuffer(out);
  }
  [[nodiscard]] bool complete() const override { return state_ == GSS_S_COMPLETE; }
  [[nodiscard]] rdp::NtlmAccount account() const override {
    if (name_ == GSS_C_NO_NAME) return {};
    gss_buffer_desc out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    gss_display_name(&minor, name_, &out, nullptr);
    return {textOf(rdp::takeGssBuffer(out)), "", ""};
  }
  Bytes seal(ByteView plain) override {
    gss_buffer_desc in = rdp::gssBuffer(plain), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    gss_wrap(&minor, context_, 1, GSS_C_QOP_DEFAULT, &in, nullptr, &out);
    return rdp::takeGssBuffer(out);
  }
  Bytes open(ByteView sealedText) override {
    gss_buffer_desc in = rdp::gssBuffer(sealedText), out = GSS_C_EMPTY_BUFFER;
    OM_uint32 minor = 0;
    int sealed = 0;
    if (gss_unwrap(&minor, context_, &in, &out, &sealed, nullptr) != GSS_S_COMPLETE || sealed == 0)
      protocolBroken("ticket", "a sealed message was altered");
    return rdp::takeGssBuffer(out);
  }

 private:
  gss_ctx_id_t context_ = GSS_C_NO_CONTEXT;
  gss_name_t name_ = GSS_C_NO_NAME;
  OM_uint32 state_ = GSS_S_CONTINUE_NEEDED;
};

}  // namespace

bool Realm::available() { return have("/usr/sbin/krb5kdc") && have("/usr/sbin/kadmin.local"); }

Realm::Realm() : port_(freeTcpPort()) {
  const std::string at = "127.0.0.1:" + std::to_string(port_);
  const std::filesystem::path& folder = folder_.path;
  std::ofstream(folder / "krb5.conf") << "[libdefaults]\n default_realm = " << kName
                                      << "\n dns_lookup_kdc = false\n dns_lookup_realm = false\n rdns = "
                                         "false\n dns_canonicalize_hostname = false\n"
                                         " udp_preference_limit = 1\n[realms]\n "
                                      << kName << " = {\n  kdc = " << at << "\n }\n";
  std::ofstream(folder / "kdc.conf") << "[kdcdefaults]\n kdc_listen = " << at << "\n kdc_tcp_listen = " << at
                                     << "\n[realms]\n " << kName
                                     << " = {\n  database_name = " << (folder / "accounts").string()
                                     << "\n  key_stash_file = " << (folder / "stash").string() << "\n }\n";
  setenv("KRB5_CONFIG", (folder / "krb5.conf").c_str(), 1);
  setenv("KRB5_KDC_PROFILE", (folder / "kdc.conf").c_str(), 1);
  setenv("KRB5_KTNAME", (folder / "keytab").c_str(), 1);
  setenv("KRB5CCNAME", "MEMORY:", 1);
  setenv("KRB5RCACHETYPE", "none", 1);
  runWhole({"/usr/sbin/kdb5_util", "create", "-s", "-r", kName, "-P", "greenhouse-key"}, folder / "log");
  administer("addprinc -pw fern-house duty");
  administer(std::string("addprinc -randkey ") + kService);
  administer("ktadd -k " + (folder / "keytab").string() + " " + kService);
  start();
}

Realm::~Realm() {
  stop();
  for (const char* name : {"KRB5_CONFIG", "KRB5_KDC_PROFILE", "KRB5_KTNAME", "KRB5CCNAME", "KRB5RCACHETYPE"})
    unsetenv(name);
}

void Realm::start() {
  process_ = launch({"/usr/sbin/krb5kdc", "-n", "-P", (folder_.path / "pid").string()}, folder_.path / "log");
  if (!eventually([this] { return answers(port_); }))
    throw std::runtime_error("the key service did not start: " + textOf(readFile(folder_.path / "log")));
}

void Realm::stop() {
  if (stalled_ >= 0) close(stalled_);
  stalled_ = -1;
  if (process_ < 0) return;
  kill(process_, SIGKILL);
  ended(process_);
  process_ = -1;
}

void Realm::stall() {
  stop();
  stalled_ = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const int on = 1;
  setsockopt(stalled_, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  sockaddr_in here{};
  here.sin_family = AF_INET, here.sin_port = htons(static_cast<std::uint16_t>(port_));
  here.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (bind(stalled_, reinterpret_cast<sockaddr*>(&here), sizeof here) != 0 || listen(stalled_, 8) != 0)
    throw std::runtime_error("the key service's port cannot be taken");
}

void Realm::administer(const std::string& command) const {
  runWhole({"/usr/sbin/kadmin.local", "-r", kName, "-q", command}, folder_.path / "log");
}

std::unique_ptr<rdp::ProofCheck> Realm::check() const { return std::make_unique<TicketCheck>(); }

}  // namespace kw::test

// RFC 4252: host key, then agent, key files, keyboard-interactive (RFC 4256), password; in that order.
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "ssh/link.hpp"

namespace kw {

namespace {

using State = SshConnection::State;
namespace fs = std::filesystem;
constexpr int kMostTries = 3;

struct KeyDeleter {
  void operator()(ssh_key key) const { ssh_key_free(key); }
};
using Key = std::unique_ptr<std::remove_pointer_t<ssh_key>, KeyDeleter>;

Task<int> authenticate(State& s, std::function<int()> step) {
  const int result = co_await s.until(std::move(step), SSH_AUTH_AGAIN);
  if (result == SSH_AUTH_ERROR) throw s.failure(ErrorKind::SignInFailed);
  co_return result;
}

bool offered(State& s, int method) { return (ssh_userauth_list(s.session, nullptr) & method) != 0; }

Task<bool> tryAgent(State& s) {
  if (!s.options.useAgent || std::getenv("SSH_AUTH_SOCK") == nullptr) co_return false;
  const int result =
      co_await s.until([&s] { return ssh_userauth_agent(s.session, nullptr); }, SSH_AUTH_AGAIN);
  co_return result == SSH_AUTH_SUCCESS;
}

/// Whether the private key's file is locked with a passphrase, by its text.
bool looksLocked(const std::string& file) {
  ssh_key probe = nullptr;
  const int result = ssh_pki_import_privkey_file(file.c_str(), "", nullptr, nullptr, &probe);
  if (probe != nullptr) ssh_key_free(probe);
  return result != SSH_OK;
}

Task<Key> loadKey(SshEvents& events, std::string file) {
  if (!std::ifstream(file)) throw Error(ErrorKind::Local, "this key file cannot be read", file);
  ssh_key key = nullptr;
  if (!looksLocked(file)) {
    ssh_pki_import_privkey_file(file.c_str(), nullptr, nullptr, nullptr, &key);
    co_return Key(key);
  }
  for (int i = 0; i < kMostTries; ++i) {
    SshPrompt prompt{SshPrompt::Kind::Passphrase,
                     "Passphrase of the key " + fs::path(file).filename().string(), true, i > 0};
    const auto given = co_await events.answer(prompt);
    if (!given) co_return Key();
    if (ssh_pki_import_privkey_file(file.c_str(), given->c_str(), nullptr, nullptr, &key) == SSH_OK)
      co_return Key(key);
  }
  co_return Key();
}

std::string certificateBeside(const State& s, const std::string& file, bool first) {
  if (first && !s.options.certificateFile.empty()) return s.options.certificateFile;
  const std::string beside = file + "-cert.pub";
  return fs::exists(beside) ? beside : "";
}

/// Asks the server first, when there is a public half, so that nobody unlocks a key for nothing.
Task<bool> wouldTake(State& s, std::string file, std::string certificate) {
  ssh_key publicKey = nullptr;
  const std::string path = certificate.empty() ? file + ".pub" : certificate;
  const int loaded = certificate.empty() ? ssh_pki_import_pubkey_file(path.c_str(), &publicKey)
                                         : ssh_pki_import_cert_file(path.c_str(), &publicKey);
  if (loaded != SSH_OK) co_return true;
  const Key held(publicKey);
  const int result = co_await s.until(
      [&] { return ssh_userauth_try_publickey(s.session, nullptr, held.get()); }, SSH_AUTH_AGAIN);
  co_return result == SSH_AUTH_SUCCESS;
}

/// A key that is kept by its text.
Task<int> tryKeyText(State& s, SshEvents& events, Secret text) {
  ssh_key raw = nullptr;
  int read = ssh_pki_import_privkey_base64(text.c_str(), "", nullptr, nullptr, &raw);
  for (int i = 0; i < kMostTries && read != SSH_OK; ++i) {
    const SshPrompt prompt{SshPrompt::Kind::Passphrase, "Passphrase of the key that is kept", true, i > 0};
    const auto given = co_await events.answer(prompt);
    if (!given) co_return SSH_AUTH_DENIED;
    read = ssh_pki_import_privkey_base64(text.c_str(), given->c_str(), nullptr, nullptr, &raw);
  }
  if (read != SSH_OK) throw Error(ErrorKind::SignInFailed, "the kept key cannot be read", s.options.host);
  const Key key(raw);
  co_return co_await authenticate(s, [&] { return ssh_userauth_publickey(s.session, nullptr, key.get()); });
}

Task<int> tryKeyFile(State& s, SshEvents& events, std::string file, bool first) {
  std::string certificate = certificateBeside(s, file, first);
  const bool worthIt = co_await wouldTake(s, file, certificate);
  if (!worthIt && certificate.empty()) co_return SSH_AUTH_DENIED;
  const Key key = co_await loadKey(events, file);
  if (!key) co_return SSH_AUTH_DENIED;
  if (!certificate.empty() && worthIt) {
    ssh_key cert = nullptr;
    if (ssh_pki_import_cert_file(certificate.c_str(), &cert) != SSH_OK)
      throw Error(ErrorKind::Local, "this certificate cannot be read", certificate);
    const Key held(cert);
    ssh_pki_copy_cert_to_privkey(cert, key.get());
  }
  co_return co_await authenticate(s, [&] { return ssh_userauth_publickey(s.session, nullptr, key.get()); });
}

Task<int> tryChallenge(State& s, SshEvents& events, bool& useKept, bool again) {
  int result = co_await authenticate(s, [&s] { return ssh_userauth_kbdint(s.session, nullptr, nullptr); });
  while (result == SSH_AUTH_INFO) {
    const int prompts = ssh_userauth_kbdint_getnprompts(s.session);
    for (int i = 0; i < prompts; ++i) {
      char echo = 0;
      const char* text = ssh_userauth_kbdint_getprompt(s.session, static_cast<unsigned>(i), &echo);
      std::string said = cleanUtf8(text != nullptr ? text : "");
      const bool asksPassword = lowered(said).find("password") != std::string::npos && !asksForCode(said);
      std::optional<Secret> given;
      if (asksPassword && useKept && s.options.password) {
        given = s.options.password;
        useKept = false;
      } else {
        SshPrompt prompt{asksPassword ? SshPrompt::Kind::Password : SshPrompt::Kind::Challenge,
                         s.options.host + " asks: " + said, echo == 0, again};
        given = co_await events.answer(prompt);
      }
      if (!given) throw Error(ErrorKind::SignInFailed, "no answer was given", s.options.host);
      ssh_userauth_kbdint_setanswer(s.session, static_cast<unsigned>(i), given->c_str());
    }
    result = co_await authenticate(s, [&s] { return ssh_userauth_kbdint(s.session, nullptr, nullptr); });
  }
  co_return result;
}

Task<int> tryPassword(State& s, SshEvents& events, bool& useKept, bool again) {
  std::optional<Secret> given;
  if (useKept && s.options.password) {
    given = s.options.password;
    useKept = false;
  } else {
    SshPrompt prompt{SshPrompt::Kind::Password, "Password of " + s.options.user + " on " + s.options.host,
                     true, again};
    given = co_await events.answer(prompt);
  }
  if (!given) throw Error(ErrorKind::SignInFailed, "no password was given", s.options.host);
  co_return co_await authenticate(s,
                                  [&] { return ssh_userauth_password(s.session, nullptr, given->c_str()); });
}

bool done(State& s, int result, const char* with) {
  if (result != SSH_AUTH_SUCCESS) return false;
  s.signedInWith = with;
  return true;
}

}  // namespace

bool asksForCode(const std::string& prompt) {
  const std::string said = lowered(prompt);
  for (const char* word : {"code", "token", "one-time", "one time", "otp", "factor"})
    if (said.find(word) != std::string::npos) return true;
  return false;
}

Task<void> checkHostKey(State& s, SshEvents& events) {
  ssh_key raw = nullptr;
  if (ssh_get_server_publickey(s.session, &raw) != SSH_OK) throw s.failure(ErrorKind::ProtocolBroken);
  const Key key(raw);
  unsigned char* hash = nullptr;
  std::size_t size = 0;
  if (ssh_get_publickey_hash(key.get(), SSH_PUBLICKEY_HASH_SHA256, &hash, &size) != 0)
    throw s.failure(ErrorKind::ProtocolBroken);
  char* text = ssh_get_fingerprint_hash(SSH_PUBLICKEY_HASH_SHA256, hash, size);
  s.key.sha256 = text != nullptr ? text : "";
  s.key.type = ssh_key_type_to_char(ssh_key_type(key.get()));
  ssh_string_free_char(text);
  ssh_clean_pubkey_hash(&hash);
  switch (ssh_session_is_known_server(s.session)) {
    case SSH_KNOWN_HOSTS_OK: s.key.knownHosts = HostKey::Known::Yes; break;
    case SSH_KNOWN_HOSTS_CHANGED:
    case SSH_KNOWN_HOSTS_OTHER: s.key.knownHosts = HostKey::Known::Changed; break;
    default: s.key.knownHosts = HostKey::Known::No;
  }
  const HostKey shown = s.key;
  const bool trusted = co_await events.trust(shown);
  if (!trusted)
    throw Error(ErrorKind::NotTrusted, "its key " + s.key.sha256 + " is not trusted", s.options.host);
}

Task<void> signIn(State& s, SshEvents& events) {
  int result = co_await authenticate(s, [&s] { return ssh_userauth_none(s.session, nullptr); });
  if (done(s, result, "no password")) co_return;
  bool useKept = true;
  // Each round that ends with "partial" has done one of several things the server wants.
  for (int round = 0; round < 4; ++round) {
    if (offered(s, SSH_AUTH_METHOD_PUBLICKEY)) {
      const bool agent = co_await tryAgent(s);
      if (agent && done(s, SSH_AUTH_SUCCESS, "a key of the agent")) co_return;
      bool first = true, partial = false;
      for (const Secret& text : s.options.keyTexts) {
        const int taken = co_await tryKeyText(s, events, text);
        if (done(s, taken, "a kept key")) co_return;
        partial = partial || taken == SSH_AUTH_PARTIAL;
      }
      for (const std::string& file : s.options.keyFiles) {
        const int taken = co_await tryKeyFile(s, events, file, std::exchange(first, false));
        if (done(s, taken, "a key file")) co_return;
        if (taken != SSH_AUTH_PARTIAL) continue;
        partial = true;
        break;
      }
      if (partial && !offered(s, SSH_AUTH_METHOD_INTERACTIVE) && !offered(s, SSH_AUTH_METHOD_PASSWORD))
        continue;
    }
    int last = SSH_AUTH_DENIED;
    for (int i = 0; i < kMostTries + 1; ++i) {
      if (offered(s, SSH_AUTH_METHOD_INTERACTIVE))
        last = co_await tryChallenge(s, events, useKept, i > 0);
      else if (offered(s, SSH_AUTH_METHOD_PASSWORD))
        last = co_await tryPassword(s, events, useKept, i > 0);
      else
        break;
      if (done(s, last, offered(s, SSH_AUTH_METHOD_INTERACTIVE) ? "answers to its questions" : "a password"))
        co_return;
      if (last == SSH_AUTH_PARTIAL) break;
    }
    if (last != SSH_AUTH_PARTIAL) break;
  }
  throw Error(ErrorKind::SignInFailed, "the server took none of the keys and passwords of " + s.options.user,
              s.options.host);
}

}  // namespace kw

#include "route/sign_in_source.hpp"

#include <boost/asio/experimental/awaitable_operators.hpp>
#include <boost/asio/steady_timer.hpp>

#include "record/agreed.hpp"
#include "record/setting.hpp"
#include "record/words.hpp"
#include "route/team_bundle.hpp"
#include "wire/child.hpp"

namespace kw {

namespace {

constexpr std::chrono::seconds kCommandLimit{20};
constexpr std::size_t kLongestLine = 4096;

std::string aboutBundle(Id credential) { return "credential " + std::to_string(credential); }

Task<std::string> firstLineOf(std::vector<std::string> words) {
  const Executor here = co_await asio::this_coro::executor;
  Child child(here, words);
  std::string line;
  Bytes part(512);
  while (line.find('\n') == std::string::npos && line.size() < kLongestLine) {
    std::size_t got = 0;
    try {
      got = co_await child.stream().readSome(part);
    } catch (const Error&) {
      break;  // it ended
    }
    line += textOf(ByteView(part).first(got));
  }
  line.resize(std::min(line.find_first_of("\r\n"), line.size()));
  co_return line;
}

Task<void> after(std::chrono::seconds limit) {
  const Executor here = co_await asio::this_coro::executor;
  asio::steady_timer timer(here, limit);
  co_await timer.async_wait(asio::use_awaitable_t<Executor>());
}

}  // namespace

SignInSource::SignInSource(OpeningTools tools, Owner owner, const Address& to, const SettingReader& setting)
    : tools_(std::move(tools)), owner_(owner), user_(to.user) {
  if (user_.empty()) user_ = setting("signin.user");
  const std::string from = setting("signin.from");
  const std::string prefix = kNamedSignIn;
  if (from.starts_with(prefix)) {
    credentialName_ = from.substr(prefix.size());
    const auto found = tools_.store ? tools_.store->credentialNamed(credentialName_) : std::nullopt;
    if (!found)
      throw Error(ErrorKind::Local,
                  "its sign-in is taken from \"" + credentialName_ + "\", which is not there")
          .withCure("Choose another on the sheet's page Sign-in.");
    credential_ = found->id;
    if (!found->user.empty()) user_ = found->user;
    domain_ = found->domain;
  }
  if (!tools_.givenUser.empty()) user_ = tools_.givenUser;
  if (from == "ask" || tools_.onlyGiven) mayFind_ = false;
  if (from == "command" && !tools_.givenPassword && !tools_.onlyGiven) {
    const std::string line = setting("signin.command");
    if (!isAgreed(line))
      throw Error(ErrorKind::Local,
                  "its password comes from a command that nobody at this desk has agreed to", line)
          .withCure("Open it in the window, which asks; or, in a shell: kettle credential agree COMMAND");
    command_ = wordsWith(
        line, {{"host", to.host}, {"port", std::to_string(to.port)}, {"user", user_}, {"address", to.uri()}});
  }
}

std::optional<SignIn> SignInSource::find(SecretUse use) const {
  if (tools_.givenPassword) return SignIn{user_, *tools_.givenPassword, SecretUse::Unknown, domain_};
  if (!mayFind_ || hasCommand()) return std::nullopt;
  std::optional<SignIn> found;
  if (credential_ != 0) {
    const auto secrets = keptBundle(tools_, credential_);
    if (secrets && !secrets->password.empty())
      found = SignIn{user_, secrets->password, secrets->use, domain_};
  } else if (owner_.id != 0) {
    found = keptSignIn(tools_, owner_);
  }
  if (found && !mayAnswer(found->use, use)) found.reset();
  return found;
}

Task<std::optional<SignIn>> SignInSource::fetch() const {
  using namespace asio::experimental::awaitable_operators;
  auto line = firstLineOf(command_);
  auto limit = after(kCommandLimit);
  auto got = co_await (std::move(line) || std::move(limit));
  if (got.index() == 1)
    throw Error(ErrorKind::SignInFailed, "the command for the password did not answer", command_.front());
  std::string password = std::get<0>(got);
  if (password.empty())
    throw Error(ErrorKind::SignInFailed, "the command for the password printed nothing", command_.front())
        .withCure("Try it in a shell: its first line of output is the password.");
  co_return SignIn{user_, std::move(password), SecretUse::Unknown, domain_};
}

void SignInSource::keep(const SignIn& signIn) const {
  if (credential_ == 0) {
    if (owner_.id != 0) keepSignIn(tools_, owner_, signIn);
    return;
  }
  SecretBundle secrets = bundle();
  secrets.password = signIn.password;
  secrets.use = signIn.use;
  keepBundle(tools_, credential_, secrets);
}

SecretBundle SignInSource::bundle() const {
  return credential_ == 0 || tools_.onlyGiven ? SecretBundle{}
                                              : keptBundle(tools_, credential_).value_or(SecretBundle{});
}

void keepBundle(const OpeningTools& tools, Id credential, const SecretBundle& bundle) {
  if (!tools.store || !tools.vault) return;
  if (keepForTeam(tools, credential, bundle)) return;
  const Owner owner{OwnerKind::Credential, credential};
  if (bundle.empty())
    tools.store->removeSecret(owner);
  else
    tools.store->putSecret(owner, tools.vault->seal(textOf(bundle), aboutBundle(credential)));
}

std::optional<SecretBundle> keptBundle(const OpeningTools& tools, Id credential) {
  if (!tools.store || !tools.vault || !tools.vault->isOpen()) return std::nullopt;
  if (const auto shared = keptForTeam(tools, credential)) return bundleFrom(shared->view());
  const auto sealedText = tools.store->secret({OwnerKind::Credential, credential});
  if (!sealedText) return std::nullopt;
  const auto plain = tools.vault->unseal(*sealedText, aboutBundle(credential));
  return plain ? bundleFrom(*plain) : std::nullopt;
}

int usersOfCredential(const Snapshot& records, const std::string& name) {
  int count = 0;
  for (const auto& [id, way] : records.endpoints)
    if (records.resolve({OwnerKind::WayIn, id}, "signin.from").value == kNamedSignIn + name) ++count;
  return count;
}

}  // namespace kw

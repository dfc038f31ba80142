// kettle trust: what is trusted, pinned in advance, forgotten.
#include <unistd.h>

#include <iostream>

#include "cli/live.hpp"
#include "cli/verbs.hpp"

namespace kw::cli {

namespace {

int list() {
  auto store = openUsualStore();
  for (const Pin& pin : store->pins())
    std::cout << pin.peer << "\t" << pin.sha256 << "\t" << pin.when << "\n";
  return kDone;
}

/// Two hexadecimal digits, parted by colons, 32 times; throws Error{Local}.
std::string fingerprintFrom(const std::string& text) {
  std::string digits;
  for (char c : lowered(text))
    if (c != ':' && c != ' ') digits += c;
  if (digits.size() != 64 || digits.find_first_not_of("0123456789abcdef") != std::string::npos)
    throw Error(ErrorKind::Local, "a SHA-256 fingerprint has 64 hexadecimal digits", text);
  std::string out;
  for (std::size_t i = 0; i < digits.size(); i += 2) out += (i == 0 ? "" : ":") + digits.substr(i, 2);
  return out;
}

std::string pinNameOf(const LiveOptions& options, Runtime& runtime) {
  const OpeningTools tools = openTools(options, runtime);
  const Target target = findTarget(options, tools, showsScreen);
  return wayTo(target.address, target.setting, tools)->pinName();
}

/// Connects until the peer shows its certificate, and goes no further.
std::string shownBy(const LiveOptions& options) {
  class Looker : public SessionObserver {
   public:
    void asked(const Question& question, std::function<void(Answer)> reply) override {
      {
        const std::lock_guard held(mutex);
        if (question.kind == Question::Kind::Trust) shown = question;
        over = true;
      }
      reply({});
      changed.notify_all();
    }
    void statusChanged(const SessionStatus& s) override {
      const std::lock_guard held(mutex);
      if (s.stage == SessionStage::Live || s.stage == SessionStage::Ended) over = true, status = s;
      changed.notify_all();
    }
    std::mutex mutex;
    std::condition_variable changed;
    std::optional<Question> shown;
    SessionStatus status;
    bool over = false;
  };
  Runtime runtime(1);
  OpeningTools tools = openTools(options, runtime);
  const Target target = findTarget(options, tools, showsScreen);
  tools.store = nullptr;  // what is pinned already must not answer
  auto session = makeSession(runtime.strand(), target.address, target.label, target.setting, tools, {});
  auto looker = std::make_shared<Looker>();
  session->observe(looker);
  session->start();
  std::unique_lock lock(looker->mutex);
  looker->changed.wait_for(lock, std::chrono::duration<double>(options.timeoutSeconds),
                           [&] { return looker->over; });
  session->end();
  if (!looker->shown)
    throw Error(looker->status.problem.value_or(ErrorKind::NotTrusted),
                looker->status.problem ? looker->status.sentence
                                       : "it shows no certificate that would have to be trusted",
                options.target);
  const PeerCertificate& c = looker->shown->certificate;
  std::cout << looker->shown->text << "\n  shown by   " << c.subject << "\n  issued by  " << c.issuer
            << "\n  SHA-256    " << c.sha256 << "\n";
  return c.sha256;
}

int add(const LiveOptions& options, const std::string& given) {
  Runtime runtime(1);
  const std::string peer = pinNameOf(options, runtime);
  std::string sha256;
  if (!given.empty()) {
    sha256 = fingerprintFrom(given);
  } else {
    sha256 = shownBy(options);
    if (::isatty(STDIN_FILENO) == 0)
      throw Error(ErrorKind::NotTrusted, "nobody is there to ask; give the fingerprint with --sha256",
                  options.target);
    Question question;
    question.kind = Question::Kind::Text;
    question.text = "Trust it from now on? (yes/no)";
    const Answer answer = answerOnTerminal(question, false);
    if (!answer.accepted || answer.password != "yes")
      throw Error(ErrorKind::NotTrusted, "it was not trusted", options.target);
  }
  openUsualStore()->pin(peer, sha256);
  std::cout << "trusted: " << peer << "\n";
  return kDone;
}

int forget(const LiveOptions& options) {
  Runtime runtime(1);
  const std::string peer = pinNameOf(options, runtime);
  auto store = openUsualStore();
  const bool had = store->pinned(peer) || store->pinned("sealed " + peer);
  store->unpin(peer);
  store->unpin("sealed " + peer);
  std::cout << (had ? "forgotten: " : "nothing was trusted: ") << peer << "\n";
  return kDone;
}

}  // namespace

void addTrustVerbs(CLI::App& app, Chosen& chosen) {
  auto* trust = app.add_subcommand("trust", "Certificates that are trusted");
  trust->require_subcommand(1);
  trust->add_subcommand("list", "All of them")->callback([&chosen] { chosen = list; });
  auto options = std::make_shared<LiveOptions>();
  auto sha256 = std::make_shared<std::string>();
  const auto target = [options](CLI::App* verb) {
    verb->add_option("target", options->target, "A URI or a machine's name")->required();
    verb->add_option("--via", options->via, "SSH jumps, nearest first");
    verb->add_option("--timeout", options->timeoutSeconds, "Seconds until the verb gives up")
        ->capture_default_str();
  };
  auto* adds = trust->add_subcommand(
      "add", "Trust a peer in advance; without a fingerprint it shows what it found and asks");
  target(adds);
  adds->add_option("--sha256", *sha256, "The fingerprint, as its owner says");
  adds->callback(
      [&chosen, options, sha256] { chosen = [options, sha256] { return add(*options, *sha256); }; });
  auto* forgets = trust->add_subcommand("forget", "Ask again at the next connection");
  target(forgets);
  forgets->callback([&chosen, options] { chosen = [options] { return forget(*options); }; });
}

}  // namespace kw::cli

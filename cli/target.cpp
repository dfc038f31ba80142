#include "cli/target.hpp"

#include <fcntl.h>
#include <termios.h>
#include <unistd.h>

#include <iostream>

#include "base/file.hpp"

namespace kw::cli {

std::optional<std::string> givenPassword(const LiveOptions& options) {
  if (options.passwordFile.empty()) return std::nullopt;
  const Bytes bytes = readFile(options.passwordFile, 4096);
  std::string text = textOf(bytes);
  if (const auto end = text.find_first_of("\r\n"); end != std::string::npos) text.resize(end);
  return text;
}

OpeningTools openTools(const LiveOptions& options, Runtime& runtime) {
  OpeningTools tools;
  if (isDatabase(usualStore()) || std::filesystem::exists(usualStore())) {
    tools.store = openUsualStore();
    tools.vault = openVault(configFolder());
  }
  tools.ssh = std::make_shared<SshPool>([&runtime] { return runtime.strand(); });
  tools.givenPassword = givenPassword(options);
  tools.givenUser = options.user;
  tools.via = options.via;
  return tools;
}

namespace {

Target targetIn(const LiveOptions& options, const OpeningTools& tools, bool (*wanted)(const WayKind&)) {
  const std::string& text = options.target;
  Target target;
  target.setting = builtInSettings();
  if (tools.store && text.find_first_of(":/") == std::string::npos) {
    target.snapshot = std::make_shared<Snapshot>(tools.store->load());
    if (const Machine* machine = target.snapshot->machineNamed(text)) {
      for (const Endpoint* e : target.snapshot->endpointsOf(machine->id)) {
        const WayKind* kind = findWayKind(e->scheme());
        if (kind == nullptr || !wanted(*kind) || !canOpen(e->scheme())) continue;
        target.address = parseAddress(e->address);
        target.label = machine->name;
        target.owner = {OwnerKind::WayIn, e->id};
        target.setting = settingsOf(*target.snapshot, target.owner);
        return target;
      }
      throw Error(ErrorKind::Unsupported, "this machine has no way in of the kind this verb needs",
                  machine->name);
    }
  }
  target.address = parseAddress(text);
  if (!options.user.empty()) target.address.user = options.user;
  if (canOpen(target.address.scheme) && !wanted(*findWayKind(target.address.scheme)))
    throw Error(ErrorKind::Local, "this verb does not work on " + target.address.scheme + " addresses", text);
  target.label = target.address.forPeople();
  return target;
}

}  // namespace

Target findTarget(const LiveOptions& options, const OpeningTools& tools, bool (*wanted)(const WayKind&)) {
  Target target = targetIn(options, tools, wanted);
  // A verb is over when its session is, and waits no longer than it was told.
  std::map<std::string, std::string> flags = options.settings;
  flags["reconnect.again"] = "off";
  flags["connect.limit"] = std::to_string(std::max(1, static_cast<int>(options.timeoutSeconds)));
  target.setting = overlaid(target.setting, std::move(flags));
  return target;
}

namespace {

/// A line typed at the terminal, shown or not.
std::optional<std::string> typedLine(const std::string& prompt, bool hidden) {
  const int fd = ::open("/dev/tty", O_RDWR | O_CLOEXEC);
  if (fd < 0) return std::nullopt;
  const std::shared_ptr<void> closer(nullptr, [fd](void*) { ::close(fd); });
  termios before{};
  if (::tcgetattr(fd, &before) != 0) return std::nullopt;
  termios quiet = before;
  if (hidden) quiet.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  quiet.c_lflag |= ICANON;
  ::tcsetattr(fd, TCSAFLUSH, &quiet);
  const std::string shown = prompt + ": ";
  std::string line;
  bool whole = ::write(fd, shown.data(), shown.size()) > 0;
  for (char c = 0; whole && line.size() < 4096;) {
    whole = ::read(fd, &c, 1) == 1;
    if (!whole || c == '\n') break;
    line += c;
  }
  ::tcsetattr(fd, TCSAFLUSH, &before);
  if (hidden && ::write(fd, "\n", 1) < 0) whole = false;
  return whole ? std::optional(line) : std::nullopt;
}

}  // namespace

std::optional<std::string> askOnTerminal(const std::string& prompt) { return typedLine(prompt, true); }

Answer answerOnTerminal(const Question& question, bool trustOnce) {
  Answer answer;
  if (question.kind == Question::Kind::Trust) {
    answer.accepted = trustOnce && question.pinned.empty();
    if (answer.accepted || !question.pinned.empty() || ::isatty(STDIN_FILENO) == 0) return answer;
    const auto typed =
        typedLine(question.text + "\n" + question.certificate.sha256 + "\nGo on this once? (yes/no)", false);
    answer.accepted = typed && *typed == "yes";
    return answer;
  }
  if (::isatty(STDIN_FILENO) == 0) return answer;
  if (question.kind == Question::Kind::Unsealed) {
    const auto typed = typedLine(question.text + "\n" + question.hint + "\nGo on in clear? (yes/no)", false);
    answer.accepted = typed && *typed == "yes";
    return answer;
  }
  if (question.kind == Question::Kind::UserAndPassword) {
    const auto user = typedLine(question.user.empty() ? "Name" : "Name (" + question.user + ")", false);
    if (!user) return answer;
    answer.user = user->empty() ? question.user : *user;
  }
  if (!question.account.empty()) std::cerr << question.account << "\n";
  const auto typed = typedLine(question.text, question.kind != Question::Kind::Text);
  answer.accepted = typed.has_value();
  answer.password = typed.value_or("");
  return answer;
}

}  // namespace kw::cli

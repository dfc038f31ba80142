// What the verbs work on: an address or a machine of the store, with its settings; and who answers questions.
#pragma once
#include <memory>
#include <optional>
#include <string>

#include "base/runtime.hpp"
#include "record/catalogue.hpp"
#include "route/opening.hpp"

namespace kw::cli {

inline bool showsScreen(const WayKind& kind) { return kind.form == Form::Screen; }
inline bool showsText(const WayKind& kind) { return kind.form == Form::Text; }

/// Flags that every connecting verb has.
struct LiveOptions {
  std::string target;  ///< a URI, host:port, or the name of a machine in the store
  std::string passwordFile;
  std::string user;
  std::string via;  ///< SSH jumps
  bool trustOnce = false;
  double timeoutSeconds = 30;
  /// Flags of the verb, laid over the settings: "screen.colours" → "16".
  std::map<std::string, std::string> settings;
};

struct Target {
  Address address;
  std::string label;
  Owner owner;
  SettingReader setting;
  std::shared_ptr<Snapshot> snapshot;
};

/// Store (when there is one), vault, SSH connections.
OpeningTools openTools(const LiveOptions& options, Runtime& runtime);
/// A machine's name wins over a host of the same name, when the text holds no scheme or port. `wanted` says
/// which kinds of way in will do.
Target findTarget(const LiveOptions& options, const OpeningTools& tools, bool (*wanted)(const WayKind&));

/// The first line of the password file, if one was given.
std::optional<std::string> givenPassword(const LiveOptions& options);

/// Typed without being shown; nothing without a terminal.
std::optional<std::string> askOnTerminal(const std::string& prompt);
/// Asks whoever sits at the terminal; refuses when nobody does. `trustOnce` answers for keys that are merely
/// new.
Answer answerOnTerminal(const Question& question, bool trustOnce);
class TerminalAsker : public Asker {
 public:
  explicit TerminalAsker(bool trustOnce) : trustOnce_(trustOnce) {}
  Task<Answer> ask(Question question) override { co_return answerOnTerminal(question, trustOnce_); }
  void doing(const std::string&) override {}

 private:
  bool trustOnce_;
};

}  // namespace kw::cli

// Hosts that are asked by a program of their owner. It is called with a verb behind its own words and answers
// with JSON objects, one a line (docs/formats.md, "Own command"):
//   watch                   {"machines": […]} once, then {"machine": {…}} or {"gone": "ID"} at each change
//   power ID VERB           {"done": true} or {"error": "a sentence", "cure": "…"}
//   first-password ID       {"done": true, "sealed": "BASE64"}: encrypted to its owner's key
//   console ID              a change as one JSON line on its standard input; answers as power does
#include <nlohmann/json.hpp>

#include "base/runtime.hpp"
#include "host/adapter.hpp"
#include "host/line_reader.hpp"
#include "record/words.hpp"
#include "wire/child.hpp"

namespace kw::host {

namespace {

using Json = nlohmann::json;

constexpr auto kAnswerLimit = std::chrono::seconds(60);
constexpr std::size_t kMostMachines = 100'000;

Json parsedLine(const std::string& line) {
  Json message = Json::parse(line, nullptr, false);
  if (!message.is_object()) protocolBroken("the host's command", "a line is no JSON object");
  if (const auto error = message.find("error"); error != message.end() && error->is_string()) {
    Error failure(ErrorKind::Local, cleanUtf8(error->get<std::string>()));
    if (const auto cure = message.find("cure"); cure != message.end() && cure->is_string())
      throw failure.withCure(cleanUtf8(cure->get<std::string>()));
    throw failure;
  }
  return message;
}

class CommandAdapter : public HostAdapter {
 public:
  CommandAdapter(std::vector<std::string> words, const AdapterTools& tools)
      : words_(std::move(words)), tools_(tools) {
    abilities_ = allAble();
  }

  Task<void> run(HostNews& news) override {
    const std::vector<std::string> watch{"watch"};
    watching_ = begin(watch);
    const auto ended = std::shared_ptr<void>(nullptr, [this](void*) { watching_.reset(); });
    const auto child = watching_;
    LineReader lines(child->stream());
    for (;;) {
      std::string line;
      try {
        line = co_await lines.next();
      } catch (const Error& e) {
        if (e.kind() != ErrorKind::ClosedByPeer) throw;
        throw Error(ErrorKind::ClosedByPeer, "the host's command ended", words_[0]);
      }
      take(parsedLine(line), news);
    }
  }

  void close() override {
    if (watching_) watching_->stream().close();
  }

  [[nodiscard]] HostAbilities abilities() const override { return abilities_; }

  Task<void> power(std::string id, PowerAct act) override {
    // Named first: GCC 12 takes no braced list inside co_await.
    std::vector<std::string> words{"power", std::move(id), nameOf(act)};
    co_await ask(std::move(words), "");
  }

  Task<void> change(std::string id, ConsoleChange c) override {
    Json what{{"kind", c.scheme}};
    if (c.password) what["password"] = *c.password;
    if (c.port) what["port"] = *c.port;
    if (c.listen) what["listen"] = *c.listen;
    if (c.addSerial) what["addSerial"] = *c.addSerial;
    std::vector<std::string> words{"console", std::move(id)};
    co_await ask(std::move(words), what.dump() + "\n");
  }

  Task<std::string> firstPassword(std::string id) override {
    std::vector<std::string> words{"first-password", std::move(id)};
    const Json answer = co_await ask(std::move(words), "");
    const auto sealed = answer.find("sealed");
    if (sealed == answer.end() || !sealed->is_string() || sealed->get<std::string>().empty())
      throw Error(ErrorKind::Unsupported, "the host gives no first password of this machine")
          .withCure("It may still be starting for the first time, or have been made without a key.");
    co_return sealed->get<std::string>();
  }

 private:
  static HostAbilities allAble() {
    HostAbilities a;
    for (Ability* x : {&a.start, &a.power, &a.pause, &a.restart, &a.password, &a.port, &a.listen, &a.serial})
      x->can = true;
    return a;
  }

  std::shared_ptr<Child> begin(const std::vector<std::string>& more) {
    std::vector<std::string> words = words_;
    words.insert(words.end(), more.begin(), more.end());
    return std::make_shared<Child>(tools_.strand, words);
  }

  /// The abilities that the program says it has not: {"cannot": {"port": "a sentence"}}.
  void takeAbilities(const Json& cannot) {
    abilities_ = allAble();
    if (!cannot.is_object()) return;
    const std::pair<const char*, Ability*> known[] = {
        {"start", &abilities_.start},     {"power", &abilities_.power},       {"pause", &abilities_.pause},
        {"restart", &abilities_.restart}, {"password", &abilities_.password}, {"port", &abilities_.port},
        {"listen", &abilities_.listen},   {"serial", &abilities_.serial}};
    for (const auto& [name, ability] : known)
      if (const auto why = cannot.find(name); why != cannot.end() && why->is_string())
        *ability = {false, cleanUtf8(why->get<std::string>())};
  }

  void take(const Json& message, HostNews& news) {
    if (const auto all = message.find("machines"); all != message.end()) {
      if (!all->is_array() || all->size() > kMostMachines)
        protocolBroken("the host's command", "\"machines\" is no list, or too long");
      std::vector<StockMachine> machines;
      for (const Json& one : *all) machines.push_back(stockMachineFrom(one));
      takeAbilities(message.value("cannot", Json()));
      const auto what = message.find("host");
      news.described(
          what != message.end() && what->is_string() ? cleanUtf8(what->get<std::string>()) : "own command",
          true);
      news.all(std::move(machines));
    } else if (const auto one = message.find("machine"); one != message.end()) {
      news.one(stockMachineFrom(*one));
    } else if (const auto gone = message.find("gone"); gone != message.end() && gone->is_string()) {
      news.gone(gone->get<std::string>());
    }
  }

  Task<Json> ask(std::vector<std::string> words, std::string input) {
    const auto child = begin(words);
    Json answer;
    const auto talk = [&]() -> Task<void> {
      if (!input.empty()) co_await child->stream().write(viewOf(input));
      LineReader lines(child->stream());
      answer = parsedLine(co_await lines.next());
      if (!answer.contains("done")) protocolBroken("the host's command", "it says neither done nor error");
    };
    co_await within(kAnswerLimit, words_[0], talk());
    co_return answer;
  }

  std::vector<std::string> words_;
  AdapterTools tools_;
  std::shared_ptr<Child> watching_;
  HostAbilities abilities_;
};

}  // namespace

std::unique_ptr<HostAdapter> makeCommandAdapter(const std::string& rest, const AdapterTools& tools) {
  return std::make_unique<CommandAdapter>(wordsOf(rest), tools);
}

}  // namespace kw::host

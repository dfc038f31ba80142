// kettle-gate: the gateway, and what its keeper does from a shell.
#include <CLI/CLI.hpp>
#include <csignal>
#include <iostream>
#include <sstream>

#include "base/file.hpp"
#include "base/secrecy.hpp"
#include "gate/gate.hpp"
#include "gate/recording.hpp"
#include "gate/rules.hpp"
#include "record/database_people.hpp"
#include "route/opening.hpp"
#include "route/team_bundle.hpp"

namespace {

using namespace kw;
using namespace kw::gate;

std::filesystem::path stateIn(const std::string& given) {
  return given.empty() ? stateFolder() / "gate" : std::filesystem::path(given);
}
std::string storeIn(const std::string& given) { return given.empty() ? usualStore() : given; }

std::string firstLineOf(const std::string& file) {
  std::string text = textOf(readFile(file, 65536));
  text = text.substr(0, text.find('\n'));
  if (!text.empty() && text.back() == '\r') text.pop_back();
  return text;
}

/// "90m", "2h", "3d" in hours.
double hoursFrom(const std::string& text) {
  std::size_t used = 0;
  double value = 0;
  try {
    value = std::stod(text, &used);
  } catch (const std::exception&) {
    used = 0;
  }
  const std::string unit = text.substr(used);
  if (used == 0 || !(value > 0) || (unit != "m" && unit != "h" && unit != "d"))
    throw Error(ErrorKind::Local, "a time is written 90m, 2h or 3d", text);
  return unit == "m" ? value / 60 : unit == "d" ? value * 24 : value;
}

struct Serve {
  GateOptions options;
  std::string listen = "127.0.0.1:8443", state, store;
  int keepDays = 0;  ///< recordings
};

/// Credentials can be shared with the gateway's account from now on.
void introduce(const OpeningTools& tools) {
  try {
    publishDesk(tools);
  } catch (const Error& e) {
    std::cerr << "kettle-gate: colleagues cannot share credentials with it: " << e.what() << std::endl;
  }
}

int serve(Serve s) {
  sigset_t signals;
  sigemptyset(&signals);
  sigaddset(&signals, SIGINT);
  sigaddset(&signals, SIGTERM);
  sigaddset(&signals, SIGHUP);
  pthread_sigmask(SIG_BLOCK, &signals, nullptr);
  const Address at = parseAddress("tcp://" + s.listen);
  s.options.address = at.host;
  s.options.port = static_cast<std::uint16_t>(at.port);
  s.options.state = stateIn(s.state);
  OpeningTools tools;
  const std::string records = storeIn(s.store);
  tools.store = openStore(records);
  if (isDatabase(records)) {
    s.options.storeSignIn = [records](const std::string& name, const std::string& password) {
      return databaseKnows(records, name, password);
    };
    s.options.storeRefuses = [records](const std::vector<std::string>& people) {
      return databaseRefuses(records, people);
    };
  }
  s.options.keepRecordings = std::chrono::hours(24 * s.keepDays);
  tools.vault = openVault(configFolder());
  introduce(tools);
  Runtime runtime(2);
  Gate gate(runtime, s.options, tools);
  gate.start();
  std::cout << "kettle-gate serves https://" << at.host << ":" << gate.port() << "\ncertificate SHA-256 "
            << gate.fingerprint() << std::endl;
  if (gate.store().accounts().empty())
    std::cout << "nobody has an account yet: kettle-gate user add NAME" << std::endl;
  int received = 0;
  while (sigwait(&signals, &received) == 0 && received == SIGHUP) {
    try {
      gate.reload();
      std::cout << "certificate SHA-256 " << gate.fingerprint() << std::endl;
    } catch (const Error& e) {
      std::cerr << "kettle-gate: the certificate stays as it was: " << e.what() << std::endl;
    }
  }
  gate.stop();
  return 0;
}

struct PassWords {
  std::string machine, lasts = "1h", begins, way, note, gate = "https://127.0.0.1:8443";
  bool look = false, carry = false;
  int uses = 0;
};

int addPass(const std::string& state, const std::string& storeFile, const PassWords& w) {
  const auto store = openStore(storeIn(storeFile));
  const Snapshot s = store->load();
  const Machine* m = s.machineNamed(w.machine);
  if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", w.machine);
  const Endpoint* way = nullptr;
  for (const Endpoint* e : s.endpointsOf(m->id))
    if (canOpen(e->scheme()) && (w.way.empty() ? way == nullptr : e->label == w.way)) way = e;
  if (way == nullptr) throw Error(ErrorKind::Local, "the machine has no such way in", w.way);
  const Rules rules = rulesOf(s, way->id);
  const double hours = hoursFrom(w.lasts);
  if (const std::string why = problemWithPass(rules, hours, w.uses); !why.empty())
    throw Error(ErrorKind::Local, why, w.machine);
  GateStore gate(stateIn(state));
  Pass pass;
  pass.wayIn = way->id;
  pass.machine = m->name;
  pass.label = way->label;
  pass.look = w.look || !rules.drive;
  pass.carriesPassword = w.carry;
  pass.from = nowSeconds() + (w.begins.empty() ? 0 : static_cast<Seconds>(hoursFrom(w.begins) * 3600));
  pass.until = pass.from + static_cast<Seconds>(hours * 3600);
  pass.most = w.uses;
  pass.note = w.note;
  pass.madeBy = "the keeper's shell";
  const std::string token = gate.makePass(pass);
  gate.audit(pass.madeBy, "", "makes a pass",
             {{"pass", pass.id}, {"machine", pass.machine}, {"look", pass.look}, {"until", pass.until}});
  std::cout << "pass " << pass.id << "\t" << w.gate << "/#pass=" << token << "\n";
  return 0;
}

int listPasses(const std::string& state) {
  GateStore gate(stateIn(state));
  for (const Pass& p : gate.passes()) {
    const std::string problem = problemWith(p, nowSeconds());
    std::cout << p.id << "\t" << p.machine << " " << p.label << "\t" << (p.look ? "look" : "drive") << "\t"
              << (problem.empty() ? "open for " + std::to_string((p.until - nowSeconds()) / 60) + " min"
                                  : problem)
              << "\tused " << p.uses << (p.most > 0 ? " of " + std::to_string(p.most) : "") << "\t" << p.note
              << "\n";
  }
  return 0;
}

int verifyAudit(const std::string& state) {
  const auto check = GateStore(stateIn(state)).verifyAudit();
  if (check.wrongAt != 0) {
    std::cout << "broken at entry " << check.wrongAt << ": it, or one before it, was changed or removed\n";
    return 1;
  }
  std::cout << "whole: " << check.entries << " entries\n";
  return 0;
}

int listRecordings(const std::string& state) {
  for (const RecordingFacts& f : recordingsIn(stateIn(state) / "recordings"))
    std::cout << f.file << "\t" << f.machine << " " << f.label << "\t"
              << (f.lasted < 0 ? std::string("under way, or cut off")
                               : std::to_string(f.lasted / 1000) + " s")
              << "\t" << f.bytes / 1000 << " kB\t" << f.people << "\n";
  return 0;
}

std::string csvField(const std::string& text) {
  if (text.find_first_of(",\"\n\r") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

int exportAudit(const std::string& state, bool csv) {
  GateStore gate(stateIn(state));
  if (csv) std::cout << "number,when,who,from,what,machine\r\n";
  std::int64_t after = 0;
  for (;;) {
    const auto part = gate.auditEntries(after, 500);
    if (part.empty()) return 0;
    for (const auto& e : part) {
      after = e["number"].get<std::int64_t>();
      if (!csv) {
        std::cout << e.dump() << "\n";
        continue;
      }
      std::cout << after;
      for (const char* key : {"when", "who", "from", "what", "machine"})
        std::cout << "," << csvField(e.value(key, ""));
      std::cout << "\r\n";
    }
  }
}

}  // namespace

int main(int argc, char** argv) {
  kw::keepOutOfCoreDumps();
  CLI::App app{"kettle-gate: machines' screens and text in a browser", "kettle-gate"};
  app.require_subcommand(1);
  std::string state, store;
  app.add_option("--state", state, "Folder of accounts, passes and the audit");
  app.add_option("--store", store, "The records: a file or postgresql://…; the user's own when left out");
  app.set_config("--config", "", "A file with the same words: state = \"…\", [serve] listen = \"…\"");
  std::function<int()> chosen;
  Serve s;
  {
    auto* verb = app.add_subcommand("serve", "Serves until it is ended");
    verb->add_option("--listen", s.listen, "ADDRESS:PORT")->capture_default_str();
    verb->add_option("--name", s.options.name, "What the page calls the gate")->capture_default_str();
    verb->add_option("--certificate", s.options.certificateFile,
                     "PEM file; self-made at the first start without one");
    verb->add_option("--key", s.options.keyFile, "PEM file of its key");
    verb->add_option("--keep-recordings", s.keepDays, "DAYS, then they are removed; 0: for good")
        ->check(CLI::Range(0, 3650))
        ->capture_default_str();
    verb->add_option("--embed", s.options.embedders,
                     "ORIGIN whose pages may show the gateway in a frame: https://wiki.example; repeatable")
        ->check([](const std::string& text) {
          const bool good = text.starts_with("https://") &&
                            text.find_first_of(" ;,'\"/", 8) == std::string::npos && text.size() > 8;
          return good ? std::string() : "an origin is https://HOST or https://HOST:PORT: " + text;
        });
    verb->callback([&] {
      chosen = [&] {
        s.state = state, s.store = store;
        return serve(s);
      };
    });
  }
  std::string name, role = "drive", file;
  bool codes = false, byStore = false;
  {
    auto* user = app.add_subcommand("user", "People with an account");
    user->require_subcommand(1);
    const auto named = [&](const char* verb, const char* help) {
      auto* v = user->add_subcommand(verb, help);
      v->add_option("name", name, "Its name")->required();
      return v;
    };
    const auto roles = CLI::IsMember({"look", "drive", "keeper"});
    auto* add = named("add", "Adds one");
    add->add_option("--role", role, "look, drive or keeper")->check(roles)->capture_default_str();
    add->add_option("--password-file", file,
                    "File whose first line is the password; made up and printed without one");
    add->add_flag("--by-store", byStore, "Its password is that of the same name in the team's database");
    add->add_flag("--codes", codes, "Ask for one-time codes too; prints the secret for the phone");
    add->callback([&] {
      chosen = [&] {
        GateStore gate(stateIn(state));
        if (byStore) {
          if (!isDatabase(storeIn(store)))
            throw Error(ErrorKind::Local, "only a team's database has people of its own", storeIn(store));
          gate.addStoreAccount(name, *roleFrom(role));
        } else {
          const std::string password = file.empty() ? randomToken().substr(0, 14) : firstLineOf(file);
          gate.addAccount(name, password, *roleFrom(role));
          if (file.empty()) std::cout << "password " << password << "\n";
        }
        if (codes) std::cout << "one-time codes: secret " << gate.startCodes(name) << "\n";
        gate.audit("the keeper's shell", "", "adds an account", {{"account", name}, {"role", role}});
        return 0;
      };
    });
    auto* set = named("role", "Changes what somebody may do; open visits follow at once");
    set->add_option("role", role, "look, drive or keeper")->required()->check(roles);
    set->callback([&] {
      chosen = [&] {
        GateStore gate(stateIn(state));
        gate.setRole(name, *roleFrom(role));
        gate.audit("the keeper's shell", "", "changes a role", {{"account", name}, {"role", role}});
        return 0;
      };
    });
    const std::pair<const char*, bool> switches[] = {{"off", true}, {"on", false}};
    for (const auto& [verb, off] : switches)
      named(verb, off ? "Lets somebody in no more; open visits end" : "Lets them in again")
          ->callback([&, off = off] {
            chosen = [&, off] {
              GateStore gate(stateIn(state));
              gate.setOff(name, off);
              gate.audit("the keeper's shell", "", off ? "switches an account off" : "switches an account on",
                         {{"account", name}});
              return 0;
            };
          });
    named("remove", "Removes one")->callback([&] {
      chosen = [&] {
        GateStore gate(stateIn(state));
        gate.removeAccount(name);
        gate.audit("the keeper's shell", "", "removes an account", {{"account", name}});
        return 0;
      };
    });
    user->add_subcommand("list", "All of them")->callback([&] {
      chosen = [&] {
        for (const Account& a : GateStore(stateIn(state)).accounts())
          std::cout << a.name << "\t" << nameOf(a.role) << (a.codes ? "\tone-time codes" : "")
                    << (a.byStore ? "\tby the team's database" : "") << (a.off ? "\toff" : "") << "\n";
        return 0;
      };
    });
  }
  PassWords words;
  Id number = 0;
  {
    auto* pass = app.add_subcommand("pass", "Links that open one machine for a time, without an account");
    pass->require_subcommand(1);
    auto* add = pass->add_subcommand("add", "Makes one and prints its link, this once");
    add->add_option("machine", words.machine, "Its name")->required();
    add->add_option("--for", words.lasts, "How long: 90m, 2h, 3d")->capture_default_str();
    add->add_option("--in", words.begins, "It opens from then on only: 30m, 2h, 1d from now");
    add->add_flag("--look", words.look, "Its holder types nothing");
    add->add_flag("--carry", words.carry, "The machine's kept password is used; its holder never sees it");
    add->add_option("--uses", words.uses, "How often it opens; 0: any number")->check(CLI::Range(0, 10000));
    add->add_option("--way", words.way, "Which of its ways in, by name");
    add->add_option("--note", words.note, "For whom");
    add->add_option("--gate", words.gate, "The gate's address as its holder reaches it")
        ->capture_default_str();
    add->callback([&] { chosen = [&] { return addPass(state, store, words); }; });
    pass->add_subcommand("list", "All of them, with their uses")->callback([&] {
      chosen = [&] { return listPasses(state); };
    });
    auto* end = pass->add_subcommand("end", "It opens no more; open visits by it end at once");
    end->add_option("number", number, "As the list shows it")->required();
    end->callback([&] {
      chosen = [&] {
        GateStore gate(stateIn(state));
        gate.endPass(number);
        gate.audit("the keeper's shell", "", "ends a pass", {{"pass", number}});
        return 0;
      };
    });
  }
  std::string recording;
  {
    auto* kept = app.add_subcommand("recording", "What visitors were shown; keepers play it in the browser");
    kept->require_subcommand(1);
    kept->add_subcommand("list", "All of them, newest first")->callback([&] {
      chosen = [&] { return listRecordings(state); };
    });
    auto* remove = kept->add_subcommand("remove", "Removes one for good");
    remove->add_option("file", recording, "As the list shows it")->required();
    remove->callback([&] {
      chosen = [&] {
        removeRecording(stateIn(state) / "recordings", recording);
        GateStore(stateIn(state))
            .audit("the keeper's shell", "", "removes a recording", {{"file", recording}});
        return 0;
      };
    });
  }
  bool csv = false;
  {
    auto* audit = app.add_subcommand("audit", "Who did what");
    audit->require_subcommand(1);
    audit->add_subcommand("verify", "Whether the chain is whole")->callback([&] {
      chosen = [&] { return verifyAudit(state); };
    });
    auto* all = audit->add_subcommand("export", "All of it, as JSON lines");
    all->add_flag("--csv", csv, "As CSV");
    all->callback([&] { chosen = [&] { return exportAudit(state, csv); }; });
  }
  CLI11_PARSE(app, argc, argv);
  try {
    return chosen();
  } catch (const std::exception& e) {
    std::cerr << "kettle-gate: " << e.what() << "\n";
    return 1;
  }
}

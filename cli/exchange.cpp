// Machines out of other programs' files, and into files.
#include <iostream>
#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "credential/sealed_file.hpp"
#include "exchange/table.hpp"
#include "route/team_bundle.hpp"

namespace kw::cli {

namespace {

using namespace kw::exchange;

struct ImportWords {
  std::vector<std::string> files;
  std::string kind, group, clash = "skip", columns, passphraseFile;
  bool dryRun = false;
};

std::string firstLineOf(const std::string& file) {
  if (file.empty()) return {};
  std::string text = textOf(readFile(file, 64U << 10));
  if (const auto end = text.find_first_of("\r\n"); end != std::string::npos) text.resize(end);
  return text;
}

/// "name=Title,address=IP number": which heading means what.
TableColumns columnsFrom(const std::string& words, const Table& table) {
  TableColumns out = table.found;
  for (std::size_t at = 0; at < words.size();) {
    const auto end = std::min(words.find(',', at), words.size());
    const std::string item = words.substr(at, end - at);
    at = end + 1;
    const auto equals = item.find('=');
    const std::string field = trimmed(item.substr(0, equals));
    const std::string heading = equals == std::string::npos ? "" : trimmed(item.substr(equals + 1));
    const auto known = std::any_of(tableFields().begin(), tableFields().end(),
                                   [&](const TableField& f) { return field == f.key; });
    const auto found = std::find_if(table.headings.begin(), table.headings.end(), [&](const std::string& h) {
      return lowered(trimmed(h)) == lowered(heading);
    });
    if (!known || found == table.headings.end()) {
      std::string fields, headings;
      for (const TableField& f : tableFields()) fields += std::string(" ") + f.key;
      for (const std::string& h : table.headings) headings += " \"" + h + "\"";
      throw Error(ErrorKind::Local, "a column is given as field=heading", item)
          .withCure("Fields:" + fields + "; headings:" + headings);
    }
    out[field] = static_cast<std::size_t>(found - table.headings.begin());
  }
  return out;
}

Read readAll(const std::vector<std::filesystem::path>& files, const ImportWords& w) {
  const std::string passphrase = firstLineOf(w.passphraseFile);
  if (w.columns.empty()) return readFiles(files, w.kind, passphrase);
  Read out;
  for (const auto& file : files) {
    const Source source = sourceOf(file, passphrase);
    const Table table = tableOf(source.text);
    Read one = readTable(table, columnsFrom(w.columns, table), source.name);
    std::move(one.entries.begin(), one.entries.end(), std::back_inserter(out.entries));
    std::move(one.remarks.begin(), one.remarks.end(), std::back_inserter(out.remarks));
  }
  return out;
}

int importFiles(const ImportWords& w) {
  std::vector<std::filesystem::path> files;
  for (const std::string& f : w.files) {
    if (!std::filesystem::is_directory(f)) {
      files.emplace_back(f);
      continue;
    }
    for (const auto& entry : std::filesystem::directory_iterator(f))
      for (const Kind& k : allKinds())
        if (lowered(entry.path().extension().string()) == k.extension) files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  const Read read = readAll(files, w);
  const auto store = openUsualStore();
  const Snapshot s = store->load();
  const Choice choice = w.clash == "replace" ? Choice::Replace
                        : w.clash == "add"   ? Choice::Add
                                             : Choice::Skip;
  const std::vector<Planned> list = plan(s, read.entries, choice);
  for (const std::string& r : read.remarks) std::cerr << "kettle: " << r << "\n";
  if (w.dryRun) {
    for (const Planned& p : list)
      std::cout << (p.clash == Clash::New    ? "new"
                    : p.clash == Clash::Same ? "same"
                                             : "differs (" + p.differs + ")")
                << "\t"
                << (p.choice == Choice::Skip  ? "skip"
                    : p.choice == Choice::Add ? "add"
                                              : "replace")
                << "\t" << p.entry.name << "\t" << (p.entry.ways.empty() ? "" : p.entry.ways[0].address)
                << "\t" << p.entry.from << "\n";
    return kDone;
  }
  Written done;
  store->commit("import", [&](StoreWriter& writer) { done = writePlan(writer, s, list, w.group); });
  std::cout << done.added << " added, " << done.replaced << " replaced, " << done.skipped
            << " left as they were\n";
  return kDone;
}

int exportFile(const std::string& file, std::string kindName, const std::string& machine,
               const std::string& passphraseFile) {
  if (kindName.empty()) {
    const std::string extension = lowered(std::filesystem::path(file).extension().string());
    for (const Kind& k : allKinds())
      if (extension == k.extension) kindName = k.name;
  }
  const Kind* kind = kindNamed(kindName);
  if (kind == nullptr)
    throw Error(ErrorKind::Local, "no kind of file has this ending; say which with --as", file);
  std::vector<Entry> entries = entriesOf(openUsualStore()->load());
  if (!machine.empty()) {
    std::erase_if(entries, [&](const Entry& e) { return e.name != machine; });
    if (entries.empty()) throw Error(ErrorKind::Local, "no machine has this name", machine);
  }
  std::string text = kind->write(entries);
  if (!passphraseFile.empty()) text = sealedText(text, firstLineOf(passphraseFile));
  writeFileSafely(file, viewOf(text), 0600);
  std::cout << "wrote " << file << " (without passwords)\n";
  return kDone;
}

int initStore(const std::string& place) {
  openStore(place, true);
  std::cout << "ready; for each desk: export KETTLE_STORE=" << place << "\n"
            << "for each account of a colleague, in the database: GRANT kettle_people TO name\n";
  return kDone;
}

struct HistoryWish {
  std::string machine;
  int most = 20;
  bool json = false;
};

int storeHistory(const HistoryWish& wish) {
  const auto store = openUsualStore();
  std::vector<Owner> about;
  if (!wish.machine.empty()) {
    const Snapshot s = store->load();
    const Machine* m = s.machineNamed(wish.machine);
    if (m == nullptr) throw Error(ErrorKind::Local, "no machine has this name", wish.machine);
    about = ownersWithin(s, {OwnerKind::Machine, m->id});
  }
  nlohmann::json all = nlohmann::json::array();
  for (const Change& c : store->history(wish.most, about)) {
    if (wish.json) {
      nlohmann::json fields = nlohmann::json::array();
      for (const FieldChange& f : c.fields)
        fields.push_back({{"what", f.what}, {"before", f.before}, {"after", f.after}});
      all.push_back({{"number", c.id},
                     {"when", c.when},
                     {"who", c.author},
                     {"title", c.title},
                     {"undone", c.undone},
                     {"changes", fields}});
      continue;
    }
    std::cout << c.id << "\t" << c.when << "\t" << c.author << "\t" << c.title
              << (c.undone ? " (undone)" : "") << "\n";
    for (const FieldChange& f : c.fields)
      std::cout << "\t" << f.what << ": " << f.before << " -> " << f.after << "\n";
  }
  if (wish.json) std::cout << all.dump(2) << "\n";
  return kDone;
}

int storeRestore(Id change) {
  const auto store = openUsualStore();
  store->restoreBefore(change);
  std::cout << store->undoTitle() << " (kettle machines undo takes it back)\n";
  return kDone;
}

int storeInfo() {
  const Snapshot s = openUsualStore()->load();
  std::cout << usualStore() << "\n"
            << s.machines.size() << " machines, " << s.endpoints.size() << " ways in, " << s.folders.size()
            << " places and groups, " << s.hosts.size() << " hosts; revision " << s.revision << "\n";
  return kDone;
}

int copyStore(const std::string& from, const std::string& to) {
  OpeningTools source, target;
  source.store = openStore(from);
  target.store = openStore(to, true);
  source.vault = target.vault = openVault(configFolder());
  target.store->fillFrom(*source.store);
  if (!source.vault->isOpen() && hasTeam(source))
    std::cerr << "kept passwords are locked by a passphrase: what others share with you was not copied\n";
  const int shared = copyShared(source, target);
  const Snapshot s = target.store->load();
  std::cout << "copied " << s.machines.size() << " machines, " << s.endpoints.size() << " ways in, "
            << s.hosts.size() << " hosts\n";
  if (shared > 0) std::cout << "what others share with you is your own there: " << shared << "\n";
  return kDone;
}

}  // namespace

void addExchangeVerbs(CLI::App& app, Chosen& chosen) {
  auto* machines = app.get_subcommand("machines");
  std::string kinds;
  for (const Kind& k : allKinds()) kinds += (kinds.empty() ? "" : ", ") + std::string(k.name);
  {
    const auto w = std::make_shared<ImportWords>();
    auto* verb =
        machines->add_subcommand("import", "Machines out of connection files, tables, or folders of them");
    verb->add_option("files", w->files, "Files or folders")->required()->check(CLI::ExistingPath);
    verb->add_option("--as", w->kind, "Their kind, when it is not told by their ending: " + kinds);
    verb->add_option("--group", w->group, "Where machines without a group go: \"Alder Vale/Glasshouses\"");
    verb->add_option("--clash", w->clash, "With machines of the same name that differ: skip, replace or add")
        ->check(CLI::IsMember({"skip", "replace", "add"}))
        ->capture_default_str();
    verb->add_option("--columns", w->columns,
                     "Which column of a table is what: name=Title,address=\"IP number\"");
    verb->add_option("--passphrase-file", w->passphraseFile, "Opens sealed files: the file's first line");
    verb->add_flag("--dry-run", w->dryRun, "Only show what would be done");
    verb->callback([=, &chosen] { chosen = [=] { return importFiles(*w); }; });
  }
  {
    auto* store = app.add_subcommand("store", "Where records are kept");
    store->require_subcommand(1);
    const auto from = std::make_shared<std::string>(), to = std::make_shared<std::string>();
    auto* init = store->add_subcommand("init", "Makes a team's records in a database");
    init->add_option("place", *to, "postgresql://user@host/database")->required();
    init->callback([=, &chosen] { chosen = [=] { return initStore(*to); }; });
    store->add_subcommand("info", "What is in the records that are meant")->callback([&chosen] {
      chosen = storeInfo;
    });
    auto wish = std::make_shared<HistoryWish>();
    auto* history = store->add_subcommand("history", "Who changed what and when, newest first");
    history->add_option("--of", wish->machine, "Only what was about this machine");
    history->add_option("--most", wish->most, "So many at most")->capture_default_str();
    history->add_flag("--json", wish->json, "As JSON");
    history->callback([wish, &chosen] { chosen = [wish] { return storeHistory(*wish); }; });
    auto number = std::make_shared<Id>(0);
    auto* restore =
        store->add_subcommand("restore", "Puts what one change changed back to how it was before");
    restore->add_option("number", *number, "The change's number in the history")->required();
    restore->callback([number, &chosen] { chosen = [number] { return storeRestore(*number); }; });
    auto* copy = store->add_subcommand("copy", "Copies all records, kept passwords and pins into empty ones");
    copy->add_option("from", *from, "A file or a database")->required();
    copy->add_option("to", *to, "The other")->required();
    copy->callback([=, &chosen] { chosen = [=] { return copyStore(*from, *to); }; });
  }
  {
    const auto file = std::make_shared<std::string>(), kind = std::make_shared<std::string>(),
               machine = std::make_shared<std::string>();
    auto* verb = machines->add_subcommand("export", "Machines into a file");
    verb->add_option("file", *file, "The file; its ending says the kind")->required();
    verb->add_option("--as", *kind, "Its kind: " + kinds);
    verb->add_option("--machine", *machine,
                     "Only this one (files of one machine need it when there are several)");
    const auto passphrase = std::make_shared<std::string>();
    verb->add_option("--passphrase-file", *passphrase,
                     "Seals the file with the passphrase in this file's first line");
    verb->callback(
        [=, &chosen] { chosen = [=] { return exportFile(*file, *kind, *machine, *passphrase); }; });
    machines->add_subcommand("schema", "The JSON Schema of our own JSON")->callback([&chosen] {
      chosen = [] {
        std::cout << machinesSchema();
        return kDone;
      };
    });
  }
}

}  // namespace kw::cli

// kettle files: list and copy over SFTP.
#include <unistd.h>
#include <iostream>

#include <nlohmann/json.hpp>

#include "cli/live.hpp"
#include "cli/verbs.hpp"
#include "route/text_opening.hpp"
#include "ssh/sftp.hpp"

namespace kw::cli {

namespace {

struct FileOptions {
  LiveOptions live;
  std::string from, to, folder = ".";
  bool resume = false, check = false, json = false, hidden = false;
};

/// Runs `work` with an open SFTP connection.
void withSftp(const FileOptions& options, const std::function<Task<void>(Sftp&)>& work) {
  Runtime runtime(2);
  OpeningTools tools = openTools(options.live, runtime);
  const Target target =
      findTarget(options.live, tools, [](const WayKind& kind) { return kind.carriesFiles; });
  std::vector<SshHop> hops = hopsTo(target.address, target.setting, tools);
  hops.push_back(sshHop(target.address, target.setting, tools, target.owner));
  const Executor strand = runtime.strand();
  runToEnd([&]() -> Task<void> {
    TerminalAsker asker(options.live.trustOnce);
    RouteFacts facts;
    const std::shared_ptr<TrustStore> trust = trustIn(tools.store);
    auto connection = co_await tools.ssh->connect(hops, trust, asker, facts, nullptr);
    StreamPtr stream = co_await connection->subsystem("sftp");
    auto sftp = co_await Sftp::open(strand, std::move(stream));
    co_await work(*sftp);
    sftp->close();
  });
}

int list(const FileOptions& options) {
  withSftp(options, [&](Sftp& sftp) -> Task<void> {
    const std::vector<RemoteFile> files = co_await sftp.list(options.folder);
    nlohmann::json out = nlohmann::json::array();
    for (const RemoteFile& f : files) {
      if (!options.hidden && f.name.starts_with(".")) continue;
      if (options.json)
        out.push_back({{"name", f.name}, {"size", f.size}, {"rights", f.rights()}, {"modified", f.modified}});
      else
        std::cout << f.rights() << "  " << f.size << "\t" << cleanUtf8(f.name) << "\n";
    }
    if (options.json) std::cout << out.dump(2) << "\n";
  });
  return kDone;
}

OnCopy shown(const char* what) {
  if (::isatty(STDERR_FILENO) == 0) return {};
  return [what](const CopyProgress& p) {
    std::cerr << "\r" << what << " " << (p.total == 0 ? 100 : p.done * 100 / p.total) << " %" << std::flush;
  };
}

/// Downloads again what was just sent would be slow; the digest is made there, by the usual command.
Task<void> compareSizes(Sftp& sftp, std::string remote, std::filesystem::path local) {
  const auto there = co_await sftp.stat(remote);
  const auto here = std::filesystem::file_size(local);
  if (!there || there->size != here)
    throw Error(ErrorKind::ProtocolBroken, "the copy has another size than its original", remote);
}

int get(const FileOptions& options) {
  withSftp(options, [&](Sftp& sftp) -> Task<void> {
    std::filesystem::path to = options.to.empty() ? std::filesystem::path(options.from).filename()
                                                  : std::filesystem::path(options.to);
    if (std::filesystem::is_directory(to)) to /= std::filesystem::path(options.from).filename();
    const std::uint64_t begin =
        options.resume && std::filesystem::exists(to) ? std::filesystem::file_size(to) : 0;
    co_await sftp.download(options.from, to, begin, shown("getting"), nullptr);
    co_await compareSizes(sftp, options.from, to);
  });
  return kDone;
}

int put(const FileOptions& options) {
  withSftp(options, [&](Sftp& sftp) -> Task<void> {
    std::string to =
        options.to.empty() ? std::filesystem::path(options.from).filename().string() : options.to;
    const auto there = co_await sftp.stat(to);
    if (there && there->folder()) to += "/" + std::filesystem::path(options.from).filename().string();
    const auto before = options.resume ? co_await sftp.stat(to) : std::optional<RemoteFile>();
    co_await sftp.upload(options.from, to, before ? before->size : 0, shown("putting"), nullptr);
    co_await compareSizes(sftp, to, options.from);
  });
  return kDone;
}

void addCommon(CLI::App& verb, FileOptions& o) {
  verb.add_option("target", o.live.target, "ssh://user@host:port, or a machine's name")->required();
  verb.add_option("--via", o.live.via, "SSH jumps, nearest first: ssh://user@jump, …");
  verb.add_option("--password-file", o.live.passwordFile, "File whose first line is the password");
  verb.add_flag("--trust-once", o.live.trustOnce,
                "Go on when a key is not known yet (never when it has changed)");
}

}  // namespace

void addFileVerbs(CLI::App& app, Chosen& chosen) {
  auto o = std::make_shared<FileOptions>();
  auto* files = app.add_subcommand("files", "List and copy files over SFTP");
  files->require_subcommand(1);
  auto* listing = files->add_subcommand("list", "What is in a folder there");
  addCommon(*listing, *o);
  listing->add_option("folder", o->folder, "The folder; where one begins when left out");
  listing->add_flag("--all", o->hidden, "Hidden files, too");
  listing->add_flag("--json", o->json, "As JSON");
  listing->callback([&chosen, o] { chosen = [o] { return list(*o); }; });
  auto* getting = files->add_subcommand("get", "Copy a file from there");
  addCommon(*getting, *o);
  getting->add_option("from", o->from, "The file there")->required();
  getting->add_option("to", o->to, "File or folder here");
  getting->add_flag("--resume", o->resume, "Go on where an earlier copy broke off");
  getting->callback([&chosen, o] { chosen = [o] { return get(*o); }; });
  auto* putting = files->add_subcommand("put", "Copy a file to there");
  addCommon(*putting, *o);
  putting->add_option("from", o->from, "The file here")->required();
  putting->add_option("to", o->to, "File or folder there");
  putting->add_flag("--resume", o->resume, "Go on where an earlier copy broke off");
  putting->callback([&chosen, o] { chosen = [o] { return put(*o); }; });
}

}  // namespace kw::cli

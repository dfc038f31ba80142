#include "route/ssh_import.hpp"

#include <algorithm>

#include "record/address.hpp"
#include "route/hop.hpp"

namespace kw {

namespace {

void append(std::string& list, const std::string& item) { list += (list.empty() ? "" : ", ") + item; }

}  // namespace

std::vector<SshImport> sshImportsOf(const SshConfig& config, const Snapshot& now) {
  std::vector<SshImport> out;
  const std::vector<std::string> hosts = config.hosts();
  for (const std::string& host : hosts) {
    const SshHostConfig c = config.lookup(host);
    SshImport import;
    import.name = host;
    import.there = now.machineNamed(host) != nullptr;
    Address address;
    address.scheme = "ssh";
    address.user = c.user;
    address.host = c.hostName;
    address.port = c.port == 0 ? 22 : c.port;
    import.address = address.uri();
    for (const std::string& key : c.identityFiles) append(import.keys, key);
    import.certificate = c.certificateFile;
    // A jump that is a host of the file is named as a machine, so that its own route and keys count.
    for (const std::string& jump : splitList(c.proxyJump))
      append(import.via, std::find(hosts.begin(), hosts.end(), jump) != hosts.end() ? jump : "ssh://" + jump);
    out.push_back(std::move(import));
  }
  return out;
}

int writeSshImports(StoreWriter& writer, Id folder, const std::vector<SshImport>& imports) {
  int written = 0;
  for (const SshImport& import : imports) {
    if (import.there) continue;
    Machine m;
    m.name = import.name;
    m.folder = folder;
    writer.put(m);
    Endpoint e;
    e.machine = m.id;
    e.label = "shell";
    e.address = import.address;
    writer.put(e);
    const Owner owner{OwnerKind::Machine, m.id};
    if (!import.keys.empty()) writer.set(owner, "ssh.keys", import.keys);
    if (!import.certificate.empty()) writer.set(owner, "ssh.certificate", import.certificate);
    if (!import.via.empty()) writer.set(owner, "route.via", import.via);
    ++written;
  }
  return written;
}

}  // namespace kw

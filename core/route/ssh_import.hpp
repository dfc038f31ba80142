// Hosts of an SSH client configuration as machines.
#pragma once
#include "record/store.hpp"
#include "ssh/config.hpp"

namespace kw {

/// One host of the file, as it would be kept.
struct SshImport {
  std::string name;         ///< of the host in the file, and of the machine
  std::string address;      ///< "ssh://duty@10.8.0.31:22"
  std::string keys;         ///< files, parted by ", "; a value of "ssh.keys"
  std::string certificate;  ///< "ssh.certificate"
  std::string via;          ///< "route.via"; jumps that are in the file too are named as machines
  bool there = false;       ///< a machine of this name is there already
};

/// In the order of the file; names with wildcards are not hosts.
std::vector<SshImport> sshImportsOf(const SshConfig& config, const Snapshot& now);

/// Writes those that are not there yet; returns how many.
int writeSshImports(StoreWriter& writer, Id folder, const std::vector<SshImport>& imports);

}  // namespace kw

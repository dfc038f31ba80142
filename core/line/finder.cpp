#include "line/finder.hpp"

#include <grp.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>
#include <set>
#include <sstream>

namespace kw {

namespace fs = std::filesystem;

namespace {

std::string firstLine(const fs::path& file) {
  std::string line;
  std::ifstream in(file);
  std::getline(in, line);
  return line;
}

/// The USB device above an interface has the names.
std::string usbName(fs::path device) {
  std::error_code failed;
  for (int up = 0; up < 6 && device.has_parent_path(); ++up, device = device.parent_path()) {
    if (!fs::exists(device / "product", failed)) continue;
    const std::string maker = firstLine(device / "manufacturer"), product = firstLine(device / "product");
    return "USB: " + (maker.empty() ? product : maker + " " + product);
  }
  return {};
}

/// Which stable names point at which device.
std::map<std::string, std::string> stableNames(const fs::path& folder) {
  std::map<std::string, std::string> out;
  std::error_code failed;
  for (const auto& entry : fs::directory_iterator(folder, failed)) {
    const fs::path target = fs::read_symlink(entry.path(), failed);
    if (!failed)
      out["/dev/" + target.filename().string()] = "/dev/serial/by-id/" + entry.path().filename().string();
  }
  return out;
}

void findSerial(const fs::path& root, std::vector<FoundLine>& out) {
  const auto stable = stableNames(root / "dev/serial/by-id");
  std::error_code failed;
  for (const auto& entry : fs::directory_iterator(root / "sys/class/tty", failed)) {
    std::error_code none;
    const fs::path device = fs::canonical(entry.path() / "device", none);
    if (none) continue;  // consoles and pseudo-terminals have no hardware behind them
    // The kernel lists on-board ports that are not there; their type is 0 then.
    const std::string type = firstLine(entry.path() / "type");
    if (type == "0") continue;
    FoundLine line;
    line.device = "/dev/" + entry.path().filename().string();
    const auto byId = stable.find(line.device);
    line.path = byId == stable.end() ? line.device : byId->second;
    const std::string usb = usbName(device);
    line.description = usb.empty() ? "on board" : usb;
    line.address = "serial:" + line.path;
    out.push_back(line);
  }
}

/// Inodes of a process' sockets.
void socketsOf(const fs::path& process, const std::string& name, std::map<std::string, std::string>& owner) {
  std::error_code failed;
  for (const auto& open : fs::directory_iterator(process / "fd", failed)) {
    std::error_code gone;
    const std::string target = fs::read_symlink(open.path(), gone).string();
    if (!gone && target.starts_with("socket:["))
      owner[target.substr(8, target.size() - 9)] =
          "socket of " + name + " (process " + process.filename().string() + ")";
  }
}

void findSockets(const fs::path& root, std::vector<FoundLine>& out) {
  std::map<std::string, std::string> owner;
  std::error_code failed;
  for (const auto& process : fs::directory_iterator(root / "proc", failed)) {
    if (process.path().filename().string().find_first_not_of("0123456789") != std::string::npos) continue;
    const std::string name = firstLine(process.path() / "comm");
    if (name.starts_with("qemu")) socketsOf(process.path(), name, owner);
  }
  // proc(5): Num RefCount Protocol Flags Type St Inode Path; flag 0x10000 is "listening", type 1 a stream.
  std::ifstream in(root / "proc/net/unix");
  std::set<std::string> seen;
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    std::string number, references, protocol, flags, type, state, inode, path;
    fields >> number >> references >> protocol >> flags >> type >> state >> inode >> path;
    if (type != "0001" || flags != "00010000" || path.empty() || path[0] != '/') continue;
    const auto who = owner.find(inode);
    if (who == owner.end() || !seen.insert(path).second) continue;
    out.push_back({FoundLine::Kind::Socket, path, path, who->second, "unix:" + path});
  }
}

}  // namespace

std::vector<FoundLine> findLines(const std::string& root) {
  std::vector<FoundLine> out;
  findSerial(root, out);
  std::sort(out.begin(), out.end(),
            [](const FoundLine& a, const FoundLine& b) { return a.device < b.device; });
  findSockets(root, out);
  return out;
}

std::string problemWithPath(const std::string& path, bool socket) {
  struct stat info {};
  if (path.empty() || path[0] != '/') return "A full path is needed, beginning with /.";
  if (::stat(path.c_str(), &info) != 0)
    return errno == EACCES ? "You may not look into this folder." : "There is nothing at this path now.";
  if (socket && !S_ISSOCK(info.st_mode))
    return S_ISCHR(info.st_mode) ? "This is a device, not a socket: write serial: before it."
                                 : "This is not a socket.";
  if (!socket && !S_ISCHR(info.st_mode))
    return S_ISSOCK(info.st_mode) ? "This is a socket, not a device: write unix: before it."
                                  : "This is not a serial device.";
  if (::access(path.c_str(), R_OK | W_OK) != 0) {
    const group* g = getgrgid(info.st_gid);
    return std::string("You may not open it; members of group ") + (g != nullptr ? g->gr_name : "?") +
           " may.";
  }
  return {};
}

}  // namespace kw

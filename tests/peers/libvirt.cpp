#include "tests/peers/libvirt.hpp"

#include <fcntl.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>

#include <fstream>
#include <iostream>

#include "base/file.hpp"
#include "tests/peers/qemu.hpp"

namespace kw::test {

namespace {

/// libvirtd's paths are built in, so its folders are mounted over the system's, for this process alone.
constexpr const char* kScript = R"(
set -e
mkdir -p /etc/libvirt /run/libvirt /var/lib/libvirt /var/cache/libvirt /var/log/libvirt
mount --bind "$S/passwd" /etc/passwd; mount --bind "$S/group" /etc/group
mount --bind "$S/etc" /etc/libvirt; mount --bind "$S/run" /run/libvirt; mount --bind "$S/lib" /var/lib/libvirt
mount --bind "$S/cache" /var/cache/libvirt; mount --bind "$S/log" /var/log/libvirt
exec libvirtd --config "$S/etc/libvirtd.conf" --pid-file "$S/libvirtd.pid"
)";

void write(const std::filesystem::path& file, const std::string& text) { std::ofstream(file) << text; }

}  // namespace

bool Libvirtd::available() {
  if (geteuid() != 0) {
    std::cout << "SKIPPED: " << Catch::getResultCapture().getCurrentTestName()
              << ": a libvirtd of its own needs root" << std::endl;
    return false;
  }
  return have("/usr/sbin/libvirtd") && have("/usr/bin/virsh") && have("/usr/bin/qemu-system-x86_64") &&
         have("/boot/memtest86+x64.bin");
}

Libvirtd::Libvirtd() {
  const auto& s = folder_.path;
  for (const char* part : {"etc", "run", "lib", "cache", "log"})
    std::filesystem::create_directories(s / part);
  // The QEMU driver looks its usual user up before it reads that it shall use another.
  std::string users = textOf(readFile("/etc/passwd")), groups = textOf(readFile("/etc/group"));
  if (users.find("libvirt-qemu:") == std::string::npos)
    users += "libvirt-qemu:x:64055:64055::/var/lib/libvirt:/usr/sbin/nologin\n";
  if (groups.find("libvirt-qemu:") == std::string::npos) groups += "libvirt-qemu:x:64055:\n";
  write(s / "passwd", users);
  write(s / "group", groups);
  const int port = freeTcpPort();
  write(s / "etc/qemu.conf",
        "user = \"root\"\ngroup = \"root\"\ndynamic_ownership = 0\nsecurity_driver = \"none\"\nstdio_handler "
        "= \"file\"\n"
        "namespaces = []\ncgroup_controllers = []\nremote_display_port_min = " +
            std::to_string(std::max(5900, std::min(port, 65000))) + "\nremote_display_port_max = " +
            std::to_string(std::max(5900, std::min(port, 65000)) + 99) + "\n");
  write(s / "etc/libvirtd.conf",
        "listen_tls = 0\nauth_unix_ro = \"none\"\nauth_unix_rw = \"none\"\nunix_sock_group = \"root\"\n"
        "log_outputs = \"3:file:" +
            (s / "log/libvirtd.log").string() + "\"\n");
  launch();
}

void Libvirtd::launch() {
  process_ = fork();
  if (process_ == 0) {
    prctl(PR_SET_PDEATHSIG, SIGTERM);
    setenv("S", folder_.path.c_str(), 1);
    const int log = open((folder_.path / "log/out").c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    dup2(log, 1);
    dup2(log, 2);
    closefrom(3);
    execlp("unshare", "unshare", "-m", "--propagation", "private", "bash", "-c", kScript, nullptr);
    _exit(127);
  }
  const bool up = eventually(
      [&] {
        try {
          virsh("version");
          return true;
        } catch (const std::runtime_error&) {
          return false;
        }
      },
      std::chrono::seconds(30));
  if (!up)
    throw std::runtime_error("libvirtd does not come up: " + textOf(readFile(folder_.path / "log/out")));
}

void Libvirtd::end() {
  if (process_ < 0) return;
  kill(process_, SIGTERM);
  waitpid(process_, nullptr, 0);
  process_ = -1;
}

Libvirtd::~Libvirtd() {
  try {
    std::istringstream names(virsh("list --name"));
    for (std::string name; std::getline(names, name);)
      if (!name.empty()) virsh("destroy " + name);
  } catch (const std::runtime_error&) {
    // It is over anyway.
  }
  end();
}

void Libvirtd::restart() {
  end();
  launch();
}

std::string Libvirtd::uri() const {
  return "qemu+unix:///system?socket=" + (folder_.path / "run/libvirt-sock").string();
}

std::string Libvirtd::virsh(const std::string& arguments) const {
  const std::string command = "virsh -q -c '" + uri() + "' " + arguments + " 2>&1";
  std::string out;
  FILE* pipe = popen(command.c_str(), "r");
  if (pipe == nullptr) throw std::runtime_error("no virsh");
  char part[4096];
  for (std::size_t n = 0; (n = fread(part, 1, sizeof part, pipe)) > 0;) out.append(part, n);
  if (pclose(pipe) != 0) throw std::runtime_error(out);
  return out;
}

void Libvirtd::define(const std::string& name, const std::string& graphics, const LinuxGuest* guest) const {
  const std::string boots = guest == nullptr ? "<kernel>/boot/memtest86+x64.bin</kernel>"
                                             : "<kernel>" + guest->kernel.string() + "</kernel><initrd>" +
                                                   guest->initrd.string() +
                                                   "</initrd><cmdline>console=ttyS0 quiet panic=-1</cmdline>";
  const std::string agent = guest == nullptr ? ""
                                             : "<channel type='unix'><target type='virtio' "
                                               "name='org.qemu.guest_agent.0'/></channel>";
  const auto file = folder_.path / (name + ".xml");
  write(file,
        "<domain type='qemu'><name>" + name + "</name><memory unit='MiB'>" +
            (guest == nullptr ? "64" : "256") +
            "</memory><vcpu>1</vcpu>"
            "<os><type arch='x86_64' machine='pc'>hvm</type>" +
            boots +
            "</os>"
            "<features><acpi/></features><cpu mode='custom' match='exact'><model "
            "fallback='allow'>qemu64</model></cpu>"
            "<on_poweroff>destroy</on_poweroff><on_reboot>restart</on_reboot><on_crash>destroy</on_crash>"
            "<devices><emulator>/usr/bin/qemu-system-x86_64</emulator>"
            "<serial type='unix'><source mode='bind' path='" +
            (folder_.path / (name + ".serial")).string() + "'/></serial>" + agent + graphics +
            "<video><model type='vga'/></video><memballoon model='none'/></devices></domain>");
  virsh("define " + file.string());
}

}  // namespace kw::test

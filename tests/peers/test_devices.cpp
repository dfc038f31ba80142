// Serial ports with a driver of the kernel behind them: our code runs in a guest
// (tests/guest/line_check.cpp), and from outside one sees what it did to the chips.
#include <fstream>

#include "route/text_opening.hpp"
#include "tests/peers/linux_guest.hpp"
#include "tests/peers/qemu.hpp"
#include "tests/text_support.hpp"

using namespace kw;
using namespace kw::test;

namespace {

/// What QEMU's chips were told, a line each.
struct ChipLog {
  explicit ChipLog(const std::filesystem::path& file) {
    std::ifstream in(file);
    text.assign(std::istreambuf_iterator<char>(in), {});
  }
  [[nodiscard]] bool says(const std::string& what) const { return text.find(what) != std::string::npos; }
  std::string text;
};

/// The line control register of a 16550: data bits, stop bits, parity, and the break.
std::string lineControl(unsigned value) {
  char line[40];
  std::snprintf(line, sizeof line, "serial_write write addr 0x03 val 0x%02x", value);
  return line;
}

}  // namespace

TEST_CASE("real drivers: a 16550 and a USB adapter, from inside a guest", "[serial][devices]") {
  if (!have("/usr/bin/qemu-system-x86_64")) return;
  TemporaryFolder folder;
  const auto guest = makeLinuxGuest(folder.path, {.programs = {KW_LINE_CHECK},
                                                  .modules = {"xhci_pci", "ftdi_sio"},
                                                  .beforeSignIn = "kettle-guest-lines; echo \"[ended $?]\""});
  if (!guest) return;
  const std::filesystem::path log = folder.path / "chips";
  Qemu qemu(
      guest->arguments({"-serial",  "unix:FOLDER/console,server=on,wait=off",
                        "-chardev", "null,id=spare",
                        "-chardev", "socket,id=far1,path=FOLDER/cable1,server=on,wait=off",
                        "-chardev", "socket,id=near1,path=FOLDER/cable1",
                        "-chardev", "socket,id=far2,path=FOLDER/cable2,server=on,wait=off",
                        "-chardev", "socket,id=near2,path=FOLDER/cable2",
                        "-device",  "pci-serial-4x,chardev1=near1,chardev2=far1,chardev3=far2",
                        "-device",  "qemu-xhci",
                        "-device",  "usb-serial,id=adapter,chardev=near2",
                        "-d",       "trace:serial_write,trace:serial_update_parameters,trace:usb_serial_*",
                        "-D",       log}));
  Runtime runtime(2);
  OpeningTools tools;
  TextWatch console(makeSession(runtime.strand(),
                                parseAddress("unix:" + (qemu.folder() / "console").string()), "mist-bench",
                                builtInSettings(), tools, {}));
  REQUIRE(console.live());
  REQUIRE(console.shows("[break, please]", std::chrono::seconds(180)));
  qemu.qmp("chardev-send-break", {{"id", "near1"}});
  REQUIRE(console.shows("[pull it]", std::chrono::seconds(60)));
  qemu.qmp("device_del", {{"id", "adapter"}});
  REQUIRE(console.shows("[put it back]", std::chrono::seconds(60)));
  qemu.qmp("device_add",
           {{"driver", "usb-serial"}, {"id", "again"}, {"chardev", "spare"}, {"always-plugged", true}});
  REQUIRE(console.shows("[ended", std::chrono::seconds(120)));
  INFO(console.all());
  CHECK(console.all().find("[ended 0]") != std::string::npos);

  const ChipLog chips(log);
  for (const std::string speed :
       {"300", "1200", "2400", "4800", "9600", "14400", "19200", "38400", "57600", "115200"})
    CHECK(chips.says("baudrate=" + speed + " "));
  // 5N1 5N1.5 6E1 7E1 7O2 8N1 8N2 8M1 8S1; and 8N1 with the break on.
  // (The kernel leaves the bit for even parity on where there is none.)
  for (const unsigned value : {0x10, 0x14, 0x19, 0x1a, 0x0e, 0x13, 0x17, 0x2b, 0x3b, 0x53})
    CHECK(chips.says(lineControl(value)));
  // FTDI's chip has a divisor of 3 MHz.
  for (const std::string speed : {"115384", "9600", "250000"}) CHECK(chips.says("baud rate " + speed + "\n"));
  CHECK(chips.says("parity E, data bits 7, stop bits 1"));
  CHECK(chips.says("parity O, data bits 8, stop bits 2"));
}

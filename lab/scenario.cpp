#include "lab/scenario.hpp"

#include <sodium.h>

#include <nlohmann/json.hpp>

#include "base/file.hpp"
#include "route/opening.hpp"
#include "route/sign_in_source.hpp"

namespace kw::lab {

namespace {

using Json = nlohmann::json;

// Each host has a loopback address of its own, so that consoles keep their usual ports.
constexpr const char* kFernery = "127.0.0.11";
constexpr const char* kOrchard = "127.0.0.12";
constexpr const char* kTerminalServer = "127.0.0.21";
constexpr const char* kIrrigation = "127.0.0.22";
// Services inside guests, each on its own address.
constexpr const char* kSeedService = "127.0.0.23";
constexpr const char* kKioskService = "127.0.0.24";
constexpr int kRdpPort = 3389;
constexpr int kTerminalPort = 2101, kIrrigationPort = 2323;
constexpr int kPalmHouses = 24;
// What differs between host and records on purpose: a port that was changed on the host, a machine that is
// gone there, and one (drying-room) that nobody has a record of.
constexpr int kMovedBench = 7, kMovedPort = 5937, kGoneBench = 19;

std::string palmHouse(int number) {
  return "palm-house-" + std::string(number < 10 ? "0" : "") + std::to_string(number);
}

std::string randomPassword() {
  static constexpr char letters[] = "abcdefghjkmnpqrstuvwxyz23456789";
  std::string out;
  for (int i = 0; i < 8; ++i) out += letters[randombytes_uniform(sizeof letters - 1)];
  return out;
}

}  // namespace

LabSecrets loadOrMakeSecrets(const std::filesystem::path& folder) {
  if (sodium_init() < 0) throw Error(ErrorKind::Local, "libsodium does not start");
  std::error_code ignored;
  std::filesystem::create_directories(folder, ignored);
  const auto file = folder / "secrets.json";
  LabSecrets secrets;
  if (std::filesystem::exists(file)) {
    const Json json = Json::parse(textOf(readFile(file)));
    secrets.consolePasswords = json.at("consolePasswords").get<std::map<std::string, std::string>>();
    secrets.guestPassword = json.at("guestPassword");
    secrets.hostPassword = json.value("hostPassword", secrets.guestPassword);
    secrets.certificate = {json.at("certificate"), json.at("key")};
    return secrets;
  }
  for (const char* name : {"mist-bench", "ticket-kiosk", "audio-guide"})
    secrets.consolePasswords[name] = randomPassword();
  const std::string shared = randomPassword();
  for (int i = 1; i <= kPalmHouses; ++i) secrets.consolePasswords[palmHouse(i)] = shared;
  secrets.guestPassword = randomPassword();
  secrets.hostPassword = randomPassword();
  secrets.certificate = makeSelfSigned("orchard");
  const Json json{{"consolePasswords", secrets.consolePasswords},
                  {"guestPassword", secrets.guestPassword},
                  {"hostPassword", secrets.hostPassword},
                  {"certificate", secrets.certificate.certificatePem},
                  {"key", secrets.certificate.keyPem}};
  writeFileSafely(file, viewOf(json.dump(2)), 0600);
  return secrets;
}

const char* const kSeedBankId = "5c2e8a10-6f4b-4d7a-9b31-a1de57a2c0f4";

namespace {

/// "duty" with the lab's password; "night volunteer" is known, but his password has expired (MS-ERREF 2.3).
rdp::ServerOptions rdpService(const std::string& name, const MadeCertificate& certificate,
                              const std::string& password) {
  rdp::ServerOptions options;
  options.name = name;
  options.certificate = certificate;
  options.account = [password](const rdp::NtlmAccount& a) {
    if (lowered(a.user) == "night volunteer") return rdp::KnownAccount{"", 0xc0000071};
    return a.user == "duty" ? rdp::KnownAccount{password, 0} : rdp::KnownAccount{"", 0xc0000064};
  };
  options.pipeline = rdp::PipelineForm::Planar;
  return options;
}

}  // namespace

ConsolePortPlan consolePortPlan(const LabSecrets& secrets) {
  ConsolePortPlan plan;
  plan.options = rdpService("fernery", secrets.certificate, secrets.hostPassword);
  return plan;
}

std::vector<ConsolePlan> consolePlans(const LabSecrets& secrets, std::chrono::milliseconds serviceDelay) {
  std::vector<ConsolePlan> plans;
  const auto add = [&](const std::string& name, SceneKind scene, const char* address, int port,
                       std::uint32_t seed) -> ConsolePlan& {
    ConsolePlan plan;
    plan.guest.name = name;
    plan.guest.scene = scene;
    plan.guest.seed = seed;
    plan.guest.guestPassword = secrets.guestPassword;
    plan.address = address;
    plan.port = static_cast<std::uint16_t>(port);
    plan.options.name = name;
    if (const auto own = secrets.consolePasswords.find(name); own != secrets.consolePasswords.end())
      plan.options.password = own->second;
    plan.options.power = true;
    plans.push_back(plan);
    return plans.back();
  };
  add("mist-bench", SceneKind::MistBench, kFernery, 5907, 11);
  ConsolePlan& kiosk = add("ticket-kiosk", SceneKind::TicketKiosk, kOrchard, 5903, 23);
  kiosk.guest.twoScreens = true;
  kiosk.options.certificate = secrets.certificate;
  rdp::ServerOptions kioskService = rdpService("ticket-kiosk", secrets.certificate, secrets.guestPassword);
  kioskService.pipeline = rdp::PipelineForm::Progressive;
  kiosk.doors.push_back({kKioskService, kRdpPort, rdpDoor(std::move(kioskService)), {}});
  ConsolePlan& seeds = add("seed-bank", SceneKind::SeedBank, kFernery, 0, 37);
  seeds.vnc = false;
  seeds.id = kSeedBankId;
  seeds.consoleById = consolePortPlan(secrets).port;
  seeds.guest.mostScreens = 2;
  rdp::ServerOptions seedService = rdpService("seed-bank", secrets.certificate, secrets.guestPassword);
  seedService.mostMonitors = 2;
  seeds.doors.push_back({kSeedService, kRdpPort, rdpDoor(std::move(seedService)), serviceDelay});
  ConsolePlan& plates = add("herbarium-scan", SceneKind::HerbariumScan, kFernery, 0, 41);
  plates.vnc = false;
  plates.guest.mostScreens = 3;
  plates.doors.push_back({kFernery, 5930, spiceDoor({"herbarium-scan", "", true, false, 3}), {}, "spice"});
  ConsolePlan& bees = add("bee-camera", SceneKind::BeeCamera, kOrchard, 0, 43);
  bees.vnc = false;
  bees.doors.push_back(
      {kOrchard, 5951, spiceDoor({"bee-camera", "", false, true, 1}), serviceDelay / 8, "spice"});
  for (int i = 1; i <= kPalmHouses; ++i) {
    if (i == kGoneBench) continue;
    const int port = i == kMovedBench ? kMovedPort : 5910 + i;
    ConsolePlan& plan =
        add(palmHouse(i), SceneKind::PropagationBench, kOrchard, port, 100 + static_cast<std::uint32_t>(i));
    plan.guest.number = i;
  }
  add("drying-room", SceneKind::MistBench, kOrchard, 5942, 53);
  for (ConsolePlan& p : plans)
    if (p.id.empty()) p.id = idForName(p.guest.name);
  return plans;
}

std::vector<HostedMachine> hostedMachines(const std::vector<std::unique_ptr<Console>>& consoles) {
  std::vector<HostedMachine> out;
  for (const auto& console : consoles) {
    const ConsolePlan& plan = console->plan();
    HostedMachine m;
    m.host = plan.address == kFernery ? "fernery" : "orchard";
    m.name = plan.guest.name;
    m.id = plan.id;
    m.console = console.get();
    m.on = !isOffAtFirst(plan);
    for (const DoorPlan& door : plan.doors)
      if (door.console.empty()) m.addresses.push_back(door.address);
    if (m.name == "mist-bench") m.serials.push_back("unix:" + mistBenchSocket().string());
    out.push_back(std::move(m));
  }
  return out;
}

bool isOffAtFirst(const ConsolePlan& plan) { return plan.guest.scene == SceneKind::BeeCamera; }

SshServerPlan gatehousePlan(const std::filesystem::path& stateFolder) {
  const Gatehouse usual;
  return {stateFolder / "gatehouse", usual.address, usual.port, ""};
}

Gatehouse gatehouseFor(const SshServer& server, const SshServerPlan& plan) {
  Gatehouse g;
  g.address = plan.address;
  g.port = plan.port;
  g.user = SshServer::user();
  g.keyFile = server.clientKey();
  g.knownHosts = plan.folder / "known_hosts";
  g.sha256 = server.hostKeySha256();
  return g;
}

std::filesystem::path mistBenchSocket() { return runtimeFolder() / "lab" / "mist-bench.serial"; }

std::vector<TextServicePlan> textPlans(const LabSecrets& secrets) {
  using Kind = TextServicePlan::Kind;
  std::vector<TextServicePlan> plans(3);
  plans[0].kind = Kind::Socket;
  plans[0].socket = mistBenchSocket();
  plans[0].make = [password = secrets.guestPassword] { return mistBenchLine("duty", password); };
  plans[1].kind = Kind::TerminalServer;
  plans[1].address = kTerminalServer;
  plans[1].port = kTerminalPort;
  plans[1].make = [] { return weatherMast(7); };
  plans[2].kind = Kind::Telnet;
  plans[2].address = kIrrigation;
  plans[2].port = kIrrigationPort;
  plans[2].make = [] { return irrigationMenu(); };
  return plans;
}

void fillStore(Store& store, Vault& vault, const LabSecrets& secrets, const Gatehouse* gatehouse,
               const std::string& labProgram) {
  for (const auto& [id, folder] : store.load().folders)
    if (folder.name == "Alder Vale") return;
  const std::string fernery = kFernery, orchard = kOrchard;
  std::map<std::string, Id> screenOf, hosted;
  Credential guests, gateKeeper;
  std::vector<Id> shells;
  store.commit("make the demo garden", [&](StoreWriter& w) {
    const auto folder = [&](Id parent, const std::string& name, const std::string& host) {
      Folder f;
      f.parent = parent, f.name = name, f.host = host;
      w.put(f);
      return f.id;
    };
    const Id place = folder(0, "Alder Vale", "");
    const Id glass = folder(place, "Glasshouses", "fernery");
    const Id visitor = folder(place, "Visitor centre", "orchard");
    const Id outdoors = folder(place, "Outdoors", "");
    const Id palm = folder(place, "Palm house", "orchard");
    using Way = std::pair<const char*, std::string>;
    const auto machine = [&](Id group, const std::string& name, const std::string& host,
                             const std::string& tags, const std::vector<Way>& ways) {
      Machine m;
      m.folder = group, m.name = name, m.host = host, m.tags = tags;
      if (name == "mist-bench") m.notes = "Valve B sticks below 8 °C. The 06:30 cycle must not be missed.";
      w.put(m);
      int position = 0;
      for (const auto& [label, address] : ways) {
        Endpoint e;
        e.machine = m.id, e.label = label, e.address = address, e.position = position++;
        w.put(e);
        if (e.scheme() == "vnc" && !screenOf.contains(name)) screenOf[name] = e.id;
        if (e.label == "shell" && name != "gatehouse") shells.push_back(e.id);
      }
      // audio-guide is the planned mistake: its host never heard of it.
      if (!host.empty() && name != "audio-guide") hosted[name] = m.id;
      return m.id;
    };
    machine(glass, "mist-bench", "fernery", "controller",
            {{"screen", "vnc://" + fernery + ":5907"},
             {"line", parseAddress("unix:" + mistBenchSocket().string()).uri()},
             {"shell", "ssh://duty@127.0.0.31:2231"}});
    machine(glass, "seed-bank", "fernery", "desktop",
            {{"console", parseAddress("rdp://duty@" + fernery + ":2179?machine=" + kSeedBankId).uri()},
             {"desktop", "rdp://duty@" + std::string(kSeedService)}});
    machine(glass, "herbarium-scan", "fernery", "scanner", {{"screen", "spice://127.0.0.11:5930"}});
    machine(visitor, "ticket-kiosk", "orchard", "kiosk",
            {{"screen", "vnc://" + orchard + ":5903"}, {"desktop", "rdp://" + std::string(kKioskService)}});
    machine(visitor, "audio-guide", "orchard", "kiosk",
            {{"screen", "vnc://" + orchard + ":5903"},
             // an ID that fernery does not know: a planned mistake
             {"console", "rdp://duty@" + fernery + ":2179?machine=audio-guide"}});
    machine(visitor, "bee-camera", "orchard", "camera",
            {{"screen", "spice://127.0.0.12:5951"}, {"shell", "ssh://duty@127.0.0.53:2253"}});
    machine(
        outdoors, "weather-mast", "", "telemetry",
        {{"line", "telnet+serial://" + std::string(kTerminalServer) + ":" + std::to_string(kTerminalPort)}});
    machine(outdoors, "irrigation-plc", "", "appliance",
            {{"menu", "telnet://" + std::string(kIrrigation) + ":" + std::to_string(kIrrigationPort)}});
    if (gatehouse != nullptr) {
      const std::string address =
          "ssh://" + gatehouse->user + "@" + gatehouse->address + ":" + std::to_string(gatehouse->port);
      const Id id = machine(outdoors, "gatehouse", "", "jump", {{"shell", address}});
      w.set({OwnerKind::Machine, id}, "ssh.keys", gatehouse->keyFile);
      w.set({OwnerKind::Machine, id}, "ssh.knownhosts", gatehouse->knownHosts);
    }
    for (int i = 1; i <= kPalmHouses; ++i) {
      const Id id = machine(palm, palmHouse(i), "orchard", "bench",
                            {{"screen", "vnc://" + orchard + ":" + std::to_string(5910 + i)}});
      // The last one stands in a network that only the jump host reaches.
      if (i == kPalmHouses && gatehouse != nullptr) w.set({OwnerKind::Machine, id}, "route.via", "gatehouse");
    }
    if (!labProgram.empty()) {
      const std::pair<const char*, Id> hosts[] = {{"fernery", glass}, {"orchard", visitor}};
      for (const auto& [name, group] : hosts) {
        HostRecord h;
        h.name = name, h.folder = group;
        h.address = "command:\"" + labProgram + "\" host " + name;
        w.put(h);
      }
      for (const auto& [name, id] : hosted)
        w.set({OwnerKind::Machine, id}, "host.id", name == "seed-bank" ? kSeedBankId : idForName(name));
    }
    w.set({OwnerKind::Folder, outdoors}, "line.speed", "9600");
    w.set({OwnerKind::Folder, glass}, "screen.fit", "fill");
    w.set({OwnerKind::Folder, place}, "clipboard.way", "both");
    w.set({OwnerKind::Folder, palm}, "screen.quality", "medium");
    // What people add to their records in time.
    w.set({OwnerKind::Folder, place}, "commands.own", "Look whether it is there = ping -c 1 {host}");
    w.set({OwnerKind::Folder, visitor}, "look.colour", "clay");
    w.set({OwnerKind::Folder, visitor}, "look.mark", "VC");
    w.set({OwnerKind::Folder, outdoors}, "look.colour", "lake");
    guests.name = "duty on the guests", guests.user = "duty";
    guests.notes = "One account on every guest of fernery and orchard.";
    guests.expires = "2027-03-01";
    w.put(guests);
    gateKeeper.name = "gate keeper", gateKeeper.user = "keeper";
    w.put(gateKeeper);
    for (const Id shell : shells) w.set({OwnerKind::WayIn, shell}, "signin.from", "named:duty on the guests");
  });
  if (gatehouse != nullptr)
    store.pin("ssh " + gatehouse->address + ":" + std::to_string(gatehouse->port), gatehouse->sha256);
  // Kept, as their users would have: all but audio-guide's, so that the demo also asks once.
  OpeningTools tools;
  tools.store = std::shared_ptr<Store>(&store, [](Store*) {});
  tools.vault = std::shared_ptr<Vault>(&vault, [](Vault*) {});
  SecretBundle account;
  account.password = secrets.guestPassword;
  // A second factor of the demo; the secret of RFC 6238's examples.
  account.codeSecret = "12345678901234567890";
  keepBundle(tools, guests.id, account);
  for (const auto& [name, endpoint] : screenOf)
    if (name != "audio-guide")
      keepSignIn(tools, {OwnerKind::WayIn, endpoint}, {"", secrets.consolePasswords.at(name)});
}

}  // namespace kw::lab

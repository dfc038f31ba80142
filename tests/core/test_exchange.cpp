// Connection files and tables: read as people have them, planned beside the records, written, and read again.
#include <fstream>

#include "base/file.hpp"
#include "credential/sealed_file.hpp"
#include "exchange/table.hpp"
#include "tests/support.hpp"

using namespace kw;
using namespace kw::test;
using namespace kw::exchange;

namespace {

Bytes utf16(const std::string& text, bool little, bool mark = true) {
  Bytes out;
  const auto unit = [&](unsigned u) {
    out.push_back(static_cast<Byte>(little ? u : u >> 8));
    out.push_back(static_cast<Byte>(little ? u >> 8 : u));
  };
  if (mark) unit(0xfeff);
  for (const char32_t p : utf8ToUtf32(text)) {
    if (p < 0x10000) {
      unit(static_cast<unsigned>(p));
    } else {
      unit(0xd800 + static_cast<unsigned>((p - 0x10000) >> 10));
      unit(0xdc00 + static_cast<unsigned>((p - 0x10000) & 0x3ff));
    }
  }
  return out;
}

const char* const kDesk =
    "full "
    "address:s:127.0.0.23:3390\r\nusername:s:GARDEN\\curator\r\ndesktopwidth:i:1920\r\ndesktopheight:i:"
    "1080\r\n"
    "session bpp:i:16\r\nredirectclipboard:i:0\r\naudiomode:i:0\r\nprompt for credentials:i:1\r\nalternate "
    "shell:s:seeds.exe\r\nuse multimon:i:1\r\n";

struct Records {
  TemporaryFolder folder;
  std::shared_ptr<Store> store = openSqliteStore(folder.path / "records.sqlite");
  Written import(const std::vector<Entry>& entries, Choice clash = Choice::Skip,
                 const std::string& group = "Alder Vale/Imported") {
    const Snapshot s = store->load();
    const auto list = plan(s, entries, clash);
    Written done;
    store->commit("import", [&](StoreWriter& w) { done = writePlan(w, s, list, group); });
    return done;
  }
  std::filesystem::path file(const std::string& name, const Bytes& bytes) {
    std::ofstream(folder.path / name, std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    return folder.path / name;
  }
  std::filesystem::path file(const std::string& name, const std::string& text) {
    return file(name, Bytes(text.begin(), text.end()));
  }
};

std::string failureOf(const std::function<void()>& what) {
  try {
    what();
  } catch (const Error& e) {
    return e.what();
  }
  return "";
}

}  // namespace

TEST_CASE("Remote desktop files: UTF-8, UTF-16 either way, with and without marks and carriage returns",
          "[exchange]") {
  Records r;
  const std::string plain = kDesk;
  std::string unix = plain;
  std::erase(unix, '\r');
  const std::pair<std::string, Bytes> forms[] = {{"a.rdp", Bytes(plain.begin(), plain.end())},
                                                 {"b.rdp", Bytes(unix.begin(), unix.end())},
                                                 {"c.rdp", utf16(plain, true)},
                                                 {"d.rdp", utf16(plain, false)}};
  for (const auto& [name, bytes] : forms) {
    INFO(name);
    const Read read = readFiles({r.file(name, bytes)});
    REQUIRE(read.entries.size() == 1);
    const Entry& e = read.entries[0];
    CHECK(e.name == name.substr(0, 1));
    REQUIRE(e.ways.size() == 1);
    CHECK(e.ways[0].address == "rdp://curator@127.0.0.23:3390");
    CHECK(e.ways[0].settings.at("rdp.domain") == "GARDEN");
    CHECK(e.ways[0].settings.at("rdp.size") == "1920x1080");
    CHECK(e.ways[0].settings.at("screen.colours") == "16");
    CHECK(e.ways[0].settings.at("clipboard.way") == "off");
    CHECK(e.ways[0].settings.at("sound.play") == "on");
    CHECK(e.ways[0].settings.at("rdp.program") == "seeds.exe");
    CHECK(e.ways[0].settings.at("screen.screens") == "monitors");
  }
  CHECK(failureOf([&] {
          readFiles({r.file("e.rdp", std::string("username:s:x\n"))});
        }).find("full address") != std::string::npos);
  CHECK(failureOf([&] { readFiles({r.file("f.rdp", std::string("full address:s:h:99999\n"))}); }) != "");
}

TEST_CASE("Console hand-off and VNC files: ports, sealed ports, a password for once, unknown keys",
          "[exchange]") {
  Records r;
  const Read vv = readFiles({r.file(
      "x.vv", std::string("[console]\ntype=spice\nhost=127.0.0.11\nport=5930\ntls-port=5931\npassword="
                          "plum42\ntitle=herbarium-scan\ndelete-this-file=1\nproxy=http://p\n"))});
  REQUIRE(vv.entries.size() == 1);
  CHECK(vv.entries[0].name == "herbarium-scan");
  CHECK(vv.entries[0].ways[0].address.find("spice://127.0.0.11:5930") == 0);
  CHECK(vv.entries[0].ways[0].address.find("tls-port=5931") != std::string::npos);
  CHECK(vv.entries[0].password == "plum42");
  CHECK(vv.entries[0].deleteFile);
  CHECK(keptLines(vv.entries[0].ways[0].settings, "vv") == "proxy=http://p\n");
  CHECK(readFiles({r.file("y.vv", std::string("type=spice\nhost=h\ntls-port=5931\n"))})
            .entries[0]
            .ways[0]
            .address == "spice+tls://h:5931");
  CHECK(failureOf([&] {
          readFiles({r.file("z.vv", std::string("type=carrier-pigeon\nhost=h\n"))});
        }).find("carrier-pigeon") != std::string::npos);
  const Read vnc = readFiles({r.file(
      "mist-bench.vnc",
      std::string(
          "[Connection]\r\nHost=127.0.0.11\r\nPort=5907\r\nPassword=00ff\r\n[Options]\r\nViewOnly=1\r\n"))});
  CHECK(vnc.entries[0].ways[0].address == "vnc://127.0.0.11:5907");
  CHECK(vnc.entries[0].ways[0].settings.at("screen.viewonly") == "on");
  CHECK_FALSE(vnc.entries[0].password.has_value());
  CHECK(vnc.remarks.size() == 1);
}

TEST_CASE(
    "Tables: columns by their names, quotes with line breaks, separators, duplicates, lines that cannot be",
    "[exchange]") {
  const auto read = [](const std::string& text) { return csvKind.read(text, "list.csv"); };
  const Read a = read(
      "Name;Site;IP Address;Protocol;Port;Notes\nmist-bench;Glasshouses;127.0.0.11;vnc;5907;\"two\nlines, "
      "and \"\"quotes\"\"\"\n");
  REQUIRE(a.entries.size() == 1);
  CHECK(a.entries[0].group == "Glasshouses");
  CHECK(a.entries[0].ways[0].address == "vnc://127.0.0.11:5907");
  CHECK(a.entries[0].notes == "two\nlines, and \"quotes\"");
  const Read b = read(
      "name\taddress\nseed-bank\trdp://curator@127.0.0.23\nseed-bank\tvnc://127.0.0.11:5908\n\tvnc://"
      "x\nbroken\tvnc://h:99999\nnone\t\n");
  REQUIRE(b.entries.size() == 1);
  CHECK(b.entries[0].ways.size() == 2);  // two ways into one machine
  CHECK(b.remarks.size() == 3);
  CHECK(b.remarks[0].find("line 4") != std::string::npos);
  CHECK(failureOf([&] { read("colour,shape\nred,round\n"); }).find("name and address") != std::string::npos);
  CHECK(failureOf([&] { read("name,address\n\"open,vnc://h\n"); }).find("not closed") != std::string::npos);
  CHECK(failureOf([&] { read(""); }).find("empty") != std::string::npos);
  CHECK(read("host,name\n127.0.0.1,x\n").entries[0].ways[0].address.find("127.0.0.1") != std::string::npos);
}

TEST_CASE("What is imported, exported and imported again is equal, for every kind", "[exchange]") {
  Records r;
  r.import(
      readFiles(
          {r.file("desk.rdp", std::string(kDesk)),
           r.file("mist-bench.vnc", std::string("host=127.0.0.11\nport=5907\nshared=0\nscale=2\n")),
           r.file("plates.vv", std::string("type=spice\nhost=127.0.0.11\nport=5930\nfullscreen=1\nca=x\n"))})
          .entries);
  const Id desk = r.store->load().machineNamed("desk")->id;
  r.store->commit("more", [&](StoreWriter& w) {
    w.set({OwnerKind::Machine, desk}, "reconnect.longest", "60");
  });
  const auto entries = entriesOf(r.store->load());
  REQUIRE(entries.size() == 3);
  const auto again = [&](const Kind& kind, const std::string& machine) {
    auto chosen = entries;
    if (!machine.empty()) std::erase_if(chosen, [&](const Entry& e) { return e.name != machine; });
    const std::string text = kind.write(chosen);
    return kind.read(decoded(Bytes(text.begin(), text.end())), machine + kind.extension).entries;
  };
  const auto sameWays = [](const Entry& x, const Entry& y) {
    if (x.ways.size() != y.ways.size()) return false;
    for (std::size_t i = 0; i < x.ways.size(); ++i)
      if (x.ways[i].address != y.ways[i].address || x.ways[i].settings != y.ways[i].settings) return false;
    return true;
  };
  for (const auto& [kind, machine] :
       {std::pair(&rdpKind, "desk"), std::pair(&vncKind, "mist-bench"), std::pair(&consoleKind, "plates")}) {
    INFO(kind->name);
    const auto back = again(*kind, machine);
    const auto original = std::find_if(entries.begin(), entries.end(),
                                       [&, m = std::string(machine)](const Entry& e) { return e.name == m; });
    REQUIRE(back.size() == 1);
    CHECK(sameWays(back[0], *original));
  }
  const auto json = again(jsonKind, "");
  REQUIRE(json.size() == 3);
  Records other;
  CHECK(other.import(json).added == 3);
  const auto there = entriesOf(other.store->load());
  for (std::size_t i = 0; i < 3; ++i) {
    CHECK(there[i].name == entries[i].name);
    CHECK(there[i].group == entries[i].group);
    CHECK(there[i].settings == entries[i].settings);
    CHECK(sameWays(there[i], entries[i]));
  }
  // A second import of the same changes nothing.
  CHECK(other.import(json).skipped == 3);
  CHECK(again(csvKind, "").size() == 3);
}

TEST_CASE("Clashes: same ones are left, others skipped, replaced or added, in one undo", "[exchange]") {
  Records r;
  const auto entry = [](const std::string& name, const std::string& address) {
    Entry e;
    e.name = name;
    e.ways.push_back({"", address, {}});
    return e;
  };
  CHECK(r.import({entry("mist-bench", "vnc://127.0.0.11:5907"), entry("seed-bank", "rdp://127.0.0.23")})
            .added == 2);
  CHECK(r.store->load().folders.size() == 2);  // "Alder Vale/Imported", made once
  CHECK(r.import({entry("mist-bench", "vnc://127.0.0.11:5907")}, Choice::Replace).skipped == 1);
  CHECK(r.import({entry("mist-bench", "vnc://127.0.0.11:5999")}, Choice::Skip).skipped == 1);
  CHECK(r.import({entry("mist-bench", "vnc://127.0.0.11:5999")}, Choice::Replace).replaced == 1);
  Snapshot s = r.store->load();
  CHECK(s.endpointsOf(s.machineNamed("mist-bench")->id)[0]->address == "vnc://127.0.0.11:5999");
  r.store->undo();
  s = r.store->load();
  CHECK(s.endpointsOf(s.machineNamed("mist-bench")->id)[0]->address == "vnc://127.0.0.11:5907");
  CHECK(r.import({entry("mist-bench", "vnc://127.0.0.11:5999")}, Choice::Add).added == 1);
  CHECK(r.store->load().machineNamed("mist-bench 2") != nullptr);
  // A setting that cannot be is passed over, not written.
  Entry odd = entry("odd", "vnc://127.0.0.1");
  odd.settings = {{"screen.colours", "17"}, {"no.such", "x"}, {"reconnect.longest", "60"}};
  r.import({odd});
  s = r.store->load();
  CHECK(s.settings.at({OwnerKind::Machine, s.machineNamed("odd")->id}) ==
        SettingValues{{"reconnect.longest", "60"}});
}

TEST_CASE("A table of 5,000 machines in 50 groups is read and written at once", "[exchange]") {
  std::string text = "name,group,address\r\n";
  for (int i = 0; i < 5000; ++i)
    text += "palm-house-" + std::to_string(i) + ",Alder Vale/Palm " + std::to_string(i % 50) +
            ",vnc://127.0.0.12:" + std::to_string(6000 + i) + "\r\n";
  Records r;
  const Read read = readFiles({r.file("all.csv", text)});
  REQUIRE(read.entries.size() == 5000);
  CHECK(r.import(read.entries).added == 5000);
  CHECK(r.store->load().folders.size() == 51);
  CHECK(entriesOf(r.store->load()).size() == 5000);
}

TEST_CASE("Files of no known kind, and damaged ones of ours, say what is wrong", "[exchange]") {
  Records r;
  CHECK(failureOf([&] {
          readFiles({r.file("x.bin", std::string("\x7f"
                                                 "ELF"))});
        }).find("no connection file") != std::string::npos);
  CHECK(failureOf([&] { readFiles({r.file("x.json", std::string("{}"))}); }).find("no file of machines") !=
        std::string::npos);
  for (
      const char* text :
      {R"({"format":"kettle-window machines","version":2,"machines":[]})",
       R"({"format":"kettle-window machines","version":1,"machines":7})",
       R"({"format":"kettle-window machines","version":1,"machines":[{}]})",
       R"({"format":"kettle-window machines","version":1,"machines":[{"name":"x","waysIn":[{"address":"gopher://x"}]}]})"})
    CHECK(failureOf([&] { jsonKind.read(text, "x"); }) != "");
}

TEST_CASE("A table's columns are found by name, by what is in them, or said by hand", "[exchange]") {
  const auto entries = [](const exchange::Table& t, const exchange::TableColumns& c) {
    return exchange::readTable(t, c, "x").entries;
  };
  // Pasted cells without a heading.
  const exchange::Table pasted =
      exchange::tableOf("mist-bench\t127.0.0.11:5907\tvalve\nseed-bank\tssh://127.0.0.11\t\n");
  CHECK(pasted.headings[1] == "column 2");
  REQUIRE(exchange::isEnough(pasted.found));
  REQUIRE(entries(pasted, pasted.found).size() == 2);
  CHECK(entries(pasted, pasted.found)[1].name == "seed-bank");
  CHECK(entries(pasted, pasted.found)[1].ways[0].address == "ssh://127.0.0.11:22");
  // Headings in words of somebody's own.
  const exchange::Table own =
      exchange::tableOf("Bezeichnung;Rechner im Netz;Bem.\nmist-bench;127.0.0.11:5907;valve\n");
  CHECK_FALSE(exchange::isEnough(own.found));
  CHECK_THROWS_AS(exchange::readTable(own, own.found, "x"), Error);
  const auto said = entries(own, {{"name", 0}, {"address", 1}, {"notes", 2}});
  REQUIRE(said.size() == 1);
  CHECK(said[0].notes == "valve");
  // A column that rows do not have is empty, not an error.
  CHECK(entries(own, {{"name", 0}, {"address", 1}, {"tags", 9}})[0].tags.empty());
}

TEST_CASE("A sealed file opens with its passphrase only, and says so", "[exchange]") {
  test::TemporaryFolder folder;
  exchange::Entry e;
  e.name = "mist-bench";
  e.ways.push_back({"screen", "vnc://127.0.0.11:5907", {}});
  const std::string plain = exchange::jsonKind.write({e});
  const std::string sealed = sealedText(plain, "leaf mould");
  CHECK(isSealedText(sealed));
  CHECK_FALSE(isSealedText(plain));
  CHECK(sealed.find("mist-bench") == std::string::npos);
  const auto file = folder.path / "machines.json";
  writeFileSafely(file, viewOf(sealed));
  const auto kindOfFailure = [&](const std::string& passphrase) {
    try {
      exchange::readFiles({file}, "", passphrase);
    } catch (const Error& error) {
      return error.kind();
    }
    return ErrorKind::Local;
  };
  CHECK(kindOfFailure("") == ErrorKind::SignInFailed);
  CHECK(kindOfFailure("moss") == ErrorKind::SignInFailed);
  REQUIRE(exchange::readFiles({file}, "", "leaf mould").entries.size() == 1);
  // Every altered byte of it is noticed, and none ends in anything but an error.
  for (std::size_t i = 0; i < sealed.size(); i += 7) {
    std::string altered = sealed;
    altered[i] = altered[i] == 'A' ? 'B' : 'A';
    if (altered.find("\"turns\"") == std::string::npos || altered.find("\"memory\"") == std::string::npos)
      continue;
    std::string opened = plain;
    try {
      opened = openedText(altered, "leaf mould");
    } catch (const Error&) {
      continue;
    }
    CHECK(opened == plain);  // white space and the like
    if (i > 2 * sealed.size() / 3) break;
  }
  CHECK_THROWS_AS(
      openedText(
          R"({"format":"kettle-window sealed","version":1,"turns":99999999,"memory":1,"salt":"","data":""})",
          "x"),
      Error);
  CHECK_THROWS_AS(sealedText(plain, ""), Error);
}

TEST_CASE("What is written as JSON keeps to the schema that is published", "[exchange]") {
  CHECK(textOf(readFile(KW_SOURCE "/docs/machines.schema.json")) == exchange::machinesSchema());
  test::TemporaryFolder folder;
  exchange::Entry e;
  e.name = "mist-bench", e.group = "Alder Vale/Glasshouses", e.tags = "controller";
  e.settings["screen.fit"] = "fill";
  e.ways.push_back({"screen", "vnc+unix:/run/a", {{"screen.colours", "16"}}});
  writeFileSafely(folder.path / "m.json", viewOf(exchange::jsonKind.write({e})));
  const std::string check =
      "python3 -c \"import json,jsonschema,sys; jsonschema.validate(json.load(open(sys.argv[1])), "
      "json.load(open(sys.argv[2])))\" ";
  const std::string schema = " " KW_SOURCE "/docs/machines.schema.json 2>/dev/null";
  CHECK(std::system((check + (folder.path / "m.json").string() + schema).c_str()) == 0);
  writeFileSafely(folder.path / "wrong.json",
                  viewOf(std::string(
                      R"({"format":"kettle-window machines","version":1,"machines":[{"colour":"red"}]})")));
  CHECK(std::system((check + (folder.path / "wrong.json").string() + schema).c_str()) != 0);
}

// The clipboard of RDP as offers: forms both ways, and nothing fetched before somebody pastes.
#include <boost/asio/io_context.hpp>

#include <fstream>

#include "base/file.hpp"
#include "picture/png.hpp"
#include "rdp/clip_file_list.hpp"
#include "session/clip_files.hpp"
#include "tests/core/rdp_bench.hpp"

using namespace kw;
using namespace kw::rdp;
using namespace kw::test;

namespace {

Bytes bytesOf(const std::string& text) { return {text.begin(), text.end()}; }

/// Counts how often it is asked, and can keep silent.
struct Copied : Clip {
  std::map<ClipForm, Bytes> has;
  int fetches = 0;
  bool silent = false;
  std::vector<Got> waiting;
  [[nodiscard]] std::set<ClipForm> forms() const override {
    std::set<ClipForm> out;
    for (const auto& [form, content] : has) out.insert(form);
    return out;
  }
  void fetch(ClipForm form, Got got) override {
    ++fetches;
    if (silent) return waiting.push_back(std::move(got));
    got(has.contains(form) ? std::optional(has[form]) : std::nullopt);
  }
};

/// Two ends whose messages are carried when settle() is called; on one thread.
struct Wire {
  asio::io_context context;
  std::vector<std::pair<bool, Bytes>> messages;
  std::shared_ptr<Clip> here, there;
  Clipboard client{context.get_executor(),
                   {[this](Bytes m) { messages.emplace_back(true, std::move(m)); },
                    [this](std::shared_ptr<Clip> c) { here = std::move(c); }}};
  Clipboard server{context.get_executor(),
                   {[this](Bytes m) { messages.emplace_back(false, std::move(m)); },
                    [this](std::shared_ptr<Clip> c) { there = std::move(c); }}};
  void settle() {
    for (int i = 0; i < 200; ++i) {
      context.restart();
      if (context.poll() == 0 && messages.empty()) return;
      if (messages.empty()) continue;
      const auto [toServer, message] = std::move(messages.front());
      messages.erase(messages.begin());
      (toServer ? server : client).take(message);
    }
    FAIL("the clipboards do not come to rest");
  }
  std::optional<Bytes> fetch(Clip& clip, ClipForm form) {
    std::optional<Bytes> out;
    bool called = false;
    clip.fetch(form, [&](std::optional<Bytes> content) { out = std::move(content), called = true; });
    settle();
    CHECK(called);
    return out;
  }
};

}  // namespace

TEST_CASE("RDP clipboard: every form goes both ways, with the line ends of each side", "[rdp][clipboard]") {
  Wire wire;
  auto early = std::make_shared<TextClip>("early");
  wire.client.offer(early);
  wire.server.offer(std::make_shared<TextClip>("early there"));
  wire.server.offer(std::make_shared<TextClip>("early there"));
  wire.server.begin();
  wire.settle();
  REQUIRE(wire.there);
  CHECK(wire.fetch(*wire.there, ClipForm::Text) == bytesOf("early"));
  REQUIRE(wire.here);
  CHECK(wire.fetch(*wire.here, ClipForm::Text) == bytesOf("early there"));
  REQUIRE(wire.here);
  CHECK(wire.fetch(*wire.here, ClipForm::Text) == bytesOf("early there"));

  const Framebuffer picture = colourfulPicture({37, 21});
  auto rich = std::make_shared<Copied>();
  rich->has = {{ClipForm::Text, bytesOf("zwei\nZeilen 🌿")},
               {ClipForm::Html, bytesOf("<b>Farn</b> & Moos 🌿")},
               {ClipForm::Rtf, bytesOf("{\\rtf1 fern}")},
               {ClipForm::Picture, encodePng(picture)}};
  const bool fromClient = GENERATE(true, false);
  (fromClient ? wire.client : wire.server).offer(rich);
  wire.settle();
  const std::shared_ptr<Clip> got = fromClient ? wire.there : wire.here;
  REQUIRE(got);
  CHECK(got->forms() == rich->forms());
  CHECK(wire.fetch(*got, ClipForm::Text) == rich->has[ClipForm::Text]);
  CHECK(wire.fetch(*got, ClipForm::Html) == rich->has[ClipForm::Html]);
  CHECK(wire.fetch(*got, ClipForm::Rtf) == rich->has[ClipForm::Rtf]);
  const auto png = wire.fetch(*got, ClipForm::Picture);
  REQUIRE(png);
  CHECK(samePixels(decodePng(*png), picture));
}

TEST_CASE("RDP clipboard: what is offered and not pasted costs nothing", "[rdp][clipboard]") {
  Wire wire;
  wire.server.begin();
  wire.settle();
  auto huge = std::make_shared<Copied>();
  huge->has = {{ClipForm::Text, {}}, {ClipForm::Picture, {}}};
  std::size_t bytes = 0;
  for (int i = 0; i < 50; ++i) {
    wire.client.offer(huge);
    for (const auto& [to, m] : wire.messages) bytes += m.size();
    wire.settle();
  }
  CHECK(huge->fetches == 0);
  CHECK(bytes < 50 * 200);
  CHECK(wire.there->forms() == huge->forms());
}

TEST_CASE("RDP clipboard: pasted late, gone, refused or broken gives nothing, and the next one works",
          "[rdp][clipboard]") {
  Wire wire;
  wire.server.begin();
  wire.settle();
  auto first = std::make_shared<Copied>();
  first->has = {{ClipForm::Text, bytesOf("first")}};
  wire.server.offer(first);
  wire.settle();
  const std::shared_ptr<Clip> old = wire.here;
  wire.server.offer(std::make_shared<TextClip>("second"));
  wire.settle();
  CHECK_FALSE(wire.fetch(*old, ClipForm::Text));
  CHECK(first->fetches == 0);
  CHECK_FALSE(wire.fetch(*wire.here, ClipForm::Html));
  CHECK(wire.fetch(*wire.here, ClipForm::Text) == bytesOf("second"));
  // Asked twice at once, answered in turn; overtaken by another copy, the rest is told no.
  auto slow = std::make_shared<Copied>();
  slow->has = {{ClipForm::Text, bytesOf("slow")}};
  slow->silent = true;
  wire.server.offer(slow);
  wire.settle();
  std::vector<std::optional<Bytes>> answers;
  for (int i = 0; i < 2; ++i)
    wire.here->fetch(ClipForm::Text, [&](std::optional<Bytes> b) { answers.push_back(std::move(b)); });
  wire.settle();
  REQUIRE(slow->waiting.size() == 1);
  slow->waiting[0](bytesOf("slow"));
  wire.settle();
  REQUIRE(answers.size() == 1);
  CHECK(answers[0] == bytesOf("slow"));
  wire.server.offer(std::make_shared<TextClip>("newer"));
  slow->waiting[1](std::nullopt);
  wire.settle();
  CHECK(answers.size() == 2);
  CHECK_FALSE(answers[1]);
  CHECK(wire.fetch(*wire.here, ClipForm::Text) == bytesOf("newer"));
}

TEST_CASE("RDP clipboard: formats as other services write them", "[rdp][clipboard]") {
  // 2.2.3.1.2 long names; 2.2.3.1.1 short ones in either alphabet
  LittleWriter list;
  list.u32(13).u16(0).u32(0xc123).bytes(utf8ToUtf16("HTML Format")).u16(0);
  auto forms = formsIn(readFormatList(list.view(), true, false));
  CHECK(forms[ClipForm::Html].id == 0xc123);
  CHECK(forms.contains(ClipForm::Text));
  LittleWriter narrow;
  narrow.u32(0xc9).text("Rich Text Format").zeros(16).u32(1).zeros(32);
  forms = formsIn(readFormatList(narrow.view(), false, true));
  CHECK(forms[ClipForm::Rtf].id == 0xc9);
  CHECK(forms[ClipForm::Text].id == kAnsiText);
  CHECK(fromWire({kAnsiText, ""}, Bytes{'h', 0xf6, '\r', '\n', 0, 'x'}) == bytesOf("hö\n"));
  const std::string html =
      "Version:1.0\r\nStartHTML:00000097\r\nEndHTML:00000140\r\nStartFragment:00000097\r\nEndFragment:"
      "00000104\r\n"
      "<i>a</i>and more";
  CHECK_FALSE(fromWire({7, kHtmlName}, bytesOf("no head at all")));
  const auto fragment = fromWire({7, kHtmlName}, bytesOf(html));
  REQUIRE(fragment);
  CHECK(*fragment == bytesOf(html.substr(97, 7)));
  // A bitmap of 24 bits, top row first, and ones that lie.
  LittleWriter dib;
  dib.u32(40).u32(2).u32(static_cast<std::uint32_t>(-2)).u16(1).u16(24).zeros(24);
  dib.u8(1).u8(2).u8(3).u8(4).u8(5).u8(6).u16(0).u8(7).u8(8).u8(9).u8(10).u8(11).u8(12).u16(0);
  const auto png = fromWire({kBitmap, ""}, dib.view());
  REQUIRE(png);
  const Framebuffer picture = decodePng(*png);
  CHECK(picture.pixel(0, 0) == rgb(3, 2, 1));
  CHECK(picture.pixel(1, 1) == rgb(12, 11, 10));
  for (std::size_t n = 0; n < dib.size(); ++n) CHECK_FALSE(fromWire({kBitmap, ""}, dib.view().first(n)));
  LittleWriter huge;
  huge.u32(40).u32(60000).u32(60000).u16(1).u16(32).zeros(24);
  CHECK_FALSE(fromWire({kBitmap, ""}, huge.view()));
}

namespace {

/// Copied files with their content, as the other side may have made them up.
struct CopiedFiles : Clip {
  std::vector<ClipFile> files;
  std::map<std::size_t, Bytes> content;
  int reads = 0;
  bool silent = false;
  std::vector<Got> waiting;
  [[nodiscard]] std::set<ClipForm> forms() const override { return {ClipForm::Files}; }
  void fetch(ClipForm, Got got) override { got(std::nullopt); }
  void list(Listed listed) override { listed(files); }
  void read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) override {
    ++reads;
    if (silent) return waiting.push_back(std::move(got));
    if (!content.contains(file)) return got(std::nullopt);
    const Bytes& all = content[file];
    const auto begin = std::min<std::uint64_t>(from, all.size()),
               end = std::min<std::uint64_t>(begin + most, all.size());
    got(Bytes(all.begin() + static_cast<std::ptrdiff_t>(begin),
              all.begin() + static_cast<std::ptrdiff_t>(end)));
  }
};

/// Saves over the wire: what was copied itself, or why not.
std::vector<std::string> saved(Wire& wire, const std::shared_ptr<Clip>& clip,
                               const std::filesystem::path& folder,
                               const std::shared_ptr<ClipSaving>& saving = std::make_shared<ClipSaving>()) {
  std::vector<std::string> out;
  spawn(
      wire.context.get_executor(),
      [&]() -> Task<void> {
        const auto tops = co_await saveClipFiles(clip, folder, saving);
        for (const auto& t : tops) out.push_back(t.filename().string());
      },
      [&](std::exception_ptr failure) {
        if (failure) out = {"failed: " + messageOf(failure)};
      });
  wire.settle();
  return out;
}

std::string contentOf(const std::filesystem::path& file) { return textOf(readFile(file)); }

}  // namespace

TEST_CASE("RDP clipboard: copied files and folders go both ways, and only when they are fetched",
          "[rdp][clipboard]") {
  Wire wire;
  wire.server.begin();
  wire.settle();
  TemporaryFolder here, there;
  std::filesystem::create_directories(here.path / "lots" / "empty");
  std::ofstream(here.path / "lots" / "12.csv") << "fern;7\n";
  std::ofstream(here.path / "lots" / "größe 🌿.txt") << "moss";
  std::ofstream(here.path / "none");
  const std::string large(3 * (512 << 10), 'x');  // whole pieces: its end is found out
  std::ofstream(here.path / "valve.bin") << large << "end";
  std::filesystem::create_symlink("/etc/passwd", here.path / "lots" / "link");
  const auto copied = std::make_shared<LocalFiles>(std::vector<std::filesystem::path>{
      here.path / "lots", here.path / "valve.bin", here.path / "none", here.path / "gone"});
  const bool fromClient = GENERATE(true, false);
  (fromClient ? wire.client : wire.server).offer(copied);
  wire.settle();
  const std::shared_ptr<Clip> got = fromClient ? wire.there : wire.here;
  REQUIRE(got);
  CHECK(got->forms() == std::set<ClipForm>{ClipForm::Files});
  const auto saving = std::make_shared<ClipSaving>();
  CHECK(saved(wire, got, there.path, saving) == std::vector<std::string>{"lots", "valve.bin", "none"});
  CHECK(contentOf(there.path / "lots" / "12.csv") == "fern;7\n");
  CHECK(contentOf(there.path / "lots" / "größe 🌿.txt") == "moss");
  CHECK(contentOf(there.path / "valve.bin") == large + "end");
  CHECK(std::filesystem::is_empty(there.path / "none"));
  CHECK(std::filesystem::is_directory(there.path / "lots" / "empty"));
  CHECK_FALSE(std::filesystem::exists(there.path / "lots" / "link"));
  CHECK(std::filesystem::last_write_time(there.path / "valve.bin") -
            std::filesystem::last_write_time(here.path / "valve.bin") <
        std::chrono::seconds(1));
  CHECK(saving->done == saving->total);
  CHECK(saving->file == saving->files);
  // Fetched again, nothing that is there is lost.
  CHECK(saved(wire, got, there.path)[0] == "lots (2)");
  CHECK(contentOf(there.path / "valve (2).bin") == large + "end");
  // Overtaken by another copy, it says so; a file that was half there is removed.
  (fromClient ? wire.client : wire.server).offer(std::make_shared<TextClip>("newer"));
  wire.settle();
  CHECK(saved(wire, got, there.path)[0].find("has these files no more") != std::string::npos);
}

TEST_CASE("RDP clipboard: files that a machine makes up stay in the folder, or are refused",
          "[rdp][clipboard]") {
  for (const char* bad :
       {"", "/etc/cron.d/x", "../x", "lots/../../x", "a//b", ".", "lots/.", "a\\b", "tab\tname"})
    CHECK_FALSE(isSafeClipPath(bad));
  CHECK(isSafeClipPath("lots/größe 12.csv"));
  CHECK(isSafeClipPath("..."));
  Wire wire;
  wire.server.begin();
  wire.settle();
  TemporaryFolder folder;
  const auto machine = std::make_shared<CopiedFiles>();
  const auto offer = [&](std::vector<ClipFile> files) {
    machine->files = std::move(files);
    wire.server.offer(machine);
    wire.settle();
    return wire.here;
  };
  const std::filesystem::path inside = folder.path / "inside";
  std::filesystem::create_directory(inside);
  auto clip = offer({{"../outside", false, 4, 0}});
  CHECK(saved(wire, clip, inside)[0].find("would not stay in the folder") != std::string::npos);
  CHECK(machine->reads == 0);
  CHECK(std::filesystem::is_empty(inside));
  // Longer and shorter than it says, and one that cannot be read after one that can.
  clip = offer({{"long", false, 4, 0}, {"short", false, 100, 0}, {"unreadable", false, 4, 0}});
  machine->content = {{0, bytesOf("moss and more")}, {1, bytesOf("fern")}};
  CHECK(saved(wire, clip, inside)[0].find("unreadable: the machine has these files no more") !=
        std::string::npos);
  CHECK(contentOf(inside / "short") == "fern");
  CHECK_FALSE(std::filesystem::exists(inside / "unreadable"));
  // Stopped by whoever waits: the file is removed.
  clip = offer({{"endless", false, 0, 0}});
  machine->content = {{0, Bytes(8U << 20)}};
  const auto saving = std::make_shared<ClipSaving>();
  saving->stop = true;
  CHECK(saved(wire, clip, inside, saving)[0].find("stopped here") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(inside / "endless"));
  // Where nothing can be written.
  clip = offer({{"new", false, 4, 0}});
  CHECK(saved(wire, clip, inside / "short" / "missing")[0].find("cannot be saved") != std::string::npos);
}

TEST_CASE("RDP clipboard: what is being read of a file ends when something else is copied",
          "[rdp][clipboard]") {
  Wire wire;
  wire.server.begin();
  wire.settle();
  const auto machine = std::make_shared<CopiedFiles>();
  machine->files = {{"slow", false, 4, 0}};
  machine->silent = true;
  wire.server.offer(machine);
  wire.settle();
  const std::shared_ptr<Clip> old = wire.here;
  bool listed = false;
  old->list([&](const auto& files) { listed = files.has_value(); });
  wire.settle();
  REQUIRE(listed);
  std::vector<bool> answers;
  old->read(0, 0, 4, [&](const auto& content) { answers.push_back(content.has_value()); });
  wire.settle();
  REQUIRE(machine->waiting.size() == 1);
  CHECK(answers.empty());
  const auto newer = std::make_shared<CopiedFiles>();
  newer->files = {{"newer", false, 4, 0}};
  newer->content = {{0, bytesOf("fern")}};
  wire.server.offer(newer);
  wire.settle();
  CHECK(answers == std::vector<bool>{false});
  // What comes of it afterwards is nobody's, and the old list never gives what the new one names.
  wire.here->list([](const auto&) {});
  wire.settle();
  machine->waiting[0](bytesOf("late"));
  old->read(0, 0, 4, [&](const auto& content) { answers.push_back(content.has_value()); });
  wire.settle();
  CHECK(answers == std::vector<bool>{false, false});
  CHECK(machine->reads == 1);
  CHECK(newer->reads == 0);
}

TEST_CASE("RDP clipboard: lists of files as the specification writes them", "[rdp][clipboard]") {
  // 2.2.5.2.3.1
  LittleWriter one;
  one.u32(1).u32(0x4 | 0x20 | 0x40).zeros(32).u32(0x80).zeros(16);
  one.u64(132'223'104'000'000'000ULL);  // the first of January 2020
  one.u32(1).u32(7).bytes(utf8ToUtf16("lots\\12.csv")).zeros(520 - 22);
  const auto list = readFileList(one.view());
  REQUIRE(list);
  CHECK(*list == std::vector<ClipFile>{{"lots/12.csv", false, (1ULL << 32) + 7, 1'577'836'800}});
  const Bytes again = writeFileList(*list);
  CHECK(Bytes(one.view().begin(), one.view().end()) == again);
  for (std::size_t n = 0; n < one.size(); ++n) CHECK_FALSE(readFileList(one.view().first(n)));
  LittleWriter many;
  CHECK_FALSE(readFileList(many.u32(0xffffffff).zeros(592).view()));
  CHECK_FALSE(fitsFileList({std::string(260, 'a'), false, 0, 0}));
  CHECK(fitsFileList({std::string(259, 'a'), false, 0, 0}));
}

#include "gate/recording.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <ctime>
#include <fstream>

#include "base/error.hpp"
#include "gate/gate_store.hpp"

namespace kw::gate {

namespace {

constexpr const char* kEnding = ".kwr";
constexpr std::size_t kRecordHead = 9;  // kind, milliseconds, length
constexpr std::size_t kMostHeadLine = 4096;

[[noreturn]] void noFile(const std::string& why, const std::string& file) {
  throw Error(ErrorKind::Local, why, file);
}

void putLittle(Byte* at, std::uint32_t value) {
  for (int i = 0; i < 4; ++i) at[i] = static_cast<Byte>(value >> (8 * i));
}
std::uint32_t littleAt(const Byte* at) {
  std::uint32_t value = 0;
  for (int i = 3; i >= 0; --i) value = value << 8 | at[i];
  return value;
}

/// Names come from browsers, too: letters, digits and dashes only, so that none leads out of the folder.
std::filesystem::path pathOf(const std::filesystem::path& folder, const std::string& file) {
  const auto plain = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-'; };
  const bool good = file.size() > 4 && file.size() < 80 && file.ends_with(kEnding) &&
                    std::all_of(file.begin(), file.end() - 4, plain);
  if (!good || !std::filesystem::is_regular_file(folder / file)) noFile("no recording has this name", file);
  return folder / file;
}

std::string fileNameFor(std::int64_t now) {
  std::tm utc{};
  const std::time_t at = now;
  gmtime_r(&at, &utc);
  char text[32];
  std::strftime(text, sizeof text, "%Y%m%d-%H%M%S", &utc);
  std::string random = randomToken().substr(0, 8);
  std::replace_if(
      random.begin(), random.end(), [](char c) { return c == '-' || c == '_'; }, 'x');
  return std::string(text) + "-" + random + kEnding;
}

/// False for what is none; fields of a wrong kind are none, too.
bool readHead(const nlohmann::json& head, RecordingFacts& facts) {
  try {
    if (head.at("recording").get<int>() != 1) return false;
    facts.machine = head.at("machine").get<std::string>();
    facts.label = head.at("label").get<std::string>();
    facts.began = head.at("began").get<std::int64_t>();
    facts.picture = head.at("picture").get<bool>();
    return true;
  } catch (const nlohmann::json::exception&) {
    return false;
  }
}

/// The last record, when it says that the recording is whole.
void readEnd(std::ifstream& in, std::uint64_t size, RecordingFacts& facts) {
  const std::uint64_t tail = std::min<std::uint64_t>(size, kMostHeadLine);
  std::string bytes(tail, '\0');
  in.clear();
  in.seekg(static_cast<std::streamoff>(size - tail));
  if (!in.read(bytes.data(), static_cast<std::streamsize>(tail))) return;
  // The end's own length stands last, so that it is found from behind.
  if (bytes.size() < kRecordHead + 4) return;
  const auto* data = reinterpret_cast<const Byte*>(bytes.data());
  const std::uint32_t length = littleAt(data + bytes.size() - 4);
  if (length < 4 || length + kRecordHead > bytes.size()) return;
  const Byte* head = data + bytes.size() - length - kRecordHead;
  if (head[0] != static_cast<Byte>(RecordedKind::End) || littleAt(head + 5) != length) return;
  const auto json = nlohmann::json::parse(bytes.substr(bytes.size() - length, length - 4), nullptr, false);
  if (!json.is_object()) return;
  facts.lasted = littleAt(head + 1);
  if (json.contains("people") && json["people"].is_string()) facts.people = json["people"].get<std::string>();
}

bool isBeingWritten(const std::filesystem::path& file) {
  const int fd = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
  if (fd < 0) return false;
  const bool held = ::flock(fd, LOCK_SH | LOCK_NB) != 0;
  ::close(fd);
  return held;
}

}  // namespace

RecordingWriter::RecordingWriter(const std::filesystem::path& folder, const std::string& machine,
                                 const std::string& label, bool picture)
    : name_(fileNameFor(nowSeconds())), out_(nullptr, &std::fclose) {
  std::error_code ignored;
  std::filesystem::create_directories(folder, ignored);
  std::filesystem::permissions(folder, std::filesystem::perms::owner_all, ignored);
  const int fd = ::open((folder / name_).c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
  if (fd < 0) noFile("a recording cannot be written here", folder.string());
  out_.reset(::fdopen(fd, "wb"));
  if (!out_) {
    ::close(fd);
    noFile("a recording cannot be written here", folder.string());
  }
  ::flock(fd, LOCK_EX | LOCK_NB);  // while it is written, age does not remove it
  const std::string head = nlohmann::json{{"recording", 1},
                                          {"machine", machine},
                                          {"label", label},
                                          {"began", nowSeconds()},
                                          {"picture", picture}}
                               .dump(-1, ' ', false, nlohmann::json::error_handler_t::replace) +
                           "\n";
  if (std::fwrite(head.data(), 1, head.size(), out_.get()) != head.size() || std::fflush(out_.get()) != 0)
    noFile("a recording cannot be written here", folder.string());
  size_ = head.size();
}

RecordingWriter::~RecordingWriter() {
  std::string people;
  for (const std::string& one : people_) people += (people.empty() ? "" : ", ") + one.substr(0, 80);
  if (people.size() > 1500) people = people.substr(0, 1500) + "…";
  std::string end =
      nlohmann::json{{"people", people}}.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
  Byte length[4];
  putLittle(length, static_cast<std::uint32_t>(end.size() + 4));
  end.append(reinterpret_cast<const char*>(length), 4);
  try {
    add(RecordedKind::End, last_, viewOf(end));
  } catch (const Error&) {
    // Without its end it counts as cut off, which it is.
  }
}

void RecordingWriter::note(const std::string& person) {
  if (std::find(people_.begin(), people_.end(), person) == people_.end()) people_.push_back(person);
}

void RecordingWriter::add(RecordedKind kind, std::uint32_t ms, ByteView bytes) {
  last_ = std::max(last_, ms);
  Byte head[kRecordHead];
  head[0] = static_cast<Byte>(kind);
  putLittle(head + 1, last_);
  putLittle(head + 5, static_cast<std::uint32_t>(bytes.size()));
  const bool whole =
      std::fwrite(head, 1, sizeof head, out_.get()) == sizeof head &&
      (bytes.empty() || std::fwrite(bytes.data(), 1, bytes.size(), out_.get()) == bytes.size()) &&
      std::fflush(out_.get()) == 0;
  if (!whole) noFile("the recording cannot be written: is the disk full?", name_);
  size_ += sizeof head + bytes.size();
}

std::vector<RecordingFacts> recordingsIn(const std::filesystem::path& folder) {
  std::vector<RecordingFacts> out;
  std::error_code ignored;
  for (const auto& entry : std::filesystem::directory_iterator(folder, ignored)) {
    RecordingFacts facts;
    facts.file = entry.path().filename().string();
    if (!facts.file.ends_with(kEnding) || !entry.is_regular_file(ignored)) continue;
    std::ifstream in(entry.path(), std::ios::binary);
    std::string line(kMostHeadLine, '\0');
    in.read(line.data(), static_cast<std::streamsize>(line.size()));
    line.resize(static_cast<std::size_t>(in.gcount()));
    const auto head = nlohmann::json::parse(line.substr(0, line.find('\n')), nullptr, false);
    if (!readHead(head, facts)) continue;
    facts.bytes = entry.file_size(ignored);
    readEnd(in, facts.bytes, facts);
    out.push_back(std::move(facts));
  }
  std::sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.file > b.file; });
  return out;
}

std::string recordingPart(const std::filesystem::path& folder, const std::string& file, std::uint64_t from,
                          std::size_t most) {
  std::ifstream in(pathOf(folder, file), std::ios::binary);
  in.seekg(static_cast<std::streamoff>(from));
  std::string out(most, '\0');
  in.read(out.data(), static_cast<std::streamsize>(most));
  out.resize(static_cast<std::size_t>(std::max<std::streamsize>(in.gcount(), 0)));
  return out;
}

std::vector<std::string> removeOldRecordings(const std::filesystem::path& folder, std::chrono::seconds age) {
  std::vector<std::string> removed;
  std::error_code failed;
  const auto oldest = std::filesystem::file_time_type::clock::now() - age;
  for (const auto& entry : std::filesystem::directory_iterator(folder, failed)) {
    const std::string name = entry.path().filename().string();
    if (!name.ends_with(kEnding) || !entry.is_regular_file(failed)) continue;
    if (const auto written = entry.last_write_time(failed); failed || written >= oldest) continue;
    if (!isBeingWritten(entry.path()) && std::filesystem::remove(entry.path(), failed))
      removed.push_back(name);
  }
  std::sort(removed.begin(), removed.end());
  return removed;
}

void removeRecording(const std::filesystem::path& folder, const std::string& file) {
  std::error_code failed;
  if (!std::filesystem::remove(pathOf(folder, file), failed)) noFile("it cannot be removed", file);
}

}  // namespace kw::gate

#include "text/log_writer.hpp"

#include <algorithm>
#include <ctime>

#include "base/error.hpp"

namespace kw::text {

namespace fs = std::filesystem;

namespace {

std::string formatted(std::chrono::system_clock::time_point when, const char* form) {
  const std::time_t seconds = std::chrono::system_clock::to_time_t(when);
  std::tm local{};
  localtime_r(&seconds, &local);
  char text[64];
  const std::size_t n = std::strftime(text, sizeof text, form, &local);
  return std::string(text, n);
}

std::string fileName(const std::string& name) {
  std::string out;
  for (const char c : name)
    out += std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_' || c == '.' ? c : '_';
  return out.empty() || out[0] == '.' ? "line" + out : out;
}

}  // namespace

LogWriter::LogWriter(LogOptions options, WallClock now) : options_(std::move(options)), now_(std::move(now)) {
  plain_.onLine = [this](const std::string& line) { plainLine(line); };
  begin();
}

LogWriter::~LogWriter() {
  try {
    if (options_.form == LogForm::Plain && !plain_.unfinished().empty()) plain_.flush();
  } catch (const Error&) {
    // The disk is full; it was said when it happened.
  }
}

void LogWriter::begin() {
  if (!options_.file.empty()) {
    path_ = options_.file;
    out_ = std::ofstream(path_, std::ios::binary | std::ios::app);
    if (!out_) throw Error(ErrorKind::Local, "a log cannot be written here", path_);
    return;
  }
  std::error_code failed;
  fs::create_directories(options_.folder, failed);
  const char* ending = options_.form == LogForm::Plain ? ".log" : ".raw";
  const std::string base = fileName(options_.name) + "-" + formatted(now_(), "%Y%m%d-%H%M%S");
  path_ = options_.folder / (base + ending);
  for (int i = 2; fs::exists(path_); ++i) path_ = options_.folder / (base + "-" + std::to_string(i) + ending);
  out_ = std::ofstream(path_, std::ios::binary);
  if (!out_) throw Error(ErrorKind::Local, "a log cannot be written here", path_);
  fs::permissions(path_, fs::perms::owner_read | fs::perms::owner_write, failed);
  written_ = 0;
  removeOldest();
}

void LogWriter::removeOldest() const {
  std::vector<fs::path> files;
  std::error_code failed;
  const std::string start = fileName(options_.name) + "-";
  for (const auto& entry : fs::directory_iterator(options_.folder, failed)) {
    const std::string name = entry.path().filename();
    // The name of another machine may begin alike; what follows must be a date.
    const bool ours = name.starts_with(start) && name.size() > start.size() + 8 &&
                      name.find_first_not_of("0123456789", start.size()) == start.size() + 8;
    if (ours) files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  for (std::size_t i = 0; i + static_cast<std::size_t>(options_.mostFiles) < files.size(); ++i)
    fs::remove(files[i], failed);
}

std::string LogWriter::stamp() const {
  const auto now = now_();
  const auto ms =
      std::chrono::duration_cast<std::chrono::milliseconds>(now.time_since_epoch()).count() % 1000;
  char part[8];
  std::snprintf(part, sizeof part, ".%03d", static_cast<int>(ms));
  return formatted(now, "%Y-%m-%d %H:%M:%S") + part;
}

void LogWriter::put(const std::string& text) {
  out_.write(text.data(), static_cast<std::streamsize>(text.size()));
  out_.flush();
  if (!out_) throw Error(ErrorKind::Local, "the log cannot be written any more; is the disk full?", path_);
  written_ += text.size();
}

void LogWriter::plainLine(const std::string& line) {
  put((options_.times ? stamp() + "  " : "") + line + "\n");
}

void LogWriter::write(ByteView bytes) {
  if (written_ >= options_.mostBytes && options_.file.empty()) begin();
  if (options_.form == LogForm::Raw)
    put(kw::textOf(bytes));
  else
    plain_.feed(bytes);
}

void LogWriter::mark(const std::string& note) {
  if (!plain_.unfinished().empty()) plain_.flush();
  put("── " + stamp() + "  mark" + (note.empty() ? "" : ": " + note) + " ──\n");
}

namespace {

void searchFile(const fs::path& file, const std::string& needle, std::size_t most, std::uintmax_t& budget,
                std::vector<LogHit>& hits) {
  std::ifstream in(file, std::ios::binary);
  int number = 0;
  for (std::string line; budget > 0 && hits.size() < most && std::getline(in, line);) {
    ++number;
    budget -= std::min<std::uintmax_t>(budget, line.size() + 1);
    if (lowered(line).find(needle) != std::string::npos)
      hits.push_back({file, number, cleanUtf8(line.substr(0, 300))});
  }
}

}  // namespace

std::vector<LogHit> searchLogs(const fs::path& folder, const std::string& needle, std::size_t most,
                               std::uintmax_t mostBytes) {
  std::vector<std::pair<fs::file_time_type, fs::path>> files;
  std::error_code failed;
  for (const auto& entry : fs::recursive_directory_iterator(folder, failed))
    if (entry.path().extension() == ".log") files.emplace_back(entry.last_write_time(failed), entry.path());
  std::sort(files.rbegin(), files.rend());
  std::vector<LogHit> hits;
  if (needle.empty()) return hits;
  for (const auto& [when, file] : files) searchFile(file, lowered(needle), most, mostBytes, hits);
  return hits;
}

}  // namespace kw::text

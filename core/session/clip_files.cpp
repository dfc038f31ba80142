#include "session/clip_files.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>

#include "base/called.hpp"
#include "base/error.hpp"

namespace kw {

namespace fs = std::filesystem;

namespace {

constexpr std::uint32_t kPiece = 512U << 10;
constexpr const char* kGone = "the machine has these files no more";

ClipFile factsOf(const fs::path& file, std::string path) {
  ClipFile f;
  f.path = std::move(path);
  struct stat facts {};
  if (stat(file.c_str(), &facts) != 0) return f;
  f.folder = S_ISDIR(facts.st_mode);
  f.size = f.folder ? 0 : static_cast<std::uint64_t>(facts.st_size);
  f.changed = facts.st_mtime;
  return f;
}

/// Plain files and folders below a folder, a folder before what is in it. `path`: the folder's own in the
/// list, by value, since the list grows.
void addBelow(const fs::path& folder, std::string path, std::vector<ClipFile>& list,
              std::vector<fs::path>& places) {
  std::error_code failed;
  std::vector<fs::path> entries;
  for (fs::directory_iterator e(folder, failed), end; !failed && e != end; e.increment(failed))
    entries.push_back(e->path());
  std::sort(entries.begin(), entries.end());
  for (const fs::path& e : entries) {
    if (list.size() >= kMostClipFiles) return;
    const fs::file_status kind = fs::symlink_status(e, failed);
    if (!fs::is_regular_file(kind) && !fs::is_directory(kind)) continue;
    list.push_back(factsOf(e, path + "/" + e.filename().string()));
    places.push_back(e);
    if (fs::is_directory(kind)) addBelow(e, list.back().path, list, places);
  }
}

[[noreturn]] void systemSays(const std::string& what, const fs::path& file) {
  throw Error(ErrorKind::Local, what + ": " + std::strerror(errno), file.string());
}

}  // namespace

void LocalFiles::list(Listed listed) {
  std::vector<ClipFile> out;
  std::vector<fs::path> places;
  for (const fs::path& copied : copied_) {
    const fs::path file = copied.has_filename() ? copied : copied.parent_path();
    std::error_code failed;
    const fs::file_status kind = fs::status(file, failed);
    if (!fs::is_regular_file(kind) && !fs::is_directory(kind)) continue;
    out.push_back(factsOf(file, file.filename().string()));
    places.push_back(file);
    if (fs::is_directory(kind)) addBelow(file, out.back().path, out, places);
  }
  {
    const std::lock_guard held(mutex_);
    listed_ = std::move(places);
  }
  listed(std::move(out));
}

void LocalFiles::read(std::size_t file, std::uint64_t from, std::uint32_t most, Got got) {
  fs::path path;
  {
    const std::lock_guard held(mutex_);
    if (file >= listed_.size()) return got(std::nullopt);
    path = listed_[file];
  }
  const int in = open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  if (in < 0) return got(std::nullopt);
  Bytes content(most);
  std::size_t have = 0;
  ssize_t n = 1;
  while (have < content.size() && n > 0) {
    n = pread(in, content.data() + have, content.size() - have, static_cast<off_t>(from + have));
    if (n > 0) have += static_cast<std::size_t>(n);
  }
  close(in);
  if (n < 0) return got(std::nullopt);
  content.resize(have);
  got(std::move(content));
}

bool isSafeClipPath(const std::string& path) {
  if (path.empty() || path.size() > 4000) return false;
  for (const char c : path)
    if (static_cast<unsigned char>(c) < 32 || c == '\\' || c == 127) return false;
  for (std::size_t at = 0; at <= path.size();) {
    const auto end = std::min(path.find('/', at), path.size());
    const std::string part = path.substr(at, end - at);
    if (part.empty() || part == "." || part == ".." || part.size() > 255) return false;
    at = end + 1;
  }
  return true;
}

namespace {

/// A name that nothing in the folder has.
fs::path freeName(const fs::path& wanted) {
  fs::path out = wanted;
  std::error_code ignored;
  for (int n = 2; fs::exists(fs::symlink_status(out, ignored)); ++n)
    out = wanted.parent_path() /
          (wanted.stem().string() + " (" + std::to_string(n) + ")" + wanted.extension().string());
  return out;
}

/// A new file; removed unless it was finished.
class Written {
 public:
  explicit Written(fs::path file)
      : file_(std::move(file)),
        out_(open(file_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0644)) {
    if (out_ < 0) systemSays("it cannot be saved", file_);
  }
  ~Written() {
    if (out_ < 0) return;
    close(out_);
    unlink(file_.c_str());
  }
  Written(const Written&) = delete;
  void write(const Bytes& content) {
    for (std::size_t at = 0; at < content.size();) {
      const ssize_t n = ::write(out_, content.data() + at, content.size() - at);
      if (n < 0) systemSays("it cannot be saved", file_);
      at += static_cast<std::size_t>(n);
    }
  }
  void finish(std::int64_t changed) {
    const timespec times[2] = {{0, UTIME_OMIT}, {static_cast<time_t>(changed), 0}};
    if (changed > 0) futimens(out_, times);
    if (close(std::exchange(out_, -1)) != 0) systemSays("it cannot be saved", file_);
  }

 private:
  fs::path file_;
  int out_;
};

Task<void> saveOne(std::shared_ptr<Clip> clip, std::size_t index, ClipFile facts, fs::path file,
                   std::shared_ptr<ClipSaving> saving) {
  Written written(file);
  for (std::uint64_t at = 0;;) {
    if (saving->stop) throw Error(ErrorKind::Cancelled, "stopped here");
    const std::function<void(Clip::Got)> give = [&](Clip::Got got) {
      clip->read(index, at, kPiece, std::move(got));
    };
    const std::optional<Bytes> content = co_await called<std::optional<Bytes>>(give);
    if (!content) throw Error(ErrorKind::Local, kGone, facts.path);
    written.write(*content);
    at += content->size();
    saving->done += content->size();
    if (content->size() < kPiece || (facts.size > 0 && at >= facts.size)) break;
  }
  written.finish(facts.changed);
}

}  // namespace

Task<std::vector<fs::path>> saveClipFiles(std::shared_ptr<Clip> clip, fs::path folder,
                                          std::shared_ptr<ClipSaving> saving) {
  const std::function<void(Clip::Listed)> ask = [&](Clip::Listed listed) { clip->list(std::move(listed)); };
  const auto list = co_await called<std::optional<std::vector<ClipFile>>>(ask);
  if (!list) throw Error(ErrorKind::Local, kGone);
  for (const ClipFile& f : *list) {
    if (!isSafeClipPath(f.path))
      throw Error(ErrorKind::Local, "the machine names a file that would not stay in the folder", f.path);
    saving->total += f.size;
  }
  saving->files = list->size();
  std::vector<fs::path> tops;
  std::map<std::string, fs::path> placeOf;  // what was copied itself, by its name there
  for (std::size_t i = 0; i < list->size(); ++i) {
    const ClipFile& f = (*list)[i];
    saving->file = i + 1;
    const auto slash = f.path.find('/');
    const std::string top = f.path.substr(0, slash);
    if (!placeOf.contains(top)) {
      tops.push_back(freeName(folder / top));
      placeOf[top] = tops.back();
    }
    const fs::path place =
        slash == std::string::npos ? placeOf[top] : placeOf[top] / f.path.substr(slash + 1);
    std::error_code failed;
    fs::create_directories(f.folder ? place : place.parent_path(), failed);
    if (failed) throw Error(ErrorKind::Local, "it cannot be saved: " + failed.message(), place.string());
    if (!f.folder) co_await saveOne(clip, i, f, place, saving);
  }
  co_return tops;
}

}  // namespace kw

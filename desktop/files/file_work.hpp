// Files over SFTP for the window: connects, lists, copies one file after the other; everything is told by
// signals on the interface thread.
#pragma once
#include <QObject>
#include <QString>
#include <deque>
#include <memory>
#include <optional>

#include "base/runtime.hpp"
#include "route/opening.hpp"
#include "ssh/sftp.hpp"

namespace kw::desktop {

struct CopyJob {
  bool upload = true;
  QString local, remote;  ///< full paths of the file itself
  enum class Way { Fresh, Resume } way = Way::Fresh;
};

class FileWork : public QObject {
  Q_OBJECT
 public:
  FileWork(Runtime& runtime, OpeningTools tools, QObject* parent = nullptr);
  ~FileWork() override;

  void open(const Address& address, const SettingReader& setting, Owner owner);
  void close();
  void answer(const Answer& answer);
  void list(const QString& folder);
  void makeFolder(const QString& path);
  void rename(const QString& from, const QString& to);
  void setRights(const QString& path, unsigned rights);
  /// Folders with everything in them.
  void remove(const QString& path, bool folder);
  /// What is at both ends of the jobs is found out first: clashes() follows if anything would be written
  /// over.
  void copy(const QList<CopyJob>& jobs);
  /// Everything below a folder, as jobs (and makes the folders at the target).
  void copyFolder(bool upload, const QString& local, const QString& remote);
  void cancel();
  /// SHA-256 here and there; there by the usual command in a shell.
  void compare(const QString& local, const QString& remote);

  [[nodiscard]] bool busy() const { return running_ || !queue_.empty(); }

 signals:
  void opened(const QString& startFolder);
  void failed(const QString& sentence);  ///< the connection; closed
  void asked(const kw::Question& question);
  void listed(const QString& folder, const std::vector<kw::RemoteFile>& files);
  void problem(const QString& sentence);  ///< of one command
  void changed(const QString& folder);    ///< something there is new
  void clash(const kw::desktop::CopyJob& job, quint64 sizeThere, quint64 sizeHere);
  void progress(const QString& what, quint64 done, quint64 total, int left);
  void finished(const QString& sentence);
  void compared(const QString& sentence, bool same);

 public:
  /// What to do with a job whose target is there; asked by clash(). Nothing: leave it out.
  void resolve(std::optional<CopyJob> job, bool forAll);

 private:
  class Link;
  void run(std::function<Task<void>()> work, std::function<void()> then = {});
  void next();
  void start(const CopyJob& job);
  void take(const QString& what, std::exception_ptr failure);

  Runtime& runtime_;
  OpeningTools tools_;
  std::shared_ptr<Link> link_;
  std::deque<CopyJob> queue_;
  std::optional<CopyJob> waiting_;  ///< for an answer to clash()
  enum class ForAll { Ask, Replace, Resume, Skip } forAll_ = ForAll::Ask;
  CancelFlag cancel_;
  bool running_ = false;
  int done_ = 0, failures_ = 0;
};

}  // namespace kw::desktop
